//! A run in memory.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use pondrix_api::RunSummary;
use pondrix_core::JobKey;
use pondrix_core::plan::PlannedJob;
use pondrix_core::run::Run;
use tokio::sync::{Mutex, watch};

use super::decide::Decision;
use crate::scheduler::Lease;
use crate::store::{RunRow, SummaryRow};

/// A run, its state, and those who wait for changes of it.
#[derive(Debug)]
pub(crate) struct LiveRun {
    pub(crate) row: RunRow,
    /// Held while an event is stored, so that events have one order.
    pub(crate) state: Mutex<LiveState>,
    /// How it is now, for all who only look, and who wait for changes: they hold up nobody.
    seen: watch::Sender<Seen>,
    halted: watch::Sender<BTreeSet<JobKey>>,
    /// What is to be decided when its state is free.
    pub(super) waiting: std::sync::Mutex<Vec<Decision>>,
}

/// A run as it was after so many events.
#[derive(Clone, Debug)]
pub(crate) struct Seen {
    pub(crate) version: u64,
    pub(crate) run: Arc<Run>,
}

/// What events change.
#[derive(Debug)]
pub(crate) struct LiveState {
    pub(crate) run: Arc<Run>,
    /// How many events there were.
    pub(crate) version: u64,
    /// The number of the lease of each job that a runner has.
    pub(crate) leases: BTreeMap<JobKey, i64>,
    /// Whether the records may know of an event that memory does not.
    pub(super) is_in_doubt: bool,
}

impl LiveState {
    /// Whether the records may know of an event that memory does not.
    #[cfg(test)]
    pub(crate) const fn is_in_doubt(&self) -> bool {
        self.is_in_doubt
    }

    /// Whether a lease is the one that its job is done under now.
    pub(crate) fn is_held(&self, lease: &Lease) -> bool {
        self.leases.get(&lease.job) == Some(&lease.number)
    }
}

impl LiveRun {
    pub(crate) fn new(row: RunRow, run: Run, version: u64) -> Self {
        let run = Arc::new(run);
        Self {
            row,
            seen: watch::Sender::new(Seen { version, run: Arc::clone(&run) }),
            state: Mutex::new(LiveState { run, version, leases: BTreeMap::new(), is_in_doubt: false }),
            halted: watch::Sender::new(BTreeSet::new()),
            waiting: std::sync::Mutex::default(),
        }
    }

    /// How it is now.
    pub(crate) fn now(&self) -> Arc<Run> {
        Arc::clone(&self.seen.borrow().run)
    }

    /// The plan's job of this key.
    pub(crate) fn planned(&self, key: &JobKey) -> Option<&PlannedJob> {
        let (stage, job) = self.now().place(key)?;
        self.row.plan.stages.get(stage)?.jobs.get(job).filter(|job| job.key == *key)
    }

    /// How it is now, and from now on.
    pub(crate) fn watch(&self) -> watch::Receiver<Seen> {
        self.seen.subscribe()
    }

    /// Shows how it is after an event.
    pub(super) fn show(&self, state: &LiveState) {
        self.seen.send_replace(Seen { version: state.version, run: Arc::clone(&state.run) });
    }

    /// Orders whoever has a job to end it.
    pub(crate) fn halt(&self, job: JobKey) {
        self.halted.send_modify(|halted| {
            halted.insert(job);
        });
    }

    /// Returns when a job is ordered to end.
    pub(crate) async fn halted(&self, job: &JobKey) {
        let mut halted = self.halted.subscribe();
        if halted.wait_for(|halted| halted.contains(job)).await.is_err() {
            std::future::pending::<()>().await;
        }
    }

    /// What lists show of it, with what changed.
    pub(crate) fn summary(&self, row: &SummaryRow) -> RunSummary {
        RunSummary {
            state: row.state,
            note: row.note.clone(),
            started: row.started,
            ended: row.ended,
            ..self.row.summary.clone()
        }
    }
}
