//! Slips of the notation itself, told in plain words.
//!
//! The library that knows KDL says exactly what it expected, which helps those who know its grammar. Those who make
//! such slips do not: most bring the habits of another notation along. [`slips`] reads a text that the library
//! refused once more, loosely, and finds the places where habits of that kind show; each becomes one fault with the
//! mended form. [`misread`] finds those that the library lets pass as names, with a meaning that nobody had in mind.

mod scan;
mod text;

use super::tree::{At, Document, Entry, Node};

/// A place where the writer slipped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Slip {
    pub(crate) at: At,
    pub(crate) message: String,
    pub(crate) help: String,
}

impl Slip {
    fn new(at: At, message: impl Into<String>, help: impl Into<String>) -> Self {
        Self { at, message: message.into(), help: help.into() }
    }
}

/// Whether a letter takes no room where it is shown: such come along from web pages.
const fn is_invisible(letter: char) -> bool {
    matches!(letter, '\u{200b}'..='\u{200f}' | '\u{2060}' | '\u{feff}')
}

/// The slip of writing such a letter, or rather of copying it.
fn invisible(at: usize, letter: char) -> Slip {
    let help = "take it out, or type the line anew";
    Slip::new((at, at + letter.len_utf8()), "a letter that cannot be seen stands here", help)
}

/// The longest line that is looked through, in bytes. A line is looked at once for each brace in it.
const LONGEST_LINE: usize = 16 * 1024;

/// The slips in a text that is not KDL, in their order; none where none of the known kinds shows.
pub(super) fn slips(text: &str) -> Vec<Slip> {
    if text.lines().any(|line| line.len() > LONGEST_LINE) {
        return Vec::new();
    }
    scan::Scanner::new(text).slips()
}

/// The slips in a text that is KDL, but hardly the KDL that was meant.
pub(super) fn misread(text: &str, document: &Document) -> Vec<Slip> {
    let mut slips = Vec::new();
    for node in &document.nodes {
        misread_node(text, node, &mut slips);
    }
    slips
}

fn misread_node(text: &str, node: &Node, slips: &mut Vec<Slip>) {
    let name = &node.name;
    let behind =
        node.entries.first().zip(node.entries.last()).and_then(|(first, last)| text.get(first.at.0..last.at.1));
    let behind = behind.map(|behind| format!(" {behind}")).unwrap_or_default();
    let written = text.get(name.at.0..name.at.1).unwrap_or_default();
    if let Some((place, letter)) = written.char_indices().find(|(_, letter)| is_invisible(*letter)) {
        slips.push(invisible(name.at.0 + place, letter));
    }
    if let Some(word) = name.text.strip_suffix(':').filter(|word| !word.is_empty()) {
        let help = format!("write {word}{behind}");
        slips.push(Slip::new((name.at.1 - 1, name.at.1), "no `:` stands behind a word", help));
    } else if name.text == "-" {
        let help = format!("write each on a line of its own that begins with its word, without `-`:{behind}");
        slips.push(Slip::new(name.at, "lists have no dashes here", help));
    }
    for pair in node.entries.windows(2).filter(|pair| pair[0].name.is_none() && !is_quoted(text, &pair[0])) {
        let word = text.get(pair[0].at.0..pair[0].at.1).unwrap_or_default();
        if let Some(property) = word.strip_suffix(':').filter(|property| !property.is_empty()) {
            let value = text.get(pair[1].at.0..pair[1].at.1).unwrap_or_default();
            let end = pair[0].at.1;
            slips.push(Slip::new((end - 1, end), "no `:` stands behind a name", format!("write {property}={value}")));
        }
    }
    // One pair of quotes may have become several values: `'echo hi'` is `'echo` and `hi'`.
    let mut covered = 0;
    for entry in node.entries.iter().filter(|entry| !is_quoted(text, entry)) {
        let start = value_start(text, entry);
        if start >= covered
            && let Some(slip) = text::odd_quotes(text, start)
        {
            covered = slip.at.1;
            slips.push(slip);
        }
    }
    for child in node.children.iter().flat_map(|children| &children.nodes) {
        misread_node(text, child, slips);
    }
}

/// Where an entry's value begins.
fn value_start(text: &str, entry: &Entry) -> usize {
    let Some(name) = &entry.name else { return entry.at.0 };
    let behind = text.get(name.at.1..entry.at.1).unwrap_or_default();
    entry.at.1 - behind.trim_start().trim_start_matches('=').trim_start().len()
}

fn is_quoted(text: &str, entry: &Entry) -> bool {
    text.get(value_start(text, entry)..).is_some_and(|value| value.starts_with(['"', '#']))
}
