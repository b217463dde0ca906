//! Contents of files by their digests, compressed: what jobs kept, and archives that they find again.

use std::fs::{self, File};
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use futures_util::{Stream, StreamExt};
use pondrix_core::image::Digest;
use sha2::{Digest as _, Sha256};
use tokio::io::AsyncWriteExt;
use tracing::warn;

use crate::access;

/// All contents.
#[derive(Clone, Debug)]
pub(crate) struct Files {
    folder: PathBuf,
    /// Held while a content is found present, or removed: neither comes between the other's look and deed.
    presence: Arc<Mutex<()>>,
}

/// Why a content was not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FileError {
    #[error("the content did not arrive whole: {0}")]
    Cut(String),
    #[error("the content is not what its digest says")]
    WrongDigest,
    #[error("the server could not keep the content: {0}")]
    Disk(#[from] io::Error),
}

/// How long a content may be, in bytes, as it is: a few that are compressed may become any number.
const LONGEST: u64 = 64 << 30;
/// How long a content stays that nothing refers to: whoever sent it is about to say what it is for.
const UNNEEDED_FOR: Duration = Duration::from_secs(3600);

/// The digest of what is read.
pub(crate) fn digest_of(mut reader: impl Read) -> io::Result<Digest> {
    let mut hash = Sha256::new();
    let mut buffer = vec![0; 128 * 1024];
    loop {
        match reader.read(&mut buffer)? {
            0 => return Ok(Digest::from_bytes(&hash.finalize().into())),
            count => hash.update(&buffer[..count]),
        }
    }
}

impl Files {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder, presence: Arc::default() }
    }

    /// Where a content is.
    pub(crate) fn path(&self, digest: &Digest) -> PathBuf {
        let hex = digest.hex();
        self.folder.join(&hex[..2]).join(format!("{hex}.zst"))
    }

    /// Whether a content is there. It then stays for a while, needed or not.
    pub(crate) fn has(&self, digest: &Digest) -> bool {
        let _presence = self.presence.lock().unwrap_or_else(PoisonError::into_inner);
        let file = File::options().append(true).open(self.path(digest));
        file.and_then(|file| file.set_modified(SystemTime::now())).is_ok()
    }

    /// The mark of a content that a job of a run has sent, or that was found to be its project's: whoever knows the digest
    /// of another's content has not got that.
    fn mark(&self, digest: &Digest, run: i64) -> PathBuf {
        self.path(digest).with_extension(format!("of-{run}"))
    }

    /// Marks a content as one that a run may name and have.
    pub(crate) fn allow(&self, digest: &Digest, run: i64) -> io::Result<()> {
        File::create(self.mark(digest, run)).map(drop)
    }

    /// Whether a content is there that a run may name and have. It then stays for a while, needed or not.
    pub(crate) fn is_allowed(&self, digest: &Digest, run: i64) -> bool {
        self.mark(digest, run).exists() && self.has(digest)
    }

    /// Keeps a content that arrives compressed, when it is what its digest says.
    pub(crate) async fn keep<E: std::fmt::Display>(
        &self,
        digest: &Digest,
        mut stream: impl Stream<Item = Result<axum::body::Bytes, E>> + Unpin,
    ) -> Result<(), FileError> {
        let path = self.path(digest);
        let folder = path.parent().unwrap_or(&self.folder).to_owned();
        tokio::fs::create_dir_all(&folder).await?;
        let name = access::new_secret().map_err(io::Error::other)?;
        let unfinished = folder.join(format!("{name}.new"));
        let taken = async {
            let mut file = tokio::fs::File::create(&unfinished).await?;
            while let Some(chunk) = stream.next().await {
                file.write_all(&chunk.map_err(|error| FileError::Cut(error.to_string()))?).await?;
            }
            file.sync_all().await?;
            let compressed = unfinished.clone();
            let found = tokio::task::spawn_blocking(move || {
                digest_of(zstd::Decoder::new(File::open(compressed)?)?.take(LONGEST))
            })
            .await;
            let found = found.map_err(io::Error::other)?.map_err(|error| FileError::Cut(error.to_string()))?;
            if found == *digest { Ok(()) } else { Err(FileError::WrongDigest) }
        };
        if let Err(error) = taken.await {
            drop(tokio::fs::remove_file(&unfinished).await);
            return Err(error);
        }
        Ok(tokio::fs::rename(&unfinished, &path).await?)
    }

    /// A content, compressed.
    pub(crate) async fn open(&self, digest: &Digest) -> io::Result<tokio::fs::File> {
        tokio::fs::File::open(self.path(digest)).await
    }

    /// A content as it is.
    pub(crate) fn read(&self, digest: &Digest) -> io::Result<impl Read + use<>> {
        zstd::Decoder::with_buffer(BufReader::new(File::open(self.path(digest))?))
    }

    /// Every content that nobody asked for lately.
    pub(crate) fn idle(&self) -> Vec<Digest> {
        let folders = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let files = folders.flat_map(|folder| fs::read_dir(folder.path()).into_iter().flatten().flatten());
        let digest = |path: &Path| format!("sha256:{}", path.file_stem()?.to_str()?).parse().ok();
        let is_content = |path: &PathBuf| path.extension().is_some_and(|extension| extension == "zst");
        let idle = files.map(|file| file.path()).filter(|path| is_idle(path));
        idle.filter(is_content).filter_map(|path| digest(&path)).collect()
    }

    /// Removes marks that nobody needs any more: what they were for is known by the records.
    pub(crate) fn remove_marks(&self) {
        let folders = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let files = folders.flat_map(|folder| fs::read_dir(folder.path()).into_iter().flatten().flatten());
        let is_mark = |path: &PathBuf| {
            path.extension().and_then(|extension| extension.to_str()).is_some_and(|text| text.starts_with("of-"))
        };
        for mark in files.map(|file| file.path()).filter(is_mark).filter(|path| is_idle(path)) {
            if let Err(error) = fs::remove_file(&mark) {
                warn!(%error, "the mark of a content could not be removed");
            }
        }
    }

    /// Removes a content that nothing refers to, unless somebody has asked for it since it was seen to be idle:
    /// whoever did is about to say what it is for.
    pub(crate) fn remove_idle(&self, digest: &Digest) {
        let _presence = self.presence.lock().unwrap_or_else(PoisonError::into_inner);
        let path = self.path(digest);
        if is_idle(&path)
            && let Err(error) = fs::remove_file(&path)
        {
            warn!(%digest, %error, "a content that nothing refers to could not be removed");
        }
    }
}

/// Whether nobody asked for a content lately.
fn is_idle(path: &Path) -> bool {
    let changed = fs::metadata(path).and_then(|data| data.modified());
    changed.is_ok_and(|changed| changed.elapsed().is_ok_and(|age| age > UNNEEDED_FOR))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_content_that_was_just_found_present_is_not_removed_however_idle_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let files = Files::new(folder.path().to_owned());
        let mut digests = Vec::new();
        for text in ["asked", "idle"] {
            let digest = digest_of(text.as_bytes()).unwrap();
            let packed = axum::body::Bytes::from(zstd::encode_all(text.as_bytes(), 3).unwrap());
            let stream = Box::pin(futures_util::stream::once(async { Ok::<_, io::Error>(packed) }));
            files.keep(&digest, stream).await.unwrap();
            let long_ago = SystemTime::now() - UNNEEDED_FOR - Duration::from_secs(1);
            File::options().append(true).open(files.path(&digest)).unwrap().set_modified(long_ago).unwrap();
            digests.push(digest);
        }
        let mut idle = files.idle();
        idle.sort();
        let mut both = digests.clone();
        both.sort();
        assert_eq!(idle, both);
        // After whoever tidies has seen that nothing refers to them.
        assert!(files.has(&digests[0]));
        idle.iter().for_each(|digest| files.remove_idle(digest));
        assert!(files.has(&digests[0]));
        assert!(!files.has(&digests[1]));
        // Whose it is: what a run has not sent it may not have, and no mark lasts.
        assert!(!files.is_allowed(&digests[0], 7));
        files.allow(&digests[0], 7).unwrap();
        assert!(files.is_allowed(&digests[0], 7) && !files.is_allowed(&digests[0], 77));
        files.remove_marks();
        assert!(files.is_allowed(&digests[0], 7), "it is new");
        let mark = files.mark(&digests[0], 7);
        let long_ago = SystemTime::now() - UNNEEDED_FOR - Duration::from_secs(1);
        File::options().append(true).open(&mark).unwrap().set_modified(long_ago).unwrap();
        files.remove_marks();
        assert!(!mark.exists() && files.has(&digests[0]) && files.idle().is_empty());
    }
}
