//! Taking runs up again from what is stored of them: when the server starts, when it was not known whether one was
//! stored, and when somebody asks for one that is over.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use pondrix_core::run::{Event, Run};
use pondrix_core::{RunId, State};
use tracing::{error, info, warn};

use super::{Engine, EngineError, LiveRun, locked};
use crate::scheduler::Lease;
use crate::store::{self, RunRow, StoreError, StoredEvent};

impl Engine {
    /// Takes up every run that was not over when the server ended.
    pub(crate) async fn resume(self: &Arc<Self>) -> Result<(), StoreError> {
        self.read_limits().await?;
        self.read_paused().await?;
        let is_restored = self.store.read(store::is_restored).await?;
        let mut all = Vec::new();
        for id in self.store.read(store::going_on).await? {
            let Some(live) = self.load_readable(id).await? else { continue };
            let live = Arc::new(live);
            locked(&self.live).insert(live.row.facts.id.clone(), Arc::clone(&live));
            info!(run = %live.row.facts.id, "taken up again");
            all.push(live);
        }
        let leases: Vec<Lease> = self.store.read(store::leases).await?.into_iter().map(Lease::from).collect();
        for lease in &leases {
            if let Some(live) = self.live(&lease.run) {
                live.state.lock().await.leases.insert(lease.job.clone(), lease.number);
                self.scheduler.lease(lease.clone(), true);
            }
        }
        for live in &all {
            let state = live.state.lock().await;
            self.scheduler.update(live.row.facts.id.clone(), Some(state.run.locks_held()));
        }
        for live in all {
            if is_restored {
                // The world has gone on since: what it was about to do may long be done, or wrong.
                let event = Event::StopAsked { by: "restoring the backup".to_owned() };
                self.record(&live, &event).await.or_else(|error| match error {
                    EngineError::Store(error) => Err(error),
                    _ => Ok(()),
                })?;
                let own = leases.iter().filter(|lease| lease.run == live.row.facts.id);
                self.give_up_restored(own.cloned().collect()).await;
            }
            let state = live.state.lock().await;
            if state.run.state == State::Queued {
                drop(state);
                // Not waited for: it goes on while the records cannot be written, and the server serves meanwhile.
                let engine = Arc::clone(self);
                tokio::spawn(async move { engine.begin(&live).await });
                continue;
            }
            for effect in state.run.outstanding() {
                self.perform(&live, &state.run, effect);
            }
            drop(state);
            self.supersede(&live).await;
        }
        if is_restored {
            self.store.write(store::forget_restored).await?;
        }
        Ok(())
    }

    pub(super) async fn begin(self: &Arc<Self>, live: &Arc<LiveRun>) {
        if let Err(error) = self.record_until_stored(live, &Event::PreflightBegan).await {
            error!(run = %live.row.facts.id, %error, "the run could not begin");
        }
        self.supersede(live).await;
    }

    /// Takes up runs that are stored and that nobody carries: whether they were stored was not known when they
    /// were. There are none as long as the records can be written.
    pub(crate) async fn take_up_strays(self: Arc<Self>) {
        if !self.may_have_strays.swap(false, Ordering::Relaxed) {
            return;
        }
        if let Err(error) = self.take_up_strays_inner().await {
            self.may_have_strays.store(true, Ordering::Relaxed);
            warn!(%error, "it could not be seen whether every run is carried on");
        }
    }

    async fn take_up_strays_inner(self: &Arc<Self>) -> Result<(), StoreError> {
        let admission = self.admission.write().await;
        let known: HashSet<i64> = self.all_live().iter().map(|live| live.row.id).collect();
        let mut strays = Vec::new();
        for id in self.store.read(store::going_on).await?.into_iter().filter(|id| !known.contains(id)) {
            let Some(live) = self.load_readable(id).await? else { continue };
            let live = Arc::new(live);
            warn!(run = %live.row.facts.id, "it is stored after all, and is taken up");
            locked(&self.live).insert(live.row.facts.id.clone(), Arc::clone(&live));
            strays.push(live);
        }
        drop(admission);
        for live in strays {
            self.begin(&live).await;
        }
        Ok(())
    }

    /// A run that goes on, as its events made it. One whose records cannot be read is marked as such and ends; it
    /// stops nothing else.
    async fn load_readable(&self, id: i64) -> Result<Option<LiveRun>, StoreError> {
        match self.load(id).await {
            Err(error) if error.is_unreadable() => {
                error!(row = id, %error, "what is recorded of a run cannot be read; it is ended");
                let now = self.clock.now();
                self.store.write(move |c| store::set_unreadable(c, id, now)).await?;
                Ok(None)
            }
            other => other,
        }
    }

    /// A run as its events made it.
    pub(super) async fn load(&self, id: i64) -> Result<Option<LiveRun>, StoreError> {
        let found = self.store.read(move |c| Ok((store::by_id(c, id)?, store::events(c, id)?))).await?;
        let (Some(row), events) = found else { return Ok(None) };
        let (run, version) = replay(&row, &events);
        Ok(Some(LiveRun::new(row, run, version)))
    }

    /// A run, whether it goes on or is over.
    pub(crate) async fn find(&self, run: &RunId) -> Result<Option<Arc<LiveRun>>, StoreError> {
        let id = {
            let _nobody_is_admitted = self.admission.read().await;
            if let Some(live) = self.live(run) {
                return Ok(Some(live));
            }
            let name = run.clone();
            self.store.read(move |c| store::id_of(c, &name)).await?
        };
        match id {
            Some(id) => Ok(self.load(id).await?.map(Arc::new)),
            None => Ok(None),
        }
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
