//! The API: what is asked of the server over HTTP.
//!
//! What each address asks of whoever asks for it is in one table, which one [guard] holds every request against.

mod artifacts;
mod audit;
mod auth;
mod backup;
mod caller;
mod document;
mod error;
mod guard;
mod health;
mod hooks;
mod images;
mod keys;
mod limits;
mod log;
mod noting;
mod openid;
mod people;
mod projects;
mod quotas;
mod registries;
mod retention;
mod runner;
mod runner_files;
mod runners;
mod runs;
mod secrets;
mod session;
mod settings;
mod sse;
mod streams;
mod templates;
mod tokens;
mod tries;

use std::sync::Arc;
use std::time::Duration;

use axum::Extension;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::header::{
    CONTENT_SECURITY_POLICY, REFERRER_POLICY, STRICT_TRANSPORT_SECURITY, X_CONTENT_TYPE_OPTIONS, X_FRAME_OPTIONS,
};
use axum::http::{HeaderName, HeaderValue};
use axum::middleware::{self, Next};
use axum::response::Response;
use tokio_util::sync::CancellationToken;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::request_id::{MakeRequestId, PropagateRequestIdLayer, RequestId, SetRequestIdLayer};
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::connections::OverTls;
use crate::domain::Engine;
use crate::queries::Queries;
use crate::tuning::CurrentTuning;
use crate::workers::watcher::Watcher;

/// What every handler may use.
#[derive(Debug)]
pub(crate) struct App {
    pub(crate) engine: Arc<Engine>,
    pub(crate) queries: Queries,
    pub(crate) watcher: Arc<Watcher>,
    pub(crate) public_url: String,
    /// Settings that may change while the server runs.
    pub(crate) tuning: CurrentTuning,
    pub(crate) limits: Limits,
    pub(crate) shutdown: CancellationToken,
}

pub use guard::rights_table;
pub(crate) use limits::Limits;

type Shared = axum::extract::State<Arc<App>>;

/// What no other address is.
const NO_SUCH_ADDRESS: &str = "/api/v1/{*rest}";

/// How long may pass until more of a request's body comes.
const BODY_TIME: Duration = Duration::from_secs(30);
/// The largest request: a piece of a log.
const LARGEST_REQUEST: usize = 4 << 20;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Pondrix",
        description = "Carries commits through pipelines. Moments are RFC 3339 in UTC; problems are RFC 9457.",
        license(name = "Apache-2.0")
    ),
    components(schemas(pondrix_api::RunUpdate))
)]
struct Document;

fn routes_for_people() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(health::health))
        .routes(routes!(session::whoami))
        .routes(routes!(session::sign_in, session::sign_out))
        .routes(routes!(projects::list, projects::add))
        .routes(routes!(projects::change, projects::remove))
        .routes(routes!(projects::plan))
        .routes(routes!(people::list, people::add))
        .routes(routes!(people::change, people::remove))
        .routes(routes!(people::set_password, people::remove_password))
        .routes(routes!(people::roles, people::give))
        .routes(routes!(openid::show_provider, openid::set_provider, openid::remove_provider))
        .routes(routes!(openid::link))
        .routes(routes!(openid::ways))
        .routes(routes!(openid::go))
        .routes(routes!(openid::come))
        .routes(routes!(people::take))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::remove))
        .routes(routes!(tokens::rotate))
        .routes(routes!(templates::show))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::list_shared, secrets::set_shared))
        .routes(routes!(secrets::remove_shared))
        .routes(routes!(secrets::set, secrets::remove))
        .routes(routes!(runs::list))
        .routes(routes!(runs::stream_all))
        .routes(routes!(streams::follow))
        .routes(routes!(runs::start))
        .routes(routes!(runs::show))
        .routes(routes!(runs::stream_one))
        .routes(routes!(runs::stop))
        .routes(routes!(runs::answer))
        .routes(routes!(runs::rerun))
        .routes(routes!(tries::try_files))
        .routes(routes!(artifacts::list))
        .routes(routes!(artifacts::archive))
        .routes(routes!(artifacts::flaky))
        .routes(routes!(log::whole))
        .routes(routes!(log::stream))
        .routes(routes!(settings::list_environments, settings::set_environment))
        .routes(routes!(settings::remove_environment))
        .routes(routes!(settings::freeze, settings::thaw))
        .routes(routes!(quotas::list_quotas, quotas::set_quota))
        .routes(routes!(retention::show, retention::set))
        .routes(routes!(retention::preview))
        .routes(routes!(backup::make))
        .routes(routes!(audit::list))
        .routes(routes!(audit::export))
        .routes(routes!(audit::prove))
        .routes(routes!(audit::keep))
        .routes(routes!(registries::list, registries::set))
        .routes(routes!(keys::show))
        .routes(routes!(keys::rotate))
        .routes(routes!(keys::rotate_identity))
        .routes(routes!(keys::discovery))
        .routes(routes!(keys::identity_keys))
        .routes(routes!(images::list))
        .routes(routes!(images::show))
        .routes(routes!(images::difference))
        .routes(routes!(images::chain))
        .routes(routes!(registries::remove))
        .routes(routes!(registries::test))
        .routes(routes!(runners::list, runners::add))
        .routes(routes!(runners::rotate))
        .routes(routes!(runners::invite))
        .routes(routes!(runners::withdraw))
        .routes(routes!(runners::remove))
        .routes(routes!(runners::pause, runners::resume))
        .routes(routes!(runners::set_pool))
        .routes(routes!(hooks::hook))
        .routes(routes!(hooks::hook_with_secret))
}

/// The OpenAPI 3.1 document of what people and programs ask for, as JSON.
///
/// # Errors
/// When it cannot be written, which only a fault in its description can cause.
pub fn openapi_document() -> serde_json::Result<String> {
    let (_, document) = routes_for_people().split_for_parts();
    let mut document = serde_json::to_value(document)?;
    document::complete(&mut document);
    serde_json::to_string_pretty(&document)
}

/// Counts requests; the number is in the server's log and in every problem.
#[derive(Clone, Default)]
struct Numbers(Arc<std::sync::atomic::AtomicU64>);

impl MakeRequestId for Numbers {
    fn make_request_id<B>(&mut self, _: &axum::http::Request<B>) -> Option<RequestId> {
        let number = self.0.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        format!("r{number}").parse().ok().map(RequestId::new)
    }
}

/// What is true of every answer: it is what it says it is, so that no log is run as a script; no page shows it in a frame;
/// where a link in it leads is told nothing of it; and who was answered over TLS asks over TLS again. The console's files say more of themselves.
async fn plain_answers(is_tls: Option<Extension<OverTls>>, request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    if is_tls.is_some() {
        headers.insert(STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    for (name, value) in [
        (CONTENT_SECURITY_POLICY, "default-src 'none'; frame-ancestors 'none'"),
        (REFERRER_POLICY, "no-referrer"),
        (X_FRAME_OPTIONS, "DENY"),
    ] {
        headers.entry(name).or_insert(HeaderValue::from_static(value));
    }
    response
}

/// The whole server as a router.
pub(crate) fn router(app: Arc<App>) -> Router {
    let id = HeaderName::from_static("x-request-id");
    let (people, _) = routes_for_people().split_for_parts();
    people
        .merge(runner::routes())
        .route(NO_SUCH_ADDRESS, axum::routing::any(error::no_such_address))
        .fallback(axum::routing::get(crate::console::file))
        .layer(middleware::from_fn_with_state(Arc::clone(&app), guard::guard))
        .with_state(app)
        .layer(DefaultBodyLimit::max(LARGEST_REQUEST))
        .layer(RequestBodyTimeoutLayer::new(BODY_TIME))
        .layer(CatchPanicLayer::custom(|_| error::ApiError::internal("a handler panicked").into()))
        .layer(middleware::from_fn(error::finish))
        .layer(middleware::from_fn(plain_answers))
        .layer(PropagateRequestIdLayer::new(id.clone()))
        .layer(SetRequestIdLayer::new(id, Numbers::default()))
}
