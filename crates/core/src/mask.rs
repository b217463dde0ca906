//! Hiding secrets in a stream of bytes, however the stream is cut.

use aho_corasick::{AhoCorasick, MatchKind};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};

/// Replaces secrets by `(secret NAME)`.
#[derive(Debug)]
pub struct Masker {
    search: Option<AhoCorasick>,
    /// What is looked for, and what stands in its place.
    patterns: Vec<(Vec<u8>, Vec<u8>)>,
    /// The end of what came, which may be the beginning of a secret.
    held: Vec<u8>,
}

/// The shortest value that is hidden. What is shorter stands in too many innocent places.
pub const SHORTEST: usize = 4;

/// The forms in which a value is known to show up: itself without the white space around it, each of its lines, and in base64.
fn forms(value: &[u8]) -> Vec<Vec<u8>> {
    let trimmed = value.trim_ascii();
    let mut forms = vec![trimmed.to_vec()];
    forms.extend(trimmed.split(|byte| *byte == b'\n').map(|line| line.trim_ascii().to_vec()));
    for alphabet in [STANDARD_NO_PAD, URL_SAFE_NO_PAD] {
        // Programs encode both the value as it is and the value with a line's end.
        forms.extend([trimmed, value].map(|bytes| alphabet.encode(bytes).into_bytes()));
    }
    forms.retain(|form| form.len() >= SHORTEST);
    forms
}

impl Masker {
    /// A masker for secrets, each with its name.
    #[must_use]
    pub fn new<'a>(secrets: impl IntoIterator<Item = (&'a str, &'a [u8])>) -> Self {
        let mut patterns: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
        for (name, value) in secrets {
            for form in forms(value) {
                if !patterns.iter().any(|(known, _)| *known == form) {
                    patterns.push((form, format!("(secret {name})").into_bytes()));
                }
            }
        }
        let built = AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(patterns.iter().map(|(pattern, _)| pattern));
        // Only more patterns than fit into memory cannot be built; hiding nothing would be worse.
        let search = (!patterns.is_empty()).then(|| built.expect("secrets are few and short"));
        Self { search, patterns, held: Vec::new() }
    }

    /// Takes more of the stream. Answers what can be shown of it now.
    pub fn push(&mut self, bytes: &[u8]) -> Vec<u8> {
        if self.search.is_none() {
            return bytes.to_vec();
        }
        self.held.extend_from_slice(bytes);
        let input = std::mem::take(&mut self.held);
        let (shown, rest) = self.mask(&input, false);
        self.held = input[rest..].to_vec();
        shown
    }

    /// Ends the stream. Answers what is left to show.
    pub fn finish(&mut self) -> Vec<u8> {
        let input = std::mem::take(&mut self.held);
        self.mask(&input, true).0
    }

    /// Hides secrets in a whole text.
    pub fn whole(&mut self, text: &str) -> String {
        let mut shown = self.push(text.as_bytes());
        shown.extend(self.finish());
        String::from_utf8_lossy(&shown).into_owned()
    }

    /// What can be shown of an input, and from where on it has to wait for more.
    fn mask(&self, input: &[u8], is_all: bool) -> (Vec<u8>, usize) {
        let mut shown = Vec::with_capacity(input.len());
        let Some(search) = &self.search else { return (input.to_vec(), input.len()) };
        let mut at = 0;
        loop {
            let found = search.find(&input[at..]).map(|found| (at + found.start(), at + found.end(), found.pattern()));
            let open = if is_all { input.len() } else { self.first_open(input, at) };
            match found.filter(|(start, ..)| *start < open) {
                Some((start, end, pattern)) => {
                    shown.extend_from_slice(&input[at..start]);
                    shown.extend_from_slice(&self.patterns[pattern.as_usize()].1);
                    at = end;
                }
                None => {
                    shown.extend_from_slice(&input[at..open]);
                    return (shown, open);
                }
            }
        }
    }

    /// The first place from where on the input may be the beginning of a secret that goes on in what
    /// comes next; the input's end when there is none.
    fn first_open(&self, input: &[u8], from: usize) -> usize {
        let longest = self.patterns.iter().map(|(pattern, _)| pattern.len()).max().unwrap_or(0);
        let from = from.max(input.len().saturating_sub(longest.saturating_sub(1)));
        let begins = |at: &usize| {
            let tail = &input[*at..];
            self.patterns.iter().any(|(pattern, _)| pattern.len() > tail.len() && pattern.starts_with(tail))
        };
        (from..input.len()).find(begins).unwrap_or(input.len())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn whole(secrets: &[(&str, &[u8])], text: &[u8]) -> Vec<u8> {
        let mut masker = Masker::new(secrets.iter().copied());
        let mut shown = masker.push(text);
        shown.extend(masker.finish());
        shown
    }

    fn text(secrets: &[(&str, &[u8])], text: &str) -> String {
        String::from_utf8(whole(secrets, text.as_bytes())).unwrap()
    }

    #[test]
    fn a_secret_shows_as_its_name() {
        let secrets: [(&str, &[u8]); 2] = [("KEY", b"s3cret"), ("LONG", b"s3cret-and-more")];
        assert_eq!(text(&secrets, "a s3cret b"), "a (secret KEY) b");
        assert_eq!(text(&secrets, "s3cret-and-more, s3cret-and-mo"), "(secret LONG), (secret KEY)-and-mo");
        assert_eq!(text(&[], "s3cret"), "s3cret");
    }

    #[test]
    fn the_lines_of_a_value_and_its_base64_are_hidden_too() {
        let secrets: [(&str, &[u8]); 1] = [("PEM", b"first line\nsecond line\n")];
        assert_eq!(text(&secrets, "x second line y"), "x (secret PEM) y");
        // `printf 'first line\nsecond line' | base64`, and with the line's end.
        assert_eq!(text(&secrets, "Zmlyc3QgbGluZQpzZWNvbmQgbGluZQ=="), "(secret PEM)==");
        assert_eq!(text(&secrets, "Zmlyc3QgbGluZQpzZWNvbmQgbGluZQo="), "(secret PEM)=");
    }

    #[test]
    fn what_cannot_be_a_secret_any_more_is_shown_at_once() {
        let mut masker = Masker::new([("KEY", b"s3cret".as_slice())]);
        assert_eq!(masker.push(b"hello s3"), b"hello ");
        assert_eq!(masker.push(b"ven"), b"s3ven");
        assert_eq!(masker.push(b" s3cr"), b" ");
        assert_eq!(masker.push(b"et\n"), b"(secret KEY)\n");
        assert_eq!(masker.finish(), b"");
    }

    #[test]
    fn what_is_too_short_to_hide_is_left_alone() {
        assert_eq!(text(&[("PIN", b"12")], "12 12"), "12 12");
    }

    proptest! {
        #[test]
        fn a_stream_cut_anywhere_is_masked_as_the_whole(
            secrets in prop::collection::vec("[ab]{4,9}", 0..4),
            stream in "[abc\n]{0,60}",
            cuts in prop::collection::vec(0usize..60, 0..8),
        ) {
            let named: Vec<(String, &String)> =
                secrets.iter().enumerate().map(|(at, value)| (format!("S{at}"), value)).collect();
            let pairs: Vec<_> = named.iter().map(|(name, value)| (name.as_str(), value.as_bytes())).collect();
            let expected = whole(&pairs, stream.as_bytes());
            let mut cuts: Vec<_> = cuts.into_iter().map(|cut| cut.min(stream.len())).collect();
            cuts.extend([0, stream.len()]);
            cuts.sort_unstable();
            let mut masker = Masker::new(pairs.iter().copied());
            let mut shown = Vec::new();
            for pair in cuts.windows(2) {
                shown.extend(masker.push(&stream.as_bytes()[pair[0]..pair[1]]));
            }
            shown.extend(masker.finish());
            prop_assert_eq!(&shown, &expected);
            for value in &secrets {
                let found = shown.windows(value.len()).any(|window| window == value.as_bytes());
                prop_assert!(!found, "{:?} shows in {:?}", value, String::from_utf8_lossy(&shown));
            }
        }
    }
}
