//! Files of jobs, for their runners.

use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use pondrix_api::{
    CacheAnswer, CacheEntry, CacheQuestion, Digests, ImageRecord, IndexRecord, LayerDigests, NewArtifact, StepList,
};
use pondrix_core::image::{Digest, Entry};
use tokio_util::io::ReaderStream;

use super::auth::Runner;
use super::error::ApiError;
use super::runner::leased;
use super::{App, Shared};
use crate::contents::FileError;
use crate::off_thread::off_thread;
use crate::scheduler::Lease;

/// The longest list of files, as JSON.
const LONGEST_LIST: usize = 64 << 20;
/// The longest path of a file of an artifact, in bytes (PATH_MAX of Linux).
const LONGEST_PATH: usize = 4096;

pub(super) fn routes() -> Router<Arc<App>> {
    Router::new()
        .route("/api/v1/runner/leases/{lease}/files", post(missing))
        .route("/api/v1/runner/leases/{lease}/files/{digest}", get(fetch).put(send).layer(DefaultBodyLimit::disable()))
        .route("/api/v1/runner/leases/{lease}/artifacts", post(add_artifact).layer(DefaultBodyLimit::max(LONGEST_LIST)))
        .route("/api/v1/runner/leases/{lease}/cache", post(find_cache).put(put_cache))
        .route("/api/v1/runner/leases/{lease}/steps", put(put_step_list))
        .route("/api/v1/runner/leases/{lease}/image", put(put_image).layer(DefaultBodyLimit::max(LONGEST_LIST)))
        .route("/api/v1/runner/leases/{lease}/index", put(put_index))
        .route("/api/v1/runner/leases/{lease}/layers", post(unlisted))
        .route(
            "/api/v1/runner/leases/{lease}/layers/{digest}",
            put(put_listing).layer(DefaultBodyLimit::max(LONGEST_LIST)),
        )
}

impl From<FileError> for ApiError {
    fn from(error: FileError) -> Self {
        match error {
            FileError::Cut(_) | FileError::WrongDigest => Self::bad(error.to_string()),
            FileError::Disk(error) => Self::internal(error),
        }
    }
}

fn digest(text: &str) -> Result<Digest, ApiError> {
    text.parse().map_err(|error| ApiError::bad(format!("{error}")))
}

/// What is in an image that a job pushes. What tries push is not kept.
async fn put_image(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(record): Json<ImageRecord>,
) -> Result<StatusCode, ApiError> {
    let (live, Lease { job, .. }) = leased(&app, &runner, &lease).await?;
    app.engine.record_image(&live, job, record).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn put_index(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(record): Json<IndexRecord>,
) -> Result<StatusCode, ApiError> {
    let (live, Lease { job, .. }) = leased(&app, &runner, &lease).await?;
    app.engine.record_index(&live, job, record).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn unlisted(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(asked): Json<LayerDigests>,
) -> Result<Json<LayerDigests>, ApiError> {
    leased(&app, &runner, &lease).await?;
    let layers = app.queries.unlisted(asked.layers).await?;
    Ok(Json(LayerDigests { layers }))
}

async fn put_listing(
    State(app): Shared,
    runner: Runner,
    Path((lease, layer)): Path<(String, String)>,
    body: Bytes,
) -> Result<StatusCode, ApiError> {
    leased(&app, &runner, &lease).await?;
    // Lists are long: they are read beside what waits for the server's threads.
    let read = off_thread(move || serde_json::from_slice::<Vec<Entry>>(&body)).await;
    let files = read.map_err(|error| ApiError::bad(format!("the list of files of {layer}: {error}")))?;
    app.engine.record_listing(digest(&layer)?, files).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn missing(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(asked): Json<Digests>,
) -> Result<Json<Digests>, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    // What there is no room for is not sent first.
    app.engine.must_have_room(&live, asked.bytes).await?;
    let allowed = app.engine.allowed_contents(live.row.id, asked.digests.clone()).await?;
    let digests = asked.digests.into_iter().filter(|digest| !allowed.contains(digest)).collect();
    Ok(Json(Digests { digests, bytes: 0 }))
}

async fn send(
    State(app): Shared,
    runner: Runner,
    Path((lease, name)): Path<(String, String)>,
    body: Body,
) -> Result<StatusCode, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    let digest = digest(&name)?;
    app.engine.files.keep(&digest, body.into_data_stream()).await?;
    app.engine.files.allow(&digest, live.row.id).map_err(ApiError::internal)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn fetch(
    State(app): Shared,
    runner: Runner,
    Path((lease, name)): Path<(String, String)>,
) -> Result<Response, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    let digest = digest(&name)?;
    let gone = || ApiError::not_found(format!("content {name} any more"));
    if !app.engine.allowed_contents(live.row.id, vec![digest.clone()]).await?.contains(&digest) {
        return Err(gone());
    }
    let file = app.engine.files.open(&digest).await.map_err(|_| gone())?;
    let stream = ReaderStream::with_capacity(file, 128 * 1024);
    Ok(([(CONTENT_TYPE, "application/zstd")], Body::from_stream(stream)).into_response())
}

/// Whether a path leads to a file in an archive, and to nothing else of whoever unpacks it.
fn is_name(path: &str) -> bool {
    let is_plain = |part: &str| !matches!(part, "" | "." | "..") && !part.contains('\0');
    path.len() <= LONGEST_PATH && path.split('/').all(is_plain)
}

async fn add_artifact(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(request): Json<NewArtifact>,
) -> Result<StatusCode, ApiError> {
    let (live, Lease { job, .. }) = leased(&app, &runner, &lease).await?;
    let contents = request.files.iter().filter(|file| file.link.is_none()).map(|file| file.digest.clone());
    let allowed = app.engine.allowed_contents(live.row.id, contents.collect()).await?;
    let gone = request.files.iter().find(|file| file.link.is_none() && !allowed.contains(&file.digest));
    if let Some(file) = gone {
        return Err(ApiError::bad(format!("the content of {} was not sent", file.path)));
    }
    if let Some(file) = request.files.iter().find(|file| !is_name(&file.path)) {
        let shown: String = file.path.chars().take(100).collect();
        return Err(ApiError::bad(format!("`{}` cannot be a file of an artifact", shown.escape_debug())));
    }
    app.engine.add_artifact(&live, &job, request).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn find_cache(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(question): Json<CacheQuestion>,
) -> Result<Json<CacheAnswer>, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    Ok(Json(app.engine.find_cache(&live, question).await?))
}

async fn put_step_list(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(list): Json<StepList>,
) -> Result<StatusCode, ApiError> {
    let (live, Lease { job, .. }) = leased(&app, &runner, &lease).await?;
    app.engine.put_step_list(&live, &job, list).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn put_cache(
    State(app): Shared,
    runner: Runner,
    Path(lease): Path<String>,
    Json(entry): Json<CacheEntry>,
) -> Result<StatusCode, ApiError> {
    let (live, _) = leased(&app, &runner, &lease).await?;
    if !app.engine.allowed_contents(live.row.id, vec![entry.digest.clone()]).await?.contains(&entry.digest) {
        return Err(ApiError::bad("the archive was not sent"));
    }
    app.engine.put_cache(&live, entry).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_an_artifact_leads_nowhere_else() {
        for (path, expected) in [
            ("out/page.html", true),
            ("a\nb", true),
            ("../x", false),
            ("a/../../x", false),
            ("/etc/passwd", false),
            ("a//b", false),
            ("", false),
            ("a\0b", false),
        ] {
            assert_eq!(is_name(path), expected, "{path:?}");
        }
        assert!(!is_name(&"a/".repeat(3000)) && !is_name(&"a".repeat(4097)) && is_name(&"a".repeat(4096)));
    }
}
