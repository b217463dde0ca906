//! When a stage or a job belongs to a run, and when it is left out.

use serde::{Deserialize, Serialize};

use super::{Spanned, StartKind};
use crate::pipeline::Pattern;

/// One `when` or `unless`: everything that it says must hold.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Condition {
    /// The branch fits.
    pub branch: Option<Pattern>,
    /// The tag fits; a run without a tag fits nothing.
    pub tag: Option<Pattern>,
    /// It began so.
    pub start: Option<StartKind>,
    /// A changed file fits. Where it is not known what changed, this holds.
    pub changed: Option<Pattern>,
}

/// Whether a stage or job is in a run: one `when` holds, or there is none, and no `unless` does.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Conditions {
    /// One of these must hold.
    pub when: Vec<Spanned<Condition>>,
    /// None of these may.
    pub unless: Vec<Spanned<Condition>>,
}

/// How what came before must have ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RequiredResult {
    /// Well.
    #[default]
    Passed,
    /// Something of it badly.
    Failed,
    /// Anyhow.
    Any,
}

impl RequiredResult {
    /// The words that may be written; that it must have passed is what counts without a word.
    pub const WORDS: [(&'static str, Self); 3] =
        [("passed", Self::Passed), ("failed", Self::Failed), ("any", Self::Any)];

    /// Whether it may begin after what came before.
    #[must_use]
    pub const fn allows(self, broken: bool) -> bool {
        match self {
            Self::Passed => !broken,
            Self::Failed => broken,
            Self::Any => true,
        }
    }
}
