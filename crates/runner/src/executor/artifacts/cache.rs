//! `cache`: files of the workspace that the next run finds again.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use pondrix_api::{CacheEntry, CacheQuestion, Digests};
use pondrix_core::work::{CacheWork, KeyPart};
use pondrix_files::{Watch, has_room};
use pondrix_image::build::plain_path;
use pondrix_image::layer;
use sha2::{Digest as _, Sha256};

use super::fetch::content;
use super::upload::send;
use super::walk::{fitting, is_no_more_than_kept, walk};
use crate::contents::digest_of;
use crate::executor::context::JobExecutor;
use crate::executor::error::JobError;
use crate::executor::leaks::find_in_archive;

/// What came of looking for an archive.
pub(crate) struct Restored {
    path: String,
    key: String,
    /// Whether an archive may be left under the key, when the job passes.
    may_write: bool,
}

/// A key with the hashes of files filled in.
fn key(workspace: &Path, parts: &[KeyPart], watch: &Watch) -> io::Result<String> {
    let mut key = String::new();
    for part in parts {
        match part {
            KeyPart::Text(text) => key.push_str(text),
            KeyPart::Hash(pattern) => {
                let mut hash = Sha256::new();
                let mut bytes = 0_u64;
                for path in fitting(workspace, std::slice::from_ref(pattern), watch)? {
                    let whole = workspace.join(&path);
                    let data = whole.symlink_metadata()?;
                    if data.is_file() {
                        bytes = bytes.saturating_add(data.len());
                        is_no_more_than_kept(bytes)?;
                        hash.update(path.as_os_str().as_encoded_bytes());
                        hash.update([0]);
                        hash.update(digest_of(&whole, watch)?.0.bytes());
                    }
                }
                let bytes: [u8; 32] = hash.finalize().into();
                key.push_str(&pondrix_core::image::Digest::from_bytes(&bytes).hex()[..16]);
            }
        }
    }
    Ok(key)
}

/// Finds files again. That they are not found, or cannot be put into place, ends no job.
pub(crate) fn restore(executor: &JobExecutor, workspace: &Path, cache: &CacheWork) -> Option<Restored> {
    match restore_inner(executor, workspace, cache) {
        Ok(restored) => Some(restored),
        Err(error) => {
            executor.log.say(&format!("cache {}: {error}", cache.path));
            None
        }
    }
}

fn restore_inner(executor: &JobExecutor, workspace: &Path, cache: &CacheWork) -> Result<Restored, JobError> {
    let watch = executor.watch();
    let key_now = key(workspace, &cache.key, watch)?;
    let newest = cache.newest.iter().map(|parts| key(workspace, parts, watch)).collect::<Result<_, _>>()?;
    let question = CacheQuestion { key: key_now.clone(), newest };
    let answer = executor.ask(async |client, assignment| client.find_cache(assignment, &question).await)?;
    match &answer.found {
        None => executor.log.say(&format!("cache {}: nothing under {key_now} yet", cache.path)),
        Some(found) => {
            let archive = content(executor, &found.digest, false)?;
            // What stands in its place in the commit gives way.
            if let Some(there) = plain_path(workspace, Path::new(&cache.path)) {
                pondrix_files::remove(&there)?;
            }
            let file = watch.reader(io::BufReader::new(File::open(&archive)?));
            layer::unpack_files(file, workspace, executor.launcher.ids())?;
            executor.log.say(&format!("cache {}: found under {} ({} bytes)", cache.path, found.key, found.size));
        }
    }
    Ok(Restored { path: cache.path.clone(), key: key_now, may_write: answer.may_write })
}

/// Leaves files for the next run. That they cannot be left ends no job.
pub(crate) fn save(executor: &JobExecutor, workspace: &Path, restored: &Restored) {
    if !restored.may_write {
        return;
    }
    if let Err(error) = save_inner(executor, workspace, restored) {
        executor.log.say(&format!("cache {}: {error}", restored.path));
    }
}

fn save_inner(executor: &JobExecutor, workspace: &Path, restored: &Restored) -> Result<(), JobError> {
    let Some(from) = plain_path(workspace, Path::new(&restored.path)) else {
        return Err(JobError::asked("it leads through a link, and is not left for the next run"));
    };
    if from.symlink_metadata().is_err() {
        return Err(JobError::asked("the job did not make it"));
    }
    let packed = tempfile::NamedTempFile::new_in(executor.scratch.path())?;
    pack(workspace, &restored.path, executor.scratch.path(), packed.as_file(), executor.watch())?;
    if let Some((secret, place)) = find_in_archive(
        &executor.log.masker(),
        executor.watch().reader(io::BufReader::new(File::open(packed.path())?)),
    )? {
        let words = format!("it holds the secret {secret}, in {place}, and is not left for the next run");
        return Err(JobError::Asked(words));
    }
    let (digest, size) = executor.folder.contents.put(packed.path(), false)?;
    let asked = Digests { digests: vec![digest.clone()], bytes: 0 };
    let missing = executor.ask(async |client, assignment| client.missing(assignment, &asked).await)?;
    if !missing.digests.is_empty() {
        send(executor, packed.path(), &digest)?;
    }
    let entry = CacheEntry { key: restored.key.clone(), digest, size };
    executor.ask(async |client, assignment| client.put_cache(assignment, &entry).await)?;
    executor.log.say(&format!("cache {}: left under {} ({size} bytes)", restored.path, restored.key));
    Ok(())
}

/// Writes an archive of a file or folder of the workspace to a file in the folder `room`. Root owns all entries.
fn pack(workspace: &Path, path: &str, room: &Path, into: &File, watch: &Watch) -> io::Result<()> {
    let mut archive = tar::Builder::new(io::BufWriter::new(into));
    archive.follow_symlinks(false);
    let whole = workspace.join(path);
    let data = whole.symlink_metadata()?;
    // An empty path stands for the file itself.
    let (files, bytes) = match data.is_dir() {
        true => walk(&whole, watch)?,
        false => (vec![PathBuf::new()], if data.is_file() { data.len() } else { 0 }),
    };
    is_no_more_than_kept(bytes)?;
    if !has_room(room, bytes)? {
        let size = pondrix_core::Size::from_bytes(bytes);
        return Err(io::Error::other(format!(
            "the files are {size} in total; the runner's disk has not enough free space"
        )));
    }
    for file in files {
        watch.check()?;
        let file = if file.as_os_str().is_empty() { PathBuf::from(path) } else { Path::new(path).join(file) };
        let whole = workspace.join(&file);
        let data = whole.symlink_metadata()?;
        let mut header = tar::Header::new_gnu();
        header.set_mode(data.permissions().mode() & 0o777);
        header.set_mtime(u64::try_from(data.mtime()).unwrap_or(0));
        if data.is_symlink() {
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            archive.append_link(&mut header, &file, fs::read_link(&whole)?)?;
        } else if data.is_file() {
            header.set_size(data.len());
            archive.append_data(&mut header, &file, watch.reader(File::open(&whole)?))?;
        }
    }
    io::Write::flush(&mut archive.into_inner()?)
}
