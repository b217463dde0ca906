//! What makes a run begin, and what it asks for.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::Spanned;
use crate::Schedule;
use crate::pipeline::Pattern;

/// Why a run began.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StartKind {
    /// A commit came to a branch, or was given a tag.
    Commit,
    /// A moment of a schedule came.
    Schedule,
    /// An image that the last one was built on has moved.
    BaseMoved,
    /// Somebody asked for it.
    Manual,
    /// Somebody tries files that are not committed.
    Try,
    /// An earlier run is done again.
    Rerun,
}

impl StartKind {
    /// Every kind, as they may be named in a pipeline file.
    pub const ALL: [Self; 6] = [Self::Commit, Self::Schedule, Self::BaseMoved, Self::Manual, Self::Try, Self::Rerun];

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Commit => "commit",
            Self::Schedule => "schedule",
            Self::BaseMoved => "base-moved",
            Self::Manual => "manual",
            Self::Try => "try",
            Self::Rerun => "rerun",
        }
    }

    /// The kind of this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// That a word is no reason to start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("write one of {}", StartKind::ALL.map(StartKind::word).join(", "))]
pub struct UnknownStart;

impl FromStr for StartKind {
    type Err = UnknownStart;

    fn from_str(word: &str) -> Result<Self, UnknownStart> {
        Self::from_word(word).ok_or(UnknownStart)
    }
}

impl fmt::Display for StartKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// A reason to start by itself.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StartRule {
    /// A commit comes to a branch.
    Commit {
        /// The branches.
        branch: Pattern,
        /// Only when a file that fits this was changed since the branch was last seen.
        changed: Option<Pattern>,
    },
    /// A commit is given a tag.
    Tag {
        /// The tags.
        tag: Pattern,
    },
    /// A moment comes.
    Schedule {
        /// When.
        schedule: Schedule,
        /// The branch whose newest commit runs.
        branch: String,
    },
    /// An image that one of the branch was last built on has moved.
    BaseMoved,
}

/// Something that a start by hand may say, and that commands and templates then see.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Input {
    /// Its name, unique in the pipeline.
    pub name: Spanned<String>,
    /// What may be said.
    pub kind: InputKind,
    /// What counts where nothing is said; where this is nothing either, the start is refused.
    pub default: Option<String>,
    /// What it is for.
    pub help: Option<String>,
}

/// What may be said.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum InputKind {
    /// Any text of at most so many letters.
    Text {
        /// The most letters.
        longest: u32,
    },
    /// One of these.
    OneOf(Vec<String>),
    /// `yes` or `no`.
    YesNo,
    /// A whole number.
    Number {
        /// The least.
        least: i64,
        /// The most.
        most: i64,
    },
}

/// How long a text may be where the file does not say.
pub(crate) const DEFAULT_LONGEST: u32 = 1000;

/// What a value may be that was none, as it follows `write`: `a whole number of at least 3`.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Allowed(String);

impl InputKind {
    /// The value that a text says.
    ///
    /// # Errors
    /// What is allowed.
    pub fn accept(&self, text: &str) -> Result<String, Allowed> {
        let allowed = |words: String| Err(Allowed(words));
        match self {
            Self::Text { longest } if text.chars().count() > *longest as usize => {
                allowed(format!("a text of at most {longest} letters"))
            }
            // A line of its own could pretend to be another variable where programs print them.
            Self::Text { .. } if text.contains(['\0', '\n', '\r']) => allowed("a text on one line".to_owned()),
            Self::Text { .. } => Ok(text.to_owned()),
            Self::OneOf(choices) if choices.iter().any(|choice| choice == text) => Ok(text.to_owned()),
            Self::OneOf(choices) => allowed(format!("one of {}", choices.join(", "))),
            Self::YesNo => match text {
                "yes" | "true" => Ok("yes".to_owned()),
                "no" | "false" => Ok("no".to_owned()),
                _ => allowed("`yes` or `no`".to_owned()),
            },
            Self::Number { least, most } => match text.trim().parse::<i64>() {
                Ok(number) if (*least..=*most).contains(&number) => Ok(number.to_string()),
                _ if *least == i64::MIN && *most == i64::MAX => allowed("a whole number".to_owned()),
                _ if *most == i64::MAX => allowed(format!("a whole number of at least {least}")),
                _ if *least == i64::MIN => allowed(format!("a whole number of at most {most}")),
                _ => allowed(format!("a whole number from {least} to {most}")),
            },
        }
    }
}
