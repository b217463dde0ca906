//! Files that are not committed, to be tried.

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::header::CONTENT_LENGTH;
use axum::http::{HeaderMap, StatusCode};
use pondrix_api::{Problem, RunSummary, TryRequest};
use pondrix_core::pipeline::StartKind;
use serde::Deserialize;

use super::auth::{Person, header};
use super::error::ApiError;
use super::limits::Kind;
use super::{Shared, projects};
use crate::audit;
use crate::domain::{Tried, TryOutcome, Wanted};
use crate::ports::git::CommitFacts;
use crate::tries::TryError;

#[derive(Debug, Deserialize)]
pub(super) struct About {
    about: String,
}

impl From<TryError> for ApiError {
    fn from(error: TryError) -> Self {
        match error {
            TryError::TooLong { .. } => Self::new(StatusCode::PAYLOAD_TOO_LARGE, error.to_string()),
            TryError::Cut(_) | TryError::Nonsense(_) => Self::bad(error.to_string()),
            TryError::Disk(error) => Self::internal(error),
        }
    }
}

/// Runs files that are not committed: the body is an archive of them (tar, compressed with zstd).
#[utoipa::path(post, path = "/api/v1/projects/{project}/tries", tag = "runs",
    params(("project" = String, Path), ("about" = String, Query, description = "A `TryRequest` as JSON")),
    request_body(content_type = "application/zstd"),
    responses((status = 201, body = RunSummary), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 413, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(super) async fn try_files(
    State(app): Shared,
    person: Person,
    Path(project): Path<String>,
    Query(About { about }): Query<About>,
    headers: HeaderMap,
    body: Body,
) -> Result<(StatusCode, Json<RunSummary>), ApiError> {
    let project = projects::find(&app, &project).await?;
    let about: TryRequest = serde_json::from_str(&about).map_err(|error| ApiError::bad(format!("`about`: {error}")))?;
    audit::words(format_args!("files on {} at {}", about.branch, about.commit));
    let limit = app.tuning.borrow().try_limit;
    // What is too long is refused before it travels.
    if header(&headers, CONTENT_LENGTH).and_then(|length| length.parse::<u64>().ok()).is_some_and(|all| all > limit) {
        return Err(TryError::TooLong { limit }.into());
    }
    let _upload = app.limits.open(person.shown.id, Kind::Upload)?;
    let files = app.engine.tries.keep(body.into_data_stream(), limit).await?;
    let by = Some(person.shown.name);
    let wanted = Wanted { inputs: about.inputs, by, ..Wanted::branch(StartKind::Try, &about.branch, &about.commit) };
    let commit = CommitFacts { time: about.commit_time, author: about.author, title: about.title };
    if let Err(error) = app.engine.retime(&project, &files, &about.commit, about.commit_time).await {
        app.engine.tries.remove(&files);
        return Err(error.into());
    }
    let came = app.engine.try_out(&project, wanted, Tried { files: files.clone(), commit }).await?;
    if !matches!(came, TryOutcome::Run(_)) {
        app.engine.tries.remove(&files);
    }
    match came {
        TryOutcome::Run(run) => Ok((StatusCode::CREATED, Json(*run))),
        TryOutcome::Faulty(faults) => Err(ApiError::faulty(faults)),
        TryOutcome::Nothing(why) => Err(ApiError::bad(why)),
    }
}
