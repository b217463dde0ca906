//! Lengths of time as people write them: `90s`, `10m`, `1h30m`.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A length of time in whole seconds, written with the units `d`, `h`, `m` and `s`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Duration {
    seconds: u32,
}

/// Why a text is not a length of time.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a length of time: write a number with a unit, as in `90s`, `10m`, `1h30m` or `3d`")]
pub struct DurationError {
    text: String,
}

const UNITS: [(char, u32); 4] = [('d', 86_400), ('h', 3_600), ('m', 60), ('s', 1)];

impl Duration {
    /// So many seconds.
    #[must_use]
    pub const fn from_seconds(seconds: u32) -> Self {
        Self { seconds }
    }

    /// The length in seconds.
    #[must_use]
    pub const fn seconds(self) -> u32 {
        self.seconds
    }

    /// The same length for the standard library.
    #[must_use]
    pub const fn to_std(self) -> std::time::Duration {
        std::time::Duration::from_secs(self.seconds as u64)
    }

    fn parse(text: &str) -> Option<u32> {
        let mut total = 0u32;
        let mut number = String::new();
        let mut units = UNITS.iter();
        for letter in text.chars() {
            if letter.is_ascii_digit() {
                number.push(letter);
                continue;
            }
            // Units may only get smaller, so that `5m1h` and `5m5m` are faults and not riddles.
            let (_, seconds) = units.find(|(unit, _)| *unit == letter)?;
            let count: u32 = number.parse().ok()?;
            total = total.checked_add(count.checked_mul(*seconds)?)?;
            number.clear();
        }
        (number.is_empty() && total > 0).then_some(total)
    }
}

impl FromStr for Duration {
    type Err = DurationError;

    fn from_str(text: &str) -> Result<Self, DurationError> {
        Self::parse(text).map(Self::from_seconds).ok_or_else(|| DurationError { text: text.to_owned() })
    }
}

impl TryFrom<String> for Duration {
    type Error = DurationError;

    fn try_from(text: String) -> Result<Self, DurationError> {
        text.parse()
    }
}

impl From<Duration> for String {
    fn from(duration: Duration) -> Self {
        duration.to_string()
    }
}

impl fmt::Display for Duration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut rest = self.seconds;
        for (unit, seconds) in UNITS {
            if rest >= seconds {
                write!(f, "{}{unit}", rest / seconds)?;
                rest %= seconds;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_length_reads_back_as_it_was_written(seconds in 1u32..u32::MAX) {
            let length = Duration::from_seconds(seconds);
            prop_assert_eq!(length.to_string().parse::<Duration>().unwrap(), length);
        }
    }

    #[test]
    fn what_is_not_a_length_is_refused() {
        for text in ["", "5", "m", "5x", "0s", "5m1h", "5m5m", "99999999999s", "-1s", "1 m"] {
            assert!(text.parse::<Duration>().is_err(), "{text:?} was taken for a length of time");
        }
    }
}
