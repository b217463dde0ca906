//! The engine: keeps the runs that go on, applies what happens to them, and has the effects done.

mod answers;
mod artifacts;
mod detail;
mod dispatch;
mod live;
mod registries;
mod reruns;
mod run_sources;
mod runners;
mod starts;
mod templates;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use pondrix_api::RunSummary;
use pondrix_core::pipeline::JobKind;
use pondrix_core::queue::Who;
use pondrix_core::run::{Effect, Event, Refused, Run};
use pondrix_core::{JobKey, RunId, State};
use tokio::sync::{RwLock, broadcast};
use tracing::{error, info};

pub(crate) use answers::asked;
pub(crate) use dispatch::{LeaseHash, TakeError};
pub(crate) use live::LiveRun;
pub(crate) use registries::place as registry_place;
pub(crate) use starts::{Builds, StartError, Started, Tried, Tries as TryOutcome, Wanted};

use crate::archives::Archives;
use crate::clock::now;
use crate::contents::Files;
use crate::logs::Logs;
use crate::preflight;
use crate::seal::Seal;
use crate::store::{self, RunRow, Store, StoreError, StoredEvent};
use crate::tries::Tries;
use dispatch::{Dispatch, Lease};
use runners::Runners;

/// How many changes a slow follower may be behind before it has to look anew.
const CHANGES_KEPT: usize = 1024;

/// A change that was stored: the event's id, and the run after it.
pub(crate) type StoredChange = (i64, RunSummary);

/// The engine.
#[derive(Debug)]
pub(crate) struct Engine {
    /// For what goes on by itself, in tasks of its own.
    this: Weak<Self>,
    pub(crate) store: Store,
    pub(crate) seal: Seal,
    pub(crate) tries: Tries,
    pub(crate) files: Files,
    pub(crate) logs: Logs,
    pub(crate) archives: Archives,
    pub(crate) data: PathBuf,
    live: Mutex<HashMap<RunId, Arc<LiveRun>>>,
    /// Held while a project's copy of its repository is brought up to date: git does not wait for itself.
    fetching: Mutex<HashMap<i64, Arc<tokio::sync::Mutex<()>>>>,
    /// Held for writing while a run is stored and becomes live, so that nobody finds it in between and
    /// follows a copy of it that nothing ever happens to.
    admission: RwLock<()>,
    dispatch: Dispatch,
    runners: Runners,
    changes: broadcast::Sender<StoredChange>,
}

/// Why something did not happen to a run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum EngineError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Refused(#[from] Refused),
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Engine {
    pub(crate) fn new(store: Store, seal: Seal, data: PathBuf) -> Arc<Self> {
        Arc::new_cyclic(|this| Self {
            this: Weak::clone(this),
            store,
            seal,
            tries: Tries::new(data.join("tries")),
            files: Files::new(data.join("files")),
            logs: Logs::new(data.join("logs")),
            archives: Archives::default(),
            data,
            live: Mutex::default(),
            fetching: Mutex::default(),
            admission: RwLock::new(()),
            dispatch: Dispatch::default(),
            runners: Runners::default(),
            changes: broadcast::channel(CHANGES_KEPT).0,
        })
    }

    /// Takes up every run that was not over when the server ended.
    pub(crate) async fn resume(self: &Arc<Self>) -> Result<(), StoreError> {
        self.read_limits().await?;
        let leases = self.store.read(store::leases).await?;
        let mut all = Vec::new();
        for id in self.store.read(store::going_on).await? {
            let Some(live) = self.load(id).await? else { continue };
            let live = Arc::new(live);
            locked(&self.live).insert(live.row.facts.id.clone(), Arc::clone(&live));
            info!(run = %live.row.facts.id, "taken up again");
            all.push(live);
        }
        self.restore(leases).await;
        for live in all {
            let state = live.state.lock().await;
            if state.run.state == State::Queued {
                drop(state);
                self.begin(&live).await;
                continue;
            }
            for effect in state.run.outstanding() {
                self.perform(&live, &state.run, effect);
            }
            drop(state);
            self.supersede(&live).await;
        }
        Ok(())
    }

    async fn begin(self: &Arc<Self>, live: &Arc<LiveRun>) {
        if let Err(error) = self.record(live, &Event::PreflightBegan).await {
            error!(run = %live.row.facts.id, %error, "the run could not begin");
        }
        self.supersede(live).await;
    }

    /// A run as its events made it.
    async fn load(&self, id: i64) -> Result<Option<LiveRun>, StoreError> {
        let found = self.store.read(move |c| Ok((store::by_id(c, id)?, store::events(c, id)?))).await?;
        let (Some(row), events) = found else { return Ok(None) };
        let (run, version) = replay(&row, &events);
        Ok(Some(LiveRun::new(row, run, version)))
    }

    /// A run, whether it goes on or is over.
    pub(crate) async fn find(&self, run: &RunId) -> Result<Option<Arc<LiveRun>>, StoreError> {
        let _nobody_is_admitted = self.admission.read().await;
        if let Some(live) = self.live(run) {
            return Ok(Some(live));
        }
        let name = run.clone();
        match self.store.read(move |c| store::id_of(c, &name)).await? {
            Some(id) => Ok(self.load(id).await?.map(Arc::new)),
            None => Ok(None),
        }
    }

    /// A run that goes on.
    pub(crate) fn live(&self, run: &RunId) -> Option<Arc<LiveRun>> {
        locked(&self.live).get(run).cloned()
    }

    /// Stores an event of a run, changes the run by it, tells who follows, and has the effects done.
    ///
    /// # Errors
    /// When the event cannot happen now, or cannot be stored; nothing has then changed.
    pub(crate) async fn record(self: &Arc<Self>, live: &Arc<LiveRun>, event: &Event) -> Result<(), EngineError> {
        self.record_with(live, event, None).await
    }

    /// The same, and with it remembers who has the job.
    ///
    /// It runs to its end even when whoever asked stops waiting: records and memory never part.
    async fn record_with(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        event: &Event,
        lease: Option<(LeaseHash, String)>,
    ) -> Result<(), EngineError> {
        let (engine, live, event) = (Arc::clone(self), Arc::clone(live), event.clone());
        tokio::spawn(async move { engine.record_inner(&live, &event, lease).await })
            .await
            .map_err(|_| StoreError::Ended)?
    }

    async fn record_inner(
        &self,
        live: &Arc<LiveRun>,
        event: &Event,
        lease: Option<(LeaseHash, String)>,
    ) -> Result<(), EngineError> {
        let mut state = live.state.lock().await;
        let at = now();
        let mut next = state.run.clone();
        let effects = next.apply(event, at)?;
        let row = detail::summary_row(&next);
        let summary = live.summary(&row);
        let (id, stored, ended) = (live.row.id, event.clone(), ended_job(event));
        let facts = live.row.facts.clone();
        let lease = lease.zip(taken_job(event)).map(|((hash, runner), job)| Lease::new(hash, id, job, runner));
        let kept = lease.clone();
        // The index is what others are built on, and not the images in it.
        let is_part = matches!(&stored, Event::ResultAdded { job, .. } if live.row.plan.is_part(job));
        let event_id = self
            .store
            .write(move |c| {
                if let Some(lease) = &kept {
                    store::put_lease(c, &lease.hash, id, &lease.job, &lease.runner)?;
                }
                if let Some(job) = &ended {
                    store::end_lease(c, id, job)?;
                }
                if let Event::ResultAdded { job, result } = &stored {
                    Self::remember_tests(c, id, job, result)?;
                    if !is_part {
                        Self::remember_image(c, id, &facts, job, result)?;
                    }
                }
                store::append_event(c, id, &stored, at, &row)
            })
            .await?;
        if let Some(lease) = lease {
            self.dispatch.hold(lease);
        }
        if let Some(job) = ended_job(event) {
            self.dispatch.end(live.row.id, &live.row.facts.id, &job);
        }
        state.run = next;
        state.version += 1;
        live.version.send_replace(state.version);
        // Nobody may be following.
        let _ = self.changes.send((event_id, summary));
        for effect in effects {
            self.perform(live, &state.run, effect);
        }
        self.dispatch.update_locks(&live.row.facts.id, &state.run);
        Ok(())
    }

    fn perform(&self, live: &Arc<LiveRun>, run: &Run, effect: Effect) {
        match effect {
            Effect::Preflight => {
                if let Some(engine) = self.this.upgrade() {
                    tokio::spawn(preflight::carry_out(engine, Arc::clone(live)));
                }
            }
            Effect::Offer(job) | Effect::RollOut(job) => {
                let Some(planned) = live.row.plan.job(&job) else { return };
                let is_rollout = matches!(planned.kind, JobKind::Rollout(_));
                let who = if is_rollout { Who::Server } else { Who::Runner(planned.needs.clone()) };
                self.dispatch.offer(live.row.facts.id.clone(), job.clone(), who, run.locks_wanted(&job));
            }
            Effect::Halt(job) => live.halt(job),
            Effect::Over(state) => {
                info!(run = %live.row.facts.id, %state, "over");
                locked(&self.live).remove(&live.row.facts.id);
                self.logs.forget(&live.row.facts.id);
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

/// What a run's events make of it.
fn replay(row: &RunRow, events: &[StoredEvent]) -> (Run, u64) {
    let mut run = Run::new(&row.plan);
    if !row.faults.is_empty() {
        run.state = row.summary.state;
    }
    for stored in events {
        if let Err(error) = run.apply(&stored.event, stored.at) {
            error!(run = %row.facts.id, %error, "a stored event does not fit; it is passed over");
        }
    }
    (run, events.len() as u64)
}
