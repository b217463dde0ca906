//! What time it is.

use std::fmt;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use pondrix_core::Time;

/// What time people's clocks show. It may jump in both directions, and is for what people read and name: how
/// long something has lasted is told by [`tokio::time::Instant`], which does not jump.
#[derive(Clone)]
pub(crate) struct Clock(Arc<dyn Fn() -> Time + Send + Sync>);

impl fmt::Debug for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Clock").field(&self.now()).finish()
    }
}

impl Clock {
    /// The machine's.
    pub(crate) fn of_machine() -> Self {
        Self(Arc::new(|| {
            let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            Time::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
        }))
    }

    /// One that shows what a test says.
    #[cfg(test)]
    pub(crate) fn scripted(now: impl Fn() -> Time + Send + Sync + 'static) -> Self {
        Self(Arc::new(now))
    }

    pub(crate) fn now(&self) -> Time {
        (self.0)()
    }
}
