//! Places of the runner that are held by work which does not end, although its job did: a disk that does not answer, or a
//! fault of this program. The server is told, so that nobody looks for the jobs that such a place does not take.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::Instant;

/// How long work may take to end after its job did.
const GRACE: Duration = Duration::from_secs(60);
/// How often is looked.
const PAUSE: Duration = Duration::from_secs(1);

/// How many places are stuck.
#[derive(Clone, Debug)]
pub(crate) struct StuckPlaces(Arc<watch::Sender<usize>>);

impl StuckPlaces {
    pub(crate) fn new() -> Self {
        Self(Arc::new(watch::Sender::new(0)))
    }

    /// Tells of each change.
    pub(crate) fn subscribe(&self) -> watch::Receiver<usize> {
        self.0.subscribe()
    }

    /// Waits until work has ended. When it should have for long, its place counts as stuck meanwhile.
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
