//! A backup, as it is made.

use std::io::{self, Write};
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::{Query, State};
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use pondrix_api::Problem;
use serde::Deserialize;
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::SendTimeoutError;
use tracing::{info, warn};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// How much is sent at once, and how many such pieces wait for a slow reader.
const PIECE: usize = 128 * 1024;
const PIECES: usize = 8;

#[derive(Debug, Deserialize)]
pub(super) struct What {
    records_only: Option<bool>,
}

/// How long a reader may take nothing: while a backup is made nothing is removed, and that must not be for ever.
const PATIENCE: Duration = Duration::from_secs(120);

/// Sends pieces to whoever reads the answer; fails when nobody does.
struct Pieces(mpsc::Sender<io::Result<Bytes>>, Handle);

impl Write for Pieces {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let sent = self.0.send_timeout(Ok(Bytes::copy_from_slice(bytes)), PATIENCE);
        self.1.block_on(sent).map_err(|error| match error {
            SendTimeoutError::Timeout(_) => {
                io::Error::new(io::ErrorKind::TimedOut, "whoever asked for it reads no more")
            }
            SendTimeoutError::Closed(_) => io::Error::from(io::ErrorKind::BrokenPipe),
        })?;
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
    let by = person.shown.name;
    let backup = app.engine.begin_backup().await?;
    let is_whole = !records_only.unwrap_or(false);
    let (pieces, mut received) = mpsc::channel(PIECES);
    let handle = Handle::current();
    tokio::task::spawn_blocking(move || {
        let told = pieces.clone();
        let into = io::BufWriter::with_capacity(PIECE, Pieces(pieces, handle));
        match backup.write(is_whole, into) {
            Ok(()) => info!(by, "a backup was made"),
            Err(error) => {
                warn!(%error, "a backup was not ended");
                // Whoever reads is told, where he still reads; that the archive has no end says it in any case.
                drop(told.try_send(Err(error)));
            }
        }
    });
    let body = Body::from_stream(stream::poll_fn(move |context| received.poll_recv(context)));
    let named = "attachment; filename=\"pondrix.backup\"";
    Ok(([(CONTENT_TYPE, "application/zstd"), (CONTENT_DISPOSITION, named)], body).into_response())
}
