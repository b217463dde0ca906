//! Waiting longer after each failure.

use std::time::Duration;

/// Waits between attempts, longer each time.
#[derive(Debug)]
pub(crate) struct Backoff {
    next: Duration,
    longest: Duration,
}

impl Backoff {
    pub(crate) const fn new(first: Duration, longest: Duration) -> Self {
        Self { next: first, longest }
    }

    pub(crate) async fn wait(&mut self) {
        tokio::time::sleep(self.next).await;
        self.next = (self.next * 2).min(self.longest);
    }
}
