//! Why a command did not get the surroundings that it was to have.
//!
//! Most of this happens in processes of which nobody outside sees more than their last words: there it becomes text.

use std::error::Error;
use std::fmt::Display;
use std::io;
use std::path::{Path, PathBuf};

/// See the module.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SetupError {
    /// The system refused something.
    #[error("could not {doing}: {error}")]
    While { doing: String, error: Box<dyn Error + Send + Sync> },
    /// It refused a file or folder.
    #[error("{}: {error}", path.display())]
    At { path: PathBuf, error: io::Error },
    /// What was asked for cannot be.
    #[error("{0}")]
    Asked(String),
    /// Nobody in the image has this name.
    #[error(transparent)]
    User(#[from] UserError),
    /// Nothing can be limited.
    #[error(transparent)]
    NoControlGroups(#[from] crate::NoControlGroups),
}

/// A name that is in none of the files that say who there is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum UserError {
    /// A user who has no number.
    #[error("/etc/passwd of the image has no id for `{0}`")]
    NoId(String),
    /// A user.
    #[error("the image has no user `{0}`: it is not in its /etc/passwd")]
    NoUser(String),
    /// A group.
    #[error("the image has no group `{0}`: it is not in its /etc/group")]
    NoGroup(String),
}

/// Why a machine cannot run sandboxes.
#[derive(Debug, thiserror::Error)]
pub enum MachineError {
    /// A file that every machine has.
    #[error("{}: {error}", path.display())]
    File {
        /// Which one.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// A sandbox is not started.
    #[error(transparent)]
    Start(#[from] crate::StartError),
    /// One does not come as far as it should.
    #[error("{0}")]
    Sandbox(String),
}

impl From<&'static str> for SetupError {
    fn from(words: &'static str) -> Self {
        Self::Asked(words.to_owned())
    }
}

/// Adds what was being done: `mount /proc`.
pub(crate) fn context<T, E: Into<Box<dyn Error + Send + Sync>>>(
    result: Result<T, E>,
    doing: impl Display,
) -> Result<T, SetupError> {
    result.map_err(|error| SetupError::While { doing: doing.to_string(), error: error.into() })
}

/// Adds which file or folder it was.
pub(crate) fn at<T, E: Into<io::Error>>(result: Result<T, E>, path: &Path) -> Result<T, SetupError> {
    result.map_err(|error| SetupError::At { path: path.to_owned(), error: error.into() })
}
