//! The part of KDL 2 that nearly every file keeps to: bare names, texts in quotes, plain numbers, `#true`,
//! `#false`, `#null`, properties, braces, comments to the end of a line, and texts of several lines.

use super::{Document, Entry, Node, Value, Word};

/// Names that stand for values elsewhere (KDL 2, "Identifier String").
const RESERVED: [&str; 6] = ["true", "false", "null", "inf", "-inf", "nan"];
/// Deeper than any file should be.
const DEEPEST: usize = 32;

/// The text as a tree; nothing when it uses anything else, or is faulty.
pub(super) fn read(text: &str) -> Option<Document> {
    let mut reader = Reader { text, bytes: text.as_bytes(), at: 0 };
    let nodes = reader.nodes(0)?;
    (reader.at == text.len()).then_some(Document { nodes })
}

struct Reader<'t> {
    text: &'t str,
    bytes: &'t [u8],
    at: usize,
}

const fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t')
}

const fn begins_name(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_'
}

const fn goes_on_in_name(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.')
}

/// Whether a letter may stand in a text and means nothing but itself (KDL 2, "Disallowed Literal Code
/// Points", "Newline").
const fn is_plain(letter: char) -> bool {
    match letter {
        '\t' | ' '..='~' => true,
        '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' => false,
        other => other >= '\u{a0}',
    }
}

impl Reader<'_> {
    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn skip_blanks(&mut self) -> usize {
        let start = self.at;
        while self.peek().is_some_and(is_blank) {
            self.at += 1;
        }
        self.at - start
    }

    /// Skips a comment that begins here, up to the line's end.
    fn skip_comment(&mut self) -> Option<bool> {
        if !self.bytes[self.at..].starts_with(b"//") {
            return Some(false);
        }
        let rest = &self.text[self.at..];
        let line = &rest[..rest.find('\n').unwrap_or(rest.len())];
        self.at += line.len();
        line.strip_suffix('\r').unwrap_or(line).chars().all(is_plain).then_some(true)
    }

    fn skip_line_end(&mut self) -> bool {
        let length = match &self.bytes[self.at..] {
            [b'\r', b'\n', ..] => 2,
            [b'\n', ..] => 1,
            _ => 0,
        };
        self.at += length;
        length > 0
    }

    /// Nodes up to a closing brace, which is not taken, or the text's end.
    fn nodes(&mut self, depth: usize) -> Option<Vec<Node>> {
        let mut nodes = Vec::new();
        loop {
            while self.skip_blanks() > 0 || self.skip_line_end() || self.skip_comment()? {}
            match self.peek() {
                None | Some(b'}') => return Some(nodes),
                Some(byte) if begins_name(byte) => nodes.push(self.node(depth)?),
                Some(_) => return None,
            }
        }
    }

    fn name(&mut self) -> Option<Word> {
        let start = self.at;
        while self.peek().is_some_and(goes_on_in_name) {
            self.at += 1;
        }
        let text = &self.text[start..self.at];
        (!RESERVED.contains(&text)).then(|| Word { text: text.to_owned(), at: (start, self.at) })
    }

    fn node(&mut self, depth: usize) -> Option<Node> {
        let mut node = Node { name: self.name()?, ty: None, entries: Vec::new(), children: None };
        loop {
            let blanks = self.skip_blanks();
            match self.peek() {
                None | Some(b'}') => return Some(node),
                Some(b';') => {
                    self.at += 1;
                    return Some(node);
                }
                Some(b'\n' | b'\r') => return self.skip_line_end().then_some(node),
                Some(b'/') => return self.skip_comment()?.then_some(node),
                Some(b'{') if blanks > 0 && node.children.is_none() && depth < DEEPEST => {
                    self.at += 1;
                    let nodes = self.nodes(depth + 1)?;
                    if self.peek() != Some(b'}') {
                        return None;
                    }
                    node.children = Some(Document { nodes });
                    self.at += 1;
                }
                // Nothing but an end may follow the braces.
                Some(_) if blanks > 0 && node.children.is_none() => node.entries.push(self.entry()?),
                Some(_) => return None,
            }
        }
    }

    fn entry(&mut self) -> Option<Entry> {
        let start = self.at;
        if self.peek().is_some_and(begins_name) {
            let name = self.name()?;
            if self.peek() != Some(b'=') {
                return Some(Entry { name: None, value: Value::Text(name.text), at: name.at });
            }
            self.at += 1;
            let value =
                if self.peek().is_some_and(begins_name) { Value::Text(self.name()?.text) } else { self.value()? };
            return Some(Entry { name: Some(name), value, at: (start, self.at) });
        }
        let value = self.value()?;
        Some(Entry { name: None, value, at: (start, self.at) })
    }

    fn value(&mut self) -> Option<Value> {
        let value = match self.peek()? {
            b'"' if self.bytes[self.at..].starts_with(b"\"\"\"") => Value::Text(self.lines()?),
            b'"' => Value::Text(self.quoted()?),
            b'#' => {
                let known = [("#true", Value::Bool(true)), ("#false", Value::Bool(false)), ("#null", Value::Null)];
                let (word, value) = known.into_iter().find(|(word, _)| self.text[self.at..].starts_with(word))?;
                self.at += word.len();
                value
            }
            b'0'..=b'9' | b'-' => self.number()?,
            _ => return None,
        };
        let ends = |byte: u8| is_blank(byte) || matches!(byte, b'\n' | b'\r' | b';' | b'{' | b'}');
        self.peek().is_none_or(ends).then_some(value)
    }

    fn digits(&mut self) -> usize {
        let start = self.at;
        while self.peek().is_some_and(|byte| byte.is_ascii_digit()) {
            self.at += 1;
        }
        self.at - start
    }

    fn number(&mut self) -> Option<Value> {
        let start = self.at;
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        if self.digits() == 0 {
            return None;
        }
        if self.peek() != Some(b'.') {
            return self.text[start..self.at].parse().ok().map(Value::Integer);
        }
        self.at += 1;
        if self.digits() == 0 {
            return None;
        }
        self.text[start..self.at].parse().ok().map(Value::Float)
    }

    /// A text in quotes, on one line.
    fn quoted(&mut self) -> Option<String> {
        let start = self.at + 1;
        let mut text = String::new();
        let mut letters = self.text[start..].char_indices();
        loop {
            match letters.next()? {
                (at, '"') => {
                    self.at = start + at + 1;
                    return Some(text);
                }
                (_, '\\') => text.push(match letters.next()?.1 {
                    letter @ ('"' | '\\') => letter,
                    'n' => '\n',
                    't' => '\t',
                    _ => return None,
                }),
                (_, letter) if is_plain(letter) => text.push(letter),
                _ => return None,
            }
        }
    }

    /// A text of several lines: what stands before its end stands before each line (KDL 2, "Multi-line
    /// String").
    fn lines(&mut self) -> Option<String> {
        let rest = self.text[self.at..].strip_prefix("\"\"\"\n")?;
        let end = rest.find("\"\"\"")?;
        let (body, lead) = match rest[..end].rsplit_once('\n') {
            Some((body, lead)) => (Some(body), lead),
            None => (None, &rest[..end]),
        };
        let is_blank_line = |line: &str| line.bytes().all(is_blank);
        if !is_blank_line(lead) || body.is_some_and(|body| body.contains('\\')) {
            return None;
        }
        let mut text = String::new();
        for (number, line) in body.into_iter().flat_map(|body| body.split('\n')).enumerate() {
            if number > 0 {
                text.push('\n');
            }
            if !is_blank_line(line) {
                let line = line.strip_prefix(lead)?;
                line.chars().all(is_plain).then(|| text.push_str(line))?;
            }
        }
        self.at += 4 + end + 3;
        Some(text)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::At;
    use super::*;

    /// Where everything stands.
    fn all_places(document: &Document) -> Vec<At> {
        let of_node = |node: &Node| {
            let entries = node.entries.iter().flat_map(|entry| entry.name.iter().map(|name| name.at).chain([entry.at]));
            let inner = node.children.iter().flat_map(all_places);
            [node.name.at].into_iter().chain(entries).chain(inner).collect::<Vec<_>>()
        };
        document.nodes.iter().flat_map(of_node).collect()
    }

    /// Reads a text both ways: the library must agree with whatever is read here.
    fn compare(text: &str) -> Result<bool, TestCaseError> {
        let Some(plain) = read(text) else { return Ok(false) };
        let all = Document::read_all(text);
        prop_assert!(all.is_ok(), "the library does not read {text:?}: {all:?}");
        let all = all.unwrap_or_default();
        prop_assert_eq!(&plain.nodes, &all.nodes, "{:?}", text);
        prop_assert_eq!(all_places(&plain), all_places(&all));
        Ok(true)
    }

    #[test]
    fn what_files_usually_say_is_read_as_the_library_reads_it() {
        for text in [
            "",
            "a",
            "a;b ; c\n",
            "about \"Opening \\\"hours\\\" \\\\ \\n é\" // a comment\n\n  // another\n",
            "start commit=\"main\" changed=\"desk/**\"\nstart base-moved\r\n",
            "stage \"verify\" { job \"unit\" { limit cpu=1.5 processes=256 n=-3; may-fail } }",
            "stage \"a\" {\n    step name=x.y may-fail=#true \"b\" #null #false\n}\n",
            "step \"\"\"\n    sh -n desk/*.sh\n\n      echo \"nothing\" to 'complain' of\n    \"\"\"\nnext",
            "step \"\"\"\n\"\"\" name=\"x\"",
            "a { }\nb {\n}",
            "matrix {\n\tbase \"debian\" \"alpine\"; without base=\"alpine\"\n}",
        ] {
            assert!(compare(text).unwrap(), "not read: {text:?}");
        }
    }

    #[test]
    fn everything_else_is_left_to_the_library() {
        for text in [
            "a{}",
            "a { } { }",
            "a { } b",
            "(t)a",
            "a (t)b",
            "\"a\" b",
            "a \"b\"c",
            "a=\"b\"",
            "a b = \"c\"",
            "a /-b",
            "a 0x10",
            "a 1_000",
            "a 1e3",
            "a true",
            "a \\\n b",
            "a /* c */ b",
            "a #\"raw\"#",
            "a \"x\ny\"",
            "a }",
            "a {",
            "a \"x",
            "a \"\\u{41}\"",
            "a \"\"\"x\"\"\"",
            "a \"\"\"\n  b\n c\n  \"\"\"",
            "a \u{2003}b",
            "a \u{feff}",
            "é",
            "a 10m",
            "a +1",
            "a\u{b}b",
            "a \"\u{7f}\"",
            "// \u{202e}\na",
            "a #truely",
            "a 1.",
            "true",
            "a null=1",
        ] {
            assert_eq!(read(text), None, "{text:?}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn whatever_is_read_here_the_library_reads_the_same(
            parts in proptest::collection::vec(
                proptest::sample::select(vec![
                    "a", "b-c", "name=", "=", " ", "  ", "\t", "\n", "\r\n", ";", "{", "}", " { ", " }\n", "\"", "\"x y\"",
                    "\"\"\"\n", "\n  \"\"\"", "\"\"\"", "\\", "\\n", "#true", "#null", "-1", "12", "1.5", "//", " // c\n", "/",
                    "é", "\u{a0}", "true", "(", ".", "#", "\r", "'",
                ]),
                0..14,
            )
        ) {
            compare(&parts.concat())?;
        }
    }
}
