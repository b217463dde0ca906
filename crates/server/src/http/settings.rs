//! Environments.

use std::path::Path;

use axum::Json;
use axum::extract::{Path as Parts, State};
use pondrix_api::{EnvironmentList, EnvironmentRemoved, EnvironmentView, Problem};
use pondrix_core::ProjectName;

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use crate::store;

pub(super) fn is_http(address: &str) -> bool {
    let rest = address.strip_prefix("http://").or_else(|| address.strip_prefix("https://"));
    rest.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('/'))
}

/// All environments, by name.
#[utoipa::path(get, path = "/api/v1/environments", tag = "settings",
    responses((status = 200, body = EnvironmentList), (status = 401, body = Problem)))]
pub(super) async fn list_environments(State(app): Shared, _person: Person) -> Result<Json<EnvironmentList>, ApiError> {
    Ok(Json(EnvironmentList { environments: app.engine.store.read(store::environments).await? }))
}

/// Makes an environment known, or changes it.
#[utoipa::path(put, path = "/api/v1/environments", tag = "settings", request_body = EnvironmentView,
    responses((status = 200, body = EnvironmentView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_environment(
    State(app): Shared,
    _person: Person,
    Json(environment): Json<EnvironmentView>,
) -> Result<Json<EnvironmentView>, ApiError> {
    // Environments and namespaces follow the same rule as projects do.
    for name in [&environment.name, &environment.namespace] {
        if name.parse::<ProjectName>().is_err() {
            return Err(ApiError::bad(format!(
                "`{name}` cannot be a name here: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends"
            )));
        }
    }
    let file = Path::new(&environment.kubeconfig);
    if !file.is_absolute() || !file.is_file() {
        let detail = format!("{} is no file on the server's machine; name it with its whole path", file.display());
        return Err(ApiError::bad(detail));
    }
    if let Some(address) = environment.address.as_ref().filter(|address| !is_http(address)) {
        return Err(ApiError::bad(format!("`{address}` is not an address: write http://… or https://…")));
    }
    let kept = environment.clone();
    app.engine.store.write(move |c| store::put_environment(c, &kept)).await?;
    Ok(Json(environment))
}

/// Removes an environment. What runs in it goes on running.
#[utoipa::path(delete, path = "/api/v1/environments/{name}", tag = "settings", params(("name" = String, Path)),
    responses((status = 200, body = EnvironmentRemoved), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove_environment(
    State(app): Shared,
    person: Person,
    Parts(name): Parts<String>,
) -> Result<Json<EnvironmentRemoved>, ApiError> {
    person.only_first("removes environments")?;
    let removed = app.engine.remove_environment(&name).await?;
    removed
        .map(Json)
        .ok_or_else(|| ApiError::not_found(format!("environment `{name}`; see `pondrix environment list`")))
}
