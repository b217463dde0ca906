//! Digests: `sha256:` and 64 hexadecimal digits.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The SHA-256 digest of some bytes (OCI Image specification, descriptor, "Digests").
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest {
    hex: String,
}

/// Why a text is not a digest.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a digest: `sha256:` and 64 of 0-9 and a-f")]
pub struct DigestError(String);

impl Digest {
    /// The digest with these 32 bytes.
    #[must_use]
    pub fn from_bytes(bytes: &[u8; 32]) -> Self {
        let hex = bytes.iter().flat_map(|byte| [byte >> 4, byte & 15]);
        Self { hex: hex.map(|nibble| char::from_digit(u32::from(nibble), 16).unwrap_or('0')).collect() }
    }

    /// The 32 bytes.
    #[must_use]
    pub fn bytes(&self) -> [u8; 32] {
        let nibble = |at: usize| (self.hex.as_bytes()[at] as char).to_digit(16).unwrap_or(0) as u8;
        std::array::from_fn(|at| nibble(2 * at) << 4 | nibble(2 * at + 1))
    }

    /// The 64 hexadecimal digits.
    #[must_use]
    pub fn hex(&self) -> &str {
        &self.hex
    }

    /// The algorithm and the first twelve digits, for people.
    #[must_use]
    pub fn short(&self) -> String {
        format!("sha256:{}", &self.hex[..12])
    }
}

impl FromStr for Digest {
    type Err = DigestError;

    fn from_str(text: &str) -> Result<Self, DigestError> {
        let fault = || DigestError(text.to_owned());
        let hex = text.strip_prefix("sha256:").ok_or_else(fault)?;
        let hexadecimal = |c: char| c.is_ascii_digit() || ('a'..='f').contains(&c);
        if hex.len() != 64 || !hex.chars().all(hexadecimal) {
            return Err(fault());
        }
        Ok(Self { hex: hex.to_owned() })
    }
}

impl TryFrom<String> for Digest {
    type Error = DigestError;

    fn try_from(text: String) -> Result<Self, DigestError> {
        text.parse()
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.to_string()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "sha256:{}", self.hex)
    }
}
