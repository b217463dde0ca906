//! Registries: how they are reached, who signs in, and what they allow.

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use pondrix_api::{
    Problem, RegistryAccount, RegistryChange, RegistryCheck, RegistryList, RegistryProof, RegistryQuestion,
    RegistryView,
};
use pondrix_core::access::Rights;
use pondrix_core::image::Repository;
use pondrix_image::registry::{Registry, RegistryError};
use serde::Deserialize;
use utoipa::IntoParams;

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use crate::audit;
use crate::domain::{Speaker, address_of};
use crate::store::{AccountRow, RegistryRow};

fn view(row: RegistryRow) -> RegistryView {
    RegistryView {
        address: address_of(&row),
        host: row.host,
        accounts: row.accounts.into_iter().map(account).collect(),
        signs_in_at: row.realm,
        certificates: row.certificates.is_some(),
        layers: row.layers,
        bare_names: row.bare_names,
        forgotten: Vec::new(),
    }
}

/// Leaves out who signs in for projects alone that may not be seen.
fn hide_foreign(RegistryView { accounts, .. }: &mut RegistryView, rights: &Rights) {
    accounts.retain(|one| one.projects.is_empty() || one.projects.iter().any(|of| rights.see_some_of(of)));
    accounts.iter_mut().for_each(|one| one.projects.retain(|of| rights.see_some_of(of)));
}

fn account(AccountRow { user, audience, repositories, projects, .. }: AccountRow) -> RegistryAccount {
    RegistryAccount { user, audience, repositories, projects }
}

/// All registries that are reached in a way of their own; of who signs in, those who do for projects that may be seen.
#[utoipa::path(get, path = "/api/v1/registries", tag = "settings",
    responses((status = 200, body = RegistryList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, person: Person) -> Result<Json<RegistryList>, ApiError> {
    let mut registries: Vec<_> = app.queries.registries().await?.into_iter().map(view).collect();
    let rights = &person.shown.rights;
    registries.iter_mut().for_each(|view| hide_foreign(view, rights));
    Ok(Json(RegistryList { registries }))
}

/// Says how a registry is reached, or changes it. What is not said stays as it is; but a password that was given for
/// another address, or with other certificates, is forgotten, and has to be given again.
#[utoipa::path(put, path = "/api/v1/registries", tag = "settings", request_body = RegistryChange,
    responses((status = 200, body = RegistryView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set(
    State(app): Shared,
    person: Person,
    Json(change): Json<RegistryChange>,
) -> Result<Json<RegistryView>, ApiError> {
    let rights = std::sync::Arc::clone(&person.shown.rights);
    let (row, forgotten) = app.engine.set_registry(change, &person.into()).await?;
    let mut view = RegistryView { forgotten, ..view(row) };
    hide_foreign(&mut view, &rights);
    Ok(Json(view))
}

/// What of a registry is forgotten.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Forgotten {
    /// Only that this user signs in; all of it, where nobody is named.
    user: Option<String>,
}

/// Forgets how a registry is reached and who signs in at it, or only that somebody does.
#[utoipa::path(delete, path = "/api/v1/registries/{host}", tag = "settings",
    params(("host" = String, Path), Forgotten),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    person: Person,
    Path(host): Path<String>,
    Query(Forgotten { user }): Query<Forgotten>,
) -> Result<StatusCode, ApiError> {
    let of_whom = user.as_ref().map_or_else(String::new, |user| format!("{user} at the "));
    if app.engine.remove_registry(host.clone(), user, &person.into()).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("{of_whom}registry `{host}`; see `pondrix registry list`")))
}

/// Proves what a repository allows: that its registry answers, and that images can be pulled and pushed.
#[utoipa::path(post, path = "/api/v1/registries/test", tag = "settings", request_body = RegistryQuestion,
    responses((status = 200, body = RegistryProof), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn test(
    State(app): Shared,
    _person: Person,
    Json(question): Json<RegistryQuestion>,
) -> Result<Json<RegistryProof>, ApiError> {
    audit::about(&question.repository);
    let repository: Repository = question.repository.parse().map_err(|error| ApiError::bad(format!("{error}")))?;
    let all = app.engine.registries().await?;
    let registries = match &question.project {
        Some(project) => app.engine.identified(all.of(project), Speaker::Project(project)).await?,
        None => all.identified(|_| None),
    };
    let registry = Registry::new(repository.host(), &registries).map_err(|error| ApiError::bad(error.to_string()))?;
    let address = registries.address(repository.host());
    let told = |what: &str, result: Result<(), RegistryError>, good: String| match result {
        Ok(()) => RegistryCheck { what: what.to_owned(), passed: true, words: good, help: None },
        Err(error) => {
            let help = help(&error, &repository);
            RegistryCheck { what: what.to_owned(), passed: false, words: error.to_string(), help: Some(help) }
        }
    };
    let user = registries.access(repository.host()).account(&repository).map(|who| who.user.clone());
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
        RegistryError::SignIn { audience: Some(_), .. } => {
            "docs/security.md says what a registry has to know to believe this server".to_owned()
        }
        RegistryError::SignIn { user: Some(user), .. } => {
            format!(
                "have {host} allow {user} to use {}, or sign in as another: pondrix registry add {host} --user NAME",
                repository.path()
            )
        }
        RegistryError::OtherRealm { realm, .. } => format!("pondrix registry add {host} --signs-in-at {realm}"),
        RegistryError::Refused { .. } => format!("have {host} allow it for {}", repository.path()),
        _ => format!("look whether {host} is a registry"),
    }
}
