//! The states of runs, stages, jobs and steps.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// Where a run, a stage, a job or a step stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Not begun.
    Queued,
    /// Waits for a person.
    Waiting,
    /// Under way.
    Running,
    /// Ended well.
    Passed,
    /// Ended badly.
    Failed,
    /// Ended by a person or by a newer commit.
    Stopped,
    /// Never begun, for a reason told beside it.
    Skipped,
    /// Its runner vanished.
    Lost,
}

impl State {
    /// Every state, in the order in which a reader meets them.
    pub const ALL: [Self; 8] = [
        Self::Queued,
        Self::Waiting,
        Self::Running,
        Self::Passed,
        Self::Failed,
        Self::Stopped,
        Self::Skipped,
        Self::Lost,
    ];

    /// Whether nothing more will happen to it.
    #[must_use]
    pub const fn is_over(self) -> bool {
        !matches!(self, Self::Queued | Self::Waiting | Self::Running)
    }

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Queued => "queued",
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Passed => "passed",
            Self::Failed => "failed",
            Self::Stopped => "stopped",
            Self::Skipped => "skipped",
            Self::Lost => "lost",
        }
    }

    /// How much this state of a part says about the whole: the whole ends as its weightiest part.
    const fn weight(self) -> u8 {
        match self {
            Self::Skipped => 0,
            Self::Passed => 1,
            Self::Stopped => 2,
            Self::Lost => 3,
            Self::Failed => 4,
            Self::Queued | Self::Waiting | Self::Running => 5,
        }
    }

    /// The end of a whole whose parts ended in these states; passed when it has no parts.
    #[must_use]
    pub fn of_parts(parts: impl IntoIterator<Item = Self>) -> Self {
        parts.into_iter().max_by_key(|state| state.weight()).unwrap_or(Self::Passed)
    }
}

/// That a word is no state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("it is one of {}", State::ALL.map(State::word).join(", "))]
pub struct UnknownState;

impl FromStr for State {
    type Err = UnknownState;

    fn from_str(word: &str) -> Result<Self, UnknownState> {
        Self::ALL.into_iter().find(|state| state.word() == word).ok_or(UnknownState)
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}
