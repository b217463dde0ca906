//! The runners that are there, and what they may be given.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;

use pondrix_api::{Hello, RunnerView};
use pondrix_core::Time;
use pondrix_core::queue::{Limits, RunnerFacts};

use super::{Engine, locked};
use crate::clock::now;
use crate::store::{self, StoreError};

/// After how long without a word a runner counts as gone. Idle ones ask every 20 seconds.
const GONE_AFTER: Duration = Duration::from_secs(45);

#[derive(Debug, Default)]
pub(super) struct Runners {
    known: Mutex<HashMap<String, Known>>,
    pub(super) limits: RwLock<Limits>,
}

#[derive(Debug)]
struct Known {
    facts: RunnerFacts,
    slots: usize,
    version: String,
    instance: String,
    last_seen: Time,
}

impl Known {
    fn is_here(&self) -> bool {
        u128::from(now().since(self.last_seen)) < GONE_AFTER.as_millis()
    }
}

impl Engine {
    /// A runner introduces itself. One that was started anew has lost the jobs that it had.
    pub(crate) async fn greet(self: &Arc<Self>, hello: Hello) {
        let Hello { runner, pool, slots, tools, host_network, platforms, version, instance } = hello;
        let facts = RunnerFacts { name: runner.clone(), pool: pool.clone(), tools, host_network, platforms };
        let known = Known { facts, slots, version, instance: instance.clone(), last_seen: now() };
        let before = locked(&self.runners.known).insert(runner.clone(), known);
        if before.is_some_and(|before| before.instance != instance) {
            self.lose_all_of(&runner).await;
        }
        self.put_into_pool(&runner, &pool);
    }

    /// What a runner that is seen now said of itself; nothing when it has to say it again.
    pub(super) fn heard(&self, runner: &str) -> Option<RunnerFacts> {
        let mut known = locked(&self.runners.known);
        let known = known.get_mut(runner)?;
        known.last_seen = now();
        Some(known.facts.clone())
    }

    /// The pool of a runner that introduced itself.
    pub(super) fn pool_of(&self, runner: &str) -> Option<String> {
        locked(&self.runners.known).get(runner).map(|known| known.facts.pool.clone())
    }

    /// The runners that were seen lately.
    pub(super) fn here(&self) -> Vec<RunnerFacts> {
        let known = locked(&self.runners.known);
        let mut here: Vec<_> =
            known.values().filter(|known| known.is_here()).map(|known| known.facts.clone()).collect();
        here.sort_by(|a, b| a.name.cmp(&b.name));
        here
    }

    /// Every runner that was seen since the server began, for people.
    pub(crate) fn runner_views(&self) -> Vec<RunnerView> {
        let busy = self.dispatch.busy();
        let known = locked(&self.runners.known);
        let view = |known: &Known| RunnerView {
            name: known.facts.name.clone(),
            pool: known.facts.pool.clone(),
            slots: known.slots,
            busy: busy.iter().filter(|runner| **runner == known.facts.name).count(),
            here: known.is_here(),
            last_seen: known.last_seen,
            version: known.version.clone(),
        };
        let mut views: Vec<_> = known.values().map(view).collect();
        views.sort_by(|a, b| a.name.cmp(&b.name));
        views
    }

    /// Reads weights and caps from the records anew.
    pub(crate) async fn read_limits(&self) -> Result<(), StoreError> {
        let limits = self.store.read(|c| Ok(Limits { projects: store::shares(c)?, pools: store::pools(c)? })).await?;
        *self.runners.limits.write().unwrap_or_else(std::sync::PoisonError::into_inner) = limits;
        self.dispatch.wake();
        Ok(())
    }

    pub(super) fn limits(&self) -> Limits {
        self.runners.limits.read().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}
