//! Hiding secrets in a stream of bytes, however the stream is cut, in whatever form programs print them.

mod forms;

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::io::{self, Read};
use std::sync::Arc;

use aho_corasick::{AhoCorasick, MatchKind};
use memchr::memchr2_iter;

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
///
/// A value may be long, and have many forms: only their beginnings are in the automaton, which would take seconds to build
/// otherwise. What begins like one is compared with the whole.
#[derive(Debug)]
struct Words {
    /// Finds beginnings.
    search: Option<AhoCorasick>,
    /// Each without ends of lines, and what stands in its place.
    patterns: Vec<(Vec<u8>, Vec<u8>)>,
    /// Of each, whether whoever has it has the secret.
    telling: Vec<bool>,
    /// The patterns by their first letters, the longest first.
    by_head: HashMap<[u8; SHORTEST], Vec<usize>>,
    /// All beginnings that are shorter than that.
    stubs: HashSet<Vec<u8>>,
    longest: usize,
}

/// How much of a pattern is in the automaton.
const HEAD: usize = 16;

/// The shortest value that is hidden. What is shorter stands in too many innocent places.
pub const SHORTEST: usize = 4;

const fn ends_line(byte: u8) -> bool {
    matches!(byte, b'\n' | b'\r')
}

/// An input without the ends of its lines, which are few.
struct Compact<'a> {
    bytes: Cow<'a, [u8]>,
    /// Where ends of lines were: before which of these bytes, each.
    ends: Vec<usize>,
}

impl<'a> Compact<'a> {
    fn of(input: &'a [u8]) -> Self {
        let mut ends = memchr2_iter(b'\n', b'\r', input).peekable();
        if ends.peek().is_none() {
            return Self { bytes: Cow::Borrowed(input), ends: Vec::new() };
        }
        let (mut bytes, mut from) = (Vec::with_capacity(input.len()), 0);
        let mut places = Vec::new();
        for end in ends {
            bytes.extend_from_slice(&input[from..end]);
            places.push(bytes.len());
            from = end + 1;
        }
        bytes.extend_from_slice(&input[from..]);
        Self { bytes: Cow::Owned(bytes), ends: places }
    }

    /// Where a byte is in the input; the input's end behind the last.
    fn place(&self, at: usize) -> usize {
        at + self.ends.partition_point(|end| *end <= at)
    }
}

impl Masker {
    /// A masker for secrets, each with its name.
    #[must_use]
    pub fn new<'a>(secrets: impl IntoIterator<Item = (&'a str, &'a [u8])>) -> Self {
        let mut patterns: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
        let (mut telling, mut known) = (Vec::new(), HashSet::new());
        for (name, value) in secrets {
            for (mut form, tells) in forms::of(value) {
                form.retain(|byte| !ends_line(*byte));
                if form.len() >= SHORTEST && known.insert(form.clone()) {
                    patterns.push((form, format!("(secret {name})").into_bytes()));
                    telling.push(tells);
                }
            }
        }
        let heads: HashSet<&[u8]> = patterns.iter().map(|(form, _)| &form[..form.len().min(HEAD)]).collect();
        // Only more beginnings than fit into memory cannot be built; hiding nothing would be worse.
        let search = (!heads.is_empty()).then(|| {
            let mut builder = AhoCorasick::builder();
            builder.match_kind(MatchKind::LeftmostFirst).build(&heads).expect("beginnings are short")
        });
        let mut by_head: HashMap<[u8; SHORTEST], Vec<usize>> = HashMap::new();
        let mut stubs = HashSet::new();
        for (number, (form, _)) in patterns.iter().enumerate() {
            stubs.extend((1..SHORTEST).map(|length| form[..length].to_vec()));
            if let Some(head) = form.first_chunk() {
                by_head.entry(*head).or_default().push(number);
            }
        }
        for numbers in by_head.values_mut() {
            numbers.sort_by_key(|number| std::cmp::Reverse(patterns[*number].0.len()));
        }
        let longest = patterns.iter().map(|(pattern, _)| pattern.len()).max().unwrap_or(0);
        Self { words: Arc::new(Words { search, patterns, telling, by_head, stubs, longest }), held: Vec::new() }
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

    /// Goes on with another masker, which knows all that this one does, and more: nothing of what is held back is shown
    /// for it. Answers what can be shown now.
    pub fn go_on_as(&mut self, other: &Self) -> Vec<u8> {
        let held = std::mem::take(&mut self.held);
        self.words = Arc::clone(&other.words);
        self.push(&held)
    }

    /// Whether it hides the same as another one.
    #[must_use]
    pub fn is_as(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.words, &other.words)
    }

    /// Ends the stream. Answers what is left to show.
    pub fn finish(&mut self) -> Vec<u8> {
        let input = std::mem::take(&mut self.held);
        self.words.mask(&input, true).0
    }

    /// The name of a secret whose value is in what is read, in any of its forms; nothing where none is. Of lines of a value
    /// only those count that others are not likely to have.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn find_in(&self, mut from: impl Read) -> io::Result<Option<String>> {
        let Some(search) = &self.words.search else { return Ok(None) };
        // What is looked at again, since a value may go on, is little beside what is new.
        let mut chunk = vec![0; (4 * self.words.longest).max(1 << 18)];
        let mut held = Vec::new();
        loop {
            let count = match from.read(&mut chunk) {
                Ok(0) => return Ok(None),
                Ok(count) => count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error),
            };
            held.extend(chunk[..count].iter().filter(|byte| !ends_line(**byte)));
            if let Some((_, number)) = self.words.first(search, &held, 0, true) {
                return Ok(Some(self.words.name(number)));
            }
            let keep = held.len().min(self.words.longest.saturating_sub(1));
            held.drain(..held.len() - keep);
        }
    }

    /// The name of the first secret that these bytes hold, as [`Masker::find_in`] finds it: for what is short, such as names.
    #[must_use]
    pub fn find_in_bytes(&self, bytes: &[u8]) -> Option<String> {
        let search = self.words.search.as_ref()?;
        let plain: Vec<u8> = bytes.iter().copied().filter(|byte| !ends_line(*byte)).collect();
        self.words.first(search, &plain, 0, true).map(|(_, number)| self.words.name(number))
    }

    /// Hides secrets in a whole text.
    pub fn whole(&mut self, text: &str) -> String {
        let mut shown = self.push(text.as_bytes());
        shown.extend(self.finish());
        String::from_utf8_lossy(&shown).into_owned()
    }
}

impl Words {
    /// The name of the secret that a pattern is a form of.
    fn name(&self, pattern: usize) -> String {
        let shown = String::from_utf8_lossy(&self.patterns[pattern].1);
        shown.trim_start_matches("(secret ").trim_end_matches(')').to_owned()
    }

    /// What can be shown of an input, and from where on it has to wait for more.
    fn mask(&self, input: &[u8], is_all: bool) -> (Vec<u8>, usize) {
        let Some(search) = &self.search else { return (input.to_vec(), input.len()) };
        let mut shown = Vec::with_capacity(input.len());
        let compact = Compact::of(input);
        // Up to where the input was looked at, and shown.
        let (mut at, mut told) = (0, 0);
        loop {
            let open = if is_all { compact.bytes.len() } else { self.first_open(search, &compact.bytes, at) };
            let Some((start, number)) =
                self.first(search, &compact.bytes, at, false).filter(|(start, _)| *start < open)
            else {
                let open = compact.place(open);
                shown.extend_from_slice(&input[told..open]);
                return (shown, open);
            };
            let (pattern, shown_instead) = &self.patterns[number];
            shown.extend_from_slice(&input[told..compact.place(start)]);
            shown.extend_from_slice(shown_instead);
            at = start + pattern.len();
            told = compact.place(at - 1) + 1;
        }
    }

    /// The first pattern in an input, the longest where several begin there: where, and which.
    fn first(&self, search: &AhoCorasick, input: &[u8], mut from: usize, only_telling: bool) -> Option<(usize, usize)> {
        loop {
            let start = search.find(input.get(from..)?)?.start() + from;
            if let Some(number) = self.pattern_at(&input[start..], only_telling) {
                return Some((start, number));
            }
            from = start + 1;
        }
    }

    /// The longest pattern that an input begins with.
    fn pattern_at(&self, input: &[u8], only_telling: bool) -> Option<usize> {
        let numbers = self.by_head.get(input.first_chunk()?)?;
        let fits =
            |number: &usize| (self.telling[*number] || !only_telling) && input.starts_with(&self.patterns[*number].0);
        numbers.iter().copied().find(fits)
    }

    /// The first place from where on the input may be the beginning of a secret that goes on in what
    /// comes next; the input's end when there is none.
    fn first_open(&self, search: &AhoCorasick, input: &[u8], from: usize) -> usize {
        let begins = |at: usize| {
            let tail = &input[at..];
            let Some(head) = tail.first_chunk() else { return self.stubs.contains(tail) };
            let goes_on = |number: &usize| {
                let pattern = &self.patterns[*number].0;
                pattern.len() > tail.len() && pattern.starts_with(tail)
            };
            self.by_head.get(head).is_some_and(|numbers| numbers.iter().any(goes_on))
        };
        let mut at = from.max(input.len().saturating_sub(self.longest.saturating_sub(1)));
        // The last few bytes may be less than what the automaton looks for.
        let last = at.max(input.len().saturating_sub(HEAD - 1));
        while let Some(found) = search.find(&input[at..]).map(|found| at + found.start()).filter(|found| *found < last)
        {
            if begins(found) {
                return found;
            }
            at = found + 1;
        }
        (last..input.len()).find(|at| begins(*at)).unwrap_or(input.len())
    }
}

#[cfg(test)]
mod tests;
