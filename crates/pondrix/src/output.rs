//! Printing for people: tables, colours, moments.

use std::io::{IsTerminal, Write};
use std::time::{SystemTime, UNIX_EPOCH};

use pondrix_api::RunSummary;
use pondrix_core::{State, Time};
use serde::Serialize;

use crate::failure::Failure;

/// Prints a line; a reader that went away is no fault of ours.
pub(crate) fn line(text: &str) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

/// Prints a value as JSON.
pub(crate) fn json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|error| Failure::new(error.to_string()))?;
    line(&text);
    Ok(())
}

/// Whether colours are wanted on standard output (no-color.org: any value that is not empty says no).
pub(crate) fn colours() -> bool {
    std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}

/// A state: its sign and its word, in colours that colour-blind people tell apart.
pub(crate) fn state(state: State) -> String {
    let (sign, colour) = match state {
        State::Queued => ("\u{25cb}", 246),
        State::Waiting => ("\u{25d4}", 179),
        State::Running => ("\u{25d0}", 74),
        State::Passed => ("\u{25cf}", 36),
        State::Failed => ("\u{2715}", 209),
        State::Stopped => ("\u{25a0}", 139),
        State::Skipped => ("\u{2013}", 242),
        State::Lost => ("?", 178),
    };
    let text = format!("{sign} {state}");
    if colours() { format!("\u{1b}[38;5;{colour}m{text}\u{1b}[0m") } else { text }
}

/// Text that is less important.
pub(crate) fn faint(text: &str) -> String {
    if colours() { format!("\u{1b}[38;5;246m{text}\u{1b}[0m") } else { text.to_owned() }
}

/// Text that is looked for first.
pub(crate) fn strong(text: &str) -> String {
    if colours() { format!("\u{1b}[1m{text}\u{1b}[0m") } else { text.to_owned() }
}

/// How many columns a text takes, colours not counted.
fn width(text: &str) -> usize {
    let mut count = 0;
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        if letter == '\u{1b}' {
            letters.by_ref().find(|letter| *letter == 'm');
        } else {
            count += 1;
        }
    }
    count
}

/// Prints words behind a lead; on a terminal they go on below themselves and not below the lead.
pub(crate) fn hanging(lead: &str, words: &str) {
    let columns = std::io::stdout().is_terminal().then(|| rustix::termios::tcgetwinsize(std::io::stdout()).ok());
    let room = columns.flatten().map_or(usize::MAX, |size| usize::from(size.ws_col)).saturating_sub(width(lead));
    // What has lines of its own keeps them.
    let room = if words.contains('\n') { usize::MAX } else { room };
    let mut lines = vec![String::new()];
    for word in words.split(' ') {
        let last = lines.last().map_or(0, |line| width(line));
        if last > 0 && last + 1 + width(word) > room {
            lines.push(word.to_owned());
        } else if let Some(line) = lines.last_mut() {
            let space = if line.is_empty() { "" } else { " " };
            *line = format!("{line}{space}{word}");
        }
    }
    let below = format!("\n{}", " ".repeat(width(lead)));
    line(&format!("{lead}{}", lines.join(&below)));
}

/// Prints rows under headings, each column as wide as its widest cell.
pub(crate) fn table(headings: &[&str], rows: &[Vec<String>]) {
    let cell = |row: &Vec<String>, at: usize| row.get(at).map_or(0, |cell| width(cell));
    let widths: Vec<usize> = headings
        .iter()
        .enumerate()
        .map(|(at, heading)| rows.iter().map(|row| cell(row, at)).max().unwrap_or(0).max(heading.len()))
        .collect();
    let print = |cells: &[String]| {
        let mut text = String::new();
        for (cell, wide) in cells.iter().zip(&widths) {
            text.push_str(cell);
            text.push_str(&" ".repeat(wide - width(cell).min(*wide) + 2));
        }
        line(text.trim_end());
    };
    print(&headings.iter().map(|heading| faint(heading)).collect::<Vec<_>>());
    rows.iter().for_each(|row| print(row));
}

/// The moment now.
pub(crate) fn now() -> Time {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Time::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// A length of time in milliseconds, for people.
pub(crate) fn length(millis: u64) -> String {
    match millis / 1000 {
        0 => format!("{millis} ms"),
        seconds @ 1..60 => format!("{seconds}.{} s", millis % 1000 / 100),
        seconds @ 60..3600 => format!("{} min {} s", seconds / 60, seconds % 60),
        seconds => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}

/// How long ago a moment was, for people.
pub(crate) fn ago(moment: Time) -> String {
    match now().since(moment) / 1000 {
        0..5 => "now".to_owned(),
        seconds @ 5..120 => format!("{seconds} s ago"),
        seconds @ 120..7200 => format!("{} min ago", seconds / 60),
        seconds @ 7200..172_800 => format!("{} h ago", seconds / 3600),
        seconds => format!("{} days ago", seconds / 86_400),
    }
}

/// A moment as a day and a time, in UTC, to the minute.
pub(crate) fn moment(moment: Time) -> String {
    let text = moment.to_string();
    format!("{} UTC", text.get(..16).unwrap_or(&text).replace('T', " "))
}

/// How long something took or takes; empty when it has not begun.
pub(crate) fn took(started: Option<Time>, ended: Option<Time>) -> String {
    started.map_or_else(String::new, |started| length(ended.unwrap_or_else(now).since(started)))
}

/// An amount of bytes, for people.
pub(crate) fn bytes(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// The branch of a run, or its tag.
pub(crate) fn place(run: &RunSummary) -> String {
    plain(&run.tag.as_ref().map_or_else(|| run.branch.clone(), |tag| format!("tag {tag}")))
}

/// A text cut to a number of letters.
pub(crate) fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most.saturating_sub(1)).chain(['\u{2026}']).collect()
}

/// A text of another's making without the control characters that could move the cursor or change
/// the terminal.
pub(crate) fn plain(text: &str) -> String {
    text.chars().map(|letter| if letter.is_control() { ' ' } else { letter }).collect()
}
