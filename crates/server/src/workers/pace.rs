//! How often repositories are looked at: seldom enough that all looks together cost little, however many there are.
//!
//! Looks that nobody asked for take turns, and each is followed by a rest many times as long as it took, in which no
//! other takes that turn. Where there are few repositories, nobody waits for a turn; where there are thousands, each
//! is looked at less often, and the machine has its time for other things. One that a hook calls for is looked at at
//! once.

use std::time::Duration;

use tokio::sync::Semaphore;
use tokio::time::Instant;

/// How many looks that nobody asked for go on at once.
const TURNS: usize = 2;
/// How many times as long as a look the rest after it is.
const REST: u32 = 60;
/// The longest look that is rested for: what takes longer waits for the network, and costs nothing here.
const LONGEST: Duration = Duration::from_millis(50);
/// How long a look may have its turn: one that hangs keeps no other from its own.
const TURN: Duration = Duration::from_secs(1);
/// How many looks that hooks call for go on at once.
const CALLED: usize = 8;
/// How many times as seldom a repository is looked at whose hook was heard.
const HOOKED: u32 = 5;
/// How much sooner or later than others a repository may have its turn, in hundredths, so that they do not all have it
/// together.
const SPREAD: u64 = 20;

/// Why a repository is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Reason {
    /// The server has just started: what came meanwhile is to be seen soon, one repository after the other.
    Start,
    /// A hook called.
    Called,
    /// It was not looked at for a while.
    Time,
}

/// Gives turns.
#[derive(Debug)]
pub(super) struct Pace {
    start: Semaphore,
    called: Semaphore,
    time: Semaphore,
}

impl Pace {
    pub(super) const fn new() -> Self {
        Self { start: Semaphore::const_new(1), called: Semaphore::const_new(CALLED), time: Semaphore::const_new(TURNS) }
    }

    /// Looks when it is time to.
    pub(super) async fn turn<T>(&self, reason: Reason, look: impl Future<Output = T>) -> T {
        let turns = match reason {
            Reason::Start => &self.start,
            Reason::Called => &self.called,
            Reason::Time => &self.time,
        };
        // They are never closed.
        let turn = turns.acquire().await;
        let began = Instant::now();
        let mut look = std::pin::pin!(look);
        let Ok(looked) = tokio::time::timeout(TURN, &mut look).await else {
            // It waits for another machine: nobody else waits for that.
            drop(turn);
            return look.await;
        };
        if reason == Reason::Time {
            tokio::time::sleep(began.elapsed().min(LONGEST) * REST).await;
        }
        looked
    }
}

/// How long after a look a repository is looked at again without being asked.
pub(super) fn pause(every: Duration, project: i64, is_hooked: bool) -> Duration {
    let every = if is_hooked { every * HOOKED } else { every };
    // The same for a project each time, and another for each (Knuth's multiplicative hash).
    let place = project.cast_unsigned().wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32;
    every.mul_f64((100 - SPREAD + place % (2 * SPREAD + 1)) as f64 / 100.0)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn looks_that_nobody_asked_for_take_a_small_part_of_the_time_however_many_there_are() {
        let pace = Arc::new(Pace::new());
        let done = Arc::new(AtomicUsize::new(0));
        for _ in 0..1000 {
            let (pace, done) = (Arc::clone(&pace), Arc::clone(&done));
            tokio::spawn(async move {
                pace.turn(Reason::Time, async { tokio::time::sleep(Duration::from_millis(10)).await }).await;
                done.fetch_add(1, Ordering::Relaxed);
            });
        }
        tokio::time::sleep(Duration::from_secs(61)).await;
        let done = done.load(Ordering::Relaxed);
        assert!((190..=210).contains(&done), "{done} looks of 10 ms in 61 s: 2 turns of 610 ms");
        // Who is called for waits for none of them.
        let began = Instant::now();
        pace.turn(Reason::Called, tokio::time::sleep(Duration::from_millis(10))).await;
        assert!(began.elapsed() < Duration::from_millis(12));
    }

    #[tokio::test(start_paused = true)]
    async fn a_repository_that_does_not_answer_keeps_no_other_from_being_looked_at() {
        let pace = Arc::new(Pace::new());
        for reason in [Reason::Start, Reason::Time, Reason::Called] {
            for _ in 0..CALLED {
                let pace = Arc::clone(&pace);
                tokio::spawn(async move { pace.turn(reason, std::future::pending::<()>()).await });
            }
            tokio::task::yield_now().await;
            let began = Instant::now();
            pace.turn(reason, std::future::ready(())).await;
            assert!(began.elapsed() <= TURN * CALLED as u32, "{reason:?}: {:?}", began.elapsed());
        }
    }

    #[test]
    fn repositories_are_not_all_looked_at_together_and_less_often_where_a_hook_is_heard() {
        let every = Duration::from_secs(100);
        let pauses: Vec<u64> = (1..=1000).map(|project| pause(every, project, false).as_secs()).collect();
        assert!(pauses.iter().all(|pause| (80..=120).contains(pause)));
        for second in 80..=120 {
            let together = pauses.iter().filter(|pause| **pause == second).count();
            assert!(together < 80, "{together} at {second} s");
        }
        assert_eq!(pause(every, 7, true), pause(every, 7, false) * 5);
    }
}
