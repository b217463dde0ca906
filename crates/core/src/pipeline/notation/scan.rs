//! A loose reading of a text that is not KDL.

use super::text::{self, Text, line_from, odd_quotes, quoted};
use super::{At, Slip, invisible, is_invisible};

/// A brace that is open.
struct Open {
    at: usize,
    /// How far its line is indented, in letters.
    indent: usize,
    /// What stands in front of it on its line.
    title: String,
}

/// What the reading expects next.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Expect {
    /// The word that a line begins with.
    Word,
    /// Values and properties.
    Value,
    /// The value of a property: its `=` has been read.
    Property,
    /// An end of the line: a brace was closed on it.
    End,
}

pub(super) struct Scanner<'t> {
    text: &'t str,
    at: usize,
    expect: Expect,
    /// Where the line's word began, and ended.
    word: At,
    opens: Vec<Open>,
    slips: Vec<Slip>,
    /// Whether more braces are opened than closed: how far lines are indented then tells which.
    lacks_closing: bool,
}

/// How deep braces are followed; a pipeline needs five.
const DEEPEST: usize = 64;

/// Words of other notations for values that begin with `#` here.
const KEYWORDS: [&str; 3] = ["true", "false", "null"];

impl<'t> Scanner<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        let count = |letter| text.matches(letter).count();
        Self {
            text,
            at: 0,
            expect: Expect::Word,
            word: (0, 0),
            opens: Vec::new(),
            slips: Vec::new(),
            lacks_closing: count('{') > count('}'),
        }
    }

    pub(super) fn slips(mut self) -> Vec<Slip> {
        while let Some(letter) = self.rest().chars().next() {
            if self.opens.len() > DEEPEST {
                let message = format!("braces stand more than {DEEPEST} deep in each other here");
                self.slip((self.at - 1, self.at), message, "no pipeline needs that");
                self.opens.clear();
                break;
            }
            let before = self.at;
            self.read(letter);
            // Whatever is not understood is passed over, so that the end is reached.
            if self.at == before {
                self.at += letter.len_utf8();
            }
        }
        for open in std::mem::take(&mut self.opens) {
            self.never_closed(&open);
        }
        self.slips.sort_by_key(|slip| slip.at);
        self.slips
    }

    fn rest(&self) -> &'t str {
        self.text.get(self.at..).unwrap_or_default()
    }

    fn slip(&mut self, at: At, message: impl Into<String>, help: impl Into<String>) {
        self.slips.push(Slip::new(at, message, help));
    }

    fn read(&mut self, letter: char) {
        let rest = self.rest();
        match letter {
            '\n' | ';' => {
                self.at += 1;
                self.expect = Expect::Word;
            }
            letter if is_invisible(letter) && self.at > 0 => {
                self.slips.push(invisible(self.at, letter));
                self.at += letter.len_utf8();
            }
            letter if letter.is_whitespace() || letter == '\u{feff}' => self.at += letter.len_utf8(),
            '/' if rest.starts_with("//") => self.at += line_from(self.text, self.at).len(),
            '/' if rest.starts_with("/*") => self.at += rest.find("*/").map_or(rest.len(), |end| end + 2),
            '/' if rest.starts_with("/-") => self.at += 2,
            '\\' if line_from(self.text, self.at + 1).trim().is_empty() => {
                // The line goes on in the next.
                self.at += 1 + line_from(self.text, self.at + 1).len() + 1;
            }
            '}' => self.close(),
            _ if self.expect == Expect::End => self.behind_brace(),
            '{' => self.open(),
            '#' => self.hash(),
            '"' => self.quoted_text(),
            '(' => self.bracket(')'),
            '[' => self.bracket(']'),
            ',' => {
                self.slip((self.at, self.at + 1), "no commas stand between values", "take it out: a space is enough");
                self.at += 1;
            }
            '=' => {
                self.at += 1;
                self.expect = Expect::Property;
            }
            _ => match odd_quotes(self.text, self.at) {
                Some(slip) => {
                    self.at = slip.at.1;
                    self.slips.push(slip);
                    self.expect = Expect::Value;
                }
                None => self.word(),
            },
        }
    }

    /// How far the line of a place is indented, and what stands on it in front of the place.
    fn line_before(&self, at: usize) -> (usize, &'t str) {
        let start = self.text[..at].rfind('\n').map_or(0, |end| end + 1);
        let line = &self.text[start..at];
        (line.len() - line.trim_start().len(), line.trim())
    }

    fn open(&mut self) {
        let (indent, title) = self.line_before(self.at);
        let mut title = title.rsplit([';', '}']).next().unwrap_or_default().trim();
        if self.expect == Expect::Word && title.is_empty() {
            let before = self.text[..self.at].trim_end();
            title = line_from(before, before.rfind('\n').map_or(0, |end| end + 1)).trim();
            if !title.is_empty() && !title.ends_with(['{', '}']) {
                let message = format!("this brace belongs on the line of `{title}`");
                self.slip((self.at, self.at + 1), message, format!("write {title} {{"));
            }
        }
        self.opens.push(Open { at: self.at, indent, title: title.to_owned() });
        self.at += 1;
        self.expect = Expect::Word;
    }

    fn close(&mut self) {
        let (indent, before) = self.line_before(self.at);
        // A brace that stands as far left as an outer line closes that one: those further in are not closed.
        if self.lacks_closing && before.is_empty() && self.opens.iter().any(|open| open.indent <= indent) {
            while let Some(open) = self.opens.pop_if(|open| open.indent > indent) {
                self.never_closed(&open);
            }
        }
        if self.opens.pop().is_none() {
            self.slip((self.at, self.at + 1), "this brace closes nothing", "take it out");
        }
        self.at += 1;
        self.expect = Expect::End;
    }

    fn never_closed(&mut self, open: &Open) {
        let message = if open.title.is_empty() {
            "this brace is never closed".to_owned()
        } else {
            format!("this brace is never closed: `{}`", open.title)
        };
        self.slip((open.at, open.at + 1), message, "write `}` on a line of its own where it ends");
    }

    /// Something stands behind a closed brace on its line.
    fn behind_brace(&mut self) {
        let line = line_from(self.text, self.at);
        let word: String =
            line.chars().take_while(|letter| !letter.is_whitespace() && !matches!(letter, '{' | '}' | ';')).collect();
        let word = if word.is_empty() { line.chars().take(1).collect() } else { word };
        if word == "," {
            self.slip((self.at, self.at + 1), "no comma stands behind a brace", "take it out");
            self.at += 1;
            return;
        }
        let message = format!("a new line or `;` goes between `}}` and `{word}`");
        self.slip(
            (self.at, self.at + word.len()),
            message,
            format!("begin a new line with `{word}`, or write `}}; {word}`"),
        );
        self.expect = Expect::Word;
    }

    /// `#`: a keyword, a raw text, or a comment as other notations write it.
    fn hash(&mut self) {
        let line = line_from(self.text, self.at);
        let marks = line.chars().take_while(|letter| *letter == '#').count();
        if line[marks..].starts_with('"') {
            let closing = format!("\"{}", "#".repeat(marks));
            let body = &self.rest()[marks + 1..];
            self.at += marks + 1 + body.find(&closing).map_or(body.len(), |end| end + closing.len());
            self.expect = Expect::Value;
            return;
        }
        let word: String = line[1..].chars().take_while(char::is_ascii_alphanumeric).collect();
        if self.expect != Expect::Word && (KEYWORDS.contains(&word.as_str()) || matches!(word.as_str(), "inf" | "nan"))
        {
            self.at += 1 + word.len();
            self.expect = Expect::Value;
            return;
        }
        let comment = line.trim_start_matches('#').trim();
        let message = "a comment begins with `//` here";
        self.slip(
            (self.at, self.at + line.trim_end().len()),
            message,
            format!("write // {comment}").trim_end().to_owned(),
        );
        self.at += line.len();
    }

    fn quoted_text(&mut self) {
        let is_word = self.expect == Expect::Word;
        let start = self.at;
        match text::read(self.text, self.at) {
            Text::Whole(end) => self.at = end,
            Text::Slipped(slip, end) => {
                self.slips.push(slip);
                self.at = end;
            }
        }
        if is_word {
            self.word = (start, self.at);
        }
        self.expect = Expect::Value;
    }

    /// Brackets around values, or a type in front of one.
    fn bracket(&mut self, closing: char) {
        let line = line_from(self.text, self.at);
        let end = line.find(closing).map_or(line.len(), |end| end + 1);
        let inside = line[1..end].trim_end_matches(closing);
        let is_type = closing == ')'
            && self.line_before(self.at).1.is_empty()
            && inside.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '-');
        if !is_type {
            let name = self.text[self.word.0..self.word.1].trim_end_matches(['=', ':']);
            let values: Vec<_> = inside.split(',').map(str::trim).filter(|value| !value.is_empty()).collect();
            let help = format!("write {name} {}", values.join(" "));
            self.slip((self.at, self.at + end), "no brackets stand around values", help);
        }
        self.at += end;
        if !is_type {
            self.expect = Expect::Value;
        }
    }

    /// A word without quotes: a line's first, a value, or a property's name.
    fn word(&mut self) {
        let rest = self.rest();
        let ends =
            |letter: char| letter.is_whitespace() || matches!(letter, ';' | '{' | '}' | '"' | '=' | '(' | '[' | ',');
        // Another address's `//` is part of it.
        let length = rest.find(ends).unwrap_or(rest.len());
        let word = &rest[..length];
        let at = (self.at, self.at + length);
        let line = line_from(self.text, at.1);
        let behind = line.trim_start();
        self.at = at.1;
        match self.expect {
            Expect::Word => {
                self.word = at;
                self.expect = Expect::Value;
                self.first_word(word, at, behind);
            }
            Expect::Value if word.ends_with(':') && word.len() > 1 => {
                let name = word.trim_end_matches(':');
                let value = behind.split([' ', ';', '}']).next().unwrap_or_default();
                self.slip((at.1 - 1, at.1), "no `:` stands behind a name", format!("write {name}={value}"));
                self.expect = Expect::Property;
            }
            Expect::Value if behind.starts_with('=') => {}
            _ => {
                self.value(word, at);
                self.expect = Expect::Value;
            }
        }
    }

    /// The word that a line begins with.
    fn first_word(&mut self, word: &str, at: At, behind: &str) {
        let values = behind.split(['{', '}', ';']).next().unwrap_or_default().trim();
        if let Some(name) = word.strip_suffix(':').filter(|name| !name.is_empty()) {
            self.slip(
                (at.1 - 1, at.1),
                "no `:` stands behind a word",
                format!("write {name} {values}").trim_end().to_owned(),
            );
        } else if let Some(value) = values.strip_prefix('=') {
            let place = at.1 + self.text[at.1..].find('=').unwrap_or(0);
            // A bare word behind it is part of the same slip; a string is looked at as any other.
            let value = value.trim_start();
            let bare = value.split([' ', '\t', '"', '\'', '}']).next().unwrap_or_default();
            // A line that is its word alone holds where it stands.
            let help = if bare == "true" { format!("write {word}") } else { format!("write {word} {value}") };
            self.slip((place, place + 1), "no `=` stands behind a line's first word", help);
            self.at = place + 1;
            if !bare.is_empty() {
                self.at += self.text[self.at..].find(bare).unwrap_or(0) + bare.len();
            }
        } else if word == "-" {
            let help = format!("write each on a line of its own that begins with its word, without `-`: {values}");
            self.slip(at, "lists have no dashes here", help);
        } else if KEYWORDS.contains(&word)
            || word.contains(['/', '\\'])
            || word.starts_with(|c: char| c.is_ascii_digit())
        {
            self.slip(
                at,
                format!("a line cannot begin with `{word}`"),
                "begin it with a word, as in step \"./test.sh\"",
            );
        }
    }

    /// A value without quotes.
    fn value(&mut self, word: &str, at: At) {
        if KEYWORDS.contains(&word) {
            self.slip(at, format!("`{word}` is written with a `#` in front of it"), format!("write #{word}"));
            return;
        }
        let is_number = {
            let digits = word.trim_start_matches(['-', '+']).replace('_', "");
            digits.parse::<f64>().is_ok()
                || ["0x", "0o", "0b"].iter().any(|lead| digits.strip_prefix(lead).is_some_and(|d| !d.is_empty()))
        };
        let like_number = word.trim_start_matches(['-', '+', '.']).starts_with(|letter: char| letter.is_ascii_digit());
        let is_odd = word.contains(['/', '\\', '#', ')', ']']) || word.starts_with('.') && like_number;
        if is_odd || like_number && !is_number {
            self.slip(at, format!("`{word}` must stand in quotes"), format!("write {}", quoted(word)));
        }
    }
}
