//! What goes on by itself: each a loop of its own, which no other waits for and which is started again when it
//! breaks.

mod pace;
pub(crate) mod preflight;
pub(crate) mod rollout;
pub(crate) mod watcher;

use std::any::Any;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use tracing::error;

use crate::access;
use crate::backoff::Backoff;
use crate::domain::{Engine, PreflightOrders};
use watcher::Watcher;

/// How often is looked for what only the passing of time brings about.
const TICK: Duration = Duration::from_secs(1);
/// How long after its start the server first looks for them: it has other things to do then.
const FIRST_PAST_PAUSE: Duration = Duration::from_secs(60);
/// How often is looked for what has been kept for long enough.
const PAST_PAUSE: Duration = Duration::from_secs(1800);
/// How long after a run is over its logs are left as they are.
const LOGS_PAUSE: Duration = Duration::from_secs(10);
/// How long a loop that broke waits before it begins again: at first, and at the most.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// A part of the server broke; its log says why, under this id.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the server broke while it did this; its log says why, under {id}")]
pub(crate) struct Broken {
    /// What to look for in the log.
    pub(crate) id: String,
}

fn words_of(panic: &(dyn Any + Send)) -> &str {
    let text = panic.downcast_ref::<&str>().copied();
    text.or_else(|| panic.downcast_ref::<String>().map(String::as_str)).unwrap_or("no words")
}

/// Does something, and answers with an id where it panics; the log then has the panic under that id.
pub(crate) async fn guard<T>(name: &str, work: impl Future<Output = T>) -> Result<T, Broken> {
    AssertUnwindSafe(work).catch_unwind().await.map_err(|panic| {
        let id = access::new_secret().map_or_else(|_| "no-id".to_owned(), |secret| secret.chars().take(8).collect());
        error!(id, name, panic = words_of(&*panic), "a part of the server broke");
        Broken { id }
    })
}

/// Runs a loop until `shutdown`, and again when it breaks.
async fn supervise<F: Future<Output = ()>>(
    name: &'static str,
    shutdown: CancellationToken,
    mut turn: impl FnMut() -> F,
) {
    let mut backoff = Backoff::new(FIRST_PAUSE, LONGEST_PAUSE);
    loop {
        let began = Instant::now();
        let ended = tokio::select! {
            ended = guard(name, turn()) => ended,
            () = shutdown.cancelled() => return,
        };
        match ended {
            Ok(()) => return,
            Err(_) => {
                // One that went well for so long is begun again soon.
                if began.elapsed() > LONGEST_PAUSE {
                    backoff = Backoff::new(FIRST_PAUSE, LONGEST_PAUSE);
                }
                tokio::select! {
                    () = backoff.wait() => {}
                    () = shutdown.cancelled() => return,
                }
            }
        }
    }
}

/// Has something done now and then, until `shutdown`.
fn every<T: Send + Sync + 'static, F: Future<Output = ()> + Send>(
    name: &'static str,
    pause: Duration,
    shutdown: &CancellationToken,
    of: &Arc<T>,
    turn: impl Fn(Arc<T>) -> F + Copy + Send + 'static,
) {
    let of = Arc::clone(of);
    let again = move || {
        let of = Arc::clone(&of);
        async move {
            loop {
                turn(Arc::clone(&of)).await;
                tokio::time::sleep(pause).await;
            }
        }
    };
    tokio::spawn(supervise(name, shutdown.clone(), again));
}

/// Removes what is not to be kept any more, now and then and when somebody has changed what is kept.
async fn keep_up(engine: Arc<Engine>) {
    let mut pause = FIRST_PAST_PAUSE;
    loop {
        Arc::clone(&engine).end_removals().await;
        drop(tokio::time::timeout(pause, engine.upkeep_wanted.notified()).await);
        Arc::clone(&engine).remove_the_past().await;
        Arc::clone(&engine).tidy().await;
        pause = PAST_PAUSE;
    }
}

/// Compresses the logs of runs that are over, some time after each.
async fn pack_logs(engine: Arc<Engine>) {
    loop {
        Arc::clone(&engine).pack_logs().await;
        drop(tokio::time::timeout(PAST_PAUSE, engine.logs_wanted.notified()).await);
        // Many runs that end together are one piece of work, and whoever looks at one that ended just now reads it
        // as it was written.
        tokio::time::sleep(LOGS_PAUSE).await;
    }
}

/// Starts everything that goes on by itself.
pub(crate) fn start(
    engine: &Arc<Engine>,
    watcher: &Arc<Watcher>,
    preflights: PreflightOrders,
    shutdown: &CancellationToken,
) {
    tokio::spawn(preflight::carry_out_orders(Arc::clone(engine), preflights, shutdown.clone()));
    tokio::spawn(rollout::carry_out_orders(Arc::clone(engine), shutdown.clone()));
    every("lost runners", TICK, shutdown, engine, Engine::give_up_lost_jobs);
    every("approvals", TICK, shutdown, engine, Engine::give_up_unanswered);
    every("runs that nobody took up", TICK, shutdown, engine, Engine::take_up_strays);
    let past = Arc::clone(engine);
    tokio::spawn(supervise("retention", shutdown.clone(), move || keep_up(Arc::clone(&past))));
    let ended = Arc::clone(engine);
    tokio::spawn(supervise("logs", shutdown.clone(), move || pack_logs(Arc::clone(&ended))));
    every("schedules", TICK, shutdown, watcher, Watcher::start_what_is_due);
    every("moved bases", TICK, shutdown, watcher, Watcher::start_on_moved_bases);
    let bases = Arc::clone(watcher);
    tokio::spawn(supervise("bases", shutdown.clone(), move || Arc::clone(&bases).watch_bases()));
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_loop_that_breaks_begins_again_and_one_that_is_told_to_ends() {
        let shutdown = CancellationToken::new();
        let place = Arc::new((AtomicUsize::new(0), shutdown.clone()));
        every("a test", Duration::from_secs(1), &shutdown, &place, |place| async move {
            let turn = place.0.fetch_add(1, Ordering::Relaxed);
            if turn == 5 {
                place.1.cancel();
            }
            assert!(turn % 2 == 0, "on purpose");
        });
        shutdown.cancelled().await;
        tokio::time::sleep(Duration::from_secs(600)).await;
        assert_eq!(place.0.load(Ordering::Relaxed), 6);
    }

    #[tokio::test]
    async fn what_breaks_is_told_by_an_id() {
        let broken = guard("a test", async { panic!("on purpose") }).await;
        let broken: Result<(), Broken> = broken;
        assert_eq!(broken.unwrap_err().id.len(), 8);
        assert_eq!(guard("a test", async { 7 }).await, Ok(7));
    }
}
