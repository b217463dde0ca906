//! What is read at all. The library that reads the notation goes down once for each brace, so a text of many braces
//! in each other could use up the stack and with it end the process: such a text is refused, or read where the stack
//! is large enough for the deepest that is left.

use super::notation::Slip;
use super::tree::{At, Document, Node};

/// The longest pipeline file or template, in bytes. One of 2,000 jobs has a fifth of it.
pub const LONGEST_FILE: usize = 1 << 20;
/// The most braces, brackets and comments that may be opened in a file for the library to read it, wherever they stand.
const MOST_OPENED: usize = 4_000;
/// How deep braces may stand in each other; a pipeline needs five.
const DEEPEST: usize = 64;
/// A stack that is large enough for [`MOST_OPENED`] in each other: the library takes less than that for each, where
/// it is not optimised. Of this only what is used takes room.
const STACK: usize = MOST_OPENED * 64 * 1024;

/// Why a text is not read at all.
pub(super) fn refusal(text: &str) -> Option<Slip> {
    (text.len() > LONGEST_FILE).then(|| {
        let message = format!("the file is longer than {} KiB, which no pipeline file may be", LONGEST_FILE / 1024);
        Slip { at: (0, 1), message, help: "move what is repeated into a template".to_owned() }
    })
}

/// Why a text is not given to the library.
pub(super) fn refusal_of_library(text: &str) -> Option<Slip> {
    let opens = |(at, _): &(usize, &str)| text[*at..].starts_with(['{', '(']) || text[*at..].starts_with("/*");
    let (at, _) = text.match_indices(['{', '(', '/']).filter(opens).nth(MOST_OPENED)?;
    let message = format!("more than {MOST_OPENED} braces are opened up to here, in a file that is no plain one");
    let help = "keep to words, texts in quotes and braces, or move what is repeated into a template".to_owned();
    Some(Slip { at: (at, at + 1), message, help })
}

/// The first place that stands deeper than any may.
fn too_deep(nodes: &[Node]) -> Option<At> {
    // A list and no recursion: what is looked at may be as deep as the stack of another thread allows.
    let mut open: Vec<(&Node, usize)> = nodes.iter().rev().map(|node| (node, 1)).collect();
    while let Some((node, depth)) = open.pop() {
        if depth > DEEPEST {
            return Some(node.name.at);
        }
        open.extend(node.children.iter().flat_map(|document| &document.nodes).rev().map(|child| (child, depth + 1)));
    }
    None
}

/// Reads a text where the stack is large enough for every text that is not refused. What is then deeper than any may
/// be is taken apart there too.
pub(super) fn with_room<E: Send>(
    read: impl FnOnce() -> Result<Document, E> + Send,
) -> Result<Result<Document, Slip>, E> {
    std::thread::scope(|scope| {
        let reading = std::thread::Builder::new().stack_size(STACK).spawn_scoped(scope, || {
            let document = read()?;
            Ok(match too_deep(&document.nodes) {
                Some(at) => {
                    let message = format!("braces stand more than {DEEPEST} deep in each other here");
                    Err(Slip { at, message, help: "no pipeline needs that".to_owned() })
                }
                None => Ok(document),
            })
        });
        let reading = reading.expect("a thread can be started");
        reading.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}
