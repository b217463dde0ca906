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
    pub settle: Duration,
    /// Whether what was there before is put back when it fails.
    #[serde(default)]
    pub restores: bool,
}

/// The name of an environment.
pub type Destination = Spanned<String>;
