//! The ignore file: what of the context a recipe does not see.

use std::path::Path;

use pondrix_core::matcher::{Matcher, MatcherError, Reading};
use pondrix_core::pipeline::{Fault, Span};

/// How many rules an ignore file may have: each is asked about each file.
const MOST_RULES: usize = 2000;

/// The rules of an ignore file. Each line is a pattern of paths in the context; a path is left out when it,
/// or a folder above it, fits; a line that begins with `!` takes it back in; the last line that fits decides.
#[derive(Clone, Debug, Default)]
pub struct Ignore {
    rules: Vec<Rule>,
}

#[derive(Clone, Debug)]
struct Rule {
    line: usize,
    takes_back: bool,
    matcher: Matcher,
}

impl Ignore {
    /// Reads an ignore file.
    ///
    /// # Errors
    /// Every line that is no pattern.
    pub fn read(text: &str) -> Result<Self, Vec<Fault>> {
        let (mut rules, mut faults, mut start) = (Vec::new(), Vec::new(), 0);
        for (number, whole) in text.split('\n').enumerate() {
            let span = Span::from(start..start + whole.trim_end().len());
            start += whole.len() + 1;
            // Some editors put a byte-order mark in front of a file.
            let line = if number == 0 { whole.trim_start_matches('\u{feff}') } else { whole }.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let (pattern, takes_back) = line.strip_prefix('!').map_or((line, false), |pattern| (pattern.trim(), true));
            match matcher(pattern) {
                Ok(Some(_)) if rules.len() >= MOST_RULES => {
                    let words =
                        format!("this is rule {} of the ignore file, and there may be {MOST_RULES}", rules.len() + 1);
                    return Err(vec![Fault::new(text, span, words, Some("name folders in place of files".to_owned()))]);
                }
                Ok(Some(matcher)) => rules.push(Rule { line: number + 1, takes_back, matcher }),
                Ok(None) => {}
                Err(error) => faults.push(Fault::new(text, span, error.to_string(), None)),
            }
        }
        if faults.is_empty() { Ok(Self { rules }) } else { Err(faults) }
    }

    /// The rules of some patterns, none of which takes back.
    ///
    /// # Errors
    /// When one is no pattern.
    pub(crate) fn of(patterns: &[String]) -> Result<Self, PatternError> {
        let rule = |matcher| Rule { line: 0, takes_back: false, matcher };
        let matchers = patterns.iter().filter_map(|pattern| matcher(pattern).transpose());
        Ok(Self { rules: matchers.map(|matcher| matcher.map(rule)).collect::<Result<_, PatternError>>()? })
    }

    /// The line that leaves a path out, from 1; nothing when it is seen.
    #[must_use]
    pub fn left_out_by(&self, path: &Path) -> Option<usize> {
        let fits = |rule: &&Rule| {
            path.ancestors().filter(|part| !part.as_os_str().is_empty()).any(|part| rule.matcher.is_match(part))
        };
        self.rules.iter().rev().find(fits).filter(|rule| !rule.takes_back).map(|rule| rule.line)
    }

    /// Whether something below a folder that is left out may be seen.
    #[must_use]
    pub fn takes_back(&self) -> bool {
        self.rules.iter().any(|rule| rule.takes_back)
    }

    /// Whether it leaves nothing out.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }
}

/// A text that is no pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a pattern: {words}")]
pub(crate) struct PatternError {
    text: String,
    words: String,
}

impl PatternError {
    pub(crate) fn new(text: &str, error: &MatcherError) -> Self {
        Self { text: text.chars().take(60).collect(), words: error.to_string() }
    }
}

/// `*` and `?` stand for letters but `/`; `**` for any folders; braces for themselves. A pattern of the whole context (`.`)
/// is none: it would leave nothing to build of.
fn matcher(pattern: &str) -> Result<Option<Matcher>, PatternError> {
    let mut parts: Vec<&str> = Vec::new();
    for part in pattern.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    if parts.is_empty() {
        return Ok(None);
    }
    let clean = without_alternatives(&parts.join("/"));
    let matcher = Matcher::new(&clean, Reading::WithEscapes);
    Ok(Some(matcher.map_err(|error| PatternError::new(pattern, &error))?))
}

/// A pattern whose braces stand for themselves.
pub(crate) fn without_alternatives(pattern: &str) -> String {
    let (mut clean, mut is_escaped, mut class) = (String::new(), false, None);
    for letter in pattern.chars() {
        match letter {
            '{' | '}' if !is_escaped && class.is_none() => clean.push('\\'),
            '[' if !is_escaped && class.is_none() => class = Some(0),
            // In the first place it is one of the class.
            ']' if !is_escaped && class.is_some_and(|letters| letters > 0) => class = None,
            '!' | '^' if class == Some(0) => {}
            _ => class = class.map(|letters| letters + 1),
        }
        is_escaped = letter == '\\' && !is_escaped && class.is_none();
        clean.push(letter);
    }
    clean
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_line_that_fits_a_path_or_a_folder_above_it_decides() {
        let text = "# what is built\n/out\n*.log\n**/*.tmp\nvendor\n!vendor/kept\nvendor/kept/not.txt\n  \ndocs/**/draft?.md\n";
        let ignore = Ignore::read(text).unwrap();
        for (path, line) in [
            ("out", Some(2)),
            ("out/deep/file", Some(2)),
            ("a.log", Some(3)),
            ("deep/a.log", None),
            ("deep/er/a.tmp", Some(4)),
            ("a.tmp", Some(4)),
            ("vendor/x", Some(5)),
            ("vendor/kept/file", None),
            ("vendor/kept/not.txt", Some(7)),
            ("docs/a/b/draft1.md", Some(9)),
            ("docs/draft1.md", Some(9)),
            ("docs/draft12.md", None),
            ("src/main", None),
        ] {
            assert_eq!(ignore.left_out_by(Path::new(path)), line, "{path}");
        }
        assert!(ignore.takes_back());
        let all_but_one = Ignore::read("*\n!kept").unwrap();
        assert_eq!(all_but_one.left_out_by(Path::new("other")), Some(1));
        assert_eq!(all_but_one.left_out_by(Path::new("kept")), None);
        assert_eq!(Ignore::read("a\n[b").unwrap_err()[0].place.line, 2);
    }

    #[test]
    fn braces_are_letters_the_whole_context_is_no_pattern_and_a_mark_in_front_is_none_of_it() {
        let ignore = Ignore::read("\u{feff}out\n.\n./\n!.\n{a,b}.txt\n[{x]y\n[]}]z\n\\{q\n[!{]w\n").unwrap();
        for (path, line) in [
            ("out", Some(1)),
            ("src", None),
            ("a.txt", None),
            ("{a,b}.txt", Some(5)),
            ("{y", Some(6)),
            ("xy", Some(6)),
            ("}z", Some(7)),
            ("]z", Some(7)),
            ("{q", Some(8)),
            ("vw", Some(9)),
            ("{w", None),
        ] {
            assert_eq!(ignore.left_out_by(Path::new(path)), line, "{path}");
        }
    }
}
