//! The keys that secrets are sealed with.

use axum::Json;
use axum::extract::State;
use axum::http::header::CACHE_CONTROL;
use axum::response::IntoResponse;
use pondrix_api::{KeysView, Problem};
use serde_json::{Value, json};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// The keys that secrets are sealed with, without themselves.
#[utoipa::path(get, path = "/api/v1/keys", tag = "settings",
    responses((status = 200, body = KeysView), (status = 401, body = Problem)))]
pub(super) async fn show(State(app): Shared, _person: Person) -> Result<Json<KeysView>, ApiError> {
    Ok(Json(app.engine.keys().await?))
}

/// Makes another master key, where it is in a file, and wraps the data keys with it.
#[utoipa::path(post, path = "/api/v1/keys/rotate", tag = "settings",
    responses((status = 200, body = KeysView), (status = 401, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn rotate(State(app): Shared, _person: Person) -> Result<Json<KeysView>, ApiError> {
    Ok(Json(app.engine.rotate_master().await?))
}

/// Makes another key that signs identities of jobs from now on; what those before it signed is believed no more.
#[utoipa::path(post, path = "/api/v1/keys/identity/rotate", tag = "settings",
    responses((status = 200, body = KeysView), (status = 401, body = Problem)))]
pub(super) async fn rotate_identity(State(app): Shared, _person: Person) -> Result<Json<KeysView>, ApiError> {
    app.engine.renew_identity_keys().await?;
    Ok(Json(app.engine.keys().await?))
}

/// How identities of jobs are checked (OpenID Connect Discovery 1.0, section 3).
#[utoipa::path(get, path = "/.well-known/openid-configuration", tag = "server",
    responses((status = 200, description = "Who signs, and where the keys are")))]
pub(super) async fn discovery(State(app): Shared) -> Json<Value> {
    let issuer = app.engine.issuer();
    Json(json!({
        "issuer": issuer,
        "jwks_uri": format!("{issuer}/.well-known/jwks.json"),
        "id_token_signing_alg_values_supported": ["ES256"],
        "response_types_supported": ["id_token"],
        "subject_types_supported": ["public"],
        "claims_supported": [
            "iss", "sub", "aud", "iat", "nbf", "exp", "jti", "project", "ref", "protected", "environment", "commit",
            "run", "job", "start",
        ],
    }))
}

/// The keys that identities of jobs are checked with (RFC 7517). They may be remembered for a day.
#[utoipa::path(get, path = "/.well-known/jwks.json", tag = "server",
    responses((status = 200, description = "The keys")))]
pub(super) async fn identity_keys(State(app): Shared) -> Result<impl IntoResponse, ApiError> {
    let keys = app.engine.identity_keys().await?;
    Ok(([(CACHE_CONTROL, "public, max-age=3600")], Json(keys)))
}
