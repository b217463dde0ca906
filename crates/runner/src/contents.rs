//! Contents by their digests, as they are: what jobs of this machine kept or took.
//!
//! A content is given to a job as a copy that shares the disk's blocks where the file system can, else
//! as a further name of the same file. Such a file belongs to the machine's own root, whom no sandbox
//! knows, so that a job can read it and not change it. A runner that is not root copies.

use std::fs::{self, File, Permissions};
use std::io::{self, Read};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use pondrix_core::image::Digest;
use pondrix_files::Watch;
use pondrix_sandbox::IdMap;
use sha2::{Digest as _, Sha256};

/// Contents of this runner.
#[derive(Clone, Debug)]
pub(crate) struct Contents {
    folder: PathBuf,
    ids: IdMap,
    /// Cancels long operations.
    watch: Watch,
}

/// How many bytes are kept on the machine; what was used longest ago goes first.
const MOST: u64 = 10 << 30;

/// The digest of a file's content, and its length.
pub(super) fn digest_of(path: &Path, watch: &Watch) -> io::Result<(Digest, u64)> {
    let mut file = watch.reader(File::open(path)?);
    let mut hash = Sha256::new();
    let mut buffer = vec![0; 256 * 1024];
    let mut length = 0;
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok((Digest::from_bytes(&hash.finalize().into()), length)),
            count => {
                hash.update(&buffer[..count]);
                length += count as u64;
            }
        }
    }
}

impl Contents {
    pub(crate) fn open(folder: PathBuf, ids: IdMap) -> io::Result<Self> {
        fs::create_dir_all(&folder)?;
        let contents = Self { folder, ids, watch: Watch::none() };
        contents.prune(MOST);
        Ok(contents)
    }

    /// The same contents for a job. Long operations stop with the job.
    pub(crate) fn watched(&self, watch: &Watch) -> Self {
        Self { watch: watch.clone(), ..self.clone() }
    }

    fn path(&self, digest: &Digest, executable: bool) -> PathBuf {
        let hex = digest.hex();
        self.folder.join(&hex[..2]).join(if executable { format!("{hex}.x") } else { hex.to_owned() })
    }

    /// Where a content is, if it is here; it counts as used.
    pub(super) fn find(&self, digest: &Digest, executable: bool) -> Option<PathBuf> {
        let path = self.path(digest, executable);
        let file = File::open(&path).ok()?;
        let _ = file.set_modified(SystemTime::now());
        Some(path)
    }

    /// Takes in a file that nobody changes any more. Answers its digest and length.
    pub(super) fn put(&self, path: &Path, executable: bool) -> io::Result<(Digest, u64)> {
        let (digest, length) = digest_of(path, &self.watch)?;
        if self.find(&digest, executable).is_none() {
            let unfinished = self.unfinished(&digest)?;
            if fs::hard_link(path, &unfinished).is_err() {
                pondrix_files::copy(&mut self.watch.reader(File::open(path)?), &mut File::create(&unfinished)?)?;
            }
            self.finish(&unfinished, &digest, executable)?;
        }
        Ok((digest, length))
    }

    /// Takes in a content that comes compressed in a file, when it is what its digest says.
    pub(super) fn put_compressed(&self, path: &Path, digest: &Digest, executable: bool) -> io::Result<PathBuf> {
        let unfinished = self.unfinished(digest)?;
        let unpacked = (|| {
            let mut file = File::create(&unfinished)?;
            let mut plain = self.watch.reader(zstd::Decoder::new(File::open(path)?)?);
            pondrix_files::copy(&mut plain, &mut file)?;
            let (found, _) = digest_of(&unfinished, &self.watch)?;
            if found == *digest { Ok(()) } else { Err(io::Error::other("the content is not what its digest says")) }
        })();
        if let Err(error) = unpacked {
            drop(fs::remove_file(&unfinished));
            return Err(error);
        }
        self.finish(&unfinished, digest, executable)
    }

    fn unfinished(&self, digest: &Digest) -> io::Result<PathBuf> {
        let folder = self.folder.join(&digest.hex()[..2]);
        fs::create_dir_all(&folder)?;
        Ok(tempfile::Builder::new().prefix("new-").tempdir_in(&folder)?.keep().join("content"))
    }

    fn finish(&self, unfinished: &Path, digest: &Digest, executable: bool) -> io::Result<PathBuf> {
        let path = self.path(digest, executable);
        if self.ids.is_range() {
            std::os::unix::fs::chown(unfinished, Some(0), Some(0))?;
        }
        fs::set_permissions(unfinished, Permissions::from_mode(if executable { 0o555 } else { 0o444 }))?;
        fs::rename(unfinished, &path)?;
        if let Some(folder) = unfinished.parent() {
            drop(fs::remove_dir(folder));
        }
        Ok(path)
    }

    /// Gives a content to a job, as a new file.
    pub(super) fn give(&self, content: &Path, to: &Path, executable: bool) -> io::Result<()> {
        let mode = Permissions::from_mode(if executable { 0o755 } else { 0o644 });
        let from = File::open(content)?;
        let copy = File::create_new(to)?;
        if rustix::fs::ioctl_ficlone(&copy, &from).is_err() {
            drop(copy);
            fs::remove_file(to)?;
            if self.ids.is_range() && fs::hard_link(content, to).is_ok() {
                return Ok(());
            }
            pondrix_files::copy(&mut self.watch.reader(File::open(content)?), &mut File::create(to)?)?;
        }
        self.ids.give(to, 0, 0)?;
        fs::set_permissions(to, mode)
    }

    /// Removes what was used longest ago, where there is more than `most` bytes.
    fn prune(&self, most: u64) {
        let folders = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let entries = folders.flat_map(|folder| fs::read_dir(folder.path()).into_iter().flatten().flatten());
        let mut all: Vec<(SystemTime, u64, PathBuf)> = Vec::new();
        for path in entries.map(|entry| entry.path()) {
            match fs::metadata(&path) {
                // Left by a runner that was killed.
                Ok(data) if data.is_dir() => drop(pondrix_files::remove(&path)),
                Ok(data) => all.push((data.modified().unwrap_or(SystemTime::UNIX_EPOCH), data.len(), path)),
                Err(_) => {}
            }
        }
        all.sort_by_key(|(used, ..)| std::cmp::Reverse(*used));
        let mut total = 0;
        for (_, length, path) in all {
            total += length;
            if total > most {
                drop(fs::remove_file(path));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_content_is_given_as_it_was_and_what_a_job_does_to_it_changes_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let contents = Contents::open(folder.path().join("files"), IdMap::for_this_process()).unwrap();
        let file = folder.path().join("kept");
        fs::write(&file, "lily").unwrap();
        let (digest, length) = contents.put(&file, false).unwrap();
        assert_eq!(length, 4);
        let content = contents.find(&digest, false).unwrap();
        for name in ["first", "second"] {
            let to = folder.path().join(name);
            contents.give(&content, &to, false).unwrap();
            assert_eq!(fs::read_to_string(&to).unwrap(), "lily");
            // As a job would, that is not the machine's root: by another name, not into the file.
            fs::remove_file(&to).unwrap();
            fs::write(&to, "changed").unwrap();
        }
        assert_eq!(fs::read_to_string(&content).unwrap(), "lily");
        let damaged = folder.path().join("damaged");
        fs::write(&damaged, zstd::encode_all("rose".as_bytes(), 1).unwrap()).unwrap();
        assert!(contents.put_compressed(&damaged, &digest, true).is_err());
        assert!(contents.find(&digest, true).is_none());
    }

    #[test]
    fn a_sparse_file_of_another_file_system_stays_sparse() {
        let folder = tempfile::tempdir().unwrap();
        let contents = Contents::open(folder.path().join("files"), IdMap::for_this_process()).unwrap();
        let memory = tempfile::NamedTempFile::new_in("/dev/shm").unwrap();
        memory.as_file().set_len(256 << 20).unwrap();
        let (digest, length) = contents.put(memory.path(), false).unwrap();
        let given = folder.path().join("given");
        contents.give(&contents.find(&digest, false).unwrap(), &given, false).unwrap();
        for path in [contents.path(&digest, false), given] {
            let data = fs::metadata(path).unwrap();
            assert!(data.len() == length && std::os::unix::fs::MetadataExt::blocks(&data) < 2048);
        }
    }

    #[test]
    fn what_was_used_longest_ago_goes_first() {
        let folder = tempfile::tempdir().unwrap();
        let contents = Contents::open(folder.path().join("files"), IdMap::for_this_process()).unwrap();
        let digests = ["one", "two", "six"].map(|text| {
            let file = folder.path().join(text);
            fs::write(&file, text).unwrap();
            let (digest, _) = contents.put(&file, false).unwrap();
            let age = std::time::Duration::from_secs(if text == "two" { 500 } else { 5 });
            let stored = File::open(contents.path(&digest, false)).unwrap();
            stored.set_modified(SystemTime::now() - age).unwrap();
            digest
        });
        contents.prune(6);
        let there = digests.map(|digest| contents.path(&digest, false).exists());
        assert_eq!(there, [true, false, true]);
    }
}
