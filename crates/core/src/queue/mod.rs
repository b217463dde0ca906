//! Jobs that wait for somebody to do them, and who is given which next.
//!
//! Projects are served in turns by their weight: whose jobs take the least of the runners, for its
//! weight, comes first. Inside a project the oldest run comes first, so that what was begun is ended
//! before more is begun, and in a run the job that has waited longest.

mod given;
mod runner;
mod waiting;

use std::collections::BTreeMap;

use crate::pipeline::Needs;
use crate::run::Hold;
use crate::{JobKey, ProjectName, RunId, Time};
use given::{Given, Taken};
pub use runner::RunnerFacts;
use runner::{listed, wanted};
use waiting::{Line, Turn, Waiting};

/// A job that waits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Offer {
    /// The run.
    pub run: RunId,
    /// The job.
    pub job: JobKey,
    /// Who may do it.
    pub who: Who,
    /// What it needs to hold among the runs of its project.
    pub locks_wanted: Vec<Hold>,
    /// Since when it waits.
    pub since: Time,
}

/// Who may do a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Who {
    /// The server itself.
    Server,
    /// A runner that has what the job needs.
    Runner(Needs),
}

/// How much of the runners a project may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Share {
    /// Its weight among the others, at least 1.
    pub weight: u32,
    /// How many of its jobs may run at once; any number where nothing is said.
    pub limit: Option<u32>,
}

/// Everything that is not the queue's own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// What each project may use; those not named have a weight of 1 and no limit.
    pub projects: BTreeMap<ProjectName, Share>,
    /// How many jobs may run at once in each pool; any number in those not named.
    pub pools: BTreeMap<String, u32>,
}

/// The jobs that wait, and those that somebody has.
#[derive(Clone, Debug, Default)]
pub struct Queue {
    waiting: Waiting,
    taken: Given,
    held: BTreeMap<RunId, Vec<Hold>>,
}

impl Default for Share {
    fn default() -> Self {
        Self { weight: 1, limit: None }
    }
}

impl Queue {
    /// Adds a job that waits. One that waits already is not added again.
    pub fn offer(&mut self, offer: Offer) {
        self.waiting.add(offer);
    }

    /// A job that somebody has, from before the queue was made: `pool` is the runner's, or nothing for
    /// the server itself.
    pub fn restore(&mut self, run: RunId, job: JobKey, pool: Option<String>) {
        self.taken.set_pool(run, job, pool);
    }

    /// Takes the next job for a runner, or for the server itself where none is told.
    pub fn take(&mut self, runner: Option<&RunnerFacts>, limits: &Limits) -> Option<Offer> {
        if runner.is_some_and(|runner| runner.is_paused) {
            return None;
        }
        let mut next: Option<((usize, Turn), &Offer)> = None;
        for (project, lines) in self.waiting.projects() {
            // Of a project it is asked once, and not for each of its jobs.
            if runner.is_some_and(|runner| !runner.works_for(project) || self.is_full(project, &runner.pool, limits)) {
                continue;
            }
            let free = |offer: &&Offer| offer.locks_wanted.is_empty() || self.holder(offer).is_none();
            let fits = |line: &&Line| match (&line.who, runner) {
                (Who::Server, None) => true,
                (Who::Runner(needs), Some(runner)) => runner.lacks(needs).is_none(),
                _ => false,
            };
            // In a line all are for the same runners: the first that can be had is the one.
            let firsts = lines.iter().filter(fits);
            let firsts = firsts.filter_map(|line| line.offers.iter().find(|(_, offer)| free(offer)));
            let Some((turn, offer)) = firsts.min_by_key(|(turn, _)| **turn) else { continue };
            // Between projects with the same load the job that was offered first.
            let key = (self.load(project, limits), Turn { run: 0, ..*turn });
            if next.as_ref().is_none_or(|(other, _)| key < *other) {
                next = Some((key, offer));
            }
        }
        let (run, job) = next.map(|(_, offer)| (offer.run.clone(), offer.job.clone()))?;
        let offer = self.waiting.remove(&run, &job)?;
        let pool = runner.map(|runner| runner.pool.clone());
        self.taken.add(run, job, Taken { pool, locks: offer.locks_wanted.clone() });
        Some(offer)
    }

    /// A job is over, waits again, or was not taken after all.
    pub fn release(&mut self, run: &RunId, job: &JobKey) {
        self.taken.remove(run, job);
    }

    /// What a run holds now.
    pub fn hold(&mut self, run: &RunId, holds: Vec<Hold>) {
        if holds.is_empty() {
            self.held.remove(run);
        } else {
            self.held.insert(run.clone(), holds);
        }
    }

    /// Everything that is held, and by which run; what a job was given and its run knows of comes once.
    #[must_use]
    pub fn holders(&self) -> Vec<(RunId, Hold)> {
        let held = self.held.iter().flat_map(|(run, holds)| holds.iter().map(move |hold| (run, hold)));
        let mut all: Vec<(RunId, Hold)> = Vec::new();
        for (run, hold) in held.chain(self.taken.locks()) {
            if !all.iter().any(|(of, other)| of == run && other == hold) {
                all.push((run.clone(), hold.clone()));
            }
        }
        all
    }

    /// Forgets a run that is over.
    pub fn forget(&mut self, run: &RunId) {
        self.waiting.forget(run);
        self.taken.forget(run);
        self.held.remove(run);
    }

    /// How much of the runners a project has for its weight, in thousandths.
    fn load(&self, project: &ProjectName, limits: &Limits) -> usize {
        let weight = limits.projects.get(project).copied().unwrap_or_default().weight.max(1);
        self.taken.of_project(project) * 1000 / weight as usize
    }

    /// The limit of its own that a project has reached.
    fn own_limit(&self, project: &ProjectName, limits: &Limits) -> Option<u32> {
        let limit = limits.projects.get(project)?.limit?;
        (self.taken.of_project(project) >= limit as usize).then_some(limit)
    }

    /// The limit that a pool has reached.
    fn pool_limit(&self, pool: &str, limits: &Limits) -> Option<u32> {
        limits.pools.get(pool).copied().filter(|limit| self.taken.in_pool(pool) >= *limit as usize)
    }

    fn is_full(&self, project: &ProjectName, pool: &str, limits: &Limits) -> bool {
        self.own_limit(project, limits).is_some() || self.pool_limit(pool, limits).is_some()
    }

    /// The limit that keeps a project's job from a pool's runners, in words.
    fn full(&self, project: &ProjectName, pool: &str, limits: &Limits) -> Option<String> {
        let own = self.own_limit(project, limits).map(|limit| format!("{project} may have {limit} jobs at once"));
        let of_pool =
            || self.pool_limit(pool, limits).map(|limit| format!("the pool `{pool}` may have {limit} jobs at once"));
        own.or_else(of_pool)
    }

    /// Who holds what an offer wants: another run of the project, or another stage or job of its own.
    fn holder(&self, offer: &Offer) -> Option<(&RunId, &Hold)> {
        let held = self.held.iter().flat_map(|(run, holds)| holds.iter().map(move |hold| (run, hold)));
        let mut others = held.chain(self.taken.locks()).filter(|(run, _)| run.project == offer.run.project);
        others.find(|(run, hold)| {
            offer.locks_wanted.iter().any(|want| want.lock == hold.lock && (**run != offer.run || want != *hold))
        })
    }

    /// Why jobs of a run wait, each as it was asked: [`Queue::why_waiting`], which is the same for all that wait for the
    /// same runners and want nothing else.
    #[must_use]
    pub fn why_all_wait(
        &self,
        run: &RunId,
        jobs: &[JobKey],
        runners: &[RunnerFacts],
        limits: &Limits,
    ) -> Vec<Option<String>> {
        let mut known: Vec<(&Who, Option<String>)> = Vec::new();
        let why = |job: &JobKey| {
            let offer = self.waiting.offer(run, job)?;
            if !offer.locks_wanted.is_empty() {
                return self.why_waiting(run, job, runners, limits);
            }
            if let Some((_, words)) = known.iter().find(|(who, _)| **who == offer.who) {
                return words.clone();
            }
            let words = self.why_waiting(run, job, runners, limits);
            known.push((&offer.who, words.clone()));
            words
        };
        jobs.iter().map(why).collect()
    }

    /// Why a job waits, in words, given the runners that are there; nothing when it does not wait.
    #[must_use]
    pub fn why_waiting(&self, run: &RunId, job: &JobKey, runners: &[RunnerFacts], limits: &Limits) -> Option<String> {
        let offer = self.waiting.offer(run, job)?;
        if let Some((holder, hold)) = self.holder(offer) {
            let whom = hold.job.as_ref().map_or_else(|| format!("stage {}", hold.stage), ToString::to_string);
            return Some(format!("waits for `{}`, which {holder} {whom} holds", hold.lock));
        }
        let Who::Runner(needs) = &offer.who else { return Some("is about to begin".to_owned()) };
        if runners.is_empty() {
            return Some("no runner is here; start one: pondrix runner join".to_owned());
        }
        let project = &run.project;
        let lacks: Vec<_> = runners.iter().filter_map(|runner| runner.keeps_from(project, needs)).collect();
        if lacks.len() == runners.len() {
            let elsewhere = runners.iter().any(|runner| !runner.works_for(project));
            let whom = elsewhere.then(|| format!("for {project}"));
            let wanted: Vec<_> = whom.into_iter().chain([wanted(needs)]).filter(|words| !words.is_empty()).collect();
            return Some(format!("no runner {} is here: {}", wanted.join(" "), listed(&lacks)));
        }
        let fit = runners.iter().filter(|runner| runner.keeps_from(project, needs).is_none());
        let (paused, fit): (Vec<_>, Vec<_>) = fit.partition(|runner| runner.is_paused);
        if let (Some(first), true) = (paused.first(), fit.is_empty()) {
            let names: Vec<_> = paused.iter().map(|runner| runner.name.clone()).collect();
            let are = if names.len() == 1 { "is" } else { "are" };
            return Some(format!("{} {are} paused; resume: pondrix runner resume {}", listed(&names), first.name));
        }
        let full: Vec<_> = fit.iter().filter_map(|runner| self.full(&run.project, &runner.pool, limits)).collect();
        if full.len() == fit.len() {
            return full.into_iter().next();
        }
        let names: Vec<_> = fit.iter().map(|runner| runner.name.clone()).collect();
        Some(format!("waits for a free place at {}", listed(&names)))
    }
}

#[cfg(test)]
mod tests;
