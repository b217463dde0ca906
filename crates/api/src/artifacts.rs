//! Files that jobs keep and find again.

use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file that is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ArtifactFile {
    /// Its path in the workspace.
    pub path: String,
    /// The digest of its content.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
    /// Whether it can be run.
    pub executable: bool,
    /// What it leads to, when it is a link. There is then no content.
    pub link: Option<String>,
}

/// The files that a job kept under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArtifactFiles {
    /// The files, by path.
    pub files: Vec<ArtifactFile>,
}

/// Files to keep, from a runner that has sent what was missing of them.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewArtifact {
    /// Their name.
    pub name: String,
    /// For how long, in seconds.
    pub seconds: u32,
    /// The files.
    pub files: Vec<ArtifactFile>,
}

/// Which of these contents does the server not have?
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Digests {
    /// They.
    pub digests: Vec<Digest>,
    /// How many bytes the files of an artifact are that they are for; nothing where they are for none.
    #[serde(default)]
    pub bytes: u64,
}

/// Files that a job asked for, from where they were kept.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FetchedArtifact {
    /// Their name.
    pub name: String,
    /// Who kept them.
    pub from: String,
    /// The folder of the workspace that they are put into; its root, where nothing is said.
    pub to: Option<String>,
    /// The files; nothing when they are not kept any more.
    pub files: Option<Vec<ArtifactFile>>,
}

/// A question for an archive by its keys.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct CacheQuestion {
    /// The key.
    pub key: String,
    /// Prefixes of keys: the newest that begins so will do, the best prefix first.
    pub newest: Vec<String>,
}

/// An archive under a key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CacheEntry {
    /// The key.
    pub key: String,
    /// The archive's digest.
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
}

/// The answer to a question for an archive.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct CacheAnswer {
    /// What was found.
    pub found: Option<CacheEntry>,
    /// Whether this run may keep an archive under the key when there is none.
    pub may_write: bool,
}

/// Tests that are flaky.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlakyTests {
    /// By name.
    pub tests: Vec<String>,
}
