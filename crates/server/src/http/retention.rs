//! How long the past is kept.

use axum::Json;
use axum::extract::State;
use pondrix_api::{Problem, RetentionPreview, RetentionQuestion, RetentionRule, RetentionView};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// How long runs are kept, and what hangs on them.
#[utoipa::path(get, path = "/api/v1/retention", tag = "retention",
    responses((status = 200, body = RetentionView), (status = 401, body = Problem)))]
pub(super) async fn show(State(app): Shared, person: Person) -> Result<Json<RetentionView>, ApiError> {
    Ok(Json(app.engine.retention(&person.into()).await?))
}

/// Sets a rule in the place of the one for the same project and branch. One that says nothing removes that. What is
/// not to be kept any more then begins to be removed.
#[utoipa::path(put, path = "/api/v1/retention", tag = "retention", request_body = RetentionRule,
    responses((status = 200, body = RetentionView), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn set(
    State(app): Shared,
    person: Person,
    Json(rule): Json<RetentionRule>,
) -> Result<Json<RetentionView>, ApiError> {
    Ok(Json(app.engine.set_retention(rule.into(), &person.into()).await?))
}

/// What would be removed now. Nothing is.
#[utoipa::path(post, path = "/api/v1/retention/preview", tag = "retention", request_body = RetentionQuestion,
    responses((status = 200, body = RetentionPreview), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn preview(
    State(app): Shared,
    person: Person,
    Json(asked): Json<RetentionQuestion>,
) -> Result<Json<RetentionPreview>, ApiError> {
    Ok(Json(app.engine.retention_preview(asked, &person.into()).await?))
}
