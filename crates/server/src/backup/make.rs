//! Making a backup.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use pondrix_core::Time;
use pondrix_core::image::Digest;
use rusqlite::{Connection, OpenFlags};

use super::{CONTENTS, Content, Contents, HEADER, Hashing, Header, RECORDS, VERSION};
use crate::contents::Files;
use crate::logs::Logs;
use crate::store::{self, StoreError};

/// As zstd(1) does it when nothing is said. What is compressed already passes through almost as it is.
const LEVEL: i32 = 3;
/// How the name of the copy of the records begins while a backup is made: nobody calls a file of his own so.
const COPY: &str = ".records-copied-for-a-backup-";

/// A backup that is made: the records are copied already.
#[derive(Debug)]
pub(crate) struct Backup {
    data: PathBuf,
    /// Removed when dropped.
    copy: tempfile::TempPath,
    made: Time,
}

/// What the records refer to.
struct Wanted {
    contents: BTreeSet<Digest>,
    tries: Vec<String>,
    runs: Vec<(String, i64)>,
}

/// Removes what a server that was killed while it made a backup has left.
pub(crate) fn remove_unfinished(data: &Path) {
    for entry in fs::read_dir(data).into_iter().flatten().flatten() {
        if entry.file_name().to_string_lossy().starts_with(COPY) {
            drop(fs::remove_file(entry.path()));
        }
    }
}

/// Whatever stands in the way of writing.
fn other(error: impl std::error::Error + Send + Sync + 'static) -> io::Error {
    io::Error::other(error)
}

fn wanted(copy: &Path) -> Result<Wanted, StoreError> {
    let records = Connection::open_with_flags(copy, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
    let mut contents =
        records.prepare("SELECT digest FROM artifact_files WHERE link IS NULL UNION SELECT digest FROM caches")?;
    let contents = contents.query_map([], |row| Ok(Digest::from_bytes(&row.get::<_, [u8; 32]>(0)?)))?;
    let mut tries = records.prepare("SELECT files FROM runs WHERE files IS NOT NULL ORDER BY id")?;
    let tries = tries.query_map([], |row| row.get(0))?;
    let mut runs = records.prepare(
        "SELECT p.name, r.number FROM runs r JOIN projects p ON p.id = r.project WHERE r.logs <> 2 ORDER BY r.id",
    )?;
    let runs = runs.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(Wanted {
        contents: contents.collect::<Result<_, _>>()?,
        tries: tries.collect::<Result<_, _>>()?,
        runs: runs.collect::<Result<_, _>>()?,
    })
}

impl Backup {
    /// Copies the records as they are at one moment. Writers do not wait.
    pub(crate) fn begin(data: &Path, records: &Connection, made: Time) -> Result<Self, StoreError> {
        let told = |error: io::Error| StoreError::Copy(error.to_string());
        let copy = tempfile::Builder::new().prefix(COPY).suffix(".db").tempfile_in(data).map_err(told)?;
        let copy = copy.into_temp_path();
        store::copy(records, &copy)?;
        Ok(Self { data: data.to_owned(), copy, made })
    }

    /// Writes the archive: with the contents of files and logs, or the records alone.
    pub(crate) fn write(self, is_whole: bool, into: impl Write) -> io::Result<()> {
        let mut archive = Archive(tar::Builder::new(zstd::Encoder::new(into, LEVEL)?));
        let header = Header { pondrix_backup: VERSION, made: self.made, server: env!("CARGO_PKG_VERSION").to_owned() };
        archive.document(HEADER, &header)?;
        let mut contents = Contents::default();
        contents.files.push(archive.file(RECORDS.to_owned(), File::open(&self.copy)?)?);
        let wanted = wanted(&self.copy).map_err(other)?;
        let files = Files::new(self.data.join("files"));
        for digest in wanted.contents {
            if !is_whole {
                contents.left_out.push(digest.to_string());
                continue;
            }
            match File::open(files.path(&digest)) {
                Ok(file) => contents.files.push(archive.file(self.name(&files.path(&digest)), file)?),
                Err(error) if error.kind() == io::ErrorKind::NotFound => contents.missing.push(digest.to_string()),
                Err(error) => return Err(error),
            }
        }
        if is_whole {
            // Those that were tried long ago are not kept as long as their runs.
            let tries = wanted.tries.iter().map(|name| self.data.join("tries").join(name));
            let logs = Logs::new(self.data.join("logs"));
            let logs = wanted.runs.iter().flat_map(|(project, number)| logs.files(project, number.unsigned_abs()));
            for path in tries.chain(logs) {
                match File::open(&path) {
                    Ok(file) => contents.files.push(archive.file(self.name(&path), file)?),
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    Err(error) => return Err(error),
                }
            }
        }
        archive.document(CONTENTS, &contents)?;
        archive.0.into_inner()?.finish()?.flush()
    }

    /// A path as it is called in the archive.
    fn name(&self, path: &Path) -> String {
        path.strip_prefix(&self.data).unwrap_or(path).display().to_string()
    }
}

/// An archive that is written.
struct Archive<W: Write>(tar::Builder<zstd::Encoder<'static, W>>);

impl<W: Write> Archive<W> {
    fn append(&mut self, path: &str, size: u64, bytes: impl Read) -> io::Result<()> {
        let mut header = tar::Header::new_ustar();
        header.set_size(size);
        header.set_mode(0o600);
        self.0.append_data(&mut header, path, bytes)
    }

    fn document(&mut self, name: &str, document: &impl serde::Serialize) -> io::Result<()> {
        let text = serde_json::to_vec(document)?;
        self.append(name, text.len() as u64, &text[..])
    }

    /// A file as long as it is now; it may be growing.
    fn file(&mut self, path: String, file: File) -> io::Result<Content> {
        let size = file.metadata()?.len();
        let mut hashing = Hashing::new(file.take(size));
        self.append(&path, size, &mut hashing)?;
        Ok(hashing.content(path))
    }
}
