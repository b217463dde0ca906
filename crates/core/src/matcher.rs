//! Compiled glob patterns. All patterns of files, requests and manifests are compiled here, in bounded time and memory.

use std::path::Path;

use globset::{Error, Glob, GlobBuilder, GlobSet};

/// Maximum length of a pattern, in bytes.
pub const LONGEST_PATTERN: usize = 1024;
/// Maximum depth of nested braces.
const DEEPEST: usize = 8;

/// A compiled pattern.
#[derive(Clone, Debug)]
pub struct Matcher(GlobSet);

/// How a pattern treats `\\`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// The default of the platform.
    AsWritten,
    /// `\` escapes the next character.
    WithEscapes,
}

/// An invalid pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MatcherError {
    /// The pattern exceeds [`LONGEST_PATTERN`].
    #[error("it is {0} bytes long; the limit is {LONGEST_PATTERN}")]
    Long(usize),
    /// Alternatives are nested too deeply.
    #[error("more than {DEEPEST} nested braces")]
    Deep,
    /// The syntax is invalid, or the compiled pattern is too large.
    #[error("{0}")]
    Unreadable(String),
}

impl Matcher {
    /// Compiles a pattern. `*` and `?` match characters except `/`; `**` matches any characters.
    ///
    /// # Errors
    /// If the pattern is invalid or exceeds a limit.
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
        // A `GlobSet` returns an error if the compiled pattern is too large; `Glob::compile_matcher` panics.
        Ok(Self(GlobSet::builder().add(glob).build().map_err(unreadable)?))
    }

    /// Returns true if the path matches.
    #[must_use]
    pub fn is_match(&self, path: impl AsRef<Path>) -> bool {
        self.0.is_match(path)
    }
}

/// Maximum depth of nested braces, including escaped ones.
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
        assert_eq!(said(&deep(300)), Err("more than 8 nested braces".to_owned()));
        assert_eq!(said(&deep(8)), Ok(()));
        let words = "it is 600000 bytes long; the limit is 1024";
        assert_eq!(said(&"?".repeat(600_000)), Err(words.to_owned()));
        // The longest pattern of each kind compiles.
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
