//! Stuck slots: a job has ended, but its thread still runs, for example because a disk does not answer. The runner reports
//! them to the server, which shows them.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::Instant;

/// How long a thread may run after the end of its job before the slot counts as stuck.
const GRACE: Duration = Duration::from_secs(60);
/// Interval of the check.
const PAUSE: Duration = Duration::from_secs(1);

/// The number of stuck slots.
#[derive(Clone, Debug)]
pub(crate) struct StuckPlaces(Arc<watch::Sender<usize>>);

impl StuckPlaces {
    pub(crate) fn new() -> Self {
        Self(Arc::new(watch::Sender::new(0)))
    }

    /// Returns a receiver of changes.
    pub(crate) fn subscribe(&self) -> watch::Receiver<usize> {
        self.0.subscribe()
    }

    /// Waits for `work`. The slot counts as stuck from [`GRACE`] after `should_end` until `work` ends.
    pub(crate) async fn await_end<T>(&self, should_end: impl Fn() -> bool, work: impl Future<Output = T>) -> T {
        let stuck = async {
            let mut since = None::<Instant>;
            loop {
                tokio::time::sleep(PAUSE).await;
                if should_end() && since.get_or_insert_with(Instant::now).elapsed() >= GRACE {
                    break;
                }
            }
        };
        let mut work = std::pin::pin!(work);
        tokio::select! {
            ended = &mut work => return ended,
            () = stuck => {}
        }
        self.0.send_modify(|count| *count += 1);
        let ended = work.await;
        self.0.send_modify(|count| *count -= 1);
        ended
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_place_is_stuck_from_a_while_after_its_work_should_have_ended_until_it_has() {
        let places = StuckPlaces::new();
        let (end, ended) = tokio::sync::oneshot::channel::<i32>();
        let mut stuck = places.subscribe();
        let begun = Instant::now();
        let look = async {
            stuck.wait_for(|count| *count == 1).await.unwrap();
            assert!(begun.elapsed() >= GRACE);
            end.send(7).unwrap();
        };
        let (answer, ()) = tokio::join!(places.await_end(|| true, ended), look);
        assert_eq!((answer.unwrap(), *places.subscribe().borrow()), (7, 0));
        // What goes on by right, and what ends in time, holds none.
        let long = tokio::time::sleep(GRACE * 10);
        places.await_end(|| false, long).await;
        places.await_end(|| true, tokio::time::sleep(GRACE / 2)).await;
        assert!(!stuck.has_changed().unwrap() || *stuck.borrow() == 0);
    }
}
