//! The server as one job sees it: whether it answers, what it orders, and for how long the job is still ours.
//!
//! Every call is made by one policy ([`Contact::ask`]): what a restart, a proxy or the network spoil is asked again,
//! however long that takes, and an answer is an answer.

use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use pondrix_api::ClientError;

/// How long is waited before the server is asked again: at first, and at the most.
const FIRST_PAUSE: Duration = Duration::from_millis(100);
const LONGEST_PAUSE: Duration = Duration::from_secs(1);
/// How long before the end of its lease a job is ended: what it runs gets a while to end by itself.
const BEFORE_THE_END: Duration = Duration::from_secs(6);

/// Why a job is to end before it is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ending {
    /// The server says so, or the runner is to leave.
    Halted,
    /// The server was not reached for so long that the job may be another runner's.
    Alone,
}

/// What is shared between those who do a job and those who talk of it.
#[derive(Clone, Debug)]
pub(crate) struct Contact {
    shared: Arc<Shared>,
    /// For how long the server leaves the job to us without hearing of it.
    lease: Duration,
}

#[derive(Debug)]
struct Shared {
    /// When the last question was asked that the server has taken: then it knew of us at the latest.
    heard: Mutex<Instant>,
    ending: AtomicU8,
}

/// Whether the same question may be answered otherwise a little later: besides what is
/// [transient](ClientError::is_transient), a server that could not store something may be able to.
fn may_pass(error: &ClientError) -> bool {
    error.is_transient() || matches!(error, ClientError::Problem(problem) if problem.status >= 500)
}

impl Contact {
    /// Of a job that was given to us now.
    pub(crate) fn new(lease: Duration) -> Self {
        let shared = Shared { heard: Mutex::new(Instant::now()), ending: AtomicU8::new(0) };
        Self { shared: Arc::new(shared), lease }
    }

    /// Tells those who do the job to end it. The first reason stays.
    pub(crate) fn end(&self, ending: Ending) {
        let word = if ending == Ending::Halted { 1 } else { 2 };
        let _ = self.shared.ending.compare_exchange(0, word, Ordering::Relaxed, Ordering::Relaxed);
    }

    /// Why the job is to end; nothing while it is not.
    pub(crate) fn ending(&self) -> Option<Ending> {
        match self.shared.ending.load(Ordering::Relaxed) {
            0 => None,
            1 => Some(Ending::Halted),
            _ => Some(Ending::Alone),
        }
    }

    /// The server has taken a question that was asked then.
    fn note(&self, asked: Instant) {
        let mut heard = self.shared.heard.lock().unwrap_or_else(PoisonError::into_inner);
        *heard = asked.max(*heard);
    }

    /// How long the job is surely ours, and nobody else's.
    pub(crate) fn time_left(&self) -> Duration {
        let heard = *self.shared.heard.lock().unwrap_or_else(PoisonError::into_inner);
        self.lease.saturating_sub(BEFORE_THE_END).saturating_sub(heard.elapsed())
    }

    /// Asks once.
    pub(crate) async fn ask_once<T>(
        &self,
        ask: impl Future<Output = Result<T, ClientError>>,
    ) -> Result<T, ClientError> {
        let asked = Instant::now();
        let answer = ask.await;
        // What a proxy says in the server's place is no sign that the server knows of us.
        if answer.is_ok() {
            self.note(asked);
        }
        answer
    }

    /// Asks again and again while what goes wrong may pass, and while `goes_on`.
    ///
    /// # Errors
    /// What the server answers, or why it does not when it no longer goes on.
    pub(crate) async fn ask<T, F: Future<Output = Result<T, ClientError>>>(
        &self,
        goes_on: impl Fn() -> bool,
        ask: impl Fn() -> F,
    ) -> Result<T, ClientError> {
        let mut pause = FIRST_PAUSE;
        loop {
            match self.ask_once(ask()).await {
                Err(error) if may_pass(&error) && goes_on() => {
                    wait(error.pause(pause), &goes_on).await;
                    pause = (pause * 2).min(LONGEST_PAUSE);
                }
                other => return other,
            }
        }
    }
}

/// Waits, and no longer than it goes on.
async fn wait(pause: Duration, goes_on: impl Fn() -> bool) {
    let until = tokio::time::Instant::now() + pause;
    while goes_on() && tokio::time::Instant::now() < until {
        tokio::time::sleep_until(until.min(tokio::time::Instant::now() + FIRST_PAUSE)).await;
    }
}

#[cfg(test)]
mod tests {
    use std::cell::Cell;

    use pondrix_api::Problem;

    use super::*;

    fn unavailable(words: &str) -> ClientError {
        ClientError::Unavailable { address: "x".into(), words: words.into(), retry_after: None }
    }

    #[tokio::test(start_paused = true)]
    async fn what_a_restart_behind_a_proxy_answers_is_asked_again_and_an_answer_is_an_answer() {
        let contact = Contact::new(Duration::from_secs(30));
        let asked = Cell::new(0);
        let answer = contact.ask(
            || true,
            || {
                asked.set(asked.get() + 1);
                let answer = match asked.get() {
                    1 => Err(unavailable("502 Bad Gateway")),
                    2 => Err(ClientError::Unreachable { address: "x".into(), words: "reset".into() }),
                    3 => Err(ClientError::Problem(Problem { status: 500, ..Problem::default() })),
                    _ => Ok(7),
                };
                std::future::ready(answer)
            },
        );
        assert_eq!(answer.await.unwrap(), 7);
        let gone =
            || std::future::ready(Err::<(), _>(ClientError::Problem(Problem { status: 410, ..Problem::default() })));
        assert!(
            matches!(contact.ask(|| true, gone).await, Err(ClientError::Problem(problem)) if problem.status == 410)
        );
        let never = || std::future::ready(Err::<(), _>(unavailable("503")));
        assert!(matches!(contact.ask(|| false, never).await, Err(ClientError::Unavailable { .. })));
    }

    #[test]
    fn a_job_is_ended_well_before_its_lease_is_over() {
        let contact = Contact::new(Duration::from_secs(30));
        assert!(contact.time_left() > Duration::from_secs(23) && contact.time_left() <= Duration::from_secs(24));
        assert_eq!(Contact::new(BEFORE_THE_END).time_left(), Duration::ZERO);
        contact.end(Ending::Alone);
        contact.end(Ending::Halted);
        assert_eq!(contact.ending(), Some(Ending::Alone));
    }
}
