//! Artifacts of jobs, and tests that are flaky, for people.

use std::io::{self, Write};

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use pondrix_api::{ArtifactFile, ArtifactFiles, FlakyTests, Problem};
use pondrix_core::JobKey;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;

use super::auth::Person;
use super::error::ApiError;
use super::{App, Shared, projects, runs};
use crate::contents::Files;

async fn find(app: &App, path: &(String, u64, String, String)) -> Result<Vec<ArtifactFile>, ApiError> {
    let (project, number, job, name) = path;
    let live = runs::find(app, project, *number).await?;
    let key = JobKey::from_text(&job.replace('~', "/"));
    let run = &live.row.facts.id;
    let found = app.engine.artifact(run, &key, name).await?;
    found.ok_or_else(|| {
        ApiError::not_found(format!("an artifact `{name}` of {run} {key}; it was never left, or is not kept any more"))
    })
}

/// The files that a job kept under a name.
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}", tag = "artifacts",
    params(("project" = String, Path), ("number" = u64, Path),
           ("job" = String, Path, description = "`STAGE~JOB`"), ("name" = String, Path)),
    responses((status = 200, body = ArtifactFiles), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    _person: Person,
    Path(path): Path<(String, u64, String, String)>,
) -> Result<Json<ArtifactFiles>, ApiError> {
    Ok(Json(ArtifactFiles { files: find(&app, &path).await? }))
}

/// The same files as an archive (tar, compressed with gzip).
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}/archive", tag = "artifacts",
    params(("project" = String, Path), ("number" = u64, Path),
           ("job" = String, Path, description = "`STAGE~JOB`"), ("name" = String, Path)),
    responses((status = 200, content_type = "application/gzip"), (status = 401, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn archive(
    State(app): Shared,
    _person: Person,
    Path(path): Path<(String, u64, String, String)>,
) -> Result<Response, ApiError> {
    let files = find(&app, &path).await?;
    let (project, number, _, name) = &path;
    let shown = format!("attachment; filename=\"{project}-{number}-{name}.tar.gz\"");
    let (sender, receiver) = mpsc::channel(8);
    let contents = app.engine.files.clone();
    tokio::task::spawn_blocking(move || {
        let mut sink = Sink(sender);
        if let Err(error) = pack(&contents, &files, &mut sink) {
            // An archive that ends early is not taken for whole.
            let _ = sink.0.blocking_send(Err(error));
        }
    });
    let headers = [(CONTENT_TYPE, "application/gzip".to_owned()), (CONTENT_DISPOSITION, shown)];
    Ok((headers, Body::from_stream(ReceiverStream::new(receiver))).into_response())
}

struct Sink(mpsc::Sender<io::Result<Bytes>>);

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let sent = self.0.blocking_send(Ok(Bytes::copy_from_slice(bytes)));
        sent.map(|()| bytes.len()).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn pack(contents: &Files, files: &[ArtifactFile], sink: &mut Sink) -> io::Result<()> {
    let buffered = io::BufWriter::with_capacity(64 * 1024, sink);
    let mut archive = tar::Builder::new(flate2::write::GzEncoder::new(buffered, flate2::Compression::fast()));
    for file in files {
        let mut header = tar::Header::new_gnu();
        header.set_mode(if file.executable { 0o755 } else { 0o644 });
        if let Some(link) = &file.link {
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            archive.append_link(&mut header, &file.path, link)?;
            continue;
        }
        header.set_size(file.size);
        archive.append_data(&mut header, &file.path, contents.read(&file.digest)?)?;
    }
    archive.into_inner()?.finish()?.flush()
}

/// The tests of a job that are flaky: that failed and passed for one commit, or went to and fro.
#[utoipa::path(get, path = "/api/v1/projects/{project}/flaky/{job}", tag = "artifacts",
    params(("project" = String, Path), ("job" = String, Path, description = "`STAGE~JOB`")),
    responses((status = 200, body = FlakyTests), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn flaky(
    State(app): Shared,
    _person: Person,
    Path((project, job)): Path<(String, String)>,
) -> Result<Json<FlakyTests>, ApiError> {
    let project = projects::find(&app, &project).await?;
    let tests = app.engine.flaky(project.id, &JobKey::from_text(&job.replace('~', "/"))).await?;
    Ok(Json(FlakyTests { tests }))
}
