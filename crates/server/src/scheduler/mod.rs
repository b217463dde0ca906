//! Who does which job: one task owns the queue, the leases, what is held, and who is there.
//!
//! Others hold a [`Scheduler`] and send it messages; what they ask is answered. It knows nothing of the records:
//! [`crate::domain`] stores what it gives, and tells it what was stored. Time is [`tokio::time::Instant`], which
//! does not jump.

mod state;
mod task;

use std::collections::BTreeMap;
use std::time::Duration;

use pondrix_api::{PauseView, RunnerView};
use pondrix_core::queue::{Limits, Offer, RunnerFacts};
use pondrix_core::run::Hold;
use pondrix_core::{JobKey, RunId, Time};
use tokio::sync::{mpsc, oneshot};

use crate::store::StoredLease;
use task::Message;

/// How long a job is its runner's without a word of it: then the server gives it up and lets go of what it
/// held. The runner ends it before ([`pondrix_api::Assignment::lease_seconds`]).
pub(crate) const LEASE_TIME: Duration = Duration::from_secs(30);
/// After how long a job that its runner shows no knowledge of is offered again: the answer that gave it away
/// never arrived.
pub(crate) const RETURN_TIME: Duration = Duration::from_secs(5);
/// After how long without a word a runner counts as gone. Idle ones ask every 20 seconds.
pub(crate) const GONE_TIME: Duration = Duration::from_secs(45);

/// The hash of the secret that a runner shows to report on a job.
pub(crate) type LeaseHash = [u8; 32];

/// That somebody has a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Lease {
    /// The hash of its secret.
    pub(crate) hash: LeaseHash,
    /// Its number: no two leases have the same one, and a later lease has a higher one.
    pub(crate) number: i64,
    /// The run.
    pub(crate) run: RunId,
    /// The job.
    pub(crate) job: JobKey,
    /// Who has it.
    pub(crate) runner: String,
    /// Which process of the runner: another one knows nothing of the job.
    pub(crate) instance: String,
}

impl From<StoredLease> for Lease {
    fn from(stored: StoredLease) -> Self {
        let StoredLease { number, hash, run, job, runner, instance } = stored;
        Self { hash, number, run, job, runner, instance }
    }
}

/// What is to become of a job that its runner has not been heard of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Overdue {
    /// Its runner had it, and has fallen silent: it is lost.
    Lost,
    /// Its runner has never shown that it knows of it: it is offered again.
    Unheard,
}

/// A job that was given out, and is offered again unless it is [accepted](Grant::accept).
#[derive(Debug)]
pub(crate) struct Grant {
    offer: Option<Offer>,
    /// Which process of the runner it is for; empty for the server itself.
    pub(crate) instance: String,
    scheduler: Scheduler,
}

/// A runner that introduces itself.
#[derive(Clone, Debug)]
pub(crate) struct Greeting {
    /// Who it is and what it may work for, by its token; and what it can do, as it says.
    pub(crate) facts: RunnerFacts,
    /// How many jobs it does at once.
    pub(crate) slots: usize,
    /// Number of stuck slots.
    pub(crate) stuck: usize,
    /// Its version.
    pub(crate) version: String,
    /// Which process it is.
    pub(crate) instance: String,
}

/// Sends messages to the task.
#[derive(Clone, Debug)]
pub(crate) struct Scheduler(mpsc::UnboundedSender<Message>);

/// Why a runner was given nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("introduce yourself first")]
pub(crate) struct UnknownRunner;

impl Grant {
    pub(crate) fn run(&self) -> &RunId {
        &self.offer().run
    }

    pub(crate) fn job(&self) -> &JobKey {
        &self.offer().job
    }

    fn offer(&self) -> &Offer {
        self.offer.as_ref().expect("it is taken out only by what consumes the grant")
    }

    /// The job is taken: it stays out of the queue until it is released.
    pub(crate) fn accept(mut self) {
        self.offer = None;
    }

    /// The job is not to be done after all.
    pub(crate) fn discard(mut self) {
        if let Some(Offer { run, job, .. }) = self.offer.take() {
            self.scheduler.release(run, job);
        }
    }
}

impl Drop for Grant {
    fn drop(&mut self) {
        if let Some(offer) = self.offer.take() {
            self.scheduler.send(Message::Returned(offer));
        }
    }
}

impl Scheduler {
    /// Starts the task. It ends with the last handle.
    pub(crate) fn start() -> Self {
        let (sender, receiver) = mpsc::unbounded_channel();
        let scheduler = Self(sender);
        tokio::spawn(task::run(scheduler.0.downgrade(), receiver));
        scheduler
    }

    fn send(&self, message: Message) {
        // The task ends only with the process, or when nobody holds a handle.
        let _ = self.0.send(message);
    }

    async fn ask<T>(&self, message: impl FnOnce(oneshot::Sender<T>) -> Message) -> Option<T> {
        let (reply, replied) = oneshot::channel();
        self.send(message(reply));
        replied.await.ok()
    }

    /// A job waits for somebody.
    pub(crate) fn offer(&self, offer: Offer) {
        self.send(Message::Offered(offer));
    }

    /// What a run holds now against others of its project; nothing when it is over.
    pub(crate) fn update(&self, run: RunId, holds: Option<Vec<Hold>>) {
        self.send(Message::Updated { run, holds });
    }

    /// Nobody has this job any more.
    pub(crate) fn release(&self, run: RunId, job: JobKey) {
        self.send(Message::Released { run, job });
    }

    /// Somebody has a job, as the records say. `is_restored` when from before the server began: its time begins
    /// anew, since its runner could not be heard.
    pub(crate) fn lease(&self, lease: Lease, is_restored: bool) {
        self.send(Message::Leased { lease, is_restored });
    }

    /// How much of the runners projects and pools may use.
    pub(crate) fn limits(&self, limits: Limits) {
        self.send(Message::Limited(limits));
    }

    /// Which runners are given no more jobs.
    pub(crate) fn pause(&self, paused: BTreeMap<String, PauseView>) {
        self.send(Message::Paused(paused));
    }

    /// Forgets a runner. Answers the jobs that it has.
    pub(crate) async fn forget_runner(&self, name: &str) -> Vec<Lease> {
        let name = name.to_owned();
        self.ask(|reply| Message::Forgotten { name, reply }).await.unwrap_or_default()
    }

    /// A runner introduces itself. Answers the jobs that it has forgotten, since it was started anew.
    pub(crate) async fn greet(&self, greeting: Greeting, now: Time) -> Vec<Lease> {
        self.ask(|reply| Message::Greeted { greeting, now, reply }).await.unwrap_or_default()
    }

    /// Waits for a job for a runner; whoever stops waiting is given none.
    pub(crate) async fn take(&self, runner: &str, now: Time) -> Result<Option<Grant>, UnknownRunner> {
        let (grant, granted) = oneshot::channel();
        let runner = Some(runner.to_owned());
        match self.ask(|reply| Message::Asked { runner, now, grant, reply }).await {
            Some(true) => Ok(granted.await.ok()),
            Some(false) => Err(UnknownRunner),
            None => Ok(None),
        }
    }

    /// Waits for a job of the server's own.
    pub(crate) async fn take_own(&self, now: Time) -> Option<Grant> {
        let (grant, granted) = oneshot::channel();
        self.ask(|reply| Message::Asked { runner: None, now, grant, reply }).await?;
        granted.await.ok()
    }

    /// The lease of a number and a secret, when it still holds; being asked is a sign of life.
    pub(crate) async fn leased(&self, number: i64, hash: LeaseHash, now: Time) -> Option<Lease> {
        self.ask(|reply| Message::Shown { number, hash, now, reply }).await.flatten()
    }

    /// Whether a lease may set a tag that moves, which one lease at a time may do.
    pub(crate) async fn claim(&self, number: i64, tag: String) -> bool {
        self.ask(|reply| Message::Claimed { number, tag, reply }).await.unwrap_or(false)
    }

    /// The jobs whose runners have not been heard of for too long.
    pub(crate) async fn overdue(&self) -> Vec<(Lease, Overdue)> {
        self.ask(|reply| Message::Ticked { reply }).await.unwrap_or_default()
    }

    /// A job that began before the server was killed cannot be offered again: it has had its runner.
    pub(crate) fn confirm(&self, number: i64) {
        self.send(Message::Confirmed { number });
    }

    /// Why jobs wait, in words, each as it was asked; nothing where one does not wait.
    pub(crate) async fn why_waiting(&self, run: RunId, jobs: Vec<JobKey>) -> Vec<Option<String>> {
        self.ask(|reply| Message::Explained { run, jobs, reply }).await.unwrap_or_default()
    }

    /// Every runner that was seen since the server began, for people.
    pub(crate) async fn runners(&self) -> Vec<RunnerView> {
        self.ask(|reply| Message::Listed { reply }).await.unwrap_or_default()
    }

    /// How often each lock of a project is held, for tests of what holds always.
    #[cfg(test)]
    pub(crate) async fn holders(&self) -> Vec<(RunId, Hold)> {
        self.ask(|reply| Message::Held { reply }).await.unwrap_or_default()
    }
}
