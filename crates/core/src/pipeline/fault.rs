//! Faults in a text: what is wrong, where, and what would be right.

use std::fmt::Write as _;
use std::ops::Range;

use serde::{Deserialize, Serialize};

/// A range of bytes in a text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Span {
    /// The first byte.
    pub start: usize,
    /// The byte after the last.
    pub end: usize,
    /// Which text: 0 for the pipeline file, from 1 on for the templates that it uses, in the order in which
    /// it names them.
    pub file: usize,
}

/// A place in a text, as people count it: from 1, columns in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Place {
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1, in characters.
    pub column: usize,
    /// How many characters the fault covers on that line, at least 1.
    pub width: usize,
}

/// One fault in a text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Fault {
    /// What is wrong.
    pub message: String,
    /// What is allowed, or what to do.
    pub help: Option<String>,
    /// The file, where it is not the pipeline file but a template that this uses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Where it stands.
    pub place: Place,
    /// The line it stands on, without its end.
    pub source: String,
}

impl From<Range<usize>> for Span {
    fn from(range: Range<usize>) -> Self {
        Self { start: range.start, end: range.end, file: 0 }
    }
}

impl Place {
    /// The place of a span in a text. A span outside the text is moved to its end, and one over
    /// several lines is cut at the end of its first.
    #[must_use]
    pub fn of(text: &str, span: Span) -> Self {
        let floor = |at: usize| (0..=at.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
        let (start, end) = (floor(span.start), floor(span.end.max(span.start)));
        let line_start = text[..start].rfind('\n').map_or(0, |newline| newline + 1);
        let line_end = text[start..].find('\n').map_or(text.len(), |newline| start + newline);
        Self {
            line: text[..start].matches('\n').count() + 1,
            column: text[line_start..start].chars().count() + 1,
            width: text[start..end.clamp(start, line_end)].chars().count().max(1),
        }
    }
}

impl Fault {
    /// A fault at a span of a text.
    #[must_use]
    pub fn new(text: &str, span: Span, message: impl Into<String>, help: Option<String>) -> Self {
        let place = Place::of(text, span);
        let source = text.lines().nth(place.line - 1).unwrap_or("").to_owned();
        Self { message: message.into(), help, file: None, place, source }
    }

    /// The fault as a compiler shows it: message, place, the line with the span underlined, help.
    #[must_use]
    pub fn render(&self, file: &str) -> String {
        let Place { line, column, width } = self.place;
        let file = self.file.as_deref().unwrap_or(file);
        let gutter = line.to_string().len();
        let blank = " ".repeat(gutter);
        // Tabs stay tabs under the line, so that the marks stand where the terminal put the letters.
        let lead: String = self.source.chars().take(column - 1).map(|c| if c == '\t' { '\t' } else { ' ' }).collect();
        let mut out = format!("fault: {}\n", self.message);
        let _ = writeln!(out, "{blank}  at {file}:{line}:{column}");
        let _ = writeln!(out, "{blank} |");
        let _ = writeln!(out, "{line} | {}", self.source);
        let _ = writeln!(out, "{blank} | {lead}{}", "^".repeat(width));
        if let Some(help) = &self.help {
            let _ = writeln!(out, "{blank}  help: {help}");
        }
        out
    }
}

/// The known word nearest to an unknown one, if any is near enough to be meant.
#[must_use]
pub fn nearest<'a>(word: &str, known: &[&'a str]) -> Option<&'a str> {
    known
        .iter()
        .map(|candidate| (strsim::damerau_levenshtein(word, candidate), *candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.chars().count() / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// Help for an unknown word: the nearest known one, else all that are allowed.
#[must_use]
pub(crate) fn help_for_unknown(word: &str, known: &[&str]) -> String {
    if let Some(near) = nearest(word, known) {
        return format!("did you mean `{near}`?");
    }
    if known.is_empty() {
        return "nothing may stand here".to_owned();
    }
    let list: Vec<String> = known.iter().map(|word| format!("`{word}`")).collect();
    format!("allowed here: {}", list.join(", "))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_place_is_counted_in_characters_and_never_leaves_its_line() {
        let text = "é a\nstage \"x\" {\n}\n";
        assert_eq!(Place::of(text, Span { start: 3, end: 4, file: 0 }), Place { line: 1, column: 3, width: 1 });
        assert_eq!(Place::of(text, Span { start: 5, end: 18, file: 0 }), Place { line: 2, column: 1, width: 11 });
        assert_eq!(Place::of(text, Span { start: 999, end: 1000, file: 0 }).line, 4);
    }

    proptest! {
        #[test]
        fn any_span_in_any_text_can_be_shown(text in "(.|\n){0,60}", start in 0usize..80, end in 0usize..80) {
            let _ = Fault::new(&text, Span { start, end, file: 0 }, "x", None).render("f");
        }
    }
}
