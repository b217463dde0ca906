//! Files that are not committed, as people send them to be tried: archives (tar, compressed with zstd).

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use futures_util::{Stream, StreamExt};
use pondrix_core::file_times::{FileTimes, Retimed};
use tokio::io::AsyncWriteExt;

use crate::access;
use crate::off_thread::off_thread;

/// How long files are kept that were tried: for so long a run of them can be done again.
const KEPT_FOR: Duration = Duration::from_secs(7 * 86_400);
/// How much of an archive is read at once.
const PIECE: usize = 64 * 1024;
/// The longest file that is read into memory: pipeline files and manifests are far shorter.
const LONGEST_READ: u64 = 4 << 20;

/// All archives.
#[derive(Clone, Debug)]
pub(crate) struct Tries {
    folder: PathBuf,
}

/// Why an archive was not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TryError {
    #[error(
        "the files are more than {limit} bytes when compressed; leave some out with an ignore file of git, or have the limit raised: pondrix serve --try-limit SIZE"
    )]
    TooLong { limit: u64 },
    #[error("the files did not arrive whole: {0}")]
    Cut(String),
    #[error("what arrived is no archive of files: {0}")]
    Nonsense(String),
    #[error("the server could not keep the files: {0}")]
    Disk(#[from] io::Error),
}

impl Tries {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        // Names are this server's own, from its records.
        self.folder.join(name)
    }

    /// Keeps an archive as it arrives. Answers its name.
    pub(crate) async fn keep<E: std::fmt::Display>(
        &self,
        mut stream: impl Stream<Item = Result<axum::body::Bytes, E>> + Unpin,
        limit: u64,
    ) -> Result<String, TryError> {
        tokio::fs::create_dir_all(&self.folder).await?;
        let name = access::new_secret().map_err(io::Error::other)?.replace(['-', '_'], "x") + ".tar.zst";
        let unfinished = self.path(&name).with_extension("new");
        let taken = async {
            let mut file = tokio::fs::File::create(&unfinished).await?;
            let mut length = 0;
            while let Some(chunk) = stream.next().await {
                let chunk = chunk.map_err(|error| TryError::Cut(error.to_string()))?;
                length += chunk.len() as u64;
                if length > limit {
                    return Err(TryError::TooLong { limit });
                }
                file.write_all(&chunk).await?;
            }
            file.sync_all().await?;
            Ok(())
        };
        if let Err(error) = taken.await {
            drop(tokio::fs::remove_file(&unfinished).await);
            return Err(error);
        }
        tokio::fs::rename(&unfinished, self.path(&name)).await?;
        Ok(name)
    }

    /// Gives the files of an archive that have no time, because they were not changed, those of a commit's; where that is
    /// not known, `otherwise`, in seconds since 1970.
    pub(crate) async fn retime(
        &self,
        name: &str,
        times: Option<Arc<FileTimes>>,
        otherwise: u64,
    ) -> Result<(), TryError> {
        let (path, folder) = (self.path(name), self.folder.clone());
        let retimed = move || {
            let known = |path: &[u8]| times.as_ref().and_then(|times| times.get(path)).unwrap_or(otherwise);
            let mut retimed = Retimed::new(|path: &[u8], own: u64| if own == 0 { known(path) } else { own });
            let mut plain = zstd::Decoder::new(File::open(&path)?)?;
            let file = tempfile::NamedTempFile::new_in(folder)?;
            let mut packed = zstd::Encoder::new(file.as_file(), 3)?;
            let mut piece = vec![0; PIECE];
            loop {
                match plain.read(&mut piece)? {
                    0 => break,
                    count => packed.write_all(&retimed.push(&piece[..count]))?,
                }
            }
            packed.write_all(&retimed.finish())?;
            packed.finish()?.sync_all()?;
            file.persist(&path).map(drop).map_err(|error| error.error)
        };
        off_thread(retimed).await.map_err(|error: io::Error| TryError::Nonsense(error.to_string()))
    }

    pub(crate) fn remove(&self, name: &str) {
        drop(fs::remove_file(self.path(name)));
    }

    /// The archive, as it was sent.
    pub(crate) async fn open(&self, name: &str) -> io::Result<tokio::fs::File> {
        tokio::fs::File::open(self.path(name)).await
    }

    /// The names of all files of an archive.
    pub(crate) async fn names(&self, name: &str) -> Result<Vec<String>, TryError> {
        self.look(name, |_, _| Ok(())).await.map(|files| files.into_keys().collect())
    }

    /// A file of an archive; nothing when there is none of this name.
    pub(crate) async fn file(&self, name: &str, path: &str) -> Result<Option<String>, TryError> {
        let wanted = path.to_owned();
        let read = move |path: &str, entry: &mut dyn Read| {
            let mut bytes = Vec::new();
            if path == wanted {
                entry.take(LONGEST_READ).read_to_end(&mut bytes)?;
            }
            Ok(bytes)
        };
        let mut files = self.look(name, read).await?;
        Ok(files.remove(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// Every ordinary file of an archive, with what is made of it.
    async fn look<T: Send + 'static>(
        &self,
        name: &str,
        make: impl Fn(&str, &mut dyn Read) -> io::Result<T> + Send + 'static,
    ) -> Result<BTreeMap<String, T>, TryError> {
        let path = self.path(name);
        let looked = tokio::task::spawn_blocking(move || {
            let nonsense = |error: io::Error| TryError::Nonsense(error.to_string());
            let mut archive = tar::Archive::new(zstd::Decoder::new(File::open(&path)?).map_err(nonsense)?);
            let mut files = BTreeMap::new();
            for entry in archive.entries().map_err(nonsense)? {
                let mut entry = entry.map_err(nonsense)?;
                if !entry.header().entry_type().is_file() {
                    continue;
                }
                let path = entry.path().map_err(nonsense)?.display().to_string();
                let path = path.trim_start_matches("./").to_owned();
                let made = make(&path, &mut entry).map_err(nonsense)?;
                files.insert(path, made);
            }
            Ok(files)
        });
        looked.await.map_err(|error| TryError::Nonsense(error.to_string()))?
    }

    /// Removes what has been kept for long enough.
    pub(crate) fn prune(&self, now: SystemTime) {
        let is_old = |path: &Path| {
            let changed = fs::metadata(path).and_then(|data| data.modified());
            changed.is_ok_and(|changed| now.duration_since(changed).is_ok_and(|age| age > KEPT_FOR))
        };
        let entries = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        for path in entries.map(|entry| entry.path()).filter(|path| is_old(path)) {
            drop(fs::remove_file(path));
        }
    }
}
