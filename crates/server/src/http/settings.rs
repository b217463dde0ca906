//! Environments.

use axum::Json;
use axum::extract::{Path, State};
use pondrix_api::{EnvironmentChange, EnvironmentList, EnvironmentRemoved, EnvironmentView, FreezeRequest, Problem};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// All environments, by name, but those that are for projects alone that may not be seen.
#[utoipa::path(get, path = "/api/v1/environments", tag = "settings",
    responses((status = 200, body = EnvironmentList), (status = 401, body = Problem)))]
pub(super) async fn list_environments(State(app): Shared, person: Person) -> Result<Json<EnvironmentList>, ApiError> {
    let mut environments = app.engine.environments().await?;
    let rights = &person.shown.rights;
    environments.retain(|one| {
        let projects = &one.rules.projects;
        projects.is_empty() || projects.iter().any(|projects| rights.see_some_of(projects))
    });
    for one in &mut environments {
        one.rules.projects.retain(|projects| rights.see_some_of(projects));
    }
    Ok(Json(EnvironmentList { environments }))
}

/// Makes an environment known, or changes it.
#[utoipa::path(put, path = "/api/v1/environments", tag = "settings", request_body = EnvironmentChange,
    responses((status = 200, body = EnvironmentView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_environment(
    State(app): Shared,
    person: Person,
    Json(change): Json<EnvironmentChange>,
) -> Result<Json<EnvironmentView>, ApiError> {
    Ok(Json(app.engine.set_environment(change, &person.into()).await?))
}

fn unknown(name: &str) -> ApiError {
    ApiError::not_found(format!("environment `{name}`; see `pondrix environment list`"))
}

/// Has nothing rolled out to an environment for now. What is being rolled out goes on.
#[utoipa::path(put, path = "/api/v1/environments/{name}/freeze", tag = "settings", params(("name" = String, Path)),
    request_body = FreezeRequest,
    responses((status = 200, body = EnvironmentView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn freeze(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Json(FreezeRequest { reason }): Json<FreezeRequest>,
) -> Result<Json<EnvironmentView>, ApiError> {
    let frozen = app.engine.freeze(&name, Some(reason), &person.into()).await?;
    frozen.map(Json).ok_or_else(|| unknown(&name))
}

/// Has rollouts to an environment begin again.
#[utoipa::path(delete, path = "/api/v1/environments/{name}/freeze", tag = "settings", params(("name" = String, Path)),
    responses((status = 200, body = EnvironmentView), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn thaw(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<Json<EnvironmentView>, ApiError> {
    let thawed = app.engine.freeze(&name, None, &person.into()).await?;
    thawed.map(Json).ok_or_else(|| unknown(&name))
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
    removed.map(Json).ok_or_else(|| unknown(&name))
}
