//! The files of commits that were asked for lately, as archives: the jobs of a run ask for the same one, and
//! starting git for each costs more than the archive of most repositories is worth.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use axum::body::Bytes;
use tokio::io::{AsyncRead, AsyncReadExt};

/// How many archives are kept, and how large one may be, in bytes.
const KEPT: usize = 16;
const LARGEST: usize = 2 << 20;

/// The archives of commits, the one that was asked for last at the end.
#[derive(Debug, Default)]
pub(crate) struct Archives(Mutex<VecDeque<(String, Bytes)>>);

/// The beginning of an archive, or all of it.
#[derive(Debug)]
pub(crate) enum Read {
    /// All of it.
    Whole(Bytes),
    /// It is too large to be kept; the reader has the rest.
    Beginning(Bytes),
}

impl Archives {
    pub(crate) fn get(&self, key: &str) -> Option<Bytes> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(known, _)| known == key)?;
        let found = kept.remove(at)?;
        let bytes = found.1.clone();
        kept.push_back(found);
        Some(bytes)
    }

    pub(crate) fn keep(&self, key: String, bytes: Bytes) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|(known, _)| *known != key);
        kept.push_back((key, bytes));
        while kept.len() > KEPT {
            kept.pop_front();
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_archives_asked_for_last_are_kept_and_large_ones_are_read_on_by_who_asked() {
        let archives = Archives::default();
        for number in 0..=KEPT {
            archives.keep(number.to_string(), Bytes::from(vec![u8::try_from(number).unwrap_or(0)]));
            assert!(archives.get("0").is_some() || number == 0, "what is asked for stays");
        }
        assert!(archives.get("1").is_none(), "the one that nobody asked for went");
        let large = vec![7; LARGEST + 5];
        let mut reader = large.as_slice();
        assert!(matches!(read(&mut reader).await, Ok(Read::Beginning(bytes)) if bytes.len() == LARGEST));
        assert_eq!(reader.len(), 5);
        assert!(matches!(read(&mut &large[..9]).await, Ok(Read::Whole(bytes)) if bytes.len() == 9));
    }
}
