//! Rollout jobs.

use serde::{Deserialize, Serialize};

use super::Spanned;
use crate::Duration;

/// Bring an image to an environment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RolloutJob {
    /// Where to.
    pub to: Destination,
    /// The image job, by its name in an earlier stage.
    pub image: Spanned<String>,
    /// Patterns of the manifests' paths in the repository.
    pub manifests: Vec<String>,
    /// How long every replica may take to be new and ready.
    pub time: Duration,
    /// What is done when it fails.
    #[serde(default)]
    pub on_failure: OnFailure,
}

/// What is done when a rollout fails.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OnFailure {
    /// What was applied stays.
    #[default]
    Leave,
    /// What was there before is put back.
    Restore,
}

impl OnFailure {
    /// How each is written.
    pub const WORDS: [(&'static str, Self); 2] = [("leave", Self::Leave), ("restore", Self::Restore)];
}

/// The name of an environment.
pub type Destination = Spanned<String>;
