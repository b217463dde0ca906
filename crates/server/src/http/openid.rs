//! Signing in by a provider of OpenID Connect, and which one that is.

use axum::extract::{Path, Query, State};
use axum::http::header::{COOKIE, LOCATION, SET_COOKIE};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use pondrix_api::{OpenIdChange, OpenIdSubject, OpenIdView, Problem, SignInWays};
use serde::Deserialize;
use tracing::error;
use utoipa::IntoParams;

use super::auth::Person;
use super::error::ApiError;
use super::people::unknown;
use super::{App, Shared, session};
use crate::connections::OverTls;
use crate::domain::{Back, NotBack, Program, Sent};

/// The cookie that a browser keeps while somebody is away at the provider.
const AWAY_COOKIE: &str = "pondrix_away";
/// The cookie with words for the console's page to sign in at.
const WORDS_COOKIE: &str = "pondrix_said";
/// How long the cookies are kept, in seconds.
const AWAY_SECONDS: u32 = 15 * 60;
const WORDS_SECONDS: u32 = 60;
/// How long a challenge is: a SHA-256 in base64url.
const CHALLENGE: usize = 43;

/// What somebody is sent to the provider for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Going {
    /// The page of the console that they come back to.
    #[serde(default)]
    #[param(required = false)]
    to: String,
    /// The port at which a program of theirs waits, on the loopback interface of their machine.
    program: Option<u16>,
    /// The SHA-256, in base64url, of what that program will show for its code.
    challenge: Option<String>,
}

/// What somebody comes back with.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Coming {
    /// What was sent along.
    #[serde(default)]
    #[param(required = false)]
    state: String,
    /// What the provider gives a token for.
    code: Option<String>,
    /// Why it gives none.
    error: Option<String>,
    /// The same in its words.
    error_description: Option<String>,
}

fn cookie(app: &App, is_tls: bool, name: &str, value: &str, seconds: u32, more: &str) -> String {
    let secure = session::secure(app, is_tls);
    // Whoever comes back from the provider comes from another site.
    format!("{name}={value}; Path=/; SameSite=Lax; Max-Age={seconds}{more}{secure}")
}

/// Letters that a cookie may have, the others as in addresses (RFC 3986, section 2.1).
fn escaped(words: &str) -> String {
    let escape = |byte: u8| match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' => char::from(byte).to_string(),
        _ => format!("%{byte:02X}"),
    };
    words.bytes().map(escape).collect()
}

/// Back to the page to sign in at, which says why somebody is not.
fn not_signed_in(app: &App, is_tls: bool, error: NotBack) -> Response {
    let error: ApiError = match error {
        NotBack::Engine(error) => {
            error!(%error, "somebody could not be signed in");
            error.into()
        }
        other => ApiError::new(StatusCode::UNAUTHORIZED, other.to_string()),
    };
    let words: String = error.words().chars().take(500).collect();
    let told = cookie(app, is_tls, WORDS_COOKIE, &escaped(&words), WORDS_SECONDS, "");
    let over = cookie(app, is_tls, AWAY_COOKIE, "", 0, "; HttpOnly");
    let mut response = (StatusCode::SEE_OTHER, [(LOCATION, "/")]).into_response();
    for cookie in [told, over] {
        if let Ok(cookie) = cookie.parse() {
            response.headers_mut().append(SET_COOKIE, cookie);
        }
    }
    // The audit says why, as of other refusals.
    response.extensions_mut().insert(error);
    response
}

/// Sends a browser to the provider that people are signed in by.
#[utoipa::path(get, path = "/sign-in/openid", tag = "access", params(Going),
    responses((status = 303, description = "To the provider, or back, with words of why not")))]
pub(super) async fn go(
    State(app): Shared,
    is_tls: Option<Extension<OverTls>>,
    Query(Going { to, program, challenge }): Query<Going>,
) -> Response {
    let is_tls = is_tls.is_some();
    let program = match (program, challenge) {
        (None, None) => None,
        (Some(port), Some(challenge)) if port != 0 && challenge.len() == CHALLENGE => Some(Program { port, challenge }),
        _ => return ApiError::bad("a program has a port, and a challenge of 43 letters").into(),
    };
    match app.engine.go_to_openid(&to, program).await {
        Ok(Sent { to, kept }) => {
            let kept = cookie(&app, is_tls, AWAY_COOKIE, &kept, AWAY_SECONDS, "; HttpOnly");
            (StatusCode::SEE_OTHER, [(LOCATION, to), (SET_COOKIE, kept)]).into_response()
        }
        Err(error) => not_signed_in(&app, is_tls, error),
    }
}

/// Signs a browser in that comes back from the provider.
#[utoipa::path(get, path = "/sign-in/openid/callback", tag = "access", params(Coming),
    responses((status = 303, description = "Signed in, or back, with words of why not")))]
pub(super) async fn come(
    State(app): Shared,
    is_tls: Option<Extension<OverTls>>,
    headers: HeaderMap,
    Query(coming): Query<Coming>,
) -> Response {
    let is_tls = is_tls.is_some();
    let Coming { state, code, error, error_description } = coming;
    let pairs = headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok()).flat_map(|all| all.split(';'));
    let mut pairs = pairs.filter_map(|pair| pair.trim().split_once('='));
    let kept = pairs.find(|(name, _)| *name == AWAY_COOKIE).map(|(_, value)| value).unwrap_or_default();
    let told = match (code, error) {
        (Some(code), None) => Ok(code),
        (_, Some(error)) => Err(error_description.map_or_else(|| error.clone(), |words| format!("{error}: {words}"))),
        (None, None) => Err("neither a code nor an error".to_owned()),
    };
    let back = app.engine.come_from_openid(kept, &state, told).await;
    let (to, signed) = match back {
        Ok(Back::Browser(signed, to)) => (to, Some(session::cookie(&app, is_tls, &signed.secret, signed.seconds))),
        Ok(Back::Program(to)) => (to, None),
        Err(error) => return not_signed_in(&app, is_tls, error),
    };
    let over = cookie(&app, is_tls, AWAY_COOKIE, "", 0, "; HttpOnly");
    let mut response = (StatusCode::SEE_OTHER, [(LOCATION, to), (SET_COOKIE, over)]).into_response();
    if let Some(signed) = signed.and_then(|signed| signed.parse().ok()) {
        response.headers_mut().append(SET_COOKIE, signed);
    }
    response
}

/// How one may sign in.
#[utoipa::path(get, path = "/api/v1/session/ways", tag = "access", responses((status = 200, body = SignInWays)))]
pub(super) async fn ways(State(app): Shared) -> Result<Json<SignInWays>, ApiError> {
    Ok(Json(SignInWays { openid: app.engine.openid_host().await? }))
}

/// The provider of OpenID Connect that people are signed in by.
#[utoipa::path(get, path = "/api/v1/openid", tag = "people",
    responses((status = 200, body = OpenIdView), (status = 401, body = Problem)))]
pub(super) async fn show_provider(State(app): Shared, _person: Person) -> Result<Json<OpenIdView>, ApiError> {
    Ok(Json(app.engine.openid().await?))
}

/// Sets it. It is asked first.
#[utoipa::path(put, path = "/api/v1/openid", tag = "people", request_body = OpenIdChange,
    responses((status = 200, body = OpenIdView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_provider(
    State(app): Shared,
    _person: Person,
    Json(change): Json<OpenIdChange>,
) -> Result<Json<OpenIdView>, ApiError> {
    Ok(Json(app.engine.set_openid(change).await?))
}

/// Has it sign nobody in any more.
#[utoipa::path(delete, path = "/api/v1/openid", tag = "people",
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn remove_provider(State(app): Shared, _person: Person) -> Result<StatusCode, ApiError> {
    match app.engine.remove_openid().await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found("provider that people are signed in by")),
    }
}

/// Says who a person is there.
#[utoipa::path(put, path = "/api/v1/users/{name}/openid", tag = "people", params(("name" = String, Path)),
    request_body = OpenIdSubject,
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn link(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
    Json(OpenIdSubject { subject }): Json<OpenIdSubject>,
) -> Result<StatusCode, ApiError> {
    match app.engine.link_user(name.clone(), subject).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown(&name)),
    }
}
