//! The engine: keeps the runs that go on, applies what happens to them, and has the effects done.
//!
//! What people and runners may make happen are its [commands]: each looks at the run, at who asks, and acts, under
//! one lock.

mod artifacts;
mod assign;
mod backups;
mod commands;
mod detail;
mod image_records;
mod live;
mod reading;
mod registries;
mod removal;
mod reruns;
mod resume;
mod retention;
mod run_sources;
mod settings;
mod starts;
mod templates;
mod tokens;

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use pondrix_api::RunSummary;
use pondrix_core::pipeline::JobKind;
use pondrix_core::queue::{Offer, Who};
use pondrix_core::run::{Effect, Event, Refused, Run};
use pondrix_core::{JobKey, RunId};
use tokio::sync::{Notify, RwLock, broadcast, mpsc};
use tracing::{error, info, warn};

pub(crate) use assign::TakeError;
pub(crate) use commands::Asker;
pub(crate) use live::LiveRun;
pub(crate) use run_sources::FilesError;
pub(crate) use starts::{Builds, StartError, Started, Tried, Tries as TryOutcome, Wanted};
pub(crate) use tokens::Session;

use crate::archives::Archives;
use crate::backoff::Backoff;
use crate::contents::Files;
use crate::logs::Logs;
use crate::ports::git::Repositories;
use crate::ports::{Clock, Clusters, Ports, RegistryProbe};
use crate::scheduler::{Lease, LeaseHash, Scheduler};
use crate::seal::Seal;
use crate::store::{self, Store, StoreError};
use crate::tries::Tries;
use live::LiveState;

/// How many changes a slow follower may be behind before it has to look anew.
const CHANGES_KEPT: usize = 1024;

/// How long is waited before what could not be stored is stored: at first, and at the most.
const STORE_PAUSE: Duration = Duration::from_millis(100);
const LONGEST_STORE_PAUSE: Duration = Duration::from_secs(5);

/// A change that was stored: the event's id, and the run after it.
pub(crate) type StoredChange = (i64, RunSummary);

/// The runs whose needs are to be looked at, in the order in which they began.
pub(crate) type PreflightOrders = mpsc::UnboundedReceiver<Arc<LiveRun>>;

/// What is to happen to a run as it stands: decided, stored and applied under one lock.
type Decide = Box<dyn FnOnce(&LiveState) -> Result<Event, EngineError> + Send>;

/// The engine.
#[derive(Debug)]
pub(crate) struct Engine {
    pub(crate) store: Store,
    pub(crate) clock: Clock,
    pub(crate) clusters: Arc<dyn Clusters>,
    repositories: Arc<dyn Repositories>,
    pub(crate) probe: Arc<dyn RegistryProbe>,
    pub(crate) scheduler: Scheduler,
    pub(crate) seal: Seal,
    pub(crate) tries: Tries,
    pub(crate) files: Files,
    pub(crate) logs: Logs,
    pub(crate) archives: Archives,
    pub(crate) data: PathBuf,
    live: Mutex<BTreeMap<RunId, Arc<LiveRun>>>,
    /// Held while a project's copy of its repository is brought up to date: git does not wait for itself.
    fetching: Mutex<HashMap<i64, Arc<tokio::sync::Mutex<()>>>>,
    /// Held for writing while a run is stored and becomes live, so that nobody finds it in between and
    /// follows a copy of it that nothing ever happens to.
    admission: RwLock<()>,
    /// Held for reading by what removes the past, and for writing by what needs all of it to stay for a while.
    pub(crate) upkeep: Arc<RwLock<()>>,
    /// Held while projects are removed: one after the other, and each once.
    removing: tokio::sync::Mutex<()>,
    /// Told when there may be something to remove before it would be looked for.
    pub(crate) upkeep_wanted: Notify,
    /// Told when a run is over: its logs can be compressed.
    pub(crate) logs_wanted: Notify,
    preflights: mpsc::UnboundedSender<Arc<LiveRun>>,
    changes: broadcast::Sender<StoredChange>,
    /// Whether a run may be stored that is not live.
    may_have_strays: AtomicBool,
}

/// Why something did not happen to a run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum EngineError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Refused(#[from] Refused),
    #[error("the log cannot be written: {0}")]
    Log(#[from] std::io::Error),
    /// What was sent cannot be used.
    #[error("{0}")]
    Invalid(String),
    /// Whoever asked may not.
    #[error("{0}")]
    Forbidden(String),
    /// It cannot be, as things stand.
    #[error("{0}")]
    Conflict(String),
    /// The lease holds no more: the job has ended, or was given up.
    #[error("this job has ended, or was given up")]
    LeaseEnded,
    /// The machine has no random numbers, or the value is too long to seal.
    #[error(transparent)]
    Own(#[from] anyhow::Error),
    /// A fault of the server's own.
    #[error("the server broke while it did this")]
    Broke,
}

/// Who has a job from now on.
struct NewLease {
    hash: LeaseHash,
    runner: String,
    instance: String,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl EngineError {
    /// Whether the same may succeed a little later.
    pub(crate) fn is_transient(&self) -> bool {
        matches!(self, Self::Store(error) if error.is_transient())
    }
}

impl Engine {
    pub(crate) fn new(store: Store, ports: Ports, seal: Seal, data: PathBuf) -> (Arc<Self>, PreflightOrders) {
        let (preflights, orders) = mpsc::unbounded_channel();
        let engine = Self {
            store,
            clock: ports.clock,
            clusters: ports.clusters,
            repositories: ports.repositories,
            probe: ports.registries,
            scheduler: Scheduler::start(),
            seal,
            tries: Tries::new(data.join("tries")),
            files: Files::new(data.join("files")),
            logs: Logs::new(data.join("logs")),
            archives: Archives::default(),
            data,
            live: Mutex::default(),
            fetching: Mutex::default(),
            admission: RwLock::new(()),
            upkeep: Arc::new(RwLock::new(())),
            removing: tokio::sync::Mutex::default(),
            upkeep_wanted: Notify::new(),
            logs_wanted: Notify::new(),
            preflights,
            changes: broadcast::channel(CHANGES_KEPT).0,
            may_have_strays: AtomicBool::new(false),
        };
        (Arc::new(engine), orders)
    }

    /// A run that goes on.
    pub(crate) fn live(&self, run: &RunId) -> Option<Arc<LiveRun>> {
        locked(&self.live).get(run).cloned()
    }

    /// Every run that goes on.
    pub(crate) fn all_live(&self) -> Vec<Arc<LiveRun>> {
        locked(&self.live).values().cloned().collect()
    }

    /// Stores an event of a run, changes the run by it, tells who follows, and has the effects done.
    ///
    /// # Errors
    /// When the event cannot happen now, or cannot be stored; nothing has then changed.
    pub(crate) async fn record(self: &Arc<Self>, live: &Arc<LiveRun>, event: &Event) -> Result<(), EngineError> {
        let event = event.clone();
        self.decide(live, None, move |_| Ok(event)).await
    }

    /// The same, again and again while the records cannot be written: what waits for this event waits for them.
    pub(crate) async fn record_until_stored(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        event: &Event,
    ) -> Result<(), EngineError> {
        let mut backoff = Backoff::new(STORE_PAUSE, LONGEST_STORE_PAUSE);
        loop {
            match self.record(live, event).await {
                Err(error) if error.is_transient() => {
                    warn!(run = %live.row.facts.id, %error, "what happened could not be stored yet");
                    backoff.wait().await;
                }
                other => return other,
            }
        }
    }

    /// The same of an event that depends on how the run stands, and on who asks: what `decide` looks at is what
    /// the event happens to. Whoever has the job from then on is remembered with it.
    ///
    /// It runs to its end even when whoever asked stops waiting: records and memory never part.
    async fn decide(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        lease: Option<NewLease>,
        decide: impl FnOnce(&LiveState) -> Result<Event, EngineError> + Send + 'static,
    ) -> Result<(), EngineError> {
        let (engine, live) = (Arc::clone(self), Arc::clone(live));
        let decide: Decide = Box::new(decide);
        tokio::spawn(async move { engine.decide_inner(&live, lease, decide).await })
            .await
            .unwrap_or(Err(EngineError::Broke))
    }

    async fn decide_inner(
        &self,
        live: &Arc<LiveRun>,
        lease: Option<NewLease>,
        decide: Decide,
    ) -> Result<(), EngineError> {
        let mut state = live.state.lock().await;
        self.reconcile(live, &mut state).await?;
        let event = decide(&state)?;
        let at = self.clock.now();
        let mut next = state.run.clone();
        let effects = next.apply(&event, at)?;
        let row = detail::summary_row(&next);
        let summary = live.summary(&row);
        let (id, stored, ended) = (live.row.id, event.clone(), ended_job(&event));
        let facts = live.row.facts.clone();
        let lease = lease.zip(taken_job(&event));
        // The index is what others are built on, and not the images in it.
        let is_part = matches!(&stored, Event::ResultAdded { job, .. } if live.row.plan.is_part(job));
        let run = facts.id.clone();
        let write = move |c: &rusqlite::Connection| {
            let lease = match lease {
                Some((NewLease { hash, runner, instance }, job)) => {
                    let number = store::put_lease(c, &hash, id, &job, (&runner, &instance))?;
                    Some(Lease { hash, number, run, job, runner, instance })
                }
                None => None,
            };
            if let Some(job) = &ended {
                store::end_lease(c, id, job)?;
            }
            if let Event::ResultAdded { job, result } = &stored {
                Self::remember_tests(c, id, job, result)?;
                if !is_part {
                    Self::remember_image(c, id, &facts, job, result, at)?;
                }
            }
            Ok((store::append_event(c, id, &stored, at, &row)?, lease))
        };
        let changes = self.changes.clone();
        // Followers hear of changes in the order in which they are stored; nobody may be following.
        let publish = move |stored: &(i64, Option<Lease>)| drop(changes.send((stored.0, summary)));
        let lease = match self.store.write_and(write, publish).await {
            Ok((_, lease)) => lease,
            Err(StoreError::Unknown) => {
                state.is_in_doubt = true;
                let before = state.version;
                self.reconcile(live, &mut state).await?;
                return if state.version > before { Ok(()) } else { Err(StoreError::Undone.into()) };
            }
            Err(error) => return Err(error.into()),
        };
        if let Some(lease) = lease {
            state.leases.insert(lease.job.clone(), lease.number);
            self.scheduler.lease(lease, false);
        }
        self.follow(live, &mut state, next, &event, effects);
        Ok(())
    }

    /// Makes the run in memory what the records say that it is, where a write of it may or may not be stored.
    async fn reconcile(&self, live: &Arc<LiveRun>, state: &mut LiveState) -> Result<(), StoreError> {
        if !state.is_in_doubt {
            return Ok(());
        }
        let id = live.row.id;
        let (events, leases) = self.store.read(move |c| Ok((store::events(c, id)?, store::leases(c)?))).await?;
        let known = usize::try_from(state.version).unwrap_or(usize::MAX);
        let own = leases.into_iter().map(Lease::from).filter(|lease| lease.run == live.row.facts.id);
        let new: Vec<_> = own.filter(|lease| state.leases.get(&lease.job) != Some(&lease.number)).collect();
        for stored in events.into_iter().skip(known) {
            let mut next = state.run.clone();
            match next.apply(&stored.event, stored.at) {
                Ok(effects) => self.follow(live, state, next, &stored.event, effects),
                Err(error) => error!(run = %live.row.facts.id, %error, "a stored event does not fit"),
            }
        }
        for lease in new {
            state.leases.insert(lease.job.clone(), lease.number);
            self.scheduler.lease(lease, false);
        }
        warn!(run = %live.row.facts.id, "read anew: a write of it was reported neither as stored nor as failed");
        state.is_in_doubt = false;
        Ok(())
    }

    /// The run is now what a stored event made of it.
    fn follow(&self, live: &Arc<LiveRun>, state: &mut LiveState, next: Run, event: &Event, effects: Vec<Effect>) {
        let run = &live.row.facts.id;
        if let Some(job) = ended_job(event) {
            state.leases.remove(&job);
            self.scheduler.release(run.clone(), job);
        }
        state.run = next;
        state.version += 1;
        live.version.send_replace(state.version);
        let holds = (!state.run.state.is_over()).then(|| state.run.locks_held());
        self.scheduler.update(run.clone(), holds);
        for effect in effects {
            self.perform(live, &state.run, effect);
        }
    }

    fn perform(&self, live: &Arc<LiveRun>, run: &Run, effect: Effect) {
        match effect {
            Effect::Preflight => drop(self.preflights.send(Arc::clone(live))),
            Effect::Offer(job) | Effect::RollOut(job) => {
                let Some(planned) = live.row.plan.job(&job) else { return };
                let is_rollout = matches!(planned.kind, JobKind::Rollout(_));
                let who = if is_rollout { Who::Server } else { Who::Runner(planned.needs.clone()) };
                let (of, locks_wanted) = (live.row.facts.id.clone(), run.locks_wanted(&job));
                self.scheduler.offer(Offer { run: of, job, who, locks_wanted, since: self.clock.now() });
            }
            Effect::Halt(job) => live.halt(job),
            Effect::Over(state) => {
                info!(run = %live.row.facts.id, %state, "over");
                locked(&self.live).remove(&live.row.facts.id);
                self.logs_wanted.notify_one();
            }
        }
    }

    /// Every change from now on.
    pub(crate) fn changes(&self) -> broadcast::Receiver<StoredChange> {
        self.changes.subscribe()
    }
}

/// The job that nobody has any more after an event.
fn ended_job(event: &Event) -> Option<JobKey> {
    match event {
        Event::JobEnded { job, .. } | Event::JobReturned { job } => Some(job.clone()),
        _ => None,
    }
}

/// The job that somebody has after an event.
fn taken_job(event: &Event) -> Option<JobKey> {
    match event {
        Event::JobTaken { job, .. } => Some(job.clone()),
        _ => None,
    }
}
