//! Secrets: they go in, and come out in jobs that name them only.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{Problem, SecretList, SecretValue, SecretView};
use pondrix_core::mask;
use pondrix_core::pipeline::SecretName;

use super::auth::Person;
use super::error::ApiError;
use super::{Shared, projects};
use crate::store;

/// The longest value, in bytes: an environment that is longer cannot be given to a program (execve(2),
/// "Limits on size of arguments and environment").
const LONGEST: usize = 96 * 1024;

/// A project's secrets, without their values, by name.
#[utoipa::path(get, path = "/api/v1/projects/{project}/secrets", tag = "secrets",
    params(("project" = String, Path)),
    responses((status = 200, body = SecretList), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    _person: Person,
    Path(project): Path<String>,
) -> Result<Json<SecretList>, ApiError> {
    let id = projects::find(&app, &project).await?.id;
    Ok(Json(SecretList { secrets: app.engine.store.read(move |c| store::secrets(c, id)).await? }))
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
    Json(SecretValue { value }): Json<SecretValue>,
) -> Result<Json<SecretView>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let name: SecretName = name.parse().map_err(|error| ApiError::bad(format!("{error}")))?;
    if value.trim().len() < mask::SHORTEST {
        let detail = format!("a secret has at least {} letters, so that it can be hidden in logs", mask::SHORTEST);
        return Err(ApiError::bad(detail));
    }
    if value.len() > LONGEST || value.contains('\0') {
        return Err(ApiError::bad(format!("a secret is a text of at most {} KiB without zero bytes", LONGEST / 1024)));
    }
    let sealed = app.engine.seal.seal(&format!("{}/{name}", project.name), &value).map_err(ApiError::internal)?;
    let view = SecretView { name: name.to_string(), set: app.engine.clock.now(), by: person.name };
    let kept = view.clone();
    app.engine.store.write(move |c| store::put_secret(c, project.id, &kept, &sealed)).await?;
    Ok(Json(view))
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
    let id = projects::find(&app, &project).await?.id;
    let wanted = name.clone();
    if app.engine.store.write(move |c| store::remove_secret(c, id, &wanted)).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("secret `{name}` in {project}; see `pondrix secret list {project}`")))
}
