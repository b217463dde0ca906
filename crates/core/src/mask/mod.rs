//! Hiding secrets in a stream of bytes, however the stream is cut, in whatever form programs print them.

mod forms;

use std::sync::Arc;

use aho_corasick::{AhoCorasick, MatchKind};

/// Replaces secrets by `(secret NAME)`.
///
/// Ends of lines count for nothing: programs break what they encode into lines, of any length. So what is looked for, and
/// what it is looked for in, are without them.
#[derive(Clone, Debug)]
pub struct Masker {
    words: Arc<Words>,
    /// The end of what came, which may be the beginning of a secret.
    held: Vec<u8>,
}

/// What is looked for.
#[derive(Debug)]
struct Words {
    search: Option<AhoCorasick>,
    /// Each without ends of lines, and what stands in its place.
    patterns: Vec<(Vec<u8>, Vec<u8>)>,
    longest: usize,
}

/// The shortest value that is hidden. What is shorter stands in too many innocent places.
pub const SHORTEST: usize = 4;

const fn ends_line(byte: u8) -> bool {
    matches!(byte, b'\n' | b'\r')
}

/// An input without the ends of its lines, and where each byte of that is in it.
struct Compact {
    bytes: Vec<u8>,
    places: Vec<usize>,
}

impl Compact {
    fn of(input: &[u8]) -> Self {
        let (places, bytes) = input.iter().copied().enumerate().filter(|(_, byte)| !ends_line(*byte)).unzip();
        Self { bytes, places }
    }

    /// Where a byte is in the input; the input's end behind the last.
    fn place(&self, at: usize, end: usize) -> usize {
        self.places.get(at).copied().unwrap_or(end)
    }
}

impl Masker {
    /// A masker for secrets, each with its name.
    #[must_use]
    pub fn new<'a>(secrets: impl IntoIterator<Item = (&'a str, &'a [u8])>) -> Self {
        let mut patterns: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
        for (name, value) in secrets {
            for mut form in forms::of(value) {
                form.retain(|byte| !ends_line(*byte));
                if form.len() >= SHORTEST && !patterns.iter().any(|(known, _)| *known == form) {
                    patterns.push((form, format!("(secret {name})").into_bytes()));
                }
            }
        }
        let built = AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(patterns.iter().map(|(pattern, _)| pattern));
        // Only more patterns than fit into memory cannot be built; hiding nothing would be worse.
        let search = (!patterns.is_empty()).then(|| built.expect("secrets are few and short"));
        let longest = patterns.iter().map(|(pattern, _)| pattern.len()).max().unwrap_or(0);
        Self { words: Arc::new(Words { search, patterns, longest }), held: Vec::new() }
    }

    /// Takes more of the stream. Answers what can be shown of it now.
    pub fn push(&mut self, bytes: &[u8]) -> Vec<u8> {
        if self.words.search.is_none() {
            return bytes.to_vec();
        }
        self.held.extend_from_slice(bytes);
        let input = std::mem::take(&mut self.held);
        let (shown, rest) = self.words.mask(&input, false);
        self.held = input[rest..].to_vec();
        shown
    }

    /// Ends the stream. Answers what is left to show.
    pub fn finish(&mut self) -> Vec<u8> {
        let input = std::mem::take(&mut self.held);
        self.words.mask(&input, true).0
    }

    /// Hides secrets in a whole text.
    pub fn whole(&mut self, text: &str) -> String {
        let mut shown = self.push(text.as_bytes());
        shown.extend(self.finish());
        String::from_utf8_lossy(&shown).into_owned()
    }
}

impl Words {
    /// What can be shown of an input, and from where on it has to wait for more.
    fn mask(&self, input: &[u8], is_all: bool) -> (Vec<u8>, usize) {
        let Some(search) = &self.search else { return (input.to_vec(), input.len()) };
        let mut shown = Vec::with_capacity(input.len());
        let compact = Compact::of(input);
        // Up to where the input was looked at, and shown.
        let (mut at, mut told) = (0, 0);
        loop {
            let open = if is_all { compact.bytes.len() } else { self.first_open(&compact.bytes, at) };
            let found = search.find(&compact.bytes[at..]).filter(|found| at + found.start() < open);
            let Some(found) = found else {
                let open = compact.place(open, input.len());
                shown.extend_from_slice(&input[told..open]);
                return (shown, open);
            };
            shown.extend_from_slice(&input[told..compact.places[at + found.start()]]);
            shown.extend_from_slice(&self.patterns[found.pattern().as_usize()].1);
            at += found.end();
            told = compact.places[at - 1] + 1;
        }
    }

    /// The first place from where on the input may be the beginning of a secret that goes on in what
    /// comes next; the input's end when there is none.
    fn first_open(&self, input: &[u8], from: usize) -> usize {
        let from = from.max(input.len().saturating_sub(self.longest.saturating_sub(1)));
        let begins = |at: &usize| {
            let tail = &input[*at..];
            self.patterns.iter().any(|(pattern, _)| pattern.len() > tail.len() && pattern.starts_with(tail))
        };
        (from..input.len()).find(begins).unwrap_or(input.len())
    }
}

#[cfg(test)]
mod tests;
