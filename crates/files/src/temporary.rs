//! A folder that goes when nobody uses it any more.

use std::io;
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};

use tracing::warn;

use crate::remove::remove;

/// A new folder; removed, with whatever is in it then, when this is dropped ([`remove`]).
#[derive(Debug)]
pub struct TemporaryFolder(PathBuf);

impl TemporaryFolder {
    /// A new folder in another, which only its owner may enter.
    ///
    /// # Errors
    /// What the system says.
    pub fn new_in(folder: &Path) -> io::Result<Self> {
        Ok(Self(tempfile::tempdir_in(folder)?.keep()))
    }

    /// The same, with a name that begins so.
    ///
    /// # Errors
    /// What the system says.
    pub fn named(prefix: &str, folder: &Path) -> io::Result<Self> {
        Ok(Self(tempfile::Builder::new().prefix(prefix).tempdir_in(folder)?.keep()))
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// Leaves it where it is for good.
    #[must_use]
    pub fn keep(self) -> PathBuf {
        let mut this = ManuallyDrop::new(self);
        std::mem::take(&mut this.0)
    }
}

impl Drop for TemporaryFolder {
    fn drop(&mut self) {
        match remove(&self.0) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                warn!(folder = %self.0.display(), %error, "a folder could not be removed");
            }
            _ => {}
        }
    }
}
