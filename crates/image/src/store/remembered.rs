//! What instructions made, by the digest of all that decides it.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};

use super::{Store, StoreError, io_error};
use crate::oci::Descriptor;

impl Store {
    pub(super) fn step_path(&self, key: &Digest) -> PathBuf {
        self.folder.join("steps").join(key.hex())
    }

    /// What the instruction with this key made, if that is known and its bytes are here.
    pub(crate) fn remembered(&self, key: &Digest) -> Option<Remembered> {
        let text = fs::read(self.step_path(key)).ok()?;
        let known: Remembered = serde_json::from_slice(&text).ok()?;
        let known = known.layer.as_ref().is_none_or(|(blob, _)| self.has_blob(&blob.digest)).then_some(known)?;
        mark_used(&self.step_path(key));
        Some(known)
    }

    /// Forgets what instructions made, and which files layers have, where nobody has asked for that for so long. What
    /// is forgotten is made anew when somebody does. Answers how many records went.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn forget_records(&self, unused_for: Duration) -> std::io::Result<usize> {
        let now = SystemTime::now();
        let mut gone = 0;
        for folder in ["steps", "listings"] {
            for entry in fs::read_dir(self.folder.join(folder))? {
                let entry = entry?;
                let used = entry.metadata().and_then(|data| data.modified());
                let is_old = used.is_ok_and(|used| now.duration_since(used).is_ok_and(|age| age > unused_for));
                gone += usize::from(is_old && fs::remove_file(entry.path()).is_ok());
            }
        }
        for (notes, content) in [("left-out", "layers"), ("unproved", "blobs")] {
            for entry in fs::read_dir(self.folder.join(notes))? {
                let entry = entry?;
                let written = entry.metadata().and_then(|data| data.modified());
                let is_old = written.is_ok_and(|written| now.duration_since(written).is_ok_and(|age| age > unused_for));
                // One that was written a moment ago is of content that is about to be there.
                if is_old && !self.folder.join(content).join(entry.file_name()).exists() {
                    drop(fs::remove_file(entry.path()));
                }
            }
        }
        Ok(gone)
    }

    /// Remembers what the instruction with this key made.
    pub(crate) fn remember(&self, key: &Digest, made: &Remembered) -> Result<(), StoreError> {
        let told = || io_error("remember a layer");
        let text = serde_json::to_vec(made).map_err(std::io::Error::other).map_err(told())?;
        let file = self.unfinished_file()?;
        fs::write(file.path(), text).map_err(told())?;
        file.persist(self.step_path(key)).map_err(|error| told()(error.error))?;
        Ok(())
    }
}

/// Notes in the time of a record that it was of use now. That it cannot be noted does not make it useless.
pub(crate) fn mark_used(record: &Path) {
    drop(File::options().append(true).open(record).and_then(|file| file.set_modified(SystemTime::now())));
}

/// What an instruction made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remembered {
    /// The layer and the digest of its uncompressed bytes; nothing when no file changed.
    pub layer: Option<(Descriptor, Digest)>,
}

/// What the instruction with a key made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepRecord {
    /// A digest of all that decides what it makes.
    pub key: Digest,
    /// What it made.
    pub made: Remembered,
}
