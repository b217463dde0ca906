//! Runs.

use std::collections::VecDeque;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::IntoResponse;
use futures_util::stream::{self, Stream, StreamExt};
use pondrix_api::{
    AnswerRequest, Change, Problem, RerunRequest, RunDetail, RunPage, RunSummary, StartRequest, StopRequest,
};
use pondrix_core::pipeline::StartKind;
use pondrix_core::{RunId, State as RunState};
use serde::Deserialize;
use tokio::sync::broadcast::error::RecvError;

use super::auth::Person;
use super::error::ApiError;
use super::sse::Item;
use super::{App, Shared, projects, sse};
use crate::audit;
use crate::domain::{Builds, Follower, LiveRun, News, Started, Wanted};
use crate::store::{Project, RunFilter};

/// The most runs in one answer, and how many where nothing is said.
const MOST_RUNS: usize = 200;
const USUAL_RUNS: usize = 50;

#[derive(Debug, Deserialize)]
pub(super) struct ListQuery {
    project: Option<String>,
    state: Option<String>,
    branch: Option<String>,
    author: Option<String>,
    before: Option<String>,
    limit: Option<usize>,
}

/// The run of an address.
pub(super) async fn find(app: &App, project: &str, number: u64) -> Result<Arc<LiveRun>, ApiError> {
    let run: RunId = format!("{project}#{number}").parse().map_err(|error| ApiError::bad(format!("{error}")))?;
    let found = app.engine.find(&run).await?;
    if let Some(found) = found {
        return Ok(found);
    }
    if app.queries.was_removed(&run).await? {
        let words = format!("run {run} any more: it was kept for as long as `pondrix retention show` says");
        return Err(ApiError::not_found(words));
    }
    Err(ApiError::not_found(format!("run {run}; see `pondrix runs {project}`")))
}

/// Runs, the newest first.
#[utoipa::path(get, path = "/api/v1/runs", tag = "runs",
    params(("project" = Option<String>, Query, description = "Only this project's"),
           ("state" = Option<RunState>, Query, description = "Only those that stand so"),
           ("branch" = Option<String>, Query, description = "Only those of a commit of this branch"),
           ("author" = Option<String>, Query, description = "Only those of a commit that this person made; capitals do not matter"),
           ("before" = Option<String>, Query, description = "`next` of the page before"),
           ("limit" = Option<usize>, Query, description = "How many at the most: 1 to 200, usually 50")),
    responses((status = 200, body = RunPage), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    person: Person,
    Query(query): Query<ListQuery>,
) -> Result<Json<RunPage>, ApiError> {
    let limit = query.limit.unwrap_or(USUAL_RUNS).clamp(1, MOST_RUNS);
    let before = match &query.before {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| ApiError::bad("`before` must be the `next` of an earlier page"))?),
    };
    if let Some(project) = &query.project {
        projects::seen(&app, &person, project).await?;
    }
    let word = query.state.as_deref();
    let state = word.map(|word| RunState::ALL.into_iter().find(|state| state.word() == word).ok_or(word)).transpose();
    let state = state.map_err(|word| {
        let known = RunState::ALL.map(RunState::word).join(", ");
        ApiError::bad(format!("`{word}` is no state of a run; these are: {known}"))
    })?;
    let filter = RunFilter { project: query.project, state, branch: query.branch, author: query.author };
    let mut rows = match projects::all_seen(&app, &person).await? {
        Some(seen) if filter.project.is_none() => app.queries.runs_of(seen, filter, before, limit + 1).await?,
        _ => app.queries.runs(filter, before, limit + 1).await?,
    };
    let more = rows.len() > limit;
    rows.truncate(limit);
    let next = rows.last().filter(|_| more).map(|(id, _)| id.to_string());
    Ok(Json(RunPage { runs: rows.into_iter().map(|(_, run)| run).collect(), next }))
}

/// A run, whole.
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path)),
    responses((status = 200, body = RunDetail), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn show(
    State(app): Shared,
    _person: Person,
    Path((project, number)): Path<(String, u64)>,
) -> Result<Json<RunDetail>, ApiError> {
    let live = find(&app, &project, number).await?;
    Ok(Json(app.engine.detail(&live).await))
}

/// Starts a run of a branch's newest commit by hand.
#[utoipa::path(post, path = "/api/v1/projects/{project}/runs", tag = "runs",
    params(("project" = String, Path)), request_body = StartRequest,
    responses((status = 201, body = RunSummary), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn start(
    State(app): Shared,
    person: Person,
    Path(project): Path<String>,
    Json(request): Json<StartRequest>,
) -> Result<(StatusCode, Json<RunSummary>), ApiError> {
    let project = projects::find(&app, &project).await?;
    let wanted = wanted(&app, &project, StartKind::Manual, request.branch, request.tag).await?;
    audit::words(&wanted);
    let wanted = Wanted { inputs: request.inputs, by: Some(person.shown.name), ..wanted };
    match app.engine.start(&project, wanted, &mut Builds::new()).await? {
        Started::Run(run) => Ok((StatusCode::CREATED, Json(*run))),
        Started::Nothing(why) => Err(ApiError::bad(why)),
    }
}

/// The newest commit of a branch, or that of a tag, in the repository as it is now.
pub(super) async fn wanted(
    app: &App,
    project: &Project,
    kind: StartKind,
    branch: Option<String>,
    tag: Option<String>,
) -> Result<Wanted, ApiError> {
    if branch.is_some() && tag.is_some() {
        return Err(ApiError::bad("name a branch or a tag, and not both"));
    }
    let git = |error| ApiError::new(StatusCode::CONFLICT, format!("the repository: {error}"));
    let refs = app.engine.fetch(project).await.map_err(git)?;
    let (what, name, there) = match tag {
        Some(tag) => ("tag", tag, refs.tags),
        None => ("branch", branch.unwrap_or_else(|| "main".to_owned()), refs.branches),
    };
    let Some(commit) = there.get(&name) else {
        let known = there.into_keys().collect::<Vec<_>>().join(", ");
        let known = if known.is_empty() { "none".to_owned() } else { known };
        return Err(ApiError::bad(format!("{} has no {what} `{name}`; it has {known}", project.name)));
    };
    Ok(if what == "tag" { Wanted::tag(kind, &name, commit) } else { Wanted::branch(kind, &name, commit) })
}

/// Reruns what did not pass in a run, or everything.
#[utoipa::path(post, path = "/api/v1/projects/{project}/runs/{number}/rerun", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path)), request_body = RerunRequest,
    responses((status = 201, body = RunSummary), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 409, body = Problem)))]
pub(super) async fn rerun(
    State(app): Shared,
    person: Person,
    Path((project, number)): Path<(String, u64)>,
    Json(request): Json<RerunRequest>,
) -> Result<(StatusCode, Json<RunSummary>), ApiError> {
    audit::words(format_args!("{} of #{number}", if request.all { "all" } else { "what did not pass" }));
    let live = find(&app, &project, number).await?;
    let project = projects::find(&app, &project).await?;
    match app.engine.rerun(&project, &live, request.all, &person.into()).await? {
        Started::Run(run) => Ok((StatusCode::CREATED, Json(*run))),
        Started::Nothing(why) => Err(ApiError::new(StatusCode::CONFLICT, why)),
    }
}

/// Answers the approval that a stage of a run waits for.
#[utoipa::path(post, path = "/api/v1/projects/{project}/runs/{number}/answer", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path)), request_body = AnswerRequest,
    responses((status = 202, body = RunSummary), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn answer(
    State(app): Shared,
    person: Person,
    Path((project, number)): Path<(String, u64)>,
    Json(request): Json<AnswerRequest>,
) -> Result<(StatusCode, Json<RunSummary>), ApiError> {
    audit::words(format_args!("{} to stage {}", if request.yes { "yes" } else { "no" }, request.stage));
    let live = find(&app, &project, number).await?;
    app.engine.answer(&live, &request.stage, request.yes, person.into()).await?;
    Ok((StatusCode::ACCEPTED, Json(app.engine.detail(&live).await.summary)))
}

/// Asks to stop a run.
#[utoipa::path(post, path = "/api/v1/projects/{project}/runs/{number}/stop", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path)), request_body = StopRequest,
    responses((status = 202, body = RunSummary), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 409, body = Problem)))]
pub(super) async fn stop(
    State(app): Shared,
    person: Person,
    Path((project, number)): Path<(String, u64)>,
    Json(_): Json<StopRequest>,
) -> Result<(StatusCode, Json<RunSummary>), ApiError> {
    let live = find(&app, &project, number).await?;
    app.engine.stop(&live, person.into()).await?;
    Ok((StatusCode::ACCEPTED, Json(app.engine.detail(&live).await.summary)))
}

/// A run, as an event `run`, and then what changes of it, as events `update` (`RunUpdate`), until it is over. The id of
/// each is the run's `version`; a stream that is resumed after the version that the run still has begins with updates.
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}/stream", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = RunDetail), (status = 401, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn stream_one(
    State(app): Shared,
    person: Person,
    headers: HeaderMap,
    Path((project, number)): Path<(String, u64)>,
) -> Result<impl IntoResponse, ApiError> {
    let states = states(Arc::clone(&app), &project, number, sse::last_id(&headers)).await?;
    sse::respond(app, person, states.map(Item::alone))
}

/// A run and every change of it after a version, until it is over or the server ends.
pub(super) async fn states(
    app: Arc<App>,
    project: &str,
    number: u64,
    seen: Option<u64>,
) -> Result<impl Stream<Item = Item> + Send + use<>, ApiError> {
    let live = find(&app, project, number).await?;
    let follower = Follower::new(Arc::clone(&app.engine), live, seen);
    let ended = async move { app.shutdown.cancelled().await };
    let news = stream::unfold(follower, |mut follower| async move {
        let item = match follower.next().await? {
            News::Whole(run) => Item::new("run", run.version, &run),
            News::Update(update) => Item::new("update", update.version, &update),
        };
        Some((item, follower))
    });
    Ok(news.take_until(ended))
}

/// Every change of every run, as events `change`, after the one whose id is told, or from now on.
#[utoipa::path(get, path = "/api/v1/runs/stream", tag = "runs",
    responses((status = 200, content_type = "text/event-stream", body = Change), (status = 401, body = Problem)))]
pub(super) async fn stream_all(
    State(app): Shared,
    person: Person,
    headers: HeaderMap,
) -> Result<impl IntoResponse, ApiError> {
    let (_, changes) = changes(Arc::clone(&app), person.clone(), sse::last_id(&headers)).await?;
    sse::respond(app, person, changes.map(Item::alone))
}

/// Every change of every run that somebody may see after an event, or from now on; and the id of the event that they
/// come after.
pub(super) async fn changes(
    app: Arc<App>,
    person: Person,
    after: Option<u64>,
) -> Result<(i64, impl Stream<Item = Item> + Send + use<>), ApiError> {
    // Listening begins before the records are read, so that no change falls between the two.
    let changes = app.engine.changes();
    let after = after.and_then(|id| i64::try_from(id).ok());
    let (newest, missed) = app.queries.changed_after(after).await?;
    let queue: VecDeque<_> = missed.into_iter().map(|run| (newest, run)).collect();
    let stream = stream::unfold((app, person, changes, queue, newest), |state| async move {
        let (app, person, mut changes, mut queue, mut newest) = state;
        loop {
            if let Some((id, run)) = queue.pop_front() {
                newest = newest.max(id);
                if !person.may_see(&run.project) {
                    continue;
                }
                let item = Item::new("change", newest, &Change { run });
                return Some((item, (app, person, changes, queue, newest)));
            }
            let received = tokio::select! {
                received = changes.recv() => received,
                () = app.shutdown.cancelled() => return None,
            };
            match received {
                Ok((id, _)) if id != 0 && id <= newest => {}
                Ok(change) => queue.push_back(change),
                // The follower was too slow: it is given what the records say it missed.
                Err(RecvError::Lagged(_)) => {
                    let missed = app.queries.changed_after(Some(newest)).await.ok()?;
                    queue.extend(missed.1.into_iter().map(|run| (missed.0, run)));
                }
                Err(RecvError::Closed) => return None,
            }
        }
    });
    Ok((newest, stream))
}
