//! Who is let in: by name and password (RFC 7617), or by a token (RFC 6750) that `/token` gives.

use axum::extract::Query;
use axum::http::header::{AUTHORIZATION, HOST, WWW_AUTHENTICATE};
use axum::http::{HeaderMap, Method, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use base64::Engine;
use serde_json::json;

use super::Registry;
use super::state::Guard;

pub(super) fn shown<'a>(headers: &'a HeaderMap, scheme: &str) -> Option<&'a str> {
    headers.get(AUTHORIZATION)?.to_str().ok()?.strip_prefix(scheme)?.strip_prefix(' ')
}

fn knows_password(guard: &Guard, headers: &HeaderMap) -> bool {
    let expected = base64::engine::general_purpose::STANDARD.encode(format!("{}:{}", guard.user, guard.password));
    shown(headers, "Basic") == Some(expected.as_str())
}

/// Gives a token to who knows the password.
pub(super) fn token(registry: &Registry, address: &Uri, headers: &HeaderMap) -> Response {
    // A right may be asked for several times over, each in several repositories.
    let asked = Query::<Vec<(String, String)>>::try_from_uri(address);
    let Ok(Query(asked)) = asked else { return StatusCode::BAD_REQUEST.into_response() };
    let scopes: Vec<String> = asked.into_iter().filter(|(name, _)| name == "scope").map(|(_, scope)| scope).collect();
    let mut inner = registry.inner();
    let Some(guard) = inner.guards.iter().find(|guard| knows_password(guard, headers)).cloned() else {
        return StatusCode::UNAUTHORIZED.into_response();
    };
    let token = format!("token-{}", inner.tokens.len());
    let below = format!("repository:{}", guard.below);
    let scope = scopes.join(" ");
    let scope = scope.split(' ').filter(|scope| scope.starts_with(&below)).collect::<Vec<_>>().join(" ");
    inner.tokens.insert(token.clone(), (scope, guard.token_uses.unwrap_or(u32::MAX)));
    json!({ "token": token, "expires_in": 300 }).to_string().into_response()
}

/// Whether rights are enough for an action in a repository.
fn covers(scopes: &str, repository: &str, action: &str) -> bool {
    scopes.split(' ').any(|scope| {
        let mut parts = scope.rsplitn(2, ':');
        let (actions, what) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        what == format!("repository:{repository}") && actions.split(',').any(|one| one == action)
    })
}

/// Whether somebody who was let in may pull from a repository as well.
pub(super) fn may_pull(registry: &Registry, repository: &str, headers: &HeaderMap) -> bool {
    let inner = registry.inner();
    let tokens_count = inner.guards.iter().any(|guard| guard.token_uses.is_some());
    let token = shown(headers, "Bearer").and_then(|token| inner.tokens.get(token));
    !tokens_count || token.is_some_and(|(scope, _)| covers(scope, repository, "pull"))
}

/// The refusal of somebody who is not let in.
pub(super) fn refusal(
    registry: &Registry,
    repository: Option<&str>,
    method: &Method,
    headers: &HeaderMap,
) -> Option<Response> {
    let mut inner = registry.inner();
    let guards = inner.guards.clone();
    let token_uses = guards.first()?.token_uses;
    let lets_in =
        |guard: &Guard| knows_password(guard, headers) && repository.is_none_or(|name| name.starts_with(guard.below));
    let action = if matches!(*method, Method::GET | Method::HEAD) { "pull" } else { "push" };
    let challenge = match token_uses {
        None if guards.iter().any(lets_in) => return None,
        None => "Basic realm=\"pond\"".to_owned(),
        Some(_) => {
            let known = shown(headers, "Bearer").and_then(|token| inner.tokens.get_mut(token));
            let is_good = |(scope, uses): &&mut (String, u32)| {
                *uses > 0 && repository.is_none_or(|name| covers(scope, name, action))
            };
            if let Some((_, uses)) = known.filter(is_good) {
                *uses -= 1;
                return None;
            }
            let host = headers.get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
            let scope = repository.map(|name| format!(",scope=\"repository:{name}:{action}\"")).unwrap_or_default();
            format!("Bearer realm=\"http://{host}/token\",service=\"pond\"{scope}")
        }
    };
    Some((StatusCode::UNAUTHORIZED, [(WWW_AUTHENTICATE, challenge)]).into_response())
}
