//! Whose signed tokens are believed instead of a password, for which repositories.

use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use axum::http::header::WWW_AUTHENTICATE;
use axum::http::{HeaderMap, Method, StatusCode};
use axum::response::{IntoResponse, Response};
use base64::Engine;
use pondrix_core::Time;
use pondrix_identity::{Expected, PublicKeys, check};
use serde_json::Value;

use super::Registry;
use super::guard::shown;

/// Who may push into the repositories that begin so: whoever shows a token that this issuer signed for this registry and
/// that speaks of this project. Everybody pulls.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trust {
    /// The address of who signs; its keys are fetched there (OpenID Connect Discovery 1.0, section 4).
    pub issuer: String,
    /// What the registry is called in tokens.
    pub audience: String,
    /// The name that is shown with the token.
    pub user: String,
    /// The project.
    pub project: String,
    /// How the repositories begin.
    pub below: String,
}

/// The keys of an issuer, as they are now.
async fn keys(issuer: &str) -> Option<PublicKeys> {
    // Where none was chosen yet; any will do.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let get = async |address: &str| reqwest::get(address).await?.error_for_status()?.json::<Value>().await;
    let found = get(&format!("{issuer}/.well-known/openid-configuration")).await.ok()?;
    if found["issuer"] != issuer {
        return None;
    }
    serde_json::from_value(get(found["jwks_uri"].as_str()?).await.ok()?).ok()
}

fn now() -> Time {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Time::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// Whether a request shows who this one asks for; what the token says is remembered.
async fn is_shown(registry: &Registry, trust: &Trust, headers: &HeaderMap) -> bool {
    let decoded = shown(headers, "Basic").and_then(|text| base64::prelude::BASE64_STANDARD.decode(text).ok());
    let pair = decoded.and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default();
    let Some((user, token)) = pair.split_once(':') else { return false };
    let Some(keys) = keys(&trust.issuer).await.filter(|_| user == trust.user) else { return false };
    let expected = Expected { issuer: &trust.issuer, audience: &trust.audience, now: now() };
    let Ok(claims) = check(token, &keys, expected) else { return false };
    let is_project = claims.get("project").and_then(Value::as_str) == Some(&trust.project);
    registry.inner().seen.push(Value::Object(claims));
    is_project
}

/// The refusal of somebody who may not push into a repository.
pub(super) async fn refusal(
    registry: &Arc<Registry>,
    repository: Option<&str>,
    method: &Method,
    headers: &HeaderMap,
) -> Option<Response> {
    if matches!(*method, Method::GET | Method::HEAD) {
        return None;
    }
    let repository = repository?;
    let mut fitting = registry.inner().trusts.clone();
    fitting.retain(|trust| repository.starts_with(&trust.below));
    if fitting.is_empty() {
        return None;
    }
    for trust in &fitting {
        if is_shown(registry, trust, headers).await {
            return None;
        }
    }
    Some((StatusCode::UNAUTHORIZED, [(WWW_AUTHENTICATE, "Basic realm=\"pond\"")]).into_response())
}
