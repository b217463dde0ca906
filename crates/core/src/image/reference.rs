//! References: `HOST[:PORT]/PATH[:TAG][@DIGEST]`.
//!
//! A host is always named. A name without one would mean whatever registry some tool prefers, and
//! not the same one everywhere.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::Digest;

/// A repository: a registry's host, with its port where it has one, and a path in it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Repository {
    host: String,
    path: String,
}

/// A tag (OCI Distribution 1.1, "Pulling manifests"): `[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Tag(String);

/// An image: a repository, and a tag or a digest or both. The digest decides when both are there.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Reference {
    /// Where it is kept.
    pub repository: Repository,
    /// The tag, if one is named.
    pub tag: Option<Tag>,
    /// The digest, if one is named.
    pub digest: Option<Digest>,
}

/// Why a text does not name an image.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReferenceError {
    /// No host in front.
    #[error("`{0}` names no registry: write HOST/PATH, as in `registry.example.test/team/app`")]
    NoHost(String),
    /// The path has letters it may not have.
    #[error("`{0}` cannot be a repository's path: parts of a-z and 0-9, joined by `.`, `_`, `-` and `/`")]
    Path(String),
    /// Neither a tag nor a digest.
    #[error("`{0}` names no tag and no digest: add `:TAG` or `@sha256:…`")]
    NoVersion(String),
    /// Not a tag.
    #[error("`{0}` cannot be a tag: 1 to 128 of letters, digits, `_`, `.` and `-`, not beginning with `.` or `-`")]
    Tag(String),
    /// Not a digest.
    #[error(transparent)]
    Digest(#[from] super::DigestError),
}

/// Whether a text may stand in front of the first slash as a host (OCI leaves this to practice: it
/// has a dot or a port, or is `localhost`).
fn is_host(text: &str) -> bool {
    let (name, port) = text.rsplit_once(':').map_or((text, None), |(name, port)| (name, Some(port)));
    let named = !name.is_empty()
        && name.split('.').all(|label| {
            !label.is_empty()
                && !label.starts_with('-')
                && !label.ends_with('-')
                && label.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
        });
    let ported = port.is_none_or(|port| port.parse::<u16>().is_ok());
    named && ported && (name.contains('.') || port.is_some() || name == "localhost")
}

/// `[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*` between slashes (OCI Distribution 1.1, "Pulling manifests").
fn is_path(text: &str) -> bool {
    text.len() <= 255
        && text.split('/').all(|part| {
            let solid = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
            let joints_hold = part
                .split(solid)
                .filter(|joint| !joint.is_empty())
                .all(|joint| matches!(joint, "." | "_" | "__") || joint.chars().all(|c| c == '-'));
            part.starts_with(solid) && part.ends_with(solid) && joints_hold
        })
}

impl Repository {
    /// The registry's host and port.
    #[must_use]
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The path in the registry.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// The image in this repository with that digest.
    #[must_use]
    pub fn at(&self, digest: Digest) -> Reference {
        Reference { repository: self.clone(), tag: None, digest: Some(digest) }
    }
}

impl FromStr for Repository {
    type Err = ReferenceError;

    fn from_str(text: &str) -> Result<Self, ReferenceError> {
        let (host, path) = text
            .split_once('/')
            .filter(|(host, _)| is_host(host))
            .ok_or_else(|| ReferenceError::NoHost(text.to_owned()))?;
        if !is_path(path) {
            return Err(ReferenceError::Path(path.to_owned()));
        }
        Ok(Self { host: host.to_owned(), path: path.to_owned() })
    }
}

impl Tag {
    /// The tag as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether these letters may all stand in a tag, for fixed parts of a longer one.
    #[must_use]
    pub fn may_contain(text: &str) -> bool {
        text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-'))
    }
}

impl FromStr for Tag {
    type Err = ReferenceError;

    fn from_str(text: &str) -> Result<Self, ReferenceError> {
        let fits = (1..=128).contains(&text.len()) && Self::may_contain(text) && !text.starts_with(['.', '-']);
        if fits { Ok(Self(text.to_owned())) } else { Err(ReferenceError::Tag(text.to_owned())) }
    }
}

impl Reference {
    /// What to ask the registry for: the digest where there is one, else the tag.
    #[must_use]
    pub fn version(&self) -> String {
        match (&self.digest, &self.tag) {
            (Some(digest), _) => digest.to_string(),
            (None, Some(tag)) => tag.0.clone(),
            (None, None) => String::new(),
        }
    }
}

impl FromStr for Reference {
    type Err = ReferenceError;

    fn from_str(text: &str) -> Result<Self, ReferenceError> {
        let (rest, digest) = match text.split_once('@') {
            Some((rest, digest)) => (rest, Some(digest.parse()?)),
            None => (text, None),
        };
        let slash = rest.find('/').unwrap_or(0);
        let (name, tag) = match rest[slash..].rfind(':') {
            Some(colon) => (&rest[..slash + colon], Some(rest[slash + colon + 1..].parse()?)),
            None => (rest, None),
        };
        let repository = name.parse()?;
        if tag.is_none() && digest.is_none() {
            return Err(ReferenceError::NoVersion(text.to_owned()));
        }
        Ok(Self { repository, tag, digest })
    }
}

impl fmt::Display for Repository {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.host, self.path)
    }
}

impl fmt::Display for Tag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.repository)?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        if let Some(digest) = &self.digest {
            write!(f, "@{digest}")?;
        }
        Ok(())
    }
}

macro_rules! text_form {
    ($($name:ty),*) => {$(
        impl TryFrom<String> for $name {
            type Error = ReferenceError;

            fn try_from(text: String) -> Result<Self, ReferenceError> {
                text.parse()
            }
        }

        impl From<$name> for String {
            fn from(value: $name) -> Self {
                value.to_string()
            }
        }
    )*};
}
text_form!(Repository, Tag, Reference);

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_reference_names_host_path_and_version() {
        let image: Reference = "registry.fernhollow.test:5000/base/web:1".parse().unwrap();
        assert_eq!(image.repository.host(), "registry.fernhollow.test:5000");
        assert_eq!(image.repository.path(), "base/web");
        assert_eq!(image.version(), "1");
    }

    #[test]
    fn the_digest_decides_over_the_tag() {
        let digest = Digest::from_bytes(&[7; 32]);
        let image: Reference = format!("a.test/b:1@{digest}").parse().unwrap();
        assert_eq!(image.version(), digest.to_string());
    }

    #[test]
    fn what_names_no_host_or_no_version_is_refused() {
        for text in [
            "base/web:1",
            "web",
            "a.test/b",
            "a.test/B:1",
            "a.test/b:",
            "a.test/b:.x",
            "a.test//b:1",
            "a.test/b@sha256:12",
            "a.test/../b:1",
            "a.test/b_:1",
            "-a.test/b:1",
        ] {
            assert!(text.parse::<Reference>().is_err(), "{text:?} was taken for an image");
        }
    }

    proptest! {
        #[test]
        fn every_reference_reads_back_as_it_was_written(
            host in "[a-z]{1,8}\\.test(:[1-9][0-9]{1,3})?",
            path in "[a-z0-9]{1,5}((\\.|_|__|-)[a-z0-9]{1,4}){0,2}(/[a-z0-9]{1,4}){0,2}",
            tag in "[A-Za-z0-9_][A-Za-z0-9._-]{0,20}",
            bytes in any::<[u8; 32]>(),
        ) {
            let text = format!("{host}/{path}:{tag}@{}", Digest::from_bytes(&bytes));
            prop_assert_eq!(text.parse::<Reference>().unwrap().to_string(), text);
        }
    }
}
