//! Patterns for names of branches and tags, and for paths: `main`, `release/*`, `desk/**`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::matcher::{Matcher, MatcherError, Reading};

/// A pattern for names with `/` in them. `*` stands for any letters but `/`, `**` for any at all.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Pattern {
    text: String,
    matcher: Matcher,
}

/// Why a text is no pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// There is nothing in it.
    #[error("a pattern cannot be empty")]
    Empty,
    /// It cannot be read: the text, and why.
    #[error("`{}` is not a pattern: {}", shown(.0), .1)]
    Unreadable(String, MatcherError),
}

/// A pattern for people, of which only the beginning is shown where it is long.
fn shown(text: &str) -> String {
    const MOST: usize = 60;
    if text.chars().count() <= MOST { text.to_owned() } else { text.chars().take(MOST).chain(['…']).collect() }
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// When it is not one.
    pub fn new(text: &str) -> Result<Self, PatternError> {
        if text.is_empty() {
            return Err(PatternError::Empty);
        }
        let matcher = Matcher::new(text, Reading::AsWritten);
        let matcher = matcher.map_err(|error| PatternError::Unreadable(text.to_owned(), error))?;
        Ok(Self { text: text.to_owned(), matcher })
    }

    /// Whether a name fits.
    #[must_use]
    pub fn matches(&self, name: &str) -> bool {
        self.matcher.is_match(name)
    }

    /// The pattern as it was written.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether only one name fits: the pattern's own text.
    #[must_use]
    pub fn is_plain(&self) -> bool {
        !self.text.contains(['*', '?', '[', ']', '{', '}', '\\'])
    }
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl FromStr for Pattern {
    type Err = PatternError;

    fn from_str(text: &str) -> Result<Self, PatternError> {
        Self::new(text)
    }
}

impl TryFrom<String> for Pattern {
    type Error = PatternError;

    fn try_from(text: String) -> Result<Self, PatternError> {
        Self::new(&text)
    }
}

impl From<Pattern> for String {
    fn from(pattern: Pattern) -> Self {
        pattern.text
    }
}
