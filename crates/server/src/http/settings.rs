//! Environments.

use axum::Json;
use axum::extract::{Path, State};
use pondrix_api::{EnvironmentList, EnvironmentRemoved, EnvironmentView, Problem};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// All environments, by name.
#[utoipa::path(get, path = "/api/v1/environments", tag = "settings",
    responses((status = 200, body = EnvironmentList), (status = 401, body = Problem)))]
pub(super) async fn list_environments(State(app): Shared, _person: Person) -> Result<Json<EnvironmentList>, ApiError> {
    Ok(Json(EnvironmentList { environments: app.queries.environments().await? }))
}

/// Makes an environment known, or changes it.
#[utoipa::path(put, path = "/api/v1/environments", tag = "settings", request_body = EnvironmentView,
    responses((status = 200, body = EnvironmentView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_environment(
    State(app): Shared,
    _person: Person,
    Json(environment): Json<EnvironmentView>,
) -> Result<Json<EnvironmentView>, ApiError> {
    app.engine.set_environment(environment.clone()).await?;
    Ok(Json(environment))
}

/// Removes an environment. What runs in it goes on running.
#[utoipa::path(delete, path = "/api/v1/environments/{name}", tag = "settings", params(("name" = String, Path)),
    responses((status = 200, body = EnvironmentRemoved), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove_environment(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<Json<EnvironmentRemoved>, ApiError> {
    let removed = app.engine.remove_environment(&name, &person.into()).await?;
    removed
        .map(Json)
        .ok_or_else(|| ApiError::not_found(format!("environment `{name}`; see `pondrix environment list`")))
}
