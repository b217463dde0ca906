//! Moments that come again and again: `15 5 * * 1-5` in a time zone.
//!
//! The five fields are those of POSIX.1-2017, `crontab`: minute, hour, day of the month, month, day of
//! the week (0 and 7 are Sunday); beside numbers, `*`, lists and ranges also steps (`*/15`) and the
//! first three letters of English names. As there, when both kinds of day are said, either will do.

use std::fmt;
use std::str::FromStr;

use jiff::civil::{Date, Time as Clock};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::{Deserialize, Serialize};

use crate::Time;

/// A schedule in a time zone.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct Schedule {
    written: Written,
    minutes: u64,
    hours: u64,
    days: u64,
    months: u64,
    weekdays: u64,
    /// Whether one kind of day is `*`, so that only the other counts.
    one_kind_of_day: bool,
    zone: TimeZone,
}

/// A schedule as it is written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub(crate) struct Written {
    /// Minute, hour, day of the month, month and day of the week, as in `* 8-17 * * 1-5`.
    fields: String,
    /// The time zone, as in `Europe/Lisbon`.
    zone: String,
}

/// Why a text is not a schedule.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ScheduleError {
    /// Not five fields.
    #[error("`{0}` is not a schedule: write minute, hour, day, month and weekday, as in `15 5 * * 1-5`")]
    Fields(String),
    /// A field that cannot be.
    #[error("`{text}` cannot be the {field}: {allowed}, `*`, ranges as `1-5`, lists as `1,15`, steps as `*/15`")]
    Field {
        /// What was written.
        text: String,
        /// Which field it is.
        field: &'static str,
        /// The numbers that are allowed.
        allowed: &'static str,
    },
    /// No such day.
    #[error("`{0}` never comes: no month of these has such a day")]
    Never(String),
    /// No such zone.
    #[error("`{0}` is not a time zone: write one as in `Europe/Lisbon` or `UTC`")]
    Zone(String),
}

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const WEEKDAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];
/// A 29th of February comes within eight years, also over a century that leaves it out.
const DAYS_LOOKED_AT: usize = 366 * 8 + 2;

/// The numbers of a field as bits.
fn field(text: &str, from: u32, to: u32, names: &[&str]) -> Option<u64> {
    let number = |word: &str| -> Option<u32> {
        let named = names.iter().position(|name| name.eq_ignore_ascii_case(word));
        let number = match named {
            Some(at) => u32::try_from(at).ok()? + from,
            None if word.chars().all(|c| c.is_ascii_digit()) => word.parse().ok()?,
            None => return None,
        };
        (from..=to).contains(&number).then_some(number)
    };
    let mut bits = 0;
    for part in text.split(',') {
        let (range, step) = match part.split_once('/') {
            Some((range, step)) => (range, step.parse::<u32>().ok().filter(|step| *step > 0)?),
            None => (part, 1),
        };
        let (first, last) = match (range, range.split_once('-')) {
            ("*", _) => (from, to),
            (_, Some((first, last))) => (number(first)?, number(last)?),
            (one, None) if part.contains('/') => (number(one)?, to),
            (one, None) => (number(one)?, number(one)?),
        };
        if first > last {
            return None;
        }
        for number in (first..=last).step_by(step as usize) {
            bits |= 1 << number;
        }
    }
    Some(bits)
}

impl Schedule {
    /// Reads a schedule in a time zone of the IANA database.
    ///
    /// # Errors
    /// When it is not one.
    pub fn new(fields: &str, zone: &str) -> Result<Self, ScheduleError> {
        let parts: Vec<_> = fields.split_whitespace().collect();
        let [minute, hour, day, month, weekday] = parts[..] else {
            return Err(ScheduleError::Fields(fields.to_owned()));
        };
        let read = |text: &str, name, (from, to), allowed, names: &[&str]| {
            field(text, from, to, names).ok_or(ScheduleError::Field { text: text.to_owned(), field: name, allowed })
        };
        let weekdays = read(weekday, "weekday", (0, 7), "0 to 7 or `sun` to `sat`", &WEEKDAYS)?;
        let zone_name = zone.to_owned();
        let zone = TimeZone::get(zone).map_err(|_| ScheduleError::Zone(zone_name.clone()))?;
        let schedule = Self {
            minutes: read(minute, "minute", (0, 59), "0 to 59", &[])?,
            hours: read(hour, "hour", (0, 23), "0 to 23", &[])?,
            days: read(day, "day of the month", (1, 31), "1 to 31", &[])?,
            months: read(month, "month", (1, 12), "1 to 12 or `jan` to `dec`", &MONTHS)?,
            // Sunday is both 0 and 7.
            weekdays: (weekdays | weekdays >> 7) & 0x7f,
            one_kind_of_day: day.starts_with('*') || weekday.starts_with('*'),
            zone,
            written: Written { fields: parts.join(" "), zone: zone_name },
        };
        match schedule.next_after(Time::from_millis(0)) {
            Some(_) => Ok(schedule),
            None => Err(ScheduleError::Never(fields.to_owned())),
        }
    }

    /// The fields as they were written.
    #[must_use]
    pub fn fields(&self) -> &str {
        &self.written.fields
    }

    /// The name of the time zone.
    #[must_use]
    pub fn zone(&self) -> &str {
        &self.written.zone
    }

    fn has_day(&self, date: Date) -> bool {
        let has = |bits: u64, number: i8| bits >> number & 1 == 1;
        let day = has(self.days, date.day());
        let weekday = has(self.weekdays, date.weekday().to_sunday_zero_offset());
        has(self.months, date.month()) && if self.one_kind_of_day { day && weekday } else { day || weekday }
    }

    /// Whether a moment is in one of its minutes.
    #[must_use]
    pub fn has(&self, time: Time) -> bool {
        let Ok(stamp) = Timestamp::from_millisecond(time.millis()) else { return false };
        let there = stamp.to_zoned(self.zone.clone());
        let has = |bits: u64, number: i8| bits >> number & 1 == 1;
        self.has_day(there.date()) && has(self.hours, there.hour()) && has(self.minutes, there.minute())
    }

    /// The first moment after this one. A moment that a change of the clocks leaves out comes right
    /// after the change; one that comes twice counts once, the first time.
    #[must_use]
    pub fn next_after(&self, time: Time) -> Option<Time> {
        let after = Timestamp::from_millisecond(time.millis()).ok()?;
        let mut date = after.to_zoned(self.zone.clone()).date();
        for _ in 0..DAYS_LOOKED_AT {
            if self.has_day(date) {
                let found = bits(self.hours).flat_map(|hour| bits(self.minutes).map(move |minute| (hour, minute)));
                let mut moments = found.filter_map(|(hour, minute)| {
                    let clock = Clock::new(hour, minute, 0, 0).ok()?;
                    self.zone.to_ambiguous_zoned(date.to_datetime(clock)).compatible().ok()
                });
                if let Some(moment) = moments.find(|moment| moment.timestamp() > after) {
                    return Some(Time::from_millis(moment.timestamp().as_millisecond()));
                }
            }
            date = date.checked_add(1.day()).ok()?;
        }
        None
    }
}

/// The numbers whose bits are set.
fn bits(bits: u64) -> impl Iterator<Item = i8> + Clone {
    (0..60i8).filter(move |number| bits >> number & 1 == 1)
}

impl PartialEq for Schedule {
    fn eq(&self, other: &Self) -> bool {
        self.written == other.written
    }
}

impl TryFrom<Written> for Schedule {
    type Error = ScheduleError;

    fn try_from(written: Written) -> Result<Self, ScheduleError> {
        Self::new(&written.fields, &written.zone)
    }
}

impl From<Schedule> for Written {
    fn from(schedule: Schedule) -> Self {
        schedule.written
    }
}

impl fmt::Display for Schedule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} in {}", self.written.fields, self.written.zone)
    }
}

impl FromStr for Schedule {
    type Err = ScheduleError;

    fn from_str(text: &str) -> Result<Self, ScheduleError> {
        Self::new(text, "UTC")
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(text: &str) -> Time {
        serde_json::from_str(&format!("\"{text}\"")).unwrap()
    }

    fn next(fields: &str, zone: &str, after: &str) -> String {
        Schedule::new(fields, zone).unwrap().next_after(at(after)).unwrap().to_string()
    }

    #[test]
    fn the_next_moment_is_found_in_the_zone() {
        // A Friday in November: Lisbon is at UTC; in July it is an hour ahead.
        assert_eq!(next("15 5 * * 1-5", "Europe/Lisbon", "2026-11-27T05:15:00Z"), "2026-11-30T05:15:00.000Z");
        assert_eq!(next("15 5 * * 1-5", "Europe/Lisbon", "2026-07-01T00:00:00Z"), "2026-07-01T04:15:00.000Z");
        assert_eq!(next("*/20 * * * *", "UTC", "2026-01-01T00:20:00Z"), "2026-01-01T00:40:00.000Z");
        assert_eq!(next("0 0 29 feb *", "UTC", "2026-01-01T00:00:00Z"), "2028-02-29T00:00:00.000Z");
        assert_eq!(next("0 12 * * 7", "UTC", "2026-11-24T00:00:00Z"), "2026-11-29T12:00:00.000Z");
    }

    #[test]
    fn when_both_kinds_of_day_are_said_either_will_do() {
        assert_eq!(next("0 0 13 * fri", "UTC", "2026-11-01T00:00:00Z"), "2026-11-06T00:00:00.000Z");
        assert_eq!(next("0 0 13 * fri", "UTC", "2026-12-11T00:00:00Z"), "2026-12-13T00:00:00.000Z");
    }

    #[test]
    fn a_moment_that_the_clocks_leave_out_comes_right_after_and_one_that_comes_twice_counts_once() {
        // In Lisbon, 2026-03-29 has no 01:30, and 2026-10-25 has it twice.
        assert_eq!(next("30 1 * * *", "Europe/Lisbon", "2026-03-28T12:00:00Z"), "2026-03-29T01:30:00.000Z");
        assert_eq!(next("30 1 * * *", "Europe/Lisbon", "2026-10-24T12:00:00Z"), "2026-10-25T00:30:00.000Z");
        assert_eq!(next("30 1 * * *", "Europe/Lisbon", "2026-10-25T00:30:00Z"), "2026-10-26T01:30:00.000Z");
    }

    #[test]
    fn what_is_not_a_schedule_is_refused_with_the_field_that_is_wrong() {
        let refused = |fields: &str, zone: &str| Schedule::new(fields, zone).unwrap_err().to_string();
        assert!(refused("5 * * *", "UTC").contains("write minute, hour"));
        assert!(refused("60 * * * *", "UTC").contains("`60` cannot be the minute"));
        assert!(refused("* 5-3 * * *", "UTC").contains("`5-3` cannot be the hour"));
        assert!(refused("* * * * fry", "UTC").contains("`fry` cannot be the weekday"));
        assert!(refused("0 0 30 2 *", "UTC").contains("never comes"));
        assert!(refused("* * * * *", "Fernhollow").contains("`Fernhollow` is not a time zone"));
    }

    proptest! {
        #[test]
        fn the_next_moment_is_later_and_no_earlier_one_was_passed_over(
            start in 0i64..2_000_000_000, minute in 0u32..60, hour in 0u32..24,
        ) {
            let schedule = Schedule::new(&format!("{minute} {hour} * * *"), "UTC").unwrap();
            let start = Time::from_millis(start * 1000);
            let next = schedule.next_after(start).unwrap();
            prop_assert!(next > start && next.since(start) <= 86_400_000);
            prop_assert_eq!(next.millis() / 60_000 % 60, i64::from(minute));
            prop_assert_eq!(next.millis() / 3_600_000 % 24, i64::from(hour));
        }
    }
}
