//! Signing in and out, and asking who one is.

use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::SET_COOKIE;
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use pondrix_api::{Identity, Problem, SignIn};

use super::auth::{Person, SESSION_COOKIE};
use super::caller::Caller;
use super::error::ApiError;
use super::{App, Shared, auth};
use crate::access;
use crate::connections::OverTls;
use crate::domain::{NotSignedIn, Session};
use crate::store::{Shown, TokenKind};

fn identity(shown: Shown) -> Identity {
    let Shown { name, teams, rights, .. } = shown;
    let version = env!("CARGO_PKG_VERSION").to_owned();
    Identity { name, teams, roles: rights.grants.clone(), limit: rights.limit.clone(), version }
}

/// Where people come over TLS, to the server or to a proxy in front of it, a cookie never goes out without it.
pub(super) fn secure(app: &App, is_tls: bool) -> &'static str {
    if is_tls || app.public_url.starts_with("https://") { "; Secure" } else { "" }
}

pub(super) fn cookie(app: &App, is_tls: bool, value: &str, seconds: i64) -> String {
    let secure = secure(app, is_tls);
    format!("{SESSION_COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
}

/// Who the token stands for.
#[utoipa::path(get, path = "/api/v1/whoami", tag = "access",
    responses((status = 200, body = Identity), (status = 401, body = Problem)))]
pub(super) async fn whoami(person: Person) -> Json<Identity> {
    Json(identity(person.shown))
}

/// Signs a browser in: the answer sets a cookie.
#[utoipa::path(post, path = "/api/v1/session", tag = "access", request_body = SignIn,
    responses((status = 200, body = Identity), (status = 401, body = Problem), (status = 422, body = Problem),
              (status = 429, body = Problem)))]
pub(super) async fn sign_in(
    State(app): Shared,
    is_tls: Option<Extension<OverTls>>,
    Extension(Caller(from)): Extension<Caller>,
    Json(given): Json<SignIn>,
) -> Result<Response, ApiError> {
    let refused = |words: &str| ApiError::new(StatusCode::UNAUTHORIZED, words);
    let session = match given {
        SignIn { token: Some(token), name: None, password: None, code: None, verifier: None } => {
            let token = token.trim();
            if access::is_torn(token) {
                return Err(refused(auth::TORN));
            }
            let session = app.engine.sign_in(token).await?;
            session.ok_or_else(|| refused("this token is not known, or is no longer good"))?
        }
        SignIn { token: None, name: Some(name), password: Some(password), code: None, verifier: None } => {
            match app.engine.sign_in_with_password(name, password, from).await {
                Ok(session) => session,
                Err(NotSignedIn::Engine(error)) => return Err(error.into()),
                Err(other @ NotSignedIn::Wrong) => return Err(refused(&other.to_string())),
                Err(other @ NotSignedIn::TooOften(wait)) => {
                    return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, other.to_string()).after(wait));
                }
            }
        }
        SignIn { token: None, name: None, password: None, code: Some(code), verifier: Some(verifier) } => {
            let session = app.engine.sign_in_with_code(&code, &verifier).await?;
            session.ok_or_else(|| refused("this code is not known, or is no longer good: sign in again"))?
        }
        _ => {
            let words = "sign in with `token`, with `name` and `password`, or with `code` and `verifier`";
            return Err(ApiError::bad(words));
        }
    };
    let Session { secret, shown, seconds } = session;
    Ok(([(SET_COOKIE, cookie(&app, is_tls.is_some(), &secret, seconds))], Json(identity(shown))).into_response())
}

/// Signs a browser out.
#[utoipa::path(delete, path = "/api/v1/session", tag = "access",
    responses((status = 204), (status = 401, body = Problem)))]
pub(super) async fn sign_out(
    State(app): Shared,
    person: Person,
    is_tls: Option<Extension<OverTls>>,
) -> Result<Response, ApiError> {
    // A program that signs out keeps its token.
    if person.shown.kind == TokenKind::Session {
        app.engine.sign_out(person.shown.id).await?;
    }
    Ok((StatusCode::NO_CONTENT, [(SET_COOKIE, cookie(&app, is_tls.is_some(), "", 0))]).into_response())
}
