//! A backup, as it is made.

use std::io::{self, Write};
use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::{Query, State};
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use pondrix_api::Problem;
use serde::Deserialize;
use tokio::sync::mpsc;
use tracing::{info, warn};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use crate::backup::Backup;

/// How much is sent at once, and how many such pieces wait for a slow reader.
const PIECE: usize = 128 * 1024;
const PIECES: usize = 8;

#[derive(Debug, Deserialize)]
pub(super) struct What {
    records_only: Option<bool>,
}

/// Sends pieces to whoever reads the answer; fails when nobody does.
struct Pieces(mpsc::Sender<io::Result<Bytes>>);

impl Write for Pieces {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let gone = |_| io::Error::from(io::ErrorKind::BrokenPipe);
        self.0.blocking_send(Ok(Bytes::copy_from_slice(bytes))).map_err(gone)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A consistent copy of everything but the key for secrets: a tar archive, compressed with zstd, whose last entry
/// proves that it is whole. Nothing is removed while it is made.
#[utoipa::path(get, path = "/api/v1/backup", tag = "backup",
    params(("records_only" = Option<bool>, Query, description = "Leave out the contents of artifacts and caches, and logs")),
    responses((status = 200, content_type = "application/zstd", body = Vec<u8>), (status = 400, body = Problem),
              (status = 401, body = Problem), (status = 403, body = Problem)))]
pub(super) async fn make(
    State(app): Shared,
    person: Person,
    Query(What { records_only }): Query<What>,
) -> Result<Response, ApiError> {
    person.only_first("makes backups")?;
    let is_whole = !records_only.unwrap_or(false);
    let engine = Arc::clone(&app.engine);
    let stays = Arc::clone(&engine.upkeep).write_owned().await;
    let (data, made) = (engine.data.clone(), engine.clock.now());
    let backup = engine.store.read(move |c| Backup::begin(&data, c, made)).await?;
    let (pieces, mut received) = mpsc::channel(PIECES);
    tokio::task::spawn_blocking(move || {
        let told = pieces.clone();
        let into = io::BufWriter::with_capacity(PIECE, Pieces(pieces));
        match backup.write(is_whole, into) {
            Ok(()) => info!(by = person.name, "a backup was made"),
            Err(error) => {
                warn!(%error, "a backup was not ended");
                // Whoever reads must not take what there is for the whole.
                drop(told.blocking_send(Err(error)));
            }
        }
        drop(stays);
    });
    let body = Body::from_stream(stream::poll_fn(move |context| received.poll_recv(context)));
    let named = "attachment; filename=\"pondrix.backup\"";
    Ok(([(CONTENT_TYPE, "application/zstd"), (CONTENT_DISPOSITION, named)], body).into_response())
}
