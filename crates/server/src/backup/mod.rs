//! Backups: a consistent copy of everything but the key for secrets, made while the server serves, and proved when it
//! is put back.
//!
//! A backup is a tar archive, compressed with zstd:
//!
//! ```text
//! backup.json     what this is, and when it was made
//! records.db      the records, as they were at one moment
//! files/…         contents that the records refer to
//! tries/…         files that are tried
//! logs/…          the logs of runs
//! contents.json   all of these, each with its SHA-256
//! ```
//!
//! The last entry is the proof that nothing is cut off.

mod make;
mod restore;

use std::io::{self, Read};
use std::path::{Component, Path};

use pondrix_core::Time;
use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

pub(crate) use make::{Backup, remove_unfinished};
pub use restore::{Restored, restore};

/// The version of the form that is written.
const VERSION: u32 = 1;
/// The names of what each backup has once.
const HEADER: &str = "backup.json";
const RECORDS: &str = "records.db";
const CONTENTS: &str = "contents.json";
/// The folders whose files it has.
const FOLDERS: [&str; 3] = ["files", "tries", "logs"];
/// How much of a file is read at once.
const BUFFER: usize = 128 * 1024;
/// The longest of the two documents that is believed.
const LONGEST_DOCUMENT: u64 = 1 << 30;

/// What an archive is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Header {
    pondrix_backup: u32,
    made: Time,
    server: String,
}

/// A file of a backup.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Content {
    path: String,
    size: u64,
    sha256: Digest,
}

/// What must be there, and what could not be.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Contents {
    files: Vec<Content>,
    /// Contents that the records refer to and that the server did not have.
    missing: Vec<String>,
    /// Contents that were left out since only the records were asked for.
    left_out: Vec<String>,
}

/// Why a backup cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum BackupError {
    /// It is something else.
    #[error("this is no backup of Pondrix: {0}")]
    Nonsense(String),
    /// A newer server made it.
    #[error("a newer Pondrix made this backup (form {found}; this one knows {VERSION}); use that one")]
    Newer {
        /// The version of its form.
        found: u32,
    },
    /// Its end is not there.
    #[error("this backup is cut off: its end is not there. Make another one")]
    Cut,
    /// Something in it is not what it was.
    #[error("this backup is damaged: {0}. Use another one")]
    Damaged(String),
    /// The folder is no place for it.
    #[error("{0} has something in it; a backup is put into a folder of its own")]
    Taken(String),
    /// The key is not the one.
    #[error("the key does not open the secrets of this backup: {0}")]
    Key(String),
    /// The disk, or what is read, gives no more.
    #[error("{what}: {error}")]
    Io {
        /// What was done.
        what: String,
        /// What the system says.
        error: io::Error,
    },
}

impl BackupError {
    fn io(what: impl Into<String>) -> impl FnOnce(io::Error) -> Self {
        let what = what.into();
        |error| Self::Io { what, error }
    }
}

/// What is in a backup.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checked {
    /// When it was made.
    pub made: Time,
    /// The version of the server that made it.
    pub server: String,
    /// How many files it has besides the records, and how long they are together.
    pub files: usize,
    /// In bytes.
    pub bytes: u64,
    /// Contents that the server did not have when it was made.
    pub missing: Vec<String>,
    /// How many contents were left out on purpose.
    pub left_out: usize,
}

/// Counts and hashes what is read.
struct Hashing<R> {
    inner: R,
    hash: Sha256,
    size: u64,
}

impl<R: Read> Hashing<R> {
    fn new(inner: R) -> Self {
        Self { inner, hash: Sha256::new(), size: 0 }
    }

    fn content(self, path: String) -> Content {
        Content { path, size: self.size, sha256: Digest::from_bytes(&self.hash.finalize().into()) }
    }
}

impl<R: Read> Read for Hashing<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.hash.update(&buffer[..count]);
        self.size += count as u64;
        Ok(count)
    }
}

/// Whether a name may be one of a backup's files: it leads nowhere else.
fn is_own(path: &Path) -> bool {
    let mut parts = path.components();
    let Some(Component::Normal(first)) = parts.next() else { return false };
    let is_folder = FOLDERS.iter().any(|folder| first == *folder);
    path == Path::new(RECORDS) || is_folder && parts.all(|part| matches!(part, Component::Normal(_)))
}

/// Reads a document of a backup.
fn document<T: for<'a> Deserialize<'a>>(name: &str, entry: impl Read) -> Result<T, BackupError> {
    let mut text = Vec::new();
    entry.take(LONGEST_DOCUMENT).read_to_end(&mut text).map_err(broken)?;
    serde_json::from_slice(&text).map_err(|error| BackupError::Nonsense(format!("{name}: {error}")))
}

/// What a fault in reading says of a backup: what ends in the middle of what is compressed is cut off.
fn broken(error: io::Error) -> BackupError {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => BackupError::Cut,
        _ => BackupError::Damaged(error.to_string()),
    }
}

/// Reads some bytes of a file of a backup.
fn read(mut from: impl Read, buffer: &mut [u8]) -> Result<usize, BackupError> {
    loop {
        match from.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other.map_err(broken),
        }
    }
}

/// Reads a backup to its end and compares all of it with what it should be; `each` is given every file.
fn read_through(
    archive: impl Read,
    mut each: impl FnMut(&Path, &mut dyn Read) -> Result<(), BackupError>,
) -> Result<Checked, BackupError> {
    let nonsense = |error: io::Error| BackupError::Nonsense(error.to_string());
    let mut archive = tar::Archive::new(zstd::Decoder::new(archive).map_err(nonsense)?);
    let mut entries = archive.entries().map_err(nonsense)?;
    let first = entries.next().ok_or_else(|| BackupError::Nonsense("it is empty".to_owned()))?;
    let first = first.map_err(|error| match broken(error) {
        BackupError::Damaged(words) => BackupError::Nonsense(words),
        other => other,
    })?;
    if first.path().map_err(nonsense)? != Path::new(HEADER) {
        return Err(BackupError::Nonsense(format!("it does not begin with {HEADER}")));
    }
    let header: Header = document(HEADER, first)?;
    if header.pondrix_backup > VERSION {
        return Err(BackupError::Newer { found: header.pondrix_backup });
    }
    let mut found = Vec::new();
    let mut buffer = vec![0; BUFFER];
    for entry in entries {
        let entry = entry.map_err(broken)?;
        let path = entry.path().map_err(broken)?.into_owned();
        if path == Path::new(CONTENTS) {
            return check(header, document(CONTENTS, entry)?, found);
        }
        if !is_own(&path) || !entry.header().entry_type().is_file() {
            return Err(BackupError::Nonsense(format!("{} is none of its files", path.display())));
        }
        let mut hashing = Hashing::new(entry);
        each(&path, &mut hashing)?;
        // Whatever was not asked for counts too.
        while read(&mut hashing, &mut buffer)? > 0 {}
        found.push(hashing.content(path.display().to_string()));
    }
    Err(BackupError::Cut)
}

fn check(header: Header, contents: Contents, found: Vec<Content>) -> Result<Checked, BackupError> {
    if let Some((_, is)) = contents.files.iter().zip(&found).find(|(should, is)| should != is) {
        return Err(BackupError::Damaged(format!("{} is not what it was", is.path)));
    }
    if contents.files.len() != found.len() {
        return Err(BackupError::Damaged(format!("it has {} files and not {}", found.len(), contents.files.len())));
    }
    Ok(Checked {
        made: header.made,
        server: header.server,
        files: found.iter().filter(|one| one.path != RECORDS).count(),
        bytes: found.iter().map(|one| one.size).sum(),
        missing: contents.missing,
        left_out: contents.left_out.len(),
    })
}

/// Proves that a backup is whole, and that everything in it is what it was when it was made.
///
/// # Errors
/// When it is not.
pub fn check_backup(archive: impl Read) -> Result<Checked, BackupError> {
    read_through(archive, |_, _| Ok(()))
}
