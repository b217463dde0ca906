//! Signing in and out, and asking who one is.

use axum::Json;
use axum::extract::State;
use axum::http::header::SET_COOKIE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use pondrix_api::{Identity, Problem, SignIn};

use super::auth::{Person, SESSION_COOKIE, session};
use super::error::ApiError;
use super::{Shared, auth};
use crate::domain::Session;

fn identity(name: String) -> Identity {
    Identity { name, version: env!("CARGO_PKG_VERSION").to_owned() }
}

fn cookie(headers: &HeaderMap, value: &str, seconds: i64) -> String {
    // Behind TLS the cookie must never go out without it.
    let secure = if auth::header(headers, "x-forwarded-proto") == Some("https") { "; Secure" } else { "" };
    format!("{SESSION_COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
}

/// Who the token stands for.
#[utoipa::path(get, path = "/api/v1/whoami", tag = "access",
    responses((status = 200, body = Identity), (status = 401, body = Problem)))]
pub(super) async fn whoami(person: Person) -> Json<Identity> {
    Json(identity(person.name))
}

/// Signs a browser in: the answer sets a cookie.
#[utoipa::path(post, path = "/api/v1/session", tag = "access", request_body = SignIn,
    responses((status = 200, body = Identity), (status = 401, body = Problem)))]
pub(super) async fn sign_in(
    State(app): Shared,
    headers: HeaderMap,
    Json(given): Json<SignIn>,
) -> Result<Response, ApiError> {
    let Some(Session { secret, name, seconds }) = app.engine.sign_in(given.token.trim()).await? else {
        return Err(ApiError::new(
            StatusCode::UNAUTHORIZED,
            "this token is not known; the server printed it when it first started",
        ));
    };
    Ok(([(SET_COOKIE, cookie(&headers, &secret, seconds))], Json(identity(name))).into_response())
}

/// Signs a browser out.
#[utoipa::path(delete, path = "/api/v1/session", tag = "access",
    responses((status = 204), (status = 401, body = Problem)))]
pub(super) async fn sign_out(State(app): Shared, _person: Person, headers: HeaderMap) -> Result<Response, ApiError> {
    if let Some(secret) = session(&headers) {
        app.engine.sign_out(secret).await?;
    }
    Ok((StatusCode::NO_CONTENT, [(SET_COOKIE, cookie(&headers, "", 0))]).into_response())
}
