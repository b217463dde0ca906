//! Projects.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{
    NewProject, PlanRequest, PlanView, Problem, ProjectChange, ProjectList, ProjectRemoved, ProjectView,
};
use pondrix_core::ProjectName;
use pondrix_core::pipeline::StartKind;
use pondrix_core::queue::Share;

use super::auth::Person;
use super::error::ApiError;
use super::{App, Shared};
use crate::access;
use crate::domain::Wanted;
use crate::store::{self, Project, ProjectRow};

fn view(app: &App, row: ProjectRow) -> ProjectView {
    let project = row.project;
    ProjectView {
        hook: format!("{}/hooks/{}/{}", app.public_url, project.name, project.hook_secret),
        hook_secret: project.hook_secret,
        name: project.name.to_string(),
        repository: project.repository,
        seen: row.seen,
        note: row.note,
        faulty: row.faulty,
        last_run: row.last_run.map(|(number, _)| number),
        last_state: row.last_run.map(|(_, state)| state),
        weight: row.share.weight,
        limit: row.share.limit,
        templates: row.templates,
    }
}

/// The project of an address.
pub(super) async fn find(app: &App, name: &str) -> Result<Project, ApiError> {
    let asked = name.to_owned();
    let found = app.engine.store.read(move |c| store::project(c, &asked)).await?;
    found.ok_or_else(|| ApiError::not_found(format!("project `{name}`; see `pondrix project list`")))
}

/// A project as a list shows it.
async fn shown(app: &App, project: &Project) -> Result<ProjectView, ApiError> {
    let rows = app.engine.store.read(store::projects).await?;
    let row = rows.into_iter().find(|row| row.project.id == project.id);
    row.map(|row| view(app, row)).ok_or_else(|| ApiError::internal("a project vanished while it was changed"))
}

/// All projects, by name.
#[utoipa::path(get, path = "/api/v1/projects", tag = "projects",
    responses((status = 200, body = ProjectList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<ProjectList>, ApiError> {
    let rows = app.engine.store.read(store::projects).await?;
    Ok(Json(ProjectList { projects: rows.into_iter().map(|row| view(&app, row)).collect() }))
}

/// Makes a repository known. What is in it already starts nothing; the next commit does.
#[utoipa::path(post, path = "/api/v1/projects", tag = "projects", request_body = NewProject,
    responses((status = 201, body = ProjectView), (status = 401, body = Problem), (status = 409, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): Shared,
    _person: Person,
    Json(new): Json<NewProject>,
) -> Result<(StatusCode, Json<ProjectView>), ApiError> {
    let name: ProjectName = new.name.parse().map_err(|error| ApiError::bad(format!("{error}")))?;
    let repository = new.repository.trim().to_owned();
    if repository.is_empty() || repository.starts_with('-') {
        return Err(ApiError::bad("name a repository as git reaches it: an address with https or ssh, or a path"));
    }
    let secret = access::new_secret().map_err(ApiError::internal)?;
    let now = app.engine.clock.now();
    let project = app.engine.store.write(move |c| store::add_project(c, &name, &repository, &secret, now)).await?;
    // Seen now, so that a wrong address shows at once and a push right after this is a new one.
    app.watcher.look(&project).await;
    app.watcher.watch(project.clone());
    app.engine.read_limits().await?;
    Ok((StatusCode::CREATED, Json(shown(&app, &project).await?)))
}

/// Changes a project.
#[utoipa::path(patch, path = "/api/v1/projects/{project}", tag = "projects",
    params(("project" = String, Path)), request_body = ProjectChange,
    responses((status = 200, body = ProjectView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn change(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
    Json(change): Json<ProjectChange>,
) -> Result<Json<ProjectView>, ApiError> {
    const WEIGHTS: std::ops::RangeInclusive<u32> = 1..=100;
    let project = find(&app, &name).await?;
    if let Some(weight) = change.weight.filter(|weight| !WEIGHTS.contains(weight)) {
        return Err(ApiError::bad(format!("{weight} cannot be a weight: write a number from 1 to 100")));
    }
    let id = project.id;
    let set = move |c: &rusqlite::Connection| {
        let all = store::projects(c)?;
        let share = all.into_iter().find(|row| row.project.id == id).map(|row| row.share).unwrap_or_default();
        let limit = change.limit.map_or(share.limit, |limit| Some(limit).filter(|limit| *limit > 0));
        if let Some(yes) = change.templates {
            store::put_has_templates(c, id, yes)?;
        }
        store::put_share(c, id, Share { weight: change.weight.unwrap_or(share.weight), limit })
    };
    app.engine.store.write(set).await?;
    app.engine.read_limits().await?;
    Ok(Json(shown(&app, &project).await?))
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
    person.only_first("removes projects")?;
    let project = find(&app, &name).await?;
    app.watcher.unwatch(project.id);
    Ok(Json(app.engine.remove_project(&project, person.into()).await?))
}

/// What a start would make of a project's pipeline. Nothing begins.
#[utoipa::path(post, path = "/api/v1/projects/{project}/plan", tag = "projects",
    params(("project" = String, Path)), request_body = PlanRequest,
    responses((status = 200, body = PlanView), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn plan(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
    Json(request): Json<PlanRequest>,
) -> Result<Json<PlanView>, ApiError> {
    let project = find(&app, &name).await?;
    let kind = request.start.unwrap_or(StartKind::Manual);
    let wanted = super::runs::wanted(&app, &project, kind, request.branch, request.tag).await?;
    let wanted = Wanted { inputs: request.inputs, changed: request.changed, ..wanted };
    Ok(Json(app.engine.plan(&project, &wanted).await?))
}
