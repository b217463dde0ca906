//! Names of secrets.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A secret's name, which may also be a variable's (POSIX.1-2017, 8.1): letters, digits and `_`, no
/// digit in front, at most 128.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct SecretName(String);

/// Why a text is not a secret's name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SecretNameError {
    /// Letters that it may not have.
    #[error("`{0}` cannot be a secret's name: letters, digits and `_`, with no digit in front, at most 128")]
    Letters(String),
    /// A name that Pondrix gives.
    #[error("`{0}` is a name that Pondrix itself uses; choose another")]
    Taken(String),
}

impl SecretName {
    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Whether a text may be a variable's name.
pub(crate) fn is_variable(text: &str) -> bool {
    let letters = |c: char| c.is_ascii_alphanumeric() || c == '_';
    !text.is_empty() && text.chars().all(letters) && !text.starts_with(|c: char| c.is_ascii_digit())
}

/// Whether Pondrix itself sets a variable of this name.
pub(crate) fn is_taken(text: &str) -> bool {
    text.starts_with("PONDRIX_") || matches!(text, "CI" | "SOURCE_DATE_EPOCH")
}

impl FromStr for SecretName {
    type Err = SecretNameError;

    fn from_str(text: &str) -> Result<Self, SecretNameError> {
        if !is_variable(text) || text.len() > 128 {
            return Err(SecretNameError::Letters(text.to_owned()));
        }
        if is_taken(text) { Err(SecretNameError::Taken(text.to_owned())) } else { Ok(Self(text.to_owned())) }
    }
}

impl TryFrom<String> for SecretName {
    type Error = SecretNameError;

    fn try_from(text: String) -> Result<Self, SecretNameError> {
        text.parse()
    }
}

impl From<SecretName> for String {
    fn from(name: SecretName) -> Self {
        name.0
    }
}

impl fmt::Display for SecretName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}
