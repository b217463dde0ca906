//! How much of what all share projects may have.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pondrix_api::{Problem, QuotaChange, QuotaList};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// How much the projects that may be seen may have, and have.
#[utoipa::path(get, path = "/api/v1/quotas", tag = "settings",
    responses((status = 200, body = QuotaList), (status = 401, body = Problem)))]
pub(super) async fn list_quotas(State(app): Shared, person: Person) -> Result<Json<QuotaList>, ApiError> {
    let rows = app.queries.projects().await?.into_iter().map(|row| row.project);
    let seen = rows.filter(|project| person.may_see(project.name.as_str())).collect();
    Ok(Json(QuotaList { projects: app.engine.quotas(seen).await? }))
}

/// Sets how much a project may have, or each that says nothing itself.
#[utoipa::path(put, path = "/api/v1/quotas", tag = "settings", request_body = QuotaChange,
    responses((status = 204), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_quota(
    State(app): Shared,
    _person: Person,
    Json(change): Json<QuotaChange>,
) -> Result<StatusCode, ApiError> {
    app.engine.set_quota(change).await?;
    Ok(StatusCode::NO_CONTENT)
}
