//! Moments, as the records and the API tell them.

use std::fmt;

use jiff::Timestamp;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A moment: milliseconds since 1970-01-01T00:00:00Z. Written as RFC 3339 in UTC.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time(i64);

impl Time {
    /// The moment this many milliseconds after the Unix epoch.
    #[must_use]
    pub const fn from_millis(millis: i64) -> Self {
        Self(millis)
    }

    /// Milliseconds since the Unix epoch.
    #[must_use]
    pub const fn millis(self) -> i64 {
        self.0
    }

    /// Milliseconds from `earlier` to this moment; zero when `earlier` is later.
    #[must_use]
    pub fn since(self, earlier: Self) -> u64 {
        u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0)
    }

    /// This moment plus so many milliseconds.
    #[must_use]
    pub const fn plus_millis(self, millis: i64) -> Self {
        Self(self.0.saturating_add(millis))
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match Timestamp::from_millisecond(self.0) {
            Ok(stamp) => write!(f, "{stamp:.3}"),
            Err(_) => write!(f, "{} ms", self.0),
        }
    }
}

impl Serialize for Time {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Time {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let stamp: Timestamp = text.parse().map_err(serde::de::Error::custom)?;
        Ok(Self(stamp.as_millisecond()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_survives_its_written_form() {
        let moment = Time::from_millis(1_790_000_000_123);
        let written = serde_json::to_string(&moment).unwrap();
        assert_eq!(written, "\"2026-09-21T14:13:20.123Z\"");
        assert_eq!(serde_json::from_str::<Time>(&written).unwrap(), moment);
    }
}
