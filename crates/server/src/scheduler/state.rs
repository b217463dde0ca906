//! What the task owns.

use std::collections::{BTreeMap, HashMap, VecDeque};

use pondrix_api::{PauseView, RunnerView};
use pondrix_core::queue::{Limits, Offer, Queue, RunnerFacts};
use pondrix_core::run::Hold;
use pondrix_core::{JobKey, RunId, Time};
use tokio::sync::oneshot;
use tokio::time::Instant;

use super::{GONE_TIME, Grant, Greeting, LEASE_TIME, Lease, LeaseHash, Overdue, RETURN_TIME};

/// Everything.
#[derive(Debug, Default)]
pub(super) struct State {
    queue: Queue,
    leases: BTreeMap<i64, Held>,
    runners: BTreeMap<String, Known>,
    /// What runners said of themselves but their names: those that are alike share it.
    kinds: Vec<RunnerFacts>,
    limits: Limits,
    paused: BTreeMap<String, PauseView>,
    /// Who waits for a job, the longest first.
    pub(super) asking: VecDeque<Asking>,
    /// Whether somebody who asks may find a job that there was none of before.
    pub(super) has_changed: bool,
    /// Which lease may set a tag.
    tags: HashMap<String, i64>,
}

/// Somebody who waits for a job.
#[derive(Debug)]
pub(super) struct Asking {
    /// The runner; nothing for the server itself.
    pub(super) runner: Option<String>,
    pub(super) grant: oneshot::Sender<Grant>,
}

/// A lease, and what was heard of it.
#[derive(Debug)]
struct Held {
    lease: Lease,
    heard: Instant,
    /// Whether the runner has shown that it knows of the job. It does nothing before it has.
    is_confirmed: bool,
    /// Whether the lease is from before the server began: what the runner has shown then is forgotten, so that the
    /// job may have begun.
    is_restored: bool,
}

/// A runner that introduced itself.
#[derive(Debug)]
struct Known {
    facts: RunnerFacts,
    /// Which of the kinds it is of.
    kind: usize,
    slots: usize,
    stuck: usize,
    version: String,
    instance: String,
    heard: Instant,
    last_seen: Time,
}

impl Known {
    fn is_here(&self) -> bool {
        self.heard.elapsed() < GONE_TIME
    }
}

impl State {
    pub(super) fn offer(&mut self, offer: Offer) {
        self.queue.offer(offer);
        self.has_changed = true;
    }

    pub(super) fn update(&mut self, run: &RunId, holds: Option<Vec<Hold>>) {
        match holds {
            Some(holds) => self.queue.hold(run, holds),
            None => {
                self.queue.forget(run);
                self.leases.retain(|_, held| held.lease.run != *run);
                self.forget_tags();
            }
        }
        self.has_changed = true;
    }

    pub(super) fn release(&mut self, run: &RunId, job: &JobKey) {
        self.leases.retain(|_, held| held.lease.run != *run || held.lease.job != *job);
        self.queue.release(run, job);
        self.forget_tags();
        self.has_changed = true;
    }

    fn forget_tags(&mut self) {
        self.tags.retain(|_, number| self.leases.contains_key(number));
    }

    pub(super) fn lease(&mut self, lease: Lease, is_restored: bool) {
        if is_restored {
            let pool = self.runners.get(&lease.runner).map(|known| known.facts.pool.clone()).unwrap_or_default();
            self.queue.restore(lease.run.clone(), lease.job.clone(), Some(pool));
        }
        self.leases.insert(lease.number, Held { lease, heard: Instant::now(), is_confirmed: false, is_restored });
    }

    pub(super) fn confirm(&mut self, number: i64) {
        if let Some(held) = self.leases.get_mut(&number) {
            held.is_confirmed = true;
        }
    }

    pub(super) fn limit(&mut self, limits: Limits) {
        self.limits = limits;
        self.has_changed = true;
    }

    pub(super) fn pause(&mut self, paused: BTreeMap<String, PauseView>) {
        self.paused = paused;
        for mut known in std::mem::take(&mut self.runners).into_values() {
            known.facts.is_paused = self.paused.contains_key(&known.facts.name);
            known.kind = self.kind_of(&known.facts);
            self.runners.insert(known.facts.name.clone(), known);
        }
        self.has_changed = true;
    }

    fn kind_of(&mut self, facts: &RunnerFacts) -> usize {
        let kind = RunnerFacts { name: String::new(), ..facts.clone() };
        let known = self.kinds.iter().position(|other| *other == kind);
        known.unwrap_or_else(|| {
            self.kinds.push(kind);
            self.kinds.len() - 1
        })
    }

    /// Answers the jobs that it has.
    pub(super) fn forget_runner(&mut self, name: &str) -> Vec<Lease> {
        self.runners.remove(name);
        self.has_changed = true;
        let own = self.leases.values().filter(|held| held.lease.runner == name);
        own.map(|held| held.lease.clone()).collect()
    }

    pub(super) fn greet(&mut self, greeting: Greeting, now: Time) -> Vec<Lease> {
        let Greeting { facts, slots, stuck, version, instance } = greeting;
        let (name, pool) = (facts.name.clone(), facts.pool.clone());
        let facts = RunnerFacts { is_paused: self.paused.contains_key(&name), ..facts };
        let known = Known {
            kind: self.kind_of(&facts),
            facts,
            slots,
            stuck,
            version,
            instance: instance.clone(),
            heard: Instant::now(),
            last_seen: now,
        };
        self.runners.insert(name.clone(), known);
        let own = |held: &&Held| held.lease.runner == name;
        // Jobs from before the server ended count for the runner's pool, now that this is known.
        for held in self.leases.values().filter(own) {
            self.queue.restore(held.lease.run.clone(), held.lease.job.clone(), Some(pool.clone()));
        }
        self.has_changed = true;
        // Another process of the runner had them. What that never showed to know of is offered again; of what is from
        // before the server began nobody can tell.
        let is_forgotten = |held: &&Held| {
            let of_another = !held.lease.instance.is_empty() && held.lease.instance != instance;
            of_another && (held.is_confirmed || held.is_restored)
        };
        self.leases.values().filter(own).filter(is_forgotten).map(|held| held.lease.clone()).collect()
    }

    /// A runner shows a sign of life. Answers whether it has introduced itself.
    pub(super) fn hear(&mut self, runner: &str, now: Time) -> bool {
        let Some(known) = self.runners.get_mut(runner) else { return false };
        known.heard = Instant::now();
        known.last_seen = now;
        true
    }

    pub(super) fn show(&mut self, number: i64, hash: &LeaseHash, now: Time) -> Option<Lease> {
        let held = self.leases.get_mut(&number).filter(|held| held.lease.hash == *hash)?;
        held.heard = Instant::now();
        held.is_confirmed = true;
        let lease = held.lease.clone();
        self.hear(&lease.runner, now);
        Some(lease)
    }

    pub(super) fn claim(&mut self, number: i64, tag: String) -> bool {
        self.leases.contains_key(&number) && *self.tags.entry(tag).or_insert(number) == number
    }

    pub(super) fn overdue(&self) -> Vec<(Lease, Overdue)> {
        let judge = |held: &Held| {
            let silent = held.heard.elapsed();
            if held.is_confirmed {
                (silent >= LEASE_TIME).then_some(Overdue::Lost)
            } else {
                let limit = if held.is_restored { LEASE_TIME } else { RETURN_TIME };
                (silent >= limit).then_some(Overdue::Unheard)
            }
        };
        self.leases.values().filter_map(|held| Some((held.lease.clone(), judge(held)?))).collect()
    }

    /// Gives jobs to those who ask, as long as there are any for them.
    pub(super) fn serve(&mut self, grant: impl Fn(Offer, String) -> Grant) {
        if !std::mem::take(&mut self.has_changed) {
            return;
        }
        // Who is like one that got nothing gets nothing either.
        let mut without: Vec<Option<usize>> = Vec::new();
        let mut still_asking = VecDeque::new();
        for asking in std::mem::take(&mut self.asking) {
            if asking.grant.is_closed() {
                continue;
            }
            let known = asking.runner.as_ref().and_then(|runner| self.runners.get(runner));
            // One that was forgotten while it asked introduces itself anew.
            if asking.runner.is_some() && known.is_none() {
                continue;
            }
            let instance = known.map(|known| known.instance.clone()).unwrap_or_default();
            let alike = known.map(|known| known.kind);
            let facts = known.map(|known| &known.facts);
            let offer = if without.contains(&alike) { None } else { self.queue.take(facts, &self.limits) };
            match offer {
                // One that stopped waiting just now drops the grant, and the job is offered again.
                Some(offer) => drop(asking.grant.send(grant(offer, instance))),
                None => {
                    without.push(alike);
                    still_asking.push_back(asking);
                }
            }
        }
        self.asking = still_asking;
    }

    fn here(&self) -> Vec<RunnerFacts> {
        let here = self.runners.values().filter(|known| known.is_here());
        let mut here: Vec<_> = here.map(|known| known.facts.clone()).collect();
        here.sort_by(|a, b| a.name.cmp(&b.name));
        here
    }

    pub(super) fn why_waiting(&self, run: &RunId, jobs: &[JobKey]) -> Vec<Option<String>> {
        let here = self.here();
        self.queue.why_all_wait(run, jobs, &here, &self.limits)
    }

    pub(super) fn views(&self) -> Vec<RunnerView> {
        let view = |known: &Known| RunnerView {
            name: known.facts.name.clone(),
            pool: known.facts.pool.clone(),
            projects: known.facts.projects.clone(),
            slots: known.slots,
            busy: self.leases.values().filter(|held| held.lease.runner == known.facts.name).count() + known.stuck,
            stuck: known.stuck,
            here: known.is_here(),
            last_seen: Some(known.last_seen),
            version: known.version.clone(),
            paused: self.paused.get(&known.facts.name).cloned(),
        };
        let mut views: Vec<_> = self.runners.values().map(view).collect();
        views.sort_by(|a, b| a.name.cmp(&b.name));
        views
    }

    #[cfg(test)]
    pub(super) fn holders(&self) -> Vec<(RunId, Hold)> {
        self.queue.holders()
    }
}
