//! Files for tokens.

use std::fs::File;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use crate::failure::Failure;

/// A new file for a token, readable by its owner only. Create it before the token: a token is shown once, and must not be
/// lost because the file cannot be created. A file without a token is removed.
pub(crate) struct TokenFile {
    path: PathBuf,
    file: File,
    is_written: bool,
}

impl TokenFile {
    /// Creates the file.
    ///
    /// # Errors
    /// If it exists, or cannot be created.
    pub(crate) fn new(path: &Path) -> Result<Self, Failure> {
        let file = File::options().write(true).create_new(true).mode(0o600).open(path);
        let file = file.map_err(|error| Failure::new(format!("{}: {error}", path.display())))?;
        Ok(Self { path: path.to_owned(), file, is_written: false })
    }

    /// The file's path.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Writes the token.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub(crate) fn write(&mut self, token: &str) -> Result<(), Failure> {
        let written = self.file.write_all(format!("{token}\n").as_bytes()).and_then(|()| self.file.sync_all());
        written.map_err(|error| Failure::new(format!("{}: {error}", self.path.display())))?;
        self.is_written = true;
        Ok(())
    }
}

impl Drop for TokenFile {
    fn drop(&mut self) {
        if !self.is_written {
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
