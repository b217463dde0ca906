//! Repositories of others.

mod command;
mod file_times;
mod objects;
#[cfg(test)]
mod place;
mod repository;
mod signing_in;

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use futures_util::future::BoxFuture;
use pondrix_core::Time;
use pondrix_core::file_times::FileTimes;
use tokio::io::AsyncRead;

use repository::GitRepository;

use crate::tuning::CurrentTuning;

pub(crate) use signing_in::{Credential, Signing};

/// Why git did not do what it was asked for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum GitError {
    /// What it said when it failed.
    #[error("{0}")]
    Failed(String),
    /// It could not be started, or not be heard.
    #[error("git could not be started: {0}")]
    NotStarted(String),
    /// It gave no sign of life for too long.
    #[error("git did not go on within {0} s")]
    Stalled(u64),
}

/// Branches and tags with their commits.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Refs {
    pub(crate) branches: BTreeMap<String, String>,
    pub(crate) tags: BTreeMap<String, String>,
}

/// What git knows of a commit.
#[derive(Clone, Debug)]
pub(crate) struct CommitFacts {
    pub(crate) time: Time,
    pub(crate) author: String,
    pub(crate) title: String,
}

/// How the files of one commit differ from those of another.
#[derive(Clone, Debug, Default)]
pub(crate) struct Difference {
    /// Files that are new or other.
    pub(crate) changed: Vec<String>,
    /// Files that are gone.
    pub(crate) removed: Vec<String>,
}

/// Whether a commit has files that say how others are checked out (gitattributes(5)).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AttributeFiles {
    /// It may have some; git looks for them.
    Perhaps,
    /// It is known to have none.
    None,
}

/// A commit's files as a tar archive.
pub(crate) struct Archive {
    /// Its bytes.
    pub(crate) bytes: Box<dyn AsyncRead + Send + Unpin>,
    /// Whether it came whole, once its bytes have ended.
    pub(crate) ended: BoxFuture<'static, bool>,
}

/// A repository, and the server's own copy of it.
pub(crate) trait Repository: fmt::Debug + Send + Sync {
    /// The branches and tags and what they name, as the repository has them now.
    fn refs(&self) -> BoxFuture<'_, Result<Refs, GitError>>;
    /// The branch that a clone begins with; nothing where there is none yet.
    fn default_branch(&self) -> BoxFuture<'_, Result<Option<String>, GitError>>;
    /// Brings the copy up to date, however long that takes while it goes on. Answers the branches and tags that it
    /// has then, and what they name.
    fn fetch(&self) -> BoxFuture<'_, Result<Refs, GitError>>;
    /// Packs the copy anew, where many fetches have left it in many pieces.
    fn tidy(&self) -> BoxFuture<'_, Result<(), GitError>>;
    /// The paths of the files that differ between two commits; nothing when that cannot be told.
    fn changed<'a>(&'a self, from: &'a str, to: &'a str) -> BoxFuture<'a, Option<Vec<String>>>;
    /// What of a commit's files is not as in another commit; nothing when that cannot be told, or is so much that
    /// all of them are fetched as easily.
    fn difference<'a>(&'a self, from: &'a str, to: &'a str) -> BoxFuture<'a, Option<Difference>>;
    /// The whole id of a commit that the copy has, by its own or the beginning of it, or by that of a tag on it;
    /// nothing when there is none.
    fn commit<'a>(&'a self, start: &'a str) -> BoxFuture<'a, Option<String>>;
    /// Whether a commit is the one that a reference of the copy names, or one that came before it: `refs/heads/main`. One
    /// that the copy does not have contains nothing.
    fn contains<'a>(&'a self, reference: &'a str, commit: &'a str) -> BoxFuture<'a, Result<bool, GitError>>;
    /// A file of a commit; nothing when the commit has no such file.
    fn file<'a>(&'a self, commit: &'a str, path: &'a str) -> BoxFuture<'a, Result<Option<String>, GitError>>;
    /// The names of all files of a commit.
    fn file_names<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<Vec<String>, GitError>>;
    /// What git knows of a commit.
    fn facts<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<CommitFacts, GitError>>;
    /// When each file of a commit was changed last.
    fn file_times<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<FileTimes, GitError>>;
    /// A commit's files as a tar archive. Only their owner may write them, as in a checkout: images are made of them.
    /// Where files are named, it is those alone.
    fn archive(&self, commit: &str, files: &[String], attributes: AttributeFiles) -> Result<Archive, GitError>;
}

/// Finds the repository of an address, whose copy is in a folder.
pub(crate) trait Repositories: fmt::Debug + Send + Sync {
    fn open(&self, address: &str, signing: Signing, copy: PathBuf) -> Arc<dyn Repository>;
}

/// Those that git reaches.
#[derive(Clone, Debug)]
pub(crate) struct GitRepositories {
    /// Has the maximum size of one fetch.
    pub(crate) tuning: CurrentTuning,
}

impl Repositories for GitRepositories {
    fn open(&self, address: &str, signing: Signing, copy: PathBuf) -> Arc<dyn Repository> {
        Arc::new(GitRepository::new(address, signing, copy, self.tuning.borrow().repository_limit))
    }
}

/// Where the copy of a project's repository is.
pub(crate) fn copy_path(data: &Path, project: &str) -> PathBuf {
    data.join("repositories").join(format!("{project}.git"))
}
