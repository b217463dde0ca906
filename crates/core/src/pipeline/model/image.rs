//! Image jobs.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Network, Spanned};
use crate::Duration;
use crate::image::Repository;

/// Build an image and push it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ImageJob {
    /// The recipe's path in the repository.
    pub recipe: String,
    /// The folder whose files the recipe may copy.
    pub context: String,
    /// The file that says what of the context is not seen; the recipe's path with `.ignore` behind it, where
    /// nothing is said and there is one.
    #[serde(default)]
    pub ignore: Option<String>,
    /// The stage of the recipe that is built; the last, where nothing is said.
    #[serde(default)]
    pub target: Option<String>,
    /// The platforms that it is built for; the runner's own, where none is named.
    #[serde(default)]
    pub platforms: Vec<String>,
    /// Whether each platform is built by a runner that runs its programs; else one runner builds all of them.
    #[serde(default)]
    pub builds_native: bool,
    /// Values for the recipe's arguments: templates.
    pub args: BTreeMap<String, Spanned<String>>,
    /// The secrets that the recipe may mount.
    #[serde(default)]
    pub secrets: Vec<BuildSecret>,
    /// The keys that the recipe may have an agent sign in with.
    #[serde(default)]
    pub keys: Vec<BuildSecret>,
    /// What the recipe's commands can reach.
    #[serde(default)]
    pub network: Network,
    /// Where what instructions make is kept for other runners.
    #[serde(default)]
    pub cache: Option<Repository>,
    /// Whether values of its secrets may be in its layers.
    #[serde(default)]
    pub holds_secrets: bool,
    /// How layers are compressed; as the registry's settings say, where nothing is said.
    #[serde(default)]
    pub layers: Option<LayerForm>,
    /// Where it goes, at least one.
    pub pushes: Vec<Push>,
    /// How long building and pushing may take.
    pub time: Duration,
}

/// A secret of the project, and what the recipe calls it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BuildSecret {
    /// Its name in the project.
    pub name: Spanned<String>,
    /// Its `id` in the recipe.
    pub id: String,
}

/// How a layer is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LayerForm {
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
}

impl LayerForm {
    /// The words for them.
    pub const WORDS: [(&'static str, Self); 2] = [("gzip", Self::Gzip), ("zstd", Self::Zstd)];
}

/// One repository that an image is pushed to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Push {
    /// The repository.
    pub repository: Repository,
    /// Tags that are pushed once and never move: templates.
    pub tags: Vec<Spanned<String>>,
    /// Tags that move with every run: templates.
    pub moving: Vec<Spanned<String>>,
}
