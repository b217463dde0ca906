//! Temporary folders.

use std::io;
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};

use tracing::warn;

use crate::remove::remove;

/// A temporary folder. Dropping it removes the folder and its contents with [`remove`].
#[derive(Debug)]
pub struct TemporaryFolder(PathBuf);

impl TemporaryFolder {
    /// Creates a folder of mode 0700 in `folder`.
    ///
    /// # Errors
    /// Errors of the file system.
    pub fn new_in(folder: &Path) -> io::Result<Self> {
        Ok(Self(tempfile::tempdir_in(folder)?.keep()))
    }

    /// Creates a folder whose name begins with `prefix`.
    ///
    /// # Errors
    /// Errors of the file system.
    pub fn named(prefix: &str, folder: &Path) -> io::Result<Self> {
        Ok(Self(tempfile::Builder::new().prefix(prefix).tempdir_in(folder)?.keep()))
    }

    /// The path of the folder.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// Keeps the folder. Returns its path.
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
                warn!(folder = %self.0.display(), %error, "could not remove a temporary folder");
            }
            _ => {}
        }
    }
}
