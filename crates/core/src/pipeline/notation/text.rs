//! Strings, and what is written instead of them.

use super::Slip;

/// Quotes that are none here, each with the one that closes it.
const ODD_QUOTES: [(char, &[char]); 7] = [
    ('\'', &['\'']),
    ('`', &['`']),
    ('\u{201c}', &['\u{201d}', '\u{201c}']),
    ('\u{201d}', &['\u{201d}']),
    ('\u{201e}', &['\u{201c}', '\u{201d}']),
    ('\u{2018}', &['\u{2019}', '\u{2018}']),
    ('\u{ab}', &['\u{bb}']),
];

/// A text in the quotes that count here.
pub(super) fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for letter in text.chars() {
        match letter {
            '"' | '\\' => out.extend(['\\', letter]),
            '\t' => out.push_str("\\t"),
            letter => out.push(letter),
        }
    }
    out.push('"');
    out
}

/// The rest of the line from a place on.
pub(super) fn line_from(text: &str, at: usize) -> &str {
    let rest = text.get(at..).unwrap_or_default();
    rest.lines().next().unwrap_or_default()
}

/// A text in other quotes that begins at this place.
pub(super) fn odd_quotes(text: &str, at: usize) -> Option<Slip> {
    let line = line_from(text, at);
    let open = line.chars().next()?;
    let (_, closing) = ODD_QUOTES.iter().find(|(known, _)| *known == open)?;
    let inner = &line[open.len_utf8()..];
    let end = inner.find(|letter| closing.contains(&letter));
    let (value, length) = match end {
        Some(end) => (&inner[..end], end + inner[end..].chars().next().map_or(0, char::len_utf8)),
        None => {
            let word = inner.split([' ', '\t', ';', '}']).next().unwrap_or_default();
            (word, word.len())
        }
    };
    let kind = if open == '\'' { "single quotes" } else { "these" };
    let message = format!("strings are written in double quotes, not in {kind}");
    Some(Slip::new((at, at + open.len_utf8() + length), message, format!("write {}", quoted(value))))
}

/// What a text in quotes comes to that begins at this place.
pub(super) enum Text {
    /// It is whole, and ends there.
    Whole(usize),
    /// It is not, and what comes behind that place can be read again.
    Slipped(Slip, usize),
}

/// Reads a text that begins with `"`.
pub(super) fn read(text: &str, at: usize) -> Text {
    if text[at..].starts_with("\"\"\"") { read_lines(text, at) } else { read_line(text, at) }
}

/// What may follow a value.
fn ends_value(rest: &str) -> bool {
    rest.chars()
        .next()
        .is_none_or(|letter| letter.is_whitespace() || matches!(letter, ';' | '{' | '}' | '=' | ')' | '\\'))
        || rest.starts_with("//")
        || rest.starts_with("/*")
}

/// Reads a text on one line.
fn read_line(text: &str, at: usize) -> Text {
    let line = line_from(text, at);
    let mut letters = line.char_indices().skip(1);
    let mut bad_escape = None;
    while let Some((place, letter)) = letters.next() {
        match letter {
            '"' => {
                let end = at + place + 1;
                if !ends_value(&text[end..]) {
                    return too_many_quotes(text, at, end);
                }
                return match bad_escape {
                    Some(place) => escape(line, at, place, &line[1..end - at - 1], end),
                    None => Text::Whole(end),
                };
            }
            '\\' => match letters.next() {
                Some((_, 'n' | 'r' | 't' | '\\' | '"' | 'b' | 'f' | 's' | 'u')) => {}
                Some((_, letter)) if letter.is_whitespace() => {}
                Some(_) => bad_escape = bad_escape.or(Some(place)),
                // An escaped end of line: the text goes on in the next.
                None => return Text::Whole(at + line.len()),
            },
            _ => {}
        }
    }
    let value = line[1..].trim_end().trim_end_matches(['{', ';']).trim_end();
    let slip = Slip::new(
        (at, at + line.trim_end().len()),
        "this string has no closing quote",
        format!("write {}", quoted(value)),
    );
    Text::Slipped(slip, at + line.len())
}

/// A backslash in front of a letter that needs none.
fn escape(line: &str, at: usize, place: usize, inside: &str, end: usize) -> Text {
    let letter = line[place + 1..].chars().next().unwrap_or_default();
    // What is escaped rightly stays; the other backslashes are doubled.
    let mut mended = String::from("\"");
    let mut letters = inside.chars().peekable();
    while let Some(letter) = letters.next() {
        mended.push(letter);
        if letter == '\\' {
            match letters.peek() {
                Some('n' | 'r' | 't' | '\\' | '"' | 'b' | 'f' | 's' | 'u') => mended.extend(letters.next()),
                _ => mended.push('\\'),
            }
        }
    }
    mended.push('"');
    let message = format!("a backslash in front of `{letter}` means nothing here");
    let slip = Slip::new((at + place, at + place + 1 + letter.len_utf8()), message, format!("write {mended}"));
    Text::Slipped(slip, end)
}

/// A text goes on behind what closes it: its own quotes were meant, or a comma.
fn too_many_quotes(text: &str, at: usize, end: usize) -> Text {
    let line = line_from(text, at);
    let rest = line_from(text, end);
    if rest.starts_with(',') {
        let slip = Slip::new((end, end + 1), "no commas stand between values", "take it out: a space is enough");
        return Text::Slipped(slip, end + 1);
    }
    let last = line.rfind('"').unwrap_or(0);
    if at + last < end {
        // Nothing closes once more: the text is whole, and something stands too close to it.
        let word: String = rest.chars().take_while(|letter| !letter.is_whitespace()).collect();
        let slip = Slip::new(
            (end, end + word.len()),
            format!("`{word}` stands too close to the string before it"),
            "put a space between them",
        );
        return Text::Slipped(slip, end + word.len());
    }
    let help = format!("write {}", quoted(&line[1..last]));
    let slip = Slip::new((end - 1, end), "this quote ends the string, and more of it follows", help);
    Text::Slipped(slip, at + last + 1)
}

/// Reads a text of several lines, which begins with three quotes.
fn read_lines(text: &str, at: usize) -> Text {
    let line = line_from(text, at);
    if line.trim_end() != "\"\"\"" {
        // Three quotes on one line.
        let inner = &line[3..];
        let (value, length) = match inner.rfind("\"\"\"") {
            Some(end) => (&inner[..end], end + 6),
            None => (inner.trim_end(), line.len()),
        };
        let message = "three quotes begin a multi-line string, whose first line begins below them";
        let slip = Slip::new((at, at + length), message, format!("write {}", quoted(value)));
        return Text::Slipped(slip, at + length);
    }
    let body = at + line.len();
    let Some(length) = text[body..].find("\"\"\"") else {
        let slip = Slip::new(
            (at, at + 3),
            "this multi-line string has no closing quotes",
            "write \"\"\" on a line of its own below it",
        );
        return Text::Slipped(slip, text.len());
    };
    let end = body + length;
    let lead = &text[text[..end].rfind('\n').map_or(0, |start| start + 1)..end];
    if !lead.trim().is_empty() {
        let help = "write \"\"\" on a line of its own";
        let slip =
            Slip::new((end, end + 3), "the closing quotes of a multi-line string stand alone on their line", help);
        return Text::Slipped(slip, end + 3);
    }
    let mut start = body;
    for line in text[body..end].split_inclusive('\n') {
        let words = line.trim();
        if start > body && start + line.len() <= end && !words.is_empty() && !line.starts_with(lead) {
            let message = if line.starts_with([' ', '\t']) && lead.contains('\t') != line.contains('\t') {
                "this line does not begin with the same spaces or tabs as the closing quotes below it"
            } else {
                "this line begins further left than the closing quotes below it"
            };
            let from = start + line.len() - line.trim_start().len();
            let slip = Slip::new((from, from + words.len()), message, format!("write {}", quoted_lead(lead, words)));
            return Text::Slipped(slip, end + 3);
        }
        start += line.len();
    }
    Text::Whole(end + 3)
}

/// A line behind the white space that it needs, visible as such.
fn quoted_lead(lead: &str, words: &str) -> String {
    let tabs = lead.matches('\t').count();
    let spaces = lead.len() - tabs;
    let what = match (spaces, tabs) {
        (0, tabs) => format!("{tabs} tabs"),
        (spaces, 0) => format!("{spaces} spaces"),
        (spaces, tabs) => format!("{spaces} spaces and {tabs} tabs, as there,"),
    };
    format!("{what} in front of `{words}`, or move the closing quotes left")
}
