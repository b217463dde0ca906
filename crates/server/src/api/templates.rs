//! Templates, for checking a file that uses them.

use axum::Json;
use axum::extract::{Query, State};
use pondrix_api::{Problem, TemplateText};
use pondrix_core::pipeline::TemplateName;
use serde::Deserialize;
use utoipa::IntoParams;

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// Which template.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Which {
    /// Its name.
    name: String,
    /// Where it is: `PROJECT/FOLDER@VERSION`.
    from: String,
}

/// A template as it is now.
#[utoipa::path(get, path = "/api/v1/templates", tag = "projects", params(Which),
    responses((status = 200, body = TemplateText), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn show(
    State(app): Shared,
    _person: Person,
    Query(which): Query<Which>,
) -> Result<Json<TemplateText>, ApiError> {
    let name = TemplateName::new(&which.name, &which.from).map_err(ApiError::bad)?;
    match app.engine.template(&name).await? {
        Ok((text, commit)) => Ok(Json(TemplateText { text, commit })),
        Err(words) => Err(ApiError::not_found(format!("template {name}: {words}"))),
    }
}
