//! Registries: how they are reached, who signs in, and what they allow.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{
    Problem, RegistryChange, RegistryCheck, RegistryList, RegistryProof, RegistryQuestion, RegistryView,
};
use pondrix_core::image::Repository;
use pondrix_core::mask;
use pondrix_core::pipeline::LayerForm;
use pondrix_image::registry::{Registry, RegistryError};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use super::settings::is_http;
use crate::domain::registry_place;
use crate::store::{self, RegistryRow};

fn view(row: RegistryRow) -> RegistryView {
    RegistryView {
        address: row.address.unwrap_or_else(|| format!("https://{}", row.host)),
        host: row.host,
        user: row.user,
        certificates: row.certificates.is_some(),
        layers: row.layers,
        bare_names: row.bare_names,
    }
}

/// All registries that are reached in a way of their own.
#[utoipa::path(get, path = "/api/v1/registries", tag = "settings",
    responses((status = 200, body = RegistryList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<RegistryList>, ApiError> {
    let rows = app.engine.store.read(store::registries).await?;
    Ok(Json(RegistryList { registries: rows.into_iter().map(view).collect() }))
}

/// Says how a registry is reached, or changes it. What is not said stays as it is.
#[utoipa::path(put, path = "/api/v1/registries", tag = "settings", request_body = RegistryChange,
    responses((status = 200, body = RegistryView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set(
    State(app): Shared,
    _person: Person,
    Json(change): Json<RegistryChange>,
) -> Result<Json<RegistryView>, ApiError> {
    let host = change.host.clone();
    if format!("{host}/x").parse::<Repository>().is_err() {
        return Err(ApiError::bad(format!("`{host}` is not a registry's host as image names begin with")));
    }
    let wanted = host.clone();
    let there = app.engine.store.read(move |c| store::registry(c, &wanted)).await?;
    let mut row = there.unwrap_or_else(|| RegistryRow { host: host.clone(), ..RegistryRow::default() });
    if let Some(address) = change.address {
        if !is_http(&address) {
            return Err(ApiError::bad(format!("`{address}` is not an address: write http://… or https://…")));
        }
        row.address = Some(address);
    }
    match (change.user, change.password) {
        (Some(user), Some(password)) if !user.is_empty() => {
            if password.trim().len() < mask::SHORTEST {
                let detail =
                    format!("a password has at least {} letters, so that it can be hidden in logs", mask::SHORTEST);
                return Err(ApiError::bad(detail));
            }
            let sealed = app.engine.seal.seal(&registry_place(&host), &password).map_err(ApiError::internal)?;
            (row.user, row.password) = (Some(user), Some(sealed));
        }
        (None, None) => {}
        _ => return Err(ApiError::bad("a name and a password belong together; send both")),
    }
    if let Some(layers) = change.layers {
        if !LayerForm::WORDS.iter().any(|(word, _)| *word == layers) {
            return Err(ApiError::bad(format!("`{layers}` is no way to compress layers: gzip or zstd")));
        }
        row.layers = Some(layers);
    }
    if let Some(path) = change.bare_names {
        let path = path.trim_matches('/').to_owned();
        if !path.is_empty() && format!("{host}/{path}").parse::<Repository>().is_err() {
            return Err(ApiError::bad(format!("`{path}` is not a path in a registry")));
        }
        row.bare_names = Some(path);
    }
    if let Some(certificates) = change.certificates {
        row.certificates = Some(certificates);
    }
    // What cannot be used is refused now, and not when a run needs it.
    let access = app.engine.access(row.clone());
    let registries = pondrix_core::image::Registries { by_host: [(host.clone(), access)].into() };
    Registry::new(&host, &registries).map_err(|error| ApiError::bad(error.to_string()))?;
    let kept = row.clone();
    app.engine.store.write(move |c| store::put_registry(c, &kept)).await?;
    Ok(Json(view(row)))
}

/// Forgets how a registry is reached, and who signs in at it.
#[utoipa::path(delete, path = "/api/v1/registries/{host}", tag = "settings", params(("host" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    _person: Person,
    Path(host): Path<String>,
) -> Result<StatusCode, ApiError> {
    let wanted = host.clone();
    if app.engine.store.write(move |c| store::remove_registry(c, &wanted)).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("registry `{host}`; see `pondrix registry list`")))
}

/// Proves what a repository allows: that its registry answers, and that images can be pulled and pushed.
#[utoipa::path(post, path = "/api/v1/registries/test", tag = "settings", request_body = RegistryQuestion,
    responses((status = 200, body = RegistryProof), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn test(
    State(app): Shared,
    _person: Person,
    Json(question): Json<RegistryQuestion>,
) -> Result<Json<RegistryProof>, ApiError> {
    let repository: Repository = question.repository.parse().map_err(|error| ApiError::bad(format!("{error}")))?;
    let registries = app.engine.registries().await?;
    let registry = Registry::new(repository.host(), &registries).map_err(|error| ApiError::bad(error.to_string()))?;
    let address = registries.address(repository.host());
    let told = |what: &str, result: Result<(), RegistryError>, good: String| match result {
        Ok(()) => RegistryCheck { what: what.to_owned(), passed: true, words: good, help: None },
        Err(error) => {
            let help = help(&error, &repository);
            RegistryCheck { what: what.to_owned(), passed: false, words: error.to_string(), help: Some(help) }
        }
    };
    let user = registries.access(repository.host()).sign_in.map(|who| who.user);
    let who = user.map_or_else(|| "nobody signs in".to_owned(), |user| format!("as {user}"));
    let mut checks = vec![told("answers", registry.answers().await, format!("at {address}, {who}"))];
    if checks[0].passed {
        checks.push(told("pull", registry.may_pull(&repository).await, format!("from {}", repository.path())));
        let pushed = registry.may_push(&repository).await;
        checks.push(told("push", pushed, format!("into {}: an upload was begun and given up", repository.path())));
    }
    Ok(Json(RegistryProof { repository: repository.to_string(), checks }))
}

/// What mends it.
fn help(error: &RegistryError, repository: &Repository) -> String {
    let host = repository.host();
    match error {
        RegistryError::Silent { .. } => format!("pondrix registry add {host} --at URL says where it is reached"),
        RegistryError::SignIn { user: None, .. } => format!("pondrix registry add {host} --user NAME"),
        RegistryError::SignIn { user: Some(user), .. } => {
            format!(
                "have {host} allow {user} to use {}, or sign in as another: pondrix registry add {host} --user NAME",
                repository.path()
            )
        }
        RegistryError::Refused { .. } => format!("have {host} allow it for {}", repository.path()),
        _ => format!("look whether {host} is a registry"),
    }
}
