//! Secrets: they go in, and come out in jobs that name them only.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{Problem, SecretList, SecretValue, SecretView, SharedSecret, SharedSecretName};
use pondrix_core::RunId;

use super::auth::Person;
use super::error::ApiError;
use super::{Shared, projects};

/// A project's secrets, without their values, by name; then those that it shares with others; and what its newest pipeline
/// names and is not set.
#[utoipa::path(get, path = "/api/v1/projects/{project}/secrets", tag = "secrets",
    params(("project" = String, Path)),
    responses((status = 200, body = SecretList), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    person: Person,
    Path(project): Path<String>,
) -> Result<Json<SecretList>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let mut list = app.engine.secrets(&project).await?;
    // What several share may have been given to a run of a project that may not be seen.
    for secret in &mut list.secrets {
        let run = secret.used_by.as_ref().and_then(|run| run.parse::<RunId>().ok());
        if run.is_none_or(|run| !person.may_see(run.project.as_str())) {
            secret.used_by = None;
        }
    }
    Ok(Json(list))
}

/// Sets a secret. Its value is never shown again.
#[utoipa::path(put, path = "/api/v1/projects/{project}/secrets/{name}", tag = "secrets",
    params(("project" = String, Path), ("name" = String, Path)), request_body = SecretValue,
    responses((status = 200, body = SecretView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn set(
    State(app): Shared,
    person: Person,
    Path((project, name)): Path<(String, String)>,
    Json(secret): Json<SecretValue>,
) -> Result<Json<SecretView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(app.engine.set_secret(&project, &name, secret, person.into()).await?))
}

/// Removes a secret.
#[utoipa::path(delete, path = "/api/v1/projects/{project}/secrets/{name}", tag = "secrets",
    params(("project" = String, Path), ("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    _person: Person,
    Path((project, name)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    let found = projects::find(&app, &project).await?;
    if app.engine.remove_secret(&found, name.clone()).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("secret `{name}` in {project}; see `pondrix secret list {project}`")))
}

/// The secrets that are no project's, without their values.
#[utoipa::path(get, path = "/api/v1/secrets", tag = "secrets",
    responses((status = 200, body = SecretList), (status = 401, body = Problem), (status = 403, body = Problem)))]
pub(super) async fn list_shared(State(app): Shared, person: Person) -> Result<Json<SecretList>, ApiError> {
    Ok(Json(app.engine.shared_secrets(&person.into()).await?))
}

/// Sets a secret for all projects, or for stages that go to an environment. Its value is never shown again.
#[utoipa::path(put, path = "/api/v1/secrets", tag = "secrets", request_body = SharedSecret,
    responses((status = 200, body = SecretView), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn set_shared(
    State(app): Shared,
    person: Person,
    Json(secret): Json<SharedSecret>,
) -> Result<Json<SecretView>, ApiError> {
    Ok(Json(app.engine.set_shared_secret(secret, person.into()).await?))
}

/// Removes a secret that is no project's.
#[utoipa::path(post, path = "/api/v1/secrets/remove", tag = "secrets", request_body = SharedSecretName,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn remove_shared(
    State(app): Shared,
    person: Person,
    Json(which): Json<SharedSecretName>,
) -> Result<StatusCode, ApiError> {
    let words = format!("secret `{}` for {}; see `pondrix secret list '{}'`", which.name, which.scope, which.scope);
    match app.engine.remove_shared_secret(which, &person.into()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found(words)),
    }
}
