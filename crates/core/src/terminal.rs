//! What a terminal shows of a line in the end.
//!
//! Programs that draw progress return to the line's beginning and write over it. Of such a line only what is seen
//! at last is worth reading.

use std::borrow::Cow;

/// A letter in its column, behind the sequences that were written in front of it.
struct Cell {
    sequences: String,
    letter: char,
}

/// A line as a terminal shows it in the end: what a carriage return went back over and what was written over it
/// are gone, and so is what was erased (ECMA-48, EL). Other sequences, such as colours, stay where they are.
#[must_use]
pub fn final_line(line: &str) -> Cow<'_, str> {
    let line = line.trim_end_matches('\r');
    if !line.contains('\r') {
        return Cow::Borrowed(line);
    }
    let mut cells: Vec<Cell> = Vec::new();
    let mut column = 0;
    let mut pending = String::new();
    let mut letters = line.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '\r' => column = 0,
            '\u{1b}' if letters.peek() == Some(&'[') => {
                let mut sequence = String::from(letter);
                for letter in letters.by_ref() {
                    sequence.push(letter);
                    if letter != '[' && ('\u{40}'..='\u{7e}').contains(&letter) {
                        break;
                    }
                }
                match sequence.as_str() {
                    "\u{1b}[K" | "\u{1b}[0K" => cells.truncate(column),
                    "\u{1b}[2K" => cells.clear(),
                    _ => pending += &sequence,
                }
            }
            letter => {
                while cells.len() < column {
                    cells.push(Cell { sequences: String::new(), letter: ' ' });
                }
                let cell = Cell { sequences: std::mem::take(&mut pending), letter };
                match cells.get_mut(column) {
                    Some(there) => *there = cell,
                    None => cells.push(cell),
                }
                column += 1;
            }
        }
    }
    let mut out = String::new();
    for Cell { sequences, letter } in cells {
        out += &sequences;
        out.push(letter);
    }
    Cow::Owned(out + &pending)
}

/// Every line of a text as a terminal shows it in the end.
#[must_use]
pub fn final_text(text: &str) -> Cow<'_, str> {
    if !text.contains('\r') {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.split('\n').map(final_line).collect::<Vec<_>>().join("\n"))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_was_written_over_is_gone_and_what_was_not_stays() {
        for (line, shown) in [
            ("plain", "plain"),
            ("ends as on other systems\r", "ends as on other systems"),
            ("10 %\r50 %\r100 %", "100 %"),
            ("fetching 100 packages\rdone", "donehing 100 packages"),
            ("fetching 100 packages\r\u{1b}[Kdone", "done"),
            ("fetching\r\u{1b}[2Kall is here", "all is here"),
            ("\u{1b}[32m10 %\u{1b}[0m\r\u{1b}[32m90 %", "\u{1b}[0m\u{1b}[32m90 %"),
            ("ab\r\r", "ab"),
            ("\rab", "ab"),
        ] {
            assert_eq!(final_line(line), shown, "{line:?}");
        }
        assert_eq!(final_text("a\r\nb\rc\n"), "a\nc\n");
    }

    proptest! {
        #[test]
        fn a_line_is_settled_once_and_for_all_and_one_without_returns_is_as_it_was(
            line in "([a-c\r]|\u{1b}\\[K|\u{1b}\\[31m|\u{1b}){0,20}", plain in "[ -~]{0,20}"
        ) {
            let once = final_line(&line).into_owned();
            prop_assert!(!once.contains('\r'));
            prop_assert_eq!(final_line(&once), once.as_str());
            prop_assert_eq!(final_line(&plain), plain.as_str());
        }
    }
}
