//! The audit: who did what to what, and with what result, as a chain that shows where something was changed or left out.
//!
//! Every entry holds the digest of the one before it, and a [`Link`] the digest of its own. As JSON a link is one line, and
//! its `chain` is the SHA-256 of that line as it is without this last field; so whoever has the lines can prove them with
//! what every machine has.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

use crate::Time;
use crate::image::Digest;

/// How much is kept of what names a thing, and of what says more of it, in bytes.
const LONGEST_TARGET: usize = 200;
const LONGEST_WORDS: usize = 600;

/// What became of something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AuditResult {
    /// It was done.
    Done,
    /// It was not allowed, or could not be as things stood.
    Refused,
    /// The server could not do it.
    Failed,
}

impl AuditResult {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Done, Self::Refused, Self::Failed];

    /// In a word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Refused => "refused",
            Self::Failed => "failed",
        }
    }
}

impl fmt::Display for AuditResult {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Why a text is no result.
#[derive(Clone, Debug, thiserror::Error)]
#[error("`{0}` is no result: done, refused or failed")]
pub struct UnknownResult(String);

impl FromStr for AuditResult {
    type Err = UnknownResult;

    fn from_str(text: &str) -> Result<Self, UnknownResult> {
        Self::ALL.into_iter().find(|one| one.word() == text).ok_or_else(|| UnknownResult(text.to_owned()))
    }
}

/// What was done, before it has its place in the chain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Deed {
    /// Who: a person, `runner NAME`, `hook of PROJECT`, `the server`; `nobody` where that is not known.
    pub who: String,
    /// The number of the token that they showed.
    pub token: Option<i64>,
    /// The address that they asked from.
    pub from: Option<String>,
    /// What was done, in two words: a thing, and what was done to it (`secret set`).
    pub action: String,
    /// To which (`DEPLOY_KEY`).
    pub target: String,
    /// In which project.
    pub project: Option<String>,
    /// With what result.
    pub result: AuditResult,
    /// What else there is to say: what exactly was set, or why it was refused.
    pub words: String,
}

/// What was done, in its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Its number: 1 for the first, and no gap.
    pub number: u64,
    /// When.
    pub at: Time,
    /// What was done.
    #[serde(flatten)]
    pub deed: Deed,
    /// The digest of the entry before; for the first one that of nothing.
    pub after: Digest,
}

/// An entry with its digest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// The entry.
    #[serde(flatten)]
    pub entry: Entry,
    /// Its digest.
    pub chain: Digest,
}

/// A text of at most so many bytes; what is cut off is told by `…`.
fn cut(text: &mut String, most: usize) {
    if text.len() > most {
        text.truncate(text.floor_char_boundary(most));
        text.push('…');
    }
}

impl Deed {
    /// The same, no longer than it is kept.
    #[must_use]
    pub fn shortened(mut self) -> Self {
        for text in [&mut self.who, &mut self.target, &mut self.action] {
            cut(text, LONGEST_TARGET);
        }
        if let Some(project) = &mut self.project {
            cut(project, LONGEST_TARGET);
        }
        cut(&mut self.words, LONGEST_WORDS);
        self
    }
}

impl Entry {
    /// Its digest.
    #[must_use]
    pub fn digest(&self) -> Digest {
        // A struct of texts and numbers always has a form in JSON.
        let line = serde_json::to_vec(self).unwrap_or_default();
        Digest::from_bytes(&Sha256::digest(line).into())
    }
}

/// A place in the chain: what is known up to there is known by its digest alone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// The number of an entry; 0 before the first.
    pub number: u64,
    /// Its digest.
    pub chain: Digest,
}

impl Place {
    /// The place before the first entry.
    #[must_use]
    pub fn start() -> Self {
        Self { number: 0, chain: Digest::from_bytes(&Sha256::digest([]).into()) }
    }

    /// What is done next, as the link that follows.
    #[must_use]
    pub fn next(&self, at: Time, deed: Deed) -> Link {
        let entry = Entry { number: self.number + 1, at, deed: deed.shortened(), after: self.chain.clone() };
        let chain = entry.digest();
        Link { entry, chain }
    }

    /// Goes on to a link.
    ///
    /// # Errors
    /// When it is not the one that follows, whole as it was made; the place stays.
    pub fn advance(&mut self, link: &Link) -> Result<(), Broken> {
        let number = link.entry.number;
        let expected = self.number + 1;
        if number != expected {
            return Err(Broken { number: expected, how: How::Missing { found: number } });
        }
        if link.entry.after != self.chain {
            return Err(Broken { number, how: How::Unconnected });
        }
        if link.entry.digest() != link.chain {
            return Err(Broken { number, how: How::Changed });
        }
        *self = Self { number, chain: link.chain.clone() };
        Ok(())
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.number, self.chain.hex())
    }
}

/// Why a text is no place.
#[derive(Clone, Debug, thiserror::Error)]
#[error("`{0}` is no place in the audit: write NUMBER:DIGEST, as `pondrix audit verify` prints it")]
pub struct NoPlace(String);

impl FromStr for Place {
    type Err = NoPlace;

    fn from_str(text: &str) -> Result<Self, NoPlace> {
        let place = || {
            let (number, hex) = text.split_once(':')?;
            Some(Self { number: number.parse().ok()?, chain: format!("sha256:{hex}").parse().ok()? })
        };
        place().ok_or_else(|| NoPlace(text.to_owned()))
    }
}

/// Where a chain is broken first.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("entry {number} {how}")]
pub struct Broken {
    /// The number of the entry.
    pub number: u64,
    /// How.
    pub how: How,
}

/// How a chain is broken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum How {
    /// It is not there; another one is.
    Missing {
        /// The number of that.
        found: u64,
    },
    /// It does not follow the one before.
    Unconnected,
    /// It is not as it was written.
    Changed,
}

impl fmt::Display for How {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing { found } => write!(f, "is not there: entry {found} is in its place"),
            Self::Unconnected => {
                f.write_str("does not follow the one before it: that one, or this one, was put there later")
            }
            Self::Changed => f.write_str("is not as it was written"),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn deed(words: &str) -> Deed {
        Deed {
            who: "wren".to_owned(),
            token: Some(3),
            from: Some("10.0.0.7".to_owned()),
            action: "secret set".to_owned(),
            target: "DEPLOY_KEY".to_owned(),
            project: Some("lantern".to_owned()),
            result: AuditResult::Done,
            words: words.to_owned(),
        }
    }

    fn chain(words: &[String]) -> Vec<Link> {
        let mut place = Place::start();
        let mut links = Vec::new();
        for (at, words) in (0..).zip(words) {
            let link = place.next(Time::from_millis(1_700_000_000_000 + at), deed(words));
            place.advance(&link).unwrap();
            links.push(link);
        }
        links
    }

    fn proof(links: &[Link]) -> Result<Place, Broken> {
        let mut place = Place::start();
        links.iter().try_for_each(|link| place.advance(link))?;
        Ok(place)
    }

    #[test]
    fn a_line_is_proved_by_what_it_says_without_its_last_field() {
        let link = &chain(&["for protected refs only".to_owned()])[0];
        let line = serde_json::to_string(link).unwrap();
        let (before, last) = line.rsplit_once(",\"chain\":").unwrap();
        let digest: [u8; 32] = Sha256::digest(format!("{before}}}")).into();
        assert_eq!(last, format!("\"{}\"}}", Digest::from_bytes(&digest)));
        assert_eq!(
            line,
            "{\"number\":1,\"at\":\"2023-11-14T22:13:20.000Z\",\"who\":\"wren\",\"token\":3,\"from\":\"10.0.0.7\",\
             \"action\":\"secret set\",\"target\":\"DEPLOY_KEY\",\"project\":\"lantern\",\"result\":\"done\",\
             \"words\":\"for protected refs only\",\
             \"after\":\"sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\",\
             \"chain\":\"sha256:851df7b498251d923739079b62f5bed5bdf473b0c8b5be6b52ae5c7564a494b7\"}"
        );
        assert_eq!(serde_json::from_str::<Link>(&line).unwrap(), *link);
    }

    #[test]
    fn a_place_is_written_as_it_is_read() {
        let place = proof(&chain(&["a".to_owned(), "b".to_owned()])).unwrap();
        assert_eq!(place.to_string().parse::<Place>().unwrap(), place);
        for wrong in ["", "2", "2:", "x:00", &format!("2:{}", "g".repeat(64)), &format!("-1:{}", "0".repeat(64))] {
            assert!(wrong.parse::<Place>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_is_too_long_is_cut_between_letters_and_says_so() {
        let long = Deed { target: "ä".repeat(500), words: "w".repeat(5000), ..deed("") }.shortened();
        assert_eq!(long.target, format!("{}…", "ä".repeat(LONGEST_TARGET / 2)));
        assert_eq!(long.words.len(), LONGEST_WORDS + '…'.len_utf8());
    }

    proptest! {
        #[test]
        fn whatever_is_changed_left_out_or_moved_is_found_at_the_first_place(
            words in prop::collection::vec(".{0,12}", 2..12), at in any::<prop::sample::Index>(), way in 0..5,
        ) {
            let links = chain(&words);
            prop_assert_eq!(proof(&links).unwrap().number, links.len() as u64);
            let at = at.index(links.len());
            let mut changed = links.clone();
            let number = links[at].entry.number;
            let first = match way {
                0 => {
                    changed[at].entry.deed.words.push('!');
                    number
                }
                // Whoever makes the digest anew as well is found by what follows.
                1 if at + 1 < links.len() => {
                    changed[at].entry.deed.result = AuditResult::Refused;
                    changed[at].chain = changed[at].entry.digest();
                    number + 1
                }
                2 if at + 1 < links.len() => {
                    changed.remove(at);
                    number
                }
                3 if at + 1 < links.len() => {
                    changed.swap(at, at + 1);
                    number
                }
                _ => {
                    changed[at].entry.at = changed[at].entry.at.plus_millis(1);
                    number
                }
            };
            prop_assert_eq!(proof(&changed).unwrap_err().number, first);
        }

        #[test]
        fn a_link_says_the_same_after_it_was_written_as_json(words in ".{0,40}", who in ".{0,10}") {
            let link = Place::start().next(Time::from_millis(5), Deed { who, ..deed(&words) });
            let read: Link = serde_json::from_str(&serde_json::to_string(&link).unwrap()).unwrap();
            prop_assert!(Place::start().advance(&read).is_ok());
            prop_assert_eq!(read, link);
        }
    }
}
