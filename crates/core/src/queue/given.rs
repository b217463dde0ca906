//! The jobs that somebody has, counted.

use std::collections::{BTreeMap, HashMap};

use crate::run::Hold;
use crate::{JobKey, ProjectName, RunId};

/// A job that somebody has.
#[derive(Clone, Debug, Default)]
pub(super) struct Taken {
    /// The pool of the runner that has it; nothing for the server itself.
    pub(super) pool: Option<String>,
    /// What was given to it with the job, until it is released: the run itself says what it holds only after it
    /// has heard that the job was taken, and until then nobody may come between.
    pub(super) locks: Vec<Hold>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Given {
    jobs: BTreeMap<RunId, BTreeMap<JobKey, Taken>>,
    /// How many of each project's jobs runners have, and how many of each pool.
    of_projects: HashMap<ProjectName, usize>,
    in_pools: HashMap<String, usize>,
    /// The runs with a job that was given something to hold: few have one.
    with_locks: BTreeMap<RunId, usize>,
}

fn count<K: std::hash::Hash + Eq + Clone>(counts: &mut HashMap<K, usize>, key: &K, is_one_more: bool) {
    let count = counts.entry(key.clone()).or_default();
    *count = if is_one_more { *count + 1 } else { count.saturating_sub(1) };
    if *count == 0 {
        counts.remove(key);
    }
}

impl Given {
    /// Somebody has a job now.
    pub(super) fn add(&mut self, run: RunId, job: JobKey, taken: Taken) {
        self.remove(&run, &job);
        self.note(&run, &taken, true);
        self.jobs.entry(run).or_default().insert(job, taken);
    }

    /// Which pool a job counts for that somebody has.
    pub(super) fn set_pool(&mut self, run: RunId, job: JobKey, pool: Option<String>) {
        let known = self.jobs.get(&run).and_then(|jobs| jobs.get(&job));
        let locks = known.map(|taken| taken.locks.clone()).unwrap_or_default();
        self.add(run, job, Taken { pool, locks });
    }

    /// Nobody has it any more.
    pub(super) fn remove(&mut self, run: &RunId, job: &JobKey) {
        let Some(jobs) = self.jobs.get_mut(run) else { return };
        let removed = jobs.remove(job);
        if jobs.is_empty() {
            self.jobs.remove(run);
        }
        if let Some(taken) = removed {
            self.note(run, &taken, false);
        }
    }

    /// Nobody has any of a run any more.
    pub(super) fn forget(&mut self, run: &RunId) {
        for taken in self.jobs.remove(run).into_iter().flat_map(BTreeMap::into_values) {
            self.note(run, &taken, false);
        }
    }

    fn note(&mut self, run: &RunId, taken: &Taken, is_one_more: bool) {
        if let Some(pool) = &taken.pool {
            count(&mut self.in_pools, pool, is_one_more);
            count(&mut self.of_projects, &run.project, is_one_more);
        }
        if !taken.locks.is_empty() {
            let jobs = self.with_locks.entry(run.clone()).or_default();
            *jobs = if is_one_more { *jobs + 1 } else { jobs.saturating_sub(1) };
            if *jobs == 0 {
                self.with_locks.remove(run);
            }
        }
    }

    /// How many jobs the runners of a pool have.
    pub(super) fn in_pool(&self, pool: &str) -> usize {
        self.in_pools.get(pool).copied().unwrap_or_default()
    }

    /// How many of a project's jobs runners have.
    pub(super) fn of_project(&self, project: &ProjectName) -> usize {
        self.of_projects.get(project).copied().unwrap_or_default()
    }

    /// Everything that was given with jobs.
    pub(super) fn locks(&self) -> impl Iterator<Item = (&RunId, &Hold)> {
        let runs = self.with_locks.keys().filter_map(|run| Some((run, self.jobs.get(run)?)));
        runs.flat_map(|(run, jobs)| {
            jobs.values().flat_map(move |taken| taken.locks.iter().map(move |hold| (run, hold)))
        })
    }
}
