//! Problems: one thing for whoever asked, another for the server's log.

use std::time::Duration;

use axum::body::{Body, to_bytes};
use axum::extract::{MatchedPath, Request};
use axum::http::header::{CONTENT_TYPE, RETRY_AFTER};
use axum::http::{HeaderValue, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use pondrix_api::Problem;
use pondrix_core::pipeline::Fault;
use tracing::{error, info};

use crate::domain::{EngineError, StartError};
use crate::store::StoreError;

/// Why a request was not done.
#[derive(Clone, Debug)]
pub(crate) struct ApiError {
    status: StatusCode,
    detail: String,
    /// What only the log says.
    inner: Option<String>,
    /// Faults of a pipeline file, where that is the problem.
    faults: Vec<Fault>,
    /// How long to wait before asking again.
    wait: Option<Duration>,
}

const PROBLEM: HeaderValue = HeaderValue::from_static("application/problem+json");

impl ApiError {
    pub(crate) fn new(status: StatusCode, detail: impl Into<String>) -> Self {
        Self { status, detail: detail.into(), inner: None, faults: Vec::new(), wait: None }
    }

    pub(crate) fn not_found(what: impl std::fmt::Display) -> Self {
        Self::new(StatusCode::NOT_FOUND, format!("there is no {what}"))
    }

    pub(crate) fn bad(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, detail)
    }

    /// A pipeline file with these faults.
    pub(crate) fn faulty(faults: Vec<Fault>) -> Self {
        Self { faults, ..Self::bad("the pipeline file is faulty") }
    }

    pub(crate) fn internal(inner: impl std::fmt::Display) -> Self {
        let detail = "the server could not do this; its log says why, under this request's id".to_owned();
        let inner = Some(inner.to_string());
        Self { status: StatusCode::INTERNAL_SERVER_ERROR, detail, inner, faults: Vec::new(), wait: None }
    }
}

impl ApiError {
    /// The same, to be asked again after a while (RFC 9110, section 10.2.3).
    pub(super) fn after(self, wait: Duration) -> Self {
        Self { wait: Some(wait), ..self }
    }

    /// What whoever asked is told.
    pub(super) fn words(&self) -> &str {
        &self.detail
    }

    /// What became of the request.
    pub(super) const fn status(&self) -> StatusCode {
        self.status
    }

    /// Whether it is the server's own fault.
    pub(super) fn is_servers(&self) -> bool {
        self.status.is_server_error()
    }

    /// As it stands in a stream that has others in it.
    pub(super) fn into_problem(self) -> Problem {
        Problem {
            kind: "about:blank".to_owned(),
            title: self.status.canonical_reason().unwrap_or("").to_owned(),
            status: self.status.as_u16(),
            detail: self.detail,
            request: None,
            faults: self.faults,
        }
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Exists(_) | StoreError::BeingRemoved(_) => Self::new(StatusCode::CONFLICT, error.to_string()),
            other if other.is_unreadable() => {
                let detail =
                    "what is recorded of this cannot be read; the server's log says why, under this request's id";
                Self { detail: detail.to_owned(), ..Self::internal(other) }
            }
            other => Self::internal(other),
        }
    }
}

impl From<EngineError> for ApiError {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Store(error) => error.into(),
            EngineError::Refused(_) | EngineError::Conflict(_) => Self::new(StatusCode::CONFLICT, error.to_string()),
            EngineError::Invalid(words) => Self::bad(words),
            EngineError::Forbidden(words) => Self::new(StatusCode::FORBIDDEN, words),
            EngineError::LeaseEnded => Self::new(StatusCode::GONE, error.to_string()),
            EngineError::Broke | EngineError::Log(_) | EngineError::Own(_) => Self::internal(error),
        }
    }
}

impl From<StartError> for ApiError {
    fn from(error: StartError) -> Self {
        match error {
            // The request is good and the server well: it is the project that cannot be worked with now.
            StartError::Git(error) => Self::new(StatusCode::CONFLICT, format!("the repository: {error}")),
            StartError::Store(error) => error.into(),
        }
    }
}

impl From<ApiError> for Response {
    fn from(error: ApiError) -> Self {
        error.into_response()
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut response = self.status.into_response();
        if let Some(wait) = self.wait {
            let seconds = wait.as_secs() + u64::from(wait.subsec_nanos() > 0);
            response.headers_mut().insert(RETRY_AFTER, seconds.into());
        }
        response.extensions_mut().insert(self);
        response
    }
}

/// An address of the API that does not exist.
pub(crate) async fn no_such_address(request: Request) -> ApiError {
    ApiError::not_found(format!("address {}", request.uri().path()))
}

/// Gives every refusal the form of a problem, those of libraries too, and writes it to the log.
pub(crate) async fn finish(request: Request, next: Next) -> Response {
    let id = request.headers().get("x-request-id").and_then(|id| id.to_str().ok()).map(str::to_owned);
    // Not the address itself, which may carry a hook's secret, or a lease.
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let method = request.method().clone();
    let response = next.run(request).await;
    let status = response.status();
    if !(status.is_client_error() || status.is_server_error()) {
        return response;
    }
    let told = response.extensions().get::<ApiError>().cloned();
    let (mut parts, body) = response.into_parts();
    let (detail, inner, faults) = match told {
        Some(error) => (error.detail, error.inner, error.faults),
        None => {
            let words = to_bytes(body, 4096).await.unwrap_or_default();
            let words = String::from_utf8_lossy(&words).into_owned();
            let words = if words.is_empty() { status.canonical_reason().unwrap_or("").to_owned() } else { words };
            (words, None, Vec::new())
        }
    };
    let request = id.as_deref().unwrap_or("");
    match &inner {
        Some(inner) => error!(request, %method, path, %status, inner, "failed"),
        None => info!(request, %method, %status, detail, "refused"),
    }
    let problem = Problem {
        kind: "about:blank".to_owned(),
        title: status.canonical_reason().unwrap_or("").to_owned(),
        status: status.as_u16(),
        detail,
        request: id,
        faults,
    };
    parts.headers.insert(CONTENT_TYPE, PROBLEM);
    parts.headers.remove(axum::http::header::CONTENT_LENGTH);
    Response::from_parts(parts, Body::from(serde_json::to_vec(&problem).unwrap_or_default()))
}
