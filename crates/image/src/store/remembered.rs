//! What instructions made, by the digest of all that decides it.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::ProjectName;
use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};

use super::{Store, StoreError, io_error};
use crate::hash::Sha256;
use crate::oci::Descriptor;

/// Whose steps are taken from a store, and for whom they are left there. What a command makes depends on more than its
/// key tells: on the network, and on caches. So a project takes nothing that another one made, and what it trusts nothing
/// that somebody made whom it does not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Realm {
    own: String,
    also: Option<String>,
}

impl Realm {
    /// The realm of what a project trusts, or that of everything else of it, where what it trusts may be taken too.
    #[must_use]
    pub fn of(project: &ProjectName, is_trusted: bool) -> Self {
        let trusted = format!("{project} trusted");
        if is_trusted {
            Self { own: trusted, also: None }
        } else {
            Self { own: format!("{project} untrusted"), also: Some(trusted) }
        }
    }

    /// What a key is called in the store.
    fn name(realm: &str, key: &Digest) -> Digest {
        let mut name = Sha256::new();
        name.update(realm.as_bytes());
        name.update(&key.bytes());
        name.digest()
    }

    pub(super) fn own_name(&self, key: &Digest) -> Digest {
        Self::name(&self.own, key)
    }
}

impl Store {
    pub(super) fn step_path(&self, name: &Digest) -> PathBuf {
        self.folder.join("steps").join(name.hex())
    }

    /// What the instruction with this key made, if that is known in the realm and its bytes are here.
    pub(crate) fn remembered(&self, realm: &Realm, key: &Digest) -> Option<Remembered> {
        let names = realm.also.iter().chain([&realm.own]).map(|realm| Realm::name(realm, key));
        let read = |name: Digest| {
            let text = fs::read(self.step_path(&name)).ok()?;
            let known: Remembered = serde_json::from_slice(&text).ok()?;
            let known = known.layer.as_ref().is_none_or(|(blob, _)| self.has_blob(&blob.digest)).then_some(known)?;
            mark_used(&self.step_path(&name));
            Some(known)
        };
        names.into_iter().find_map(read)
    }

    /// Forgets what instructions made, which files layers have, and who may have them, where nobody has asked for that for
    /// so long. What
    /// is forgotten is made anew when somebody does. Answers how many records went.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn forget_records(&self, unused_for: Duration) -> std::io::Result<usize> {
        let now = SystemTime::now();
        let mut gone = 0;
        for folder in ["steps", "listings", "rights", "pairs"] {
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

    /// Remembers in the realm what the instruction with this key made.
    pub(crate) fn remember(&self, realm: &Realm, key: &Digest, made: &Remembered) -> Result<(), StoreError> {
        let told = || io_error("remember a layer");
        let text = serde_json::to_vec(made).map_err(std::io::Error::other).map_err(told())?;
        let file = self.unfinished_file()?;
        fs::write(file.path(), text).map_err(told())?;
        file.persist(self.step_path(&realm.own_name(key))).map_err(|error| told()(error.error))?;
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
