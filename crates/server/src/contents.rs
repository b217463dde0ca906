//! Contents of files by their digests, compressed: what jobs kept, and archives that they find again.

use std::fs::{self, File};
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use futures_util::{Stream, StreamExt};
use pondrix_core::image::Digest;
use sha2::{Digest as _, Sha256};
use tokio::io::AsyncWriteExt;

use crate::access;

/// All contents.
#[derive(Clone, Debug)]
pub(crate) struct Files {
    folder: PathBuf,
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

/// How long a content stays that nothing refers to: whoever sent it is about to say what it is for.
const UNNEEDED_FOR: Duration = Duration::from_secs(3600);

fn digest_of(mut reader: impl Read) -> io::Result<Digest> {
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
        Self { folder }
    }

    fn path(&self, digest: &Digest) -> PathBuf {
        let hex = digest.hex();
        self.folder.join(&hex[..2]).join(format!("{hex}.zst"))
    }

    /// Whether a content is there. It then stays for a while, needed or not.
    pub(crate) fn has(&self, digest: &Digest) -> bool {
        let file = File::options().append(true).open(self.path(digest));
        file.and_then(|file| file.set_modified(SystemTime::now())).is_ok()
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
            let found =
                tokio::task::spawn_blocking(move || digest_of(zstd::Decoder::new(File::open(compressed)?)?)).await;
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
        let is_idle = |path: &Path| {
            let changed = fs::metadata(path).and_then(|data| data.modified());
            changed.is_ok_and(|changed| changed.elapsed().is_ok_and(|age| age > UNNEEDED_FOR))
        };
        let digest = |path: &Path| format!("sha256:{}", path.file_stem()?.to_str()?).parse().ok();
        files.map(|file| file.path()).filter(|path| is_idle(path)).filter_map(|path| digest(&path)).collect()
    }

    pub(crate) fn remove(&self, digest: &Digest) {
        drop(fs::remove_file(self.path(digest)));
    }
}
