//! The one place that asks what time it is.

use std::time::{SystemTime, UNIX_EPOCH};

use pondrix_core::Time;

pub(crate) fn now() -> Time {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Time::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}
