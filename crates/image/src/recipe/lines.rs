//! From text to instructions' texts: directives, comments, continuation lines, here-documents.

use pondrix_core::pipeline::Span;

use super::faults::Faults;
use super::words::{unquoted, words};

/// An instruction's text with its continuation lines joined, and where it stands.
#[derive(Debug)]
pub(super) struct Raw {
    pub(super) line: usize,
    pub(super) span: Span,
    /// The byte of the recipe behind its last line.
    pub(super) end: usize,
    pub(super) text: String,
    pub(super) documents: Vec<HereDocument>,
}

/// Text that stands behind an instruction, up to a line with its name alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct HereDocument {
    pub(super) name: String,
    /// The word in the instruction that announces it.
    pub(super) word: String,
    /// Whether its name is quoted: then nothing in it is filled in.
    pub(super) is_literal: bool,
    /// Whether tabs at the beginnings of its lines are taken away.
    pub(super) strips_tabs: bool,
    pub(super) body: String,
}

impl Raw {
    /// The instruction's word in capitals, and what is behind it.
    pub(super) fn split(&self) -> (String, &str) {
        let (word, rest) = self.text.split_once(char::is_whitespace).unwrap_or((&self.text, ""));
        (word.to_ascii_uppercase(), rest.trim())
    }

    /// The text with its here-documents, for people and for a shell.
    pub(super) fn whole(&self) -> String {
        let mut whole = self.text.clone();
        for document in &self.documents {
            whole += &format!("\n{}{}", document.body, document.name);
        }
        whole
    }
}

struct Lines<'a> {
    text: &'a str,
    /// The byte at which the next line begins.
    at: usize,
    /// Its number, from 1.
    number: usize,
}

struct Line<'a> {
    number: usize,
    start: usize,
    text: &'a str,
}

impl<'a> Lines<'a> {
    fn next(&mut self) -> Option<Line<'a>> {
        let rest = self.text.get(self.at..).filter(|rest| !rest.is_empty())?;
        let length = rest.find('\n').map_or(rest.len(), |newline| newline + 1);
        let line = Line { number: self.number, start: self.at, text: &rest[..length] };
        self.at += length;
        self.number += 1;
        Some(line)
    }
}

/// The escape letter, and the instructions.
pub(super) fn split(text: &str, faults: &mut Faults<'_>) -> (char, Vec<Raw>) {
    // A mark of the byte order is of no meaning in UTF-8 (RFC 3629, section 6).
    let begins = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
    let mut lines = Lines { text, at: begins, number: 1 };
    let escape = directives(&mut lines, faults);
    let mut raws = Vec::new();
    let mut open: Option<Raw> = None;
    while let Some(line) = lines.next() {
        let content = line.text.trim_end();
        let plain = content.trim_start();
        if plain.is_empty() || plain.starts_with('#') {
            continue;
        }
        let (piece, goes_on) = content.strip_suffix(escape).map_or((content, false), |piece| (piece, true));
        let end = line.start + content.len();
        let mut raw = match open.take() {
            Some(raw) => Raw { text: raw.text + piece, end, ..raw },
            None => {
                let span = Span::from(end - plain.len()..end);
                Raw { line: line.number, span, end, text: piece.trim_start().to_owned(), documents: Vec::new() }
            }
        };
        if goes_on {
            open = Some(raw);
            continue;
        }
        documents(&mut raw, escape, &mut lines, faults);
        raws.push(raw);
    }
    // The last line may end with the escape letter and nothing behind it.
    raws.extend(open);
    (escape, raws)
}

/// Reads `# name=value` lines at the very beginning.
fn directives(lines: &mut Lines<'_>, faults: &mut Faults<'_>) -> char {
    let mut escape = None;
    loop {
        let before = (lines.at, lines.number);
        let Some(line) = lines.next() else { break };
        let said = line.text.trim().strip_prefix('#').and_then(|said| said.split_once('='));
        let said = said.map(|(name, value)| (name.trim().to_ascii_lowercase(), value.trim()));
        let span = Span::from(line.start..line.start + line.text.trim_end().len());
        match said.as_ref().map(|(name, value)| (name.as_str(), *value)) {
            Some(("escape", _)) if escape.is_some() => {
                faults.tell(span, "`escape` is said twice", "keep one of the two lines");
            }
            Some(("escape", "\\")) => escape = Some('\\'),
            Some(("escape", "`")) => escape = Some('`'),
            Some(("escape", value)) => {
                faults.tell(span, format!("`{value}` cannot be the escape letter"), "it is \\ or `");
                escape = Some('\\');
            }
            // They choose another reader of recipes, and there is this one.
            Some(("syntax" | "check", _)) => {}
            _ => {
                (lines.at, lines.number) = before;
                break;
            }
        }
    }
    escape.unwrap_or('\\')
}

/// Reads the here-documents that an instruction announces.
fn documents(raw: &mut Raw, escape: char, lines: &mut Lines<'_>, faults: &mut Faults<'_>) {
    let (mut word, mut rest) = raw.split();
    if word == "ONBUILD" {
        let (inner, behind) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
        (word, rest) = (inner.to_ascii_uppercase(), behind);
    }
    if !matches!(word.as_str(), "RUN" | "COPY" | "ADD") {
        return;
    }
    let announced: Vec<HereDocument> = words(rest, escape).iter().filter_map(|word| announced(word, escape)).collect();
    for mut document in announced {
        let closed = loop {
            let Some(line) = lines.next() else { break false };
            let text = if document.strips_tabs { line.text.trim_start_matches('\t') } else { line.text };
            raw.end = line.start + line.text.trim_end_matches(['\r', '\n']).len();
            if text.trim_end_matches(['\r', '\n']) == document.name {
                break true;
            }
            document.body += text;
        };
        if !closed {
            let message = format!("the text `{}` has no end", document.name);
            faults.tell(raw.span, message, format!("write a line with {} alone behind it", document.name));
            document.body.push('\n');
        }
        raw.documents.push(document);
    }
}

/// `<<NAME`, `<<-NAME`, `<<"NAME"`, with digits of a file descriptor in front or not (POSIX.1-2017, Shell
/// Command Language, 2.7.4).
fn announced(word: &str, escape: char) -> Option<HereDocument> {
    let rest = word.trim_start_matches(|letter: char| letter.is_ascii_digit()).strip_prefix("<<")?;
    let (rest, strips_tabs) = rest.strip_prefix('-').map_or((rest, false), |rest| (rest, true));
    if rest.is_empty() || rest.contains(['<', '$', '(']) {
        return None;
    }
    let name = unquoted(rest, escape);
    let is_literal = name != rest;
    Some(HereDocument { name, word: word.to_owned(), is_literal, strips_tabs, body: String::new() })
}
