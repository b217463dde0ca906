//! Projects.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{
    NewProject, PlanRequest, PlanView, Problem, ProjectChange, ProjectList, ProjectRemoved, ProjectView,
};
use pondrix_core::access::Need;
use pondrix_core::pipeline::StartKind;

use super::auth::Person;
use super::error::ApiError;
use super::{App, Shared};
use crate::domain::Wanted;
use crate::store::{Project, ProjectRow};

fn view(app: &App, person: &Person, row: ProjectRow) -> ProjectView {
    let project = row.project;
    // Whoever has the secret may have the repository looked at, as often as they like.
    let maintains = person.shown.rights.allow(Need::Maintain, Some(project.name.as_str()));
    let secret = if maintains { app.engine.hook_secret(&project) } else { None };
    ProjectView {
        hook: secret.as_ref().map(|secret| format!("{}/hooks/{}/{secret}", app.public_url, project.name)),
        hook_secret: secret,
        name: project.name.to_string(),
        has_credential: project.credential.is_some(),
        repository: project.repository,
        seen: row.seen,
        note: row.note,
        faulty: row.faulty,
        last_run: row.last_run.map(|(number, _)| number),
        last_state: row.last_run.map(|(_, state)| state),
        weight: row.share.weight,
        limit: row.share.limit,
        templates: row.templates,
        protected: row.protected,
    }
}

/// That there is no such project, which is said as well of one that may not be seen.
pub(super) fn unknown(name: &str) -> ApiError {
    ApiError::not_found(format!("project `{name}` that you may see; see `pondrix project list`"))
}

/// The project of an address.
pub(super) async fn find(app: &App, name: &str) -> Result<Project, ApiError> {
    app.queries.project(name).await?.ok_or_else(|| unknown(name))
}

/// A project that somebody names elsewhere than in the address.
pub(super) async fn seen(app: &App, person: &Person, name: &str) -> Result<Project, ApiError> {
    if person.may_see(name) { find(app, name).await } else { Err(unknown(name)) }
}

/// The projects that somebody may see; nothing where those are all.
pub(super) async fn all_seen(app: &App, person: &Person) -> Result<Option<Vec<String>>, ApiError> {
    if person.shown.rights.see_all() {
        return Ok(None);
    }
    let names = app.queries.projects().await?.into_iter().map(|row| row.project.name.to_string());
    Ok(Some(names.filter(|name| person.may_see(name)).collect()))
}

/// A project as a list shows it.
async fn shown(app: &App, person: &Person, project: &Project) -> Result<ProjectView, ApiError> {
    let rows = app.queries.projects().await?;
    let row = rows.into_iter().find(|row| row.project.id == project.id);
    row.map(|row| view(app, person, row)).ok_or_else(|| ApiError::internal("a project vanished while it was changed"))
}

/// All projects, by name.
#[utoipa::path(get, path = "/api/v1/projects", tag = "projects",
    responses((status = 200, body = ProjectList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, person: Person) -> Result<Json<ProjectList>, ApiError> {
    let rows = app.queries.projects().await?.into_iter().filter(|row| person.may_see(row.project.name.as_str()));
    Ok(Json(ProjectList { projects: rows.map(|row| view(&app, &person, row)).collect() }))
}

/// Makes a repository known. What is in it already starts nothing; the next commit does.
#[utoipa::path(post, path = "/api/v1/projects", tag = "projects", request_body = NewProject,
    responses((status = 201, body = ProjectView), (status = 401, body = Problem), (status = 409, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewProject>,
) -> Result<(StatusCode, Json<ProjectView>), ApiError> {
    let project = app.engine.add_project(new, &person.clone().into()).await?;
    // Seen now, so that a wrong address shows at once and a push right after this is a new one.
    app.watcher.look_first(&project).await;
    app.watcher.watch(project.clone());
    Ok((StatusCode::CREATED, Json(shown(&app, &person, &project).await?)))
}

/// Changes a project.
#[utoipa::path(patch, path = "/api/v1/projects/{project}", tag = "projects",
    params(("project" = String, Path)), request_body = ProjectChange,
    responses((status = 200, body = ProjectView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn change(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Json(change): Json<ProjectChange>,
) -> Result<Json<ProjectView>, ApiError> {
    let project = find(&app, &name).await?;
    let signs_in_anew = change.credential.is_some();
    app.engine.change_project(&project, change).await?;
    let project = find(&app, &name).await?;
    if signs_in_anew {
        // Whoever looks at it knows how it was reached.
        app.watcher.unwatch(project.id);
        app.watcher.watch(project.clone());
        app.watcher.wake(project.id);
    }
    Ok(Json(shown(&app, &person, &project).await?))
}

/// Removes a project, with everything of it: its runs are stopped, and go with their logs, artifacts, caches and
/// secrets. What is outside stays: images in their registries, objects in clusters.
#[utoipa::path(delete, path = "/api/v1/projects/{project}", tag = "projects", params(("project" = String, Path)),
    responses((status = 200, body = ProjectRemoved), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<Json<ProjectRemoved>, ApiError> {
    let project = find(&app, &name).await?;
    let unwatch = || app.watcher.unwatch(project.id);
    Ok(Json(app.engine.remove_project(&project, person.into(), unwatch).await?))
}

/// What a start would make of a project's pipeline. Nothing begins.
#[utoipa::path(post, path = "/api/v1/projects/{project}/plan", tag = "projects",
    params(("project" = String, Path)), request_body = PlanRequest,
    responses((status = 200, body = PlanView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn plan(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Json(request): Json<PlanRequest>,
) -> Result<Json<PlanView>, ApiError> {
    let project = find(&app, &name).await?;
    let kind = request.start.unwrap_or(StartKind::Manual);
    let wanted = super::runs::wanted(&app, &project, kind, request.branch, request.tag).await?;
    let by = Some(person.shown.name);
    let wanted = Wanted { inputs: request.inputs, changed: request.changed, by, ..wanted };
    Ok(Json(app.engine.plan(&project, &wanted).await?))
}
