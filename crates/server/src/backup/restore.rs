//! Putting a backup back.

use std::fs::{self, File};
use std::io::{self, BufReader, Write};
use std::path::Path;

use super::{BUFFER, BackupError, Checked, FOLDERS, RECORDS, read, read_through};
use crate::contents::digest_of;
use crate::private::create_private;
use crate::seal::{MasterSource, Seal, unseal_of_before};
use crate::store::{self, SealedValue};

/// What was put back.
#[derive(Clone, Debug)]
pub struct Restored {
    /// What the backup had.
    pub checked: Checked,
    /// How many projects there are now.
    pub projects: u64,
    /// How many runs.
    pub runs: u64,
    /// The runs that were not over when the backup was made. They are stopped when the server starts.
    pub going_on: Vec<String>,
    /// The runs whose records cannot be read.
    pub unreadable: Vec<String>,
    /// How many secrets and passwords cannot be opened, since no key was given.
    pub sealed: usize,
}

/// Whether a folder is not there, or empty.
fn is_free(folder: &Path) -> io::Result<bool> {
    match fs::read_dir(folder) {
        Ok(mut entries) => Ok(entries.next().is_none()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(true),
        Err(error) => Err(error),
    }
}

/// Puts a backup into a folder that is empty, or not there yet, and proves it: every file is what it was, the records
/// are sound, and every run in them can be read. Nothing is there before all of it is.
///
/// # Errors
/// When it is not whole, or the folder cannot be used. Nothing is there then.
pub fn restore(archive: &Path, data: &Path, key: Option<&MasterSource>) -> Result<Restored, BackupError> {
    let told = |path: &Path| BackupError::io(path.display().to_string());
    if !is_free(data).map_err(told(data))? {
        return Err(BackupError::Taken(data.display().to_string()));
    }
    let parent = match data.parent() {
        Some(parent) if parent != Path::new("") => parent,
        _ => Path::new("."),
    };
    fs::create_dir_all(parent).map_err(told(parent))?;
    let place = tempfile::Builder::new().prefix(".pondrix-restore-").tempdir_in(parent).map_err(told(parent))?;
    let restored = fill(archive, place.path(), key)?;
    // An empty folder gives way.
    fs::rename(place.path(), data).map_err(told(data))?;
    drop(place);
    Ok(restored)
}

fn fill(archive: &Path, into: &Path, key: Option<&MasterSource>) -> Result<Restored, BackupError> {
    let told = |path: &Path| BackupError::io(path.display().to_string());
    for folder in FOLDERS {
        fs::create_dir_all(into.join(folder)).map_err(told(into))?;
    }
    let file = File::open(archive).map_err(told(archive))?;
    let mut buffer = vec![0; BUFFER];
    let checked = read_through(BufReader::new(file), |path, bytes| {
        let target = into.join(path);
        if let Some(folder) = target.parent() {
            fs::create_dir_all(folder).map_err(told(folder))?;
        }
        let mut file = create_private(&target).map_err(told(&target))?;
        loop {
            match read(&mut *bytes, &mut buffer)? {
                0 => break,
                count => file.write_all(&buffer[..count]).map_err(told(&target))?,
            }
        }
        file.sync_all().map_err(told(&target))?;
        if path.starts_with("files") { is_its_name(&target) } else { Ok(()) }
    })?;
    let records = into.join(RECORDS);
    let proof = store::prove(&records, checked.made).map_err(|error| BackupError::Damaged(error.to_string()))?;
    let sealed = match key {
        Some(from) => {
            let fault = |error: &dyn std::fmt::Display| BackupError::Key(error.to_string());
            let master = from.read().map_err(|error| fault(&error))?;
            let seal = Seal::open(master.clone(), &proof.data_keys).map_err(|error| fault(&error))?;
            let opens = |one: &&SealedValue| match proof.data_keys.is_empty() {
                true => unseal_of_before(&master, &one.place, &one.value).is_ok(),
                false => seal.unseal(&one.place, &one.value).is_ok(),
            };
            if let Some(closed) = proof.sealed.iter().find(|one| !opens(one)) {
                return Err(BackupError::Key(format!("`{}` stays closed", closed.place)));
            }
            // Where it comes from somewhere else, it does so when the server is started.
            if let MasterSource::File(_) = from {
                let target = into.join("secrets.key");
                master.write(&target).map_err(told(&target))?;
            }
            0
        }
        None => {
            store::lose_data_keys(&records).map_err(|error| BackupError::Damaged(error.to_string()))?;
            proof.sealed.iter().filter(|one| !one.is_hook()).count()
        }
    };
    let store::Proof { projects, runs, going_on, unreadable, .. } = proof;
    Ok(Restored { checked, projects, runs, going_on, unreadable, sealed })
}

/// Whether a content is what its name says.
fn is_its_name(path: &Path) -> Result<(), BackupError> {
    let found = File::open(path).and_then(|file| digest_of(zstd::Decoder::new(file)?));
    let name = path.file_stem().and_then(|name| name.to_str()).unwrap_or_default();
    match found {
        Ok(digest) if digest.hex() == name => Ok(()),
        Ok(_) => Err(BackupError::Damaged(format!("files/{name} is not what its name says"))),
        Err(error) => Err(BackupError::Damaged(format!("files/{name}: {error}"))),
    }
}
