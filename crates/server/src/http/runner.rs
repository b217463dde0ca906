//! What runners ask for. Not part of the document for people and programs.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::header::CONTENT_TYPE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use futures_util::StreamExt;
use pondrix_api::{
    AccountAnswer, AccountQuestion, Beat, Hello, IdentityAnswer, IdentityQuestion, JoinRequest, Joined, LogLength,
    SourceChanges, SourceDifference, TagAnswer, TagQuestion, TimedReport, Welcome,
};
use pondrix_core::file_times::FileTimes;
use pondrix_core::{ProjectName, RunId};
use serde::Deserialize;
use tokio_util::io::ReaderStream;

use super::auth::Runner;
use super::error::ApiError;
use super::{App, Shared, auth};
use crate::archives::{self, Read};
use crate::domain::{EngineError, LiveRun, TakeError};
use crate::ports::git::{Archive, AttributeFiles, Difference, Repository};
use crate::scheduler::Lease;
use crate::store::RunnerRow;

/// How long a question for work, or for orders, waits for an answer.
const TAKE_PATIENCE: Duration = Duration::from_secs(20);
const BEAT_PATIENCE: Duration = Duration::from_secs(5);
/// How much of an archive is sent at once.
const PIECE: usize = 64 * 1024;

pub(super) fn routes() -> Router<Arc<App>> {
    Router::new()
        .route("/api/v1/runner/join", post(join))
        .route("/api/v1/runner/hello", post(hello))
        .route("/api/v1/runner/projects", get(projects))
        .route("/api/v1/runner/take", post(take))
        .route("/api/v1/runner/leases/{lease}/source", get(source))
        .route("/api/v1/runner/leases/{lease}/source/changes", get(source_changes))
        .route("/api/v1/runner/leases/{lease}/reports", post(report))
        .route("/api/v1/runner/leases/{lease}/log", put(append_log))
        .route("/api/v1/runner/leases/{lease}/beat", post(beat))
        .route("/api/v1/runner/leases/{lease}/tag", post(may_tag))
        .route("/api/v1/runner/leases/{lease}/account", post(account))
        .route("/api/v1/runner/leases/{lease}/identity", post(identity))
        .merge(super::runner_files::routes())
}

/// The run and the job of a lease, which is the runner's that shows it.
pub(super) async fn leased(app: &App, runner: &Runner, lease: &str) -> Result<(Arc<LiveRun>, Lease), ApiError> {
    let held = app.engine.leased(&runner.name, lease).await;
    Ok(held.ok_or(EngineError::LeaseEnded)?)
}

/// What a runner may work for.
async fn known(app: &App, runner: &Runner) -> Result<RunnerRow, ApiError> {
    let gone = || ApiError::new(StatusCode::UNAUTHORIZED, format!("runner `{}` was removed", runner.name));
    app.engine.runner(&runner.name).await?.ok_or_else(gone)
}

async fn join(State(app): Shared, headers: HeaderMap, Json(asked): Json<JoinRequest>) -> Result<Response, ApiError> {
    let invitation = auth::bearer(&headers).unwrap_or_default();
    match app.engine.join_runner(invitation, asked.runner).await? {
        Some(token) => Ok((StatusCode::CREATED, Json(Joined { token })).into_response()),
        None => {
            let words = "this invitation is not known, or is no longer good; another one: pondrix runner invite";
            Err(ApiError::new(StatusCode::UNAUTHORIZED, words))
        }
    }
}

async fn hello(State(app): Shared, runner: Runner, Json(hello): Json<Hello>) -> Result<Json<Welcome>, ApiError> {
    let row = known(&app, &runner).await?;
    Ok(Json(app.engine.greet(row, hello).await))
}

/// The projects that a runner works for: it keeps nothing of others.
async fn projects(State(app): Shared, runner: Runner) -> Result<Json<Vec<ProjectName>>, ApiError> {
    let own = known(&app, &runner).await?.bounds.projects;
    let names = app.queries.projects().await?.into_iter().map(|row| row.project.name);
    let works_for = |name: &ProjectName| own.is_empty() || own.iter().any(|projects| projects.matches(name.as_str()));
    Ok(Json(names.filter(works_for).collect()))
}

async fn take(State(app): Shared, runner: Runner) -> Result<Response, ApiError> {
    let taken = tokio::select! {
        taken = app.engine.take(&runner.name, TAKE_PATIENCE) => match taken {
            Ok(taken) => taken,
            Err(error @ TakeError::Unknown(_)) => return Err(ApiError::new(StatusCode::CONFLICT, error.to_string())),
            Err(TakeError::Engine(error)) => return Err(error.into()),
        },
        () = app.shutdown.cancelled() => None,
    };
    Ok(match taken {
        Some(mut assignment) => {
            let RunId { project, number } = &assignment.facts.id;
            assignment.address = format!("{}/runs/{project}/{number}", app.public_url);
            Json(assignment).into_response()
        }
        None => StatusCode::NO_CONTENT.into_response(),
    })
}

/// Which files a runner wants.
#[derive(Debug, Deserialize)]
struct Wanted {
    /// The commit whose files it has.
    since: Option<String>,
    /// Whether each shall have the time of its own last change; else they all have the commit's.
    #[serde(default)]
    own_times: bool,
}

/// The number and the repository of a run's project.
async fn repository_of(app: &App, live: &LiveRun) -> Result<(i64, Arc<dyn Repository>), ApiError> {
    let project = app.queries.project(live.row.facts.id.project.as_str()).await?;
    let project = project.ok_or_else(|| ApiError::not_found("project any more"))?;
    Ok((project.id, app.engine.repository(&project)))
}

async fn source_changes(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Query(Wanted { since, own_times }): Query<Wanted>,
) -> Result<Json<SourceChanges>, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    // What is tried is no commit's, and of no use to any other run.
    if live.row.files.is_some() {
        return Ok(Json(SourceChanges { commit: None, difference: None }));
    }
    let commit = live.row.facts.commit.clone();
    let (project, repository) = repository_of(&app, &live).await?;
    let difference = match since {
        Some(since) if since == commit => Some(SourceDifference::default()),
        Some(since) => match repository.difference(&since, &commit).await {
            Some(found) if own_times => {
                let before = app.engine.file_times(project, &*repository, &since).await.map_err(ApiError::internal)?;
                let now = app.engine.file_times(project, &*repository, &commit).await.map_err(ApiError::internal)?;
                retimed(&before, &now, &found).map(|retimed| described(found, retimed))
            }
            found => found.map(|found| described(found, Vec::new())),
        },
        None => None,
    };
    Ok(Json(SourceChanges { commit: Some(commit), difference }))
}

fn described(found: Difference, retimed: Vec<(String, u64)>) -> SourceDifference {
    SourceDifference { changed: found.changed.len() as u64, removed: found.removed, retimed }
}

/// The files that two commits have alike, but for their times, with those of the later; nothing where one has a name
/// that is not text.
fn retimed(before: &FileTimes, now: &FileTimes, difference: &Difference) -> Option<Vec<(String, u64)>> {
    let changed: BTreeSet<&[u8]> = difference.changed.iter().map(String::as_bytes).collect();
    let other = now.other_than(before).filter(|(path, _)| !changed.contains(path));
    other.map(|(path, time)| Some((std::str::from_utf8(path).ok()?.to_owned(), time))).collect()
}

async fn source(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Query(Wanted { since, own_times }): Query<Wanted>,
) -> Result<Response, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    if let Some(files) = &live.row.files {
        let file = app.engine.tries.open(files).await.map_err(ApiError::internal)?;
        let stream = ReaderStream::with_capacity(file, PIECE);
        return Ok(([(CONTENT_TYPE, "application/zstd")], Body::from_stream(stream)).into_response());
    }
    let (project, repository) = repository_of(&app, &live).await?;
    let commit = &live.row.facts.commit;
    let mut key = format!("{project} {commit} {own_times}");
    let mut files = Vec::new();
    if let Some(since) = since {
        let difference = repository.difference(&since, commit).await.filter(|found| !found.changed.is_empty());
        files = difference.ok_or_else(|| ApiError::bad(format!("nothing is to be had since {since}")))?.changed;
        key = format!("{key} {since}");
    }
    let answer = |body| Ok(([(CONTENT_TYPE, "application/x-tar")], body).into_response());
    if let Some(bytes) = app.engine.archives.get(&key) {
        return answer(Body::from(bytes));
    }
    let times = match own_times {
        true => Some(app.engine.file_times(project, &*repository, commit).await.map_err(ApiError::internal)?),
        false => None,
    };
    let attributes = match &times {
        Some(times) if !times.has_name(".gitattributes") => AttributeFiles::None,
        _ => AttributeFiles::Perhaps,
    };
    let Archive { bytes, ended } = repository.archive(commit, &files, attributes).map_err(ApiError::internal)?;
    let mut bytes = match times {
        Some(times) => archives::retimed(bytes, times),
        None => bytes,
    };
    match archives::read(&mut bytes).await.map_err(ApiError::internal)? {
        Read::Whole(whole) => {
            if !ended.await {
                return Err(ApiError::internal(format!("git gave no archive of {commit}")));
            }
            app.engine.archives.keep(key, whole.clone());
            answer(Body::from(whole))
        }
        Read::Beginning(beginning) => {
            let rest = ReaderStream::with_capacity(bytes, PIECE);
            // Git lives as long as anybody reads what it gives.
            let end = futures_util::stream::once(async move {
                ended.await;
                Ok(Bytes::new())
            });
            let beginning = futures_util::stream::once(async { Ok(beginning) });
            answer(Body::from_stream(beginning.chain(rest).chain(end)))
        }
    }
}

async fn report(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(reports): Json<Vec<TimedReport>>,
) -> Result<StatusCode, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    app.engine.report(&live, &lease, reports).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize)]
struct Offset {
    offset: u64,
}

async fn append_log(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Query(Offset { offset }): Query<Offset>,
    bytes: Bytes,
) -> Result<Json<LogLength>, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    let length = app.engine.append_log(&live, &lease, offset, bytes.into()).await?;
    Ok(Json(LogLength { length }))
}

async fn may_tag(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(question): Json<TagQuestion>,
) -> Result<Json<TagAnswer>, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    Ok(Json(app.engine.may_tag(&live, &lease, question).await?))
}

async fn account(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(AccountQuestion { repository }): Json<AccountQuestion>,
) -> Result<Json<AccountAnswer>, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    let account = app.engine.account_for(&live, &lease.job, &repository).await?;
    Ok(Json(AccountAnswer { account }))
}

async fn identity(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(IdentityQuestion { audience }): Json<IdentityQuestion>,
) -> Result<Json<IdentityAnswer>, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    let token = app.engine.identity_for(&live, &lease.job, &audience, &runner.name).await?;
    Ok(Json(IdentityAnswer { token }))
}

async fn beat(State(app): Shared, runner: Runner, Path(lease): Path<String>) -> Result<Json<Beat>, ApiError> {
    let (live, lease) = leased(&app, &runner, &lease).await?;
    let halt = tokio::select! {
        () = live.halted(&lease.job) => true,
        () = tokio::time::sleep(BEAT_PATIENCE) => false,
        () = app.shutdown.cancelled() => false,
    };
    Ok(Json(Beat { halt }))
}
