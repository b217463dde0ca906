//! Who asks.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::FromRequestParts;
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode};

use pondrix_core::access::Need;

use super::App;
use super::error::ApiError;
use crate::access;
use crate::domain::Asker;
use crate::store::{Shown, TokenKind};

/// The cookie of a browser that was signed in.
pub(crate) const SESSION_COOKIE: &str = "pondrix_session";

/// That a token is not whole.
pub(super) const TORN: &str = "this token is cut or mistyped: it is `pdx_` and 49 letters and digits; copy all of it";

/// A person, or a program of one. Only what the [guard](super::guard) let through has one.
#[derive(Clone, Debug)]
pub(crate) struct Person {
    /// What they showed.
    pub(crate) shown: Shown,
    hash: [u8; 32],
    /// How often what somebody may do had changed before this was looked up.
    seen: u64,
}

impl From<Person> for Asker {
    fn from(person: Person) -> Self {
        let Shown { id, name, teams, rights, is_replaced, .. } = person.shown;
        Self { name, teams, rights, token: id, is_replaced }
    }
}

impl Person {
    /// Whether they may see a project.
    pub(crate) fn may_see(&self, project: &str) -> bool {
        self.shown.rights.allow(Need::Look, Some(project))
    }

    /// Waits until their token is good no more, or allows something else than it did: what they follow ends then, and
    /// whoever follows it again is asked anew.
    pub(crate) async fn until_changed(self, app: Arc<App>) {
        let mut seen = self.seen;
        loop {
            if !self.shown.is_good(app.engine.clock.now()) {
                return;
            }
            match app.engine.shown_by(self.hash).await {
                Ok(Some(shown)) if shown.rights == self.shown.rights => {}
                // What the records cannot tell now is asked when something changes again.
                Err(_) => {}
                Ok(_) => return,
            }
            let end = async {
                match self.shown.expires {
                    Some(expires) => {
                        let rest = expires.since(app.engine.clock.now());
                        tokio::time::sleep(Duration::from_millis(rest)).await;
                    }
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = app.engine.access_changed(&mut seen) => {}
                () = end => {}
            }
        }
    }
}

/// A runner. Only what the [guard](super::guard) let through is one.
#[derive(Clone, Debug)]
pub(crate) struct Runner {
    /// Its name, by its token.
    pub(crate) name: String,
}

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

pub(super) fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (scheme, token) = header(headers, AUTHORIZATION)?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
}

/// Whether somebody shows anything that may be theirs alone.
pub(super) fn shows_something(headers: &HeaderMap) -> bool {
    bearer(headers).is_some() || session(headers).is_some()
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

/// Who asks, by what they show.
pub(crate) async fn identify(parts: &Parts, app: &App) -> Result<Person, ApiError> {
    let (secret, by_cookie) = match (bearer(&parts.headers), session(&parts.headers)) {
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
    if access::is_torn(secret) {
        return Err(ApiError::new(StatusCode::UNAUTHORIZED, TORN));
    }
    let (hash, seen) = (access::hash(secret), app.engine.access_changes());
    match app.engine.shown_by(hash).await? {
        Some(shown) if by_cookie == (shown.kind == TokenKind::Session) => Ok(Person { shown, hash, seen }),
        _ => Err(ApiError::new(StatusCode::UNAUTHORIZED, "this token is not known, or is no longer good")),
    }
}

impl FromRequestParts<Arc<App>> for Person {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &Arc<App>) -> Result<Self, ApiError> {
        let unguarded = || ApiError::internal("a person is asked for where the table of rights asks for none");
        parts.extensions.get().cloned().ok_or_else(unguarded)
    }
}

impl FromRequestParts<Arc<App>> for Runner {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &Arc<App>) -> Result<Self, ApiError> {
        let unguarded = || ApiError::internal("a runner is asked for where the table of rights asks for none");
        parts.extensions.get().cloned().ok_or_else(unguarded)
    }
}
