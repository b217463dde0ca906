//! Templates, for checking a file that uses them.

use axum::Json;
use axum::extract::{Query, State};
use pondrix_api::{Problem, TemplateText};
use pondrix_core::pipeline::TemplateName;
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Person;
use super::error::ApiError;
use super::{Shared, projects};
use crate::domain::FoundTemplate;

/// Which template.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Its name.
    name: String,
    /// The project whose repository has it.
    project: String,
    /// The folder in that repository; its root, where nothing is said.
    #[serde(default)]
    folder: String,
    /// A tag, a branch or a commit of that repository.
    version: String,
}

/// A template as it is now.
#[utoipa::path(get, path = "/api/v1/templates", tag = "projects", params(Which),
    responses((status = 200, body = TemplateText), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn show(
    State(app): Shared,
    person: Person,
    Query(which): Query<Which>,
) -> Result<Json<TemplateText>, ApiError> {
    let name = TemplateName::new(&which.name, &which.project, &which.folder, &which.version)
        .map_err(|error| ApiError::bad(error.to_string()))?;
    // What a project gives away, pipelines of others can read in any case.
    let found = app.queries.projects().await?.into_iter().find(|row| row.project.name.as_str() == which.project);
    if !found.is_some_and(|row| row.templates) {
        projects::seen(&app, &person, &which.project).await?;
    }
    match app.engine.template(&name).await? {
        Ok(FoundTemplate { text, commit, .. }) => Ok(Json(TemplateText { text, commit })),
        Err(why) => Err(ApiError::not_found(format!("template {name}: {why}"))),
    }
}
