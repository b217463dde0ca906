//! Amounts of bytes as people write them: `512MiB`, `2GB`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// An amount of bytes, written with a unit: `B`, `kB`, `MB`, `GB`, `TB` (powers of 1000) or `KiB`, `MiB`,
/// `GiB`, `TiB` (powers of 1024, IEC 80000-13).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Size(u64);

/// Why a text is not an amount of bytes.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not an amount of bytes: write a number with a unit, as in `512MiB`, `2GiB` or `500MB`")]
pub struct SizeError(String);

const UNITS: [(&str, u64); 9] = [
    ("TiB", 1 << 40),
    ("TB", 1_000_000_000_000),
    ("GiB", 1 << 30),
    ("GB", 1_000_000_000),
    ("MiB", 1 << 20),
    ("MB", 1_000_000),
    ("KiB", 1 << 10),
    ("kB", 1_000),
    ("B", 1),
];

impl Size {
    /// So many bytes.
    #[must_use]
    pub const fn from_bytes(bytes: u64) -> Self {
        Self(bytes)
    }

    /// The amount in bytes.
    #[must_use]
    pub const fn bytes(self) -> u64 {
        self.0
    }
}

impl FromStr for Size {
    type Err = SizeError;

    fn from_str(text: &str) -> Result<Self, SizeError> {
        let fault = || SizeError(text.to_owned());
        let digits = text.find(|c: char| !c.is_ascii_digit()).ok_or_else(fault)?;
        let (number, unit) = text.split_at(digits);
        let (_, factor) = UNITS.iter().find(|(name, _)| *name == unit).ok_or_else(fault)?;
        let number: u64 = number.parse().map_err(|_| fault())?;
        number.checked_mul(*factor).filter(|bytes| *bytes > 0).map(Self).ok_or_else(fault)
    }
}

impl TryFrom<String> for Size {
    type Error = SizeError;

    fn try_from(text: String) -> Result<Self, SizeError> {
        text.parse()
    }
}

impl From<Size> for String {
    fn from(size: Size) -> Self {
        size.to_string()
    }
}

impl fmt::Display for Size {
    /// The amount in the largest unit that divides it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = UNITS.iter().find(|(_, factor)| self.0 > 0 && self.0.is_multiple_of(*factor));
        let (name, factor) = unit.unwrap_or(&("B", 1));
        write!(f, "{}{name}", self.0 / factor)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn units_are_powers_of_1000_and_of_1024() {
        assert_eq!("2kB".parse::<Size>().unwrap().bytes(), 2000);
        assert_eq!("2KiB".parse::<Size>().unwrap().bytes(), 2048);
        assert_eq!(Size::from_bytes(1 << 30).to_string(), "1GiB");
        for text in ["", "5", "MiB", "0B", "5mb", "1.5GB", "-1B", "99999999TiB", "1 MB"] {
            assert!(text.parse::<Size>().is_err(), "{text:?} was taken for an amount of bytes");
        }
    }

    proptest! {
        #[test]
        fn every_amount_reads_back_as_it_was_written(bytes in 1u64..u64::MAX) {
            let size = Size::from_bytes(bytes);
            prop_assert_eq!(size.to_string().parse::<Size>().unwrap(), size);
        }
    }
}
