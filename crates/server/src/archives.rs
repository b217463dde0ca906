//! The files of commits that were asked for lately, as archives: the jobs of a run ask for the same one, and
//! starting git for each costs more than the archive of most repositories is worth.

use std::sync::Arc;

use axum::body::Bytes;
use futures_util::StreamExt;
use pondrix_core::file_times::{FileTimes, Retimed};
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio_util::io::{ReaderStream, StreamReader};

/// How many archives are kept, and how large one may be, in bytes.
pub(crate) const ARCHIVES_KEPT: usize = 16;
const LARGEST: usize = 2 << 20;
/// How much of one is read at once.
const PIECE: usize = 64 * 1024;

/// The beginning of an archive, or all of it.
#[derive(Debug)]
pub(crate) enum Read {
    /// All of it.
    Whole(Bytes),
    /// It is too large to be kept; the reader has the rest.
    Beginning(Bytes),
}

/// Reads an archive as far as it may be kept.
pub(crate) async fn read(reader: &mut (impl AsyncRead + Unpin)) -> std::io::Result<Read> {
    let mut bytes = Vec::new();
    let most = u64::try_from(LARGEST).unwrap_or(u64::MAX);
    reader.take(most).read_to_end(&mut bytes).await?;
    let is_whole = bytes.len() < LARGEST;
    let bytes = Bytes::from(bytes);
    Ok(if is_whole { Read::Whole(bytes) } else { Read::Beginning(bytes) })
}

/// An archive on its way whose files get the times of a commit's.
pub(crate) fn retimed(
    archive: impl AsyncRead + Send + Unpin + 'static,
    times: Arc<FileTimes>,
) -> Box<dyn AsyncRead + Send + Unpin> {
    let mut retimed = Retimed::new(move |path: &[u8], own: u64| times.get(path).unwrap_or(own));
    let pieces = ReaderStream::with_capacity(archive, PIECE);
    let pieces = pieces.map(move |piece| piece.map(|piece| Bytes::from(retimed.push(&piece))));
    Box::new(StreamReader::new(pieces))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_large_archive_is_read_on_by_who_asked() {
        let large = vec![7; LARGEST + 5];
        let mut reader = large.as_slice();
        assert!(matches!(read(&mut reader).await, Ok(Read::Beginning(bytes)) if bytes.len() == LARGEST));
        assert_eq!(reader.len(), 5);
        assert!(matches!(read(&mut &large[..9]).await, Ok(Read::Whole(bytes)) if bytes.len() == 9));
    }
}
