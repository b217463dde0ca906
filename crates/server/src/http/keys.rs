//! The keys that secrets are sealed with.

use axum::Json;
use axum::extract::State;
use pondrix_api::{KeysView, Problem};

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
