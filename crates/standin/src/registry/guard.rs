//! Who is let in: by name and password (RFC 7617), or by a token (RFC 6750) that `/token` gives.

use std::collections::HashMap;

use axum::http::header::{AUTHORIZATION, HOST, WWW_AUTHENTICATE};
use axum::http::{HeaderMap, Method, StatusCode};
use axum::response::{IntoResponse, Response};
use base64::Engine;
use serde_json::json;

use super::Registry;
use super::state::Guard;

fn shown<'a>(headers: &'a HeaderMap, scheme: &str) -> Option<&'a str> {
    headers.get(AUTHORIZATION)?.to_str().ok()?.strip_prefix(scheme)?.strip_prefix(' ')
}

fn knows_password(guard: &Guard, headers: &HeaderMap) -> bool {
    let expected = base64::engine::general_purpose::STANDARD.encode(format!("{}:{}", guard.user, guard.password));
    shown(headers, "Basic") == Some(expected.as_str())
}

/// Gives a token to who knows the password.
pub(super) fn token(registry: &Registry, query: &HashMap<String, String>, headers: &HeaderMap) -> Response {
    let mut inner = registry.inner();
    let Some(guard) = inner.guard.clone().filter(|guard| knows_password(guard, headers)) else {
        return StatusCode::UNAUTHORIZED.into_response();
    };
    let token = format!("token-{}", inner.tokens.len());
    let scope = query.get("scope").cloned().unwrap_or_default();
    inner.tokens.insert(token.clone(), (scope, guard.token_uses.unwrap_or(u32::MAX)));
    json!({ "token": token, "expires_in": 300 }).to_string().into_response()
}

/// The refusal of somebody who is not let in.
pub(super) fn refusal(
    registry: &Registry,
    repository: Option<&str>,
    method: &Method,
    headers: &HeaderMap,
) -> Option<Response> {
    let mut inner = registry.inner();
    let guard = inner.guard.clone()?;
    let action = if matches!(*method, Method::GET | Method::HEAD) { "pull" } else { "push" };
    let challenge = match guard.token_uses {
        None if knows_password(&guard, headers) => return None,
        None => "Basic realm=\"pond\"".to_owned(),
        Some(_) => {
            let known = shown(headers, "Bearer").and_then(|token| inner.tokens.get_mut(token));
            if let Some((scope, uses)) = known.filter(|(_, uses)| *uses > 0) {
                let covers = repository.is_none_or(|name| {
                    let mut parts = scope.rsplitn(2, ':');
                    let (actions, what) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
                    what == format!("repository:{name}") && actions.split(',').any(|one| one == action)
                });
                if covers {
                    *uses -= 1;
                    return None;
                }
            }
            let host = headers.get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
            let scope = repository.map(|name| format!(",scope=\"repository:{name}:{action}\"")).unwrap_or_default();
            format!("Bearer realm=\"http://{host}/token\",service=\"pond\"{scope}")
        }
    };
    Some((StatusCode::UNAUTHORIZED, [(WWW_AUTHENTICATE, challenge)]).into_response())
}
