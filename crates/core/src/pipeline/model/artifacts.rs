//! Files that jobs leave, fetch, and find again.

use serde::{Deserialize, Serialize};

use super::Spanned;
use crate::Duration;

/// Files that a job leaves for later jobs and for people.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Artifact {
    /// Their name.
    pub name: Spanned<String>,
    /// Patterns of their paths in the workspace.
    pub patterns: Vec<String>,
    /// How long they are kept.
    pub keep: Duration,
    /// Whether values of the job's secrets may be in them.
    #[serde(default)]
    pub holds_secrets: bool,
}

/// An artifact that a job asks for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Fetch {
    /// Their name.
    pub name: Spanned<String>,
    /// The job that left it; the nearest before that leaves one of this name, where nothing is said.
    pub from: Option<Spanned<String>>,
    /// The folder of the workspace that they are put into; its root, where nothing is said.
    pub to: Option<String>,
}

/// A text that a job hands on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Output {
    /// Its name.
    pub name: Spanned<String>,
    /// The file of the workspace that has it.
    pub file: String,
}

/// A file or folder that is found again in the next run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Cache {
    /// Its path in the workspace.
    pub path: String,
    /// What it is found by: a template, with `{hash PATTERN}`.
    pub key: Spanned<String>,
    /// Prefixes: where the key is not found, the newest whose key begins so will do, the best prefix first.
    /// Templates.
    pub newest: Vec<Spanned<String>>,
}

/// How long files are kept where the file does not say.
pub(crate) const DEFAULT_KEEP: Duration = Duration::from_seconds(30 * 86_400);
