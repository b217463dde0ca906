//! What runners ask for. Not part of the document for people and programs.

use std::sync::Arc;
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use futures_util::StreamExt;
use pondrix_api::{Beat, Hello, LogLength, Report, SourceChanges, SourceDifference, TakeRequest};
use pondrix_core::run::Event;
use pondrix_core::{JobKey, ProjectName, RunId};
use serde::Deserialize;
use tokio_util::io::ReaderStream;

use super::auth::Runner;
use super::error::ApiError;
use super::{App, Shared};
use crate::access;
use crate::archives::{self, Read};
use crate::engine::{EngineError, LiveRun, TakeError};
use crate::git::Repository;
use crate::store;

/// How long a question for work, or for orders, waits for an answer.
const TAKE_PATIENCE: Duration = Duration::from_secs(20);
const BEAT_PATIENCE: Duration = Duration::from_secs(5);

pub(super) fn routes() -> Router<Arc<App>> {
    Router::new()
        .route("/api/v1/runner/hello", post(hello))
        .route("/api/v1/runner/take", post(take))
        .route("/api/v1/runner/leases/{lease}/source", get(source))
        .route("/api/v1/runner/leases/{lease}/source/changes", get(source_changes))
        .route("/api/v1/runner/leases/{lease}/reports", post(report))
        .route("/api/v1/runner/leases/{lease}/log", put(append_log))
        .route("/api/v1/runner/leases/{lease}/beat", post(beat))
        .merge(super::runner_files::routes())
}

pub(super) fn leased(app: &App, lease: &str) -> Result<(Arc<LiveRun>, JobKey), ApiError> {
    let found = app.engine.leased(&access::hash(lease));
    found.ok_or_else(|| ApiError::new(StatusCode::GONE, "this job has ended, or was given up"))
}

async fn hello(State(app): Shared, _runner: Runner, Json(hello): Json<Hello>) -> Result<StatusCode, ApiError> {
    if hello.pool.parse::<ProjectName>().is_err() {
        return Err(ApiError::bad(format!("`{}` cannot be a pool's name", hello.pool)));
    }
    app.engine.greet(hello).await;
    Ok(StatusCode::NO_CONTENT)
}

async fn take(State(app): Shared, _runner: Runner, Json(request): Json<TakeRequest>) -> Result<Response, ApiError> {
    let taken = tokio::select! {
        taken = app.engine.take(&request.runner, TAKE_PATIENCE) => match taken {
            Ok(taken) => taken,
            Err(error @ TakeError::Unknown) => return Err(ApiError::new(StatusCode::CONFLICT, error.to_string())),
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

/// The commit whose files a runner has.
#[derive(Debug, Deserialize)]
struct Since {
    since: Option<String>,
}

/// The number and the repository of a run's project.
async fn repository_of(app: &App, live: &LiveRun) -> Result<(i64, Repository), ApiError> {
    let name = live.row.facts.id.project.clone();
    let project = app.engine.store.read(move |c| store::project(c, name.as_str())).await?;
    let project = project.ok_or_else(|| ApiError::not_found("project any more"))?;
    Ok((project.id, app.engine.repository(&project)))
}

async fn source_changes(
    State(app): Shared,
    _runner: Runner,
    Path(lease): Path<String>,
    Query(Since { since }): Query<Since>,
) -> Result<Json<SourceChanges>, ApiError> {
    let (live, _) = leased(&app, &lease)?;
    // What is tried is no commit's, and of no use to any other run.
    if live.row.files.is_some() {
        return Ok(Json(SourceChanges { commit: None, difference: None }));
    }
    let commit = live.row.facts.commit.clone();
    let (_, repository) = repository_of(&app, &live).await?;
    let difference = match since {
        Some(since) if since == commit => Some(SourceDifference::default()),
        Some(since) => repository
            .difference(&since, &commit)
            .await
            .map(|found| SourceDifference { changed: found.changed.len() as u64, removed: found.removed }),
        None => None,
    };
    Ok(Json(SourceChanges { commit: Some(commit), difference }))
}

async fn source(
    State(app): Shared,
    _runner: Runner,
    Path(lease): Path<String>,
    Query(Since { since }): Query<Since>,
) -> Result<Response, ApiError> {
    let (live, _) = leased(&app, &lease)?;
    if let Some(files) = &live.row.files {
        let file = app.engine.tries.open(files).await.map_err(ApiError::internal)?;
        let stream = ReaderStream::with_capacity(file, 64 * 1024);
        return Ok(([(CONTENT_TYPE, "application/zstd")], Body::from_stream(stream)).into_response());
    }
    let (project, repository) = repository_of(&app, &live).await?;
    let commit = &live.row.facts.commit;
    let mut key = format!("{project} {commit}");
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
    let archive = repository.archive(commit, &files);
    let mut child = archive.map_err(|error| ApiError::internal(&error))?;
    let mut output = child.stdout.take().ok_or_else(|| ApiError::internal("git gave no output"))?;
    match archives::read(&mut output).await.map_err(ApiError::internal)? {
        Read::Whole(bytes) => {
            if !child.wait().await.map_err(ApiError::internal)?.success() {
                return Err(ApiError::internal(format!("git gave no archive of {commit}")));
            }
            app.engine.archives.keep(key, bytes.clone());
            answer(Body::from(bytes))
        }
        Read::Beginning(bytes) => {
            tokio::spawn(async move { child.wait().await });
            let rest = ReaderStream::with_capacity(output, 64 * 1024);
            answer(Body::from_stream(futures_util::stream::once(async { Ok(bytes) }).chain(rest)))
        }
    }
}

/// The job that an event is about.
fn job_of(event: &Event) -> Option<&JobKey> {
    match event {
        Event::StepStarted { job, .. }
        | Event::StepEnded { job, .. }
        | Event::ResultAdded { job, .. }
        | Event::JobEnded { job, .. } => Some(job),
        // These are the server's own to say.
        Event::Carried { .. }
        | Event::PreflightBegan
        | Event::PreflightFailed { .. }
        | Event::Began
        | Event::JobTaken { .. }
        | Event::JobReturned { .. }
        | Event::Answered { .. }
        | Event::StopAsked { .. } => None,
    }
}

async fn report(
    State(app): Shared,
    _runner: Runner,
    Path(lease): Path<String>,
    Json(report): Json<Report>,
) -> Result<StatusCode, ApiError> {
    let (live, job) = leased(&app, &lease)?;
    if job_of(&report.event) != Some(&job) {
        return Err(ApiError::bad(format!("this lease is for {job} and for nothing else")));
    }
    match app.engine.record(&live, &report.event).await {
        // It was reported before, and the answer got lost.
        Ok(()) | Err(EngineError::Refused(_)) => Ok(StatusCode::NO_CONTENT),
        Err(error) => Err(error.into()),
    }
}

#[derive(Debug, Deserialize)]
struct Offset {
    offset: u64,
}

async fn append_log(
    State(app): Shared,
    _runner: Runner,
    Path(lease): Path<String>,
    Query(Offset { offset }): Query<Offset>,
    bytes: Bytes,
) -> Result<Json<LogLength>, ApiError> {
    let (live, job) = leased(&app, &lease)?;
    let log = app.engine.logs.log(&live.row.facts.id, &job);
    let written = tokio::task::spawn_blocking(move || log.append_at(offset, &bytes)).await;
    let length = written.map_err(ApiError::internal)?.map_err(ApiError::internal)?;
    Ok(Json(LogLength { length }))
}

async fn beat(State(app): Shared, _runner: Runner, Path(lease): Path<String>) -> Result<Json<Beat>, ApiError> {
    let (live, job) = leased(&app, &lease)?;
    let halt = tokio::select! {
        () = live.halted(&job) => true,
        () = tokio::time::sleep(BEAT_PATIENCE) => false,
        () = app.shutdown.cancelled() => false,
    };
    Ok(Json(Beat { halt }))
}
