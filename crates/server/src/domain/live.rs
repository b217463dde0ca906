//! A run in memory.

use std::collections::{BTreeMap, BTreeSet};

use pondrix_api::RunSummary;
use pondrix_core::JobKey;
use pondrix_core::run::Run;
use tokio::sync::{Mutex, watch};

use crate::scheduler::Lease;
use crate::store::{RunRow, SummaryRow};

/// A run, its state, and those who wait for changes of it.
#[derive(Debug)]
pub(crate) struct LiveRun {
    pub(crate) row: RunRow,
    /// Held while an event is stored, so that events have one order.
    pub(crate) state: Mutex<LiveState>,
    /// Tells of changes.
    pub(crate) version: watch::Sender<u64>,
    halted: watch::Sender<BTreeSet<JobKey>>,
}

/// What events change.
#[derive(Debug)]
pub(crate) struct LiveState {
    pub(crate) run: Run,
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
        Self {
            row,
            state: Mutex::new(LiveState { run, version, leases: BTreeMap::new(), is_in_doubt: false }),
            version: watch::Sender::new(version),
            halted: watch::Sender::new(BTreeSet::new()),
        }
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
