//! Who asks.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode};

use super::App;
use super::error::ApiError;
use crate::domain::Asker;
use crate::store::{Shown, TokenKind};

/// The cookie of a browser that was signed in.
pub(crate) const SESSION_COOKIE: &str = "pondrix_session";

/// A person, or a program of one. Asking for this is what guards an address.
#[derive(Clone, Debug)]
pub(crate) struct Person {
    pub(crate) name: String,
    pub(crate) groups: Vec<String>,
}

impl From<Person> for Asker {
    fn from(person: Person) -> Self {
        Self { name: person.name, groups: person.groups }
    }
}

/// A runner.
#[derive(Clone, Debug)]
pub(crate) struct Runner;

pub(crate) fn header(headers: &HeaderMap, name: impl axum::http::header::AsHeaderName) -> Option<&str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}

/// The session that a browser shows.
pub(crate) fn session(headers: &HeaderMap) -> Option<&str> {
    let pairs = headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok()).flat_map(|all| all.split(';'));
    pairs
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(name, _)| *name == SESSION_COOKIE)
        .map(|(_, value)| value)
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (scheme, token) = header(headers, AUTHORIZATION)?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
}

/// Whether a page of another site may have sent this with the browser's cookie.
fn may_be_from_another_site(parts: &Parts) -> bool {
    let reads = matches!(parts.method, Method::GET | Method::HEAD);
    let same = match (header(&parts.headers, ORIGIN), header(&parts.headers, HOST)) {
        (Some(origin), Some(host)) => origin.split_once("://").is_some_and(|(_, from)| from == host),
        (None, _) => header(&parts.headers, "sec-fetch-site").is_none_or(|site| matches!(site, "same-origin" | "none")),
        (Some(_), None) => false,
    };
    !reads && !same
}

async fn identify(parts: &Parts, app: &App) -> Result<Shown, ApiError> {
    let (shown, by_cookie) = match (bearer(&parts.headers), session(&parts.headers)) {
        (Some(token), _) => (token, false),
        (None, Some(session)) => (session, true),
        (None, None) => {
            return Err(ApiError::new(
                StatusCode::UNAUTHORIZED,
                "sign in first: `pondrix login`, or send `Authorization: Bearer TOKEN`",
            ));
        }
    };
    if by_cookie && may_be_from_another_site(parts) {
        return Err(ApiError::new(StatusCode::FORBIDDEN, "a page of another site may not do this"));
    }
    match app.engine.shown(shown).await? {
        Some(shown) if by_cookie == (shown.kind == TokenKind::Session) => Ok(shown),
        _ => Err(ApiError::new(StatusCode::UNAUTHORIZED, "this token is not known, or is no longer good")),
    }
}

impl FromRequestParts<Arc<App>> for Person {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        match identify(parts, app).await? {
            Shown { kind: TokenKind::Admin | TokenKind::Session, name, groups, .. } => Ok(Self { name, groups }),
            Shown { kind: TokenKind::Runner, .. } => {
                Err(ApiError::new(StatusCode::FORBIDDEN, "a runner's token may not do this"))
            }
        }
    }
}

impl FromRequestParts<Arc<App>> for Runner {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        match identify(parts, app).await? {
            Shown { kind: TokenKind::Runner, .. } => Ok(Self),
            _ => Err(ApiError::new(StatusCode::FORBIDDEN, "only a runner's token may do this")),
        }
    }
}
