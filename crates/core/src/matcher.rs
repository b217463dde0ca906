//! Patterns of names, made ready to match. Everything that reads a pattern of a file, a request or a manifest makes it
//! ready here: whatever stands in it, that takes a bounded time and little memory.

use std::path::Path;

use globset::{Error, Glob, GlobBuilder, GlobSet};

/// How long a pattern may be, in bytes.
pub const LONGEST_PATTERN: usize = 1024;
/// How many braces may be in each other.
const DEEPEST: usize = 8;

/// A pattern, ready to match.
#[derive(Clone, Debug)]
pub struct Matcher(GlobSet);

/// How a pattern is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// `\` stands for itself or takes the meaning of the next letter, as the system has it.
    AsWritten,
    /// `\` takes the meaning of the next letter.
    WithEscapes,
}

/// Why a text is no pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MatcherError {
    /// It has too many letters.
    #[error("it is {0} bytes long, and a pattern has at most {LONGEST_PATTERN}")]
    Long(usize),
    /// Its alternatives have alternatives, and so on.
    #[error("more than {DEEPEST} braces are in each other")]
    Deep,
    /// It cannot be read, or what it means takes too much memory.
    #[error("{0}")]
    Unreadable(String),
}

impl Matcher {
    /// Makes a pattern ready: `*` and `?` stand for letters but `/`, `**` for any at all.
    ///
    /// # Errors
    /// When it is none.
    pub fn new(text: &str, reading: Reading) -> Result<Self, MatcherError> {
        if text.len() > LONGEST_PATTERN {
            return Err(MatcherError::Long(text.len()));
        }
        if depth(text) > DEEPEST {
            return Err(MatcherError::Deep);
        }
        let mut builder = GlobBuilder::new(text);
        builder.literal_separator(true);
        if reading == Reading::WithEscapes {
            builder.backslash_escape(true);
        }
        let unreadable = |error: Error| MatcherError::Unreadable(error.kind().to_string());
        let glob: Glob = builder.build().map_err(unreadable)?;
        // A set says when a pattern means too much; a pattern alone ends the program.
        Ok(Self(GlobSet::builder().add(glob).build().map_err(unreadable)?))
    }

    /// Whether a path fits.
    #[must_use]
    pub fn is_match(&self, path: impl AsRef<Path>) -> bool {
        self.0.is_match(path)
    }
}

/// How many braces are in each other, at the most; escaped ones count as well.
fn depth(text: &str) -> usize {
    let (mut now, mut most) = (0_usize, 0);
    for letter in text.bytes() {
        match letter {
            b'{' => now += 1,
            b'}' => now = now.saturating_sub(1),
            _ => {}
        }
        most = most.max(now);
    }
    most
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_pattern_that_is_too_long_or_too_deep_is_refused_and_ends_nothing() {
        let said = |text: &str| Matcher::new(text, Reading::AsWritten).map(drop).map_err(|error| error.to_string());
        let deep = |count: usize| format!("{}a{}", "{".repeat(count), "}".repeat(count));
        assert_eq!(said(&deep(300)), Err("more than 8 braces are in each other".to_owned()));
        assert_eq!(said(&deep(8)), Ok(()));
        let words = "it is 600000 bytes long, and a pattern has at most 1024";
        assert_eq!(said(&"?".repeat(600_000)), Err(words.to_owned()));
        // The longest of each kind can be made ready.
        for piece in ["?", "*", "**/", "[a-z]", "[!é]", "{a,b}", "\\?", "é"] {
            assert_eq!(said(&piece.repeat(LONGEST_PATTERN / piece.len())), Ok(()), "{piece}");
        }
    }

    #[test]
    fn letters_stand_for_what_they_stand_for() {
        let fits = |text: &str, path: &str| Matcher::new(text, Reading::WithEscapes).unwrap().is_match(path);
        assert!(fits("a/*", "a/b") && !fits("a/*", "a/b/c") && fits("a/**", "a/b/c") && fits("{a,b}", "b"));
        assert!(fits("a\\*", "a*") && !fits("a\\*", "ab"));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]
        #[test]
        fn whatever_is_written_is_a_pattern_or_is_refused(text in "([*?{},!\\[\\]/a-c\\\\é-]|\\*\\*/|\\{a,){0,300}") {
            if let Ok(matcher) = Matcher::new(&text, Reading::WithEscapes) {
                let _ = matcher.is_match("a/b/c");
            }
        }
    }
}
