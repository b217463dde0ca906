//! HEALTHCHECK.

use std::time::Duration;

/// How is seen whether a container is well.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Healthcheck {
    /// It is not, whatever the base says.
    None,
    /// By a command.
    Command(Box<Health>),
}

/// A command that tells whether a container is well.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Health {
    /// The command; its status 0 means well.
    pub command: super::Command,
    /// How long from one to the next.
    pub interval: Option<Duration>,
    /// How long it may take.
    pub timeout: Option<Duration>,
    /// How long after its beginning failures do not count.
    pub start_period: Option<Duration>,
    /// How long from one to the next meanwhile.
    pub start_interval: Option<Duration>,
    /// How many failures in a row mean that it is not well.
    pub retries: Option<u32>,
}

/// The units of a span of time, in nanoseconds, the longer words first.
const UNITS: [(&str, f64); 7] =
    [("ns", 1.0), ("us", 1e3), ("µs", 1e3), ("ms", 1e6), ("h", 3.6e12), ("m", 6e10), ("s", 1e9)];

/// A span of time as `1m30s`, `500ms`, `1.5h`; nothing when it is none.
pub(super) fn span(text: &str) -> Option<Duration> {
    let mut rest = text;
    let mut nanoseconds = 0.0;
    if text == "0" {
        return Some(Duration::ZERO);
    }
    while !rest.is_empty() {
        let digits = rest.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(rest.len());
        let number: f64 = rest[..digits].parse().ok()?;
        let behind = &rest[digits..];
        let (unit, each) = UNITS.iter().find(|(unit, _)| behind.starts_with(unit))?;
        nanoseconds += number * each;
        rest = &behind[unit.len()..];
    }
    (!text.is_empty() && nanoseconds < 9.2e18).then(|| Duration::from_nanos(nanoseconds.round() as u64))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_of_time_are_read_in_their_units() {
        for (text, expected) in [
            ("30s", Some(30_000)),
            ("1m30s", Some(90_000)),
            ("500ms", Some(500)),
            ("1.5h", Some(5_400_000)),
            ("0", Some(0)),
            ("30", None),
            ("s", None),
            ("", None),
            ("1x", None),
        ] {
            assert_eq!(span(text), expected.map(Duration::from_millis), "{text}");
        }
    }
}
