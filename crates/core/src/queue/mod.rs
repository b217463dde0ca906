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
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    fn run(text: &str) -> RunId {
        text.parse().unwrap()
    }

    fn offer(of: &str, job: &str) -> Offer {
        let who = Who::Runner(Needs::default());
        Offer { run: run(of), job: JobKey::from_text(job), who, locks_wanted: Vec::new(), since: Time::from_millis(0) }
    }

    fn wanting(of: &str, job: &str, lock: &str) -> Offer {
        let job_key = JobKey::from_text(job);
        let hold = Hold { lock: lock.into(), stage: job_key.stage().into(), job: Some(job_key) };
        Offer { locks_wanted: vec![hold], ..offer(of, job) }
    }

    fn runner(pool: &str, tools: &[&str]) -> RunnerFacts {
        let tools = tools.iter().map(|tool| (*tool).to_owned()).collect();
        RunnerFacts { name: format!("{pool}-1"), pool: pool.into(), tools, ..RunnerFacts::default() }
    }

    fn take(queue: &mut Queue, limits: &Limits) -> Option<String> {
        queue.take(Some(&runner("pond", &[])), limits).map(|offer| format!("{} {}", offer.run, offer.job))
    }

    #[test]
    fn a_run_that_began_is_ended_before_the_next_of_its_project_begins() {
        let mut queue = Queue::default();
        queue.offer(offer("many#2", "first/job"));
        queue.offer(offer("many#1", "second/job"));
        let order: Vec<_> = std::iter::from_fn(|| take(&mut queue, &Limits::default())).collect();
        assert_eq!(order, ["many#1 second/job", "many#2 first/job"]);
    }

    #[test]
    fn a_runner_that_is_paused_is_given_nothing_and_who_waits_for_it_is_told() {
        let mut queue = Queue::default();
        queue.offer(offer("pond#1", "a/b"));
        let limits = Limits::default();
        let paused = RunnerFacts { is_paused: true, ..runner("pond", &[]) };
        assert!(queue.take(Some(&paused), &limits).is_none());
        let why = |runners: &[RunnerFacts]| {
            queue.why_waiting(&run("pond#1"), &JobKey::from_text("a/b"), runners, &limits).unwrap()
        };
        assert_eq!(why(std::slice::from_ref(&paused)), "pond-1 is paused; resume: pondrix runner resume pond-1");
        assert_eq!(why(&[paused, runner("light", &[])]), "waits for a free place at light-1");
    }

    #[test]
    fn a_runner_is_given_jobs_of_the_projects_that_it_works_for_and_who_waits_for_another_is_told() {
        let mut queue = Queue::default();
        let limits = Limits::default();
        let bound = |projects: &[&str]| RunnerFacts {
            projects: projects.iter().map(|one| one.parse().unwrap()).collect(),
            ..runner("pond", &[])
        };
        queue.offer(offer("desk#1", "a/b"));
        assert!(queue.take(Some(&bound(&["garden-*", "labels"])), &limits).is_none());
        let why = |runners: &[RunnerFacts]| {
            queue.why_waiting(&run("desk#1"), &JobKey::from_text("a/b"), runners, &limits).unwrap()
        };
        assert_eq!(why(&[bound(&["labels"])]), "no runner for desk is here: pond-1 does not work for desk");
        assert_eq!(why(&[bound(&["labels"]), bound(&["desk"])]), "waits for a free place at pond-1");
        queue.offer(offer("garden-shed#4", "a/b"));
        let given = queue.take(Some(&bound(&["garden-*"])), &limits).map(|offer| offer.run.to_string());
        assert_eq!(given.as_deref(), Some("garden-shed#4"));
        assert!(queue.take(Some(&bound(&["de*"])), &limits).is_some());
    }

    #[test]
    fn many_that_wait_are_told_the_same_as_each_alone_and_of_many_runners_a_few_are_named() {
        let mut queue = Queue::default();
        let limits = Limits::default();
        let needs = Needs { tools: vec!["cargo".into()], ..Needs::default() };
        queue.offer(offer("desk#1", "a/one"));
        queue.offer(Offer { who: Who::Runner(needs), ..offer("desk#1", "a/two") });
        queue.offer(wanting("desk#1", "a/three", "pond"));
        queue.offer(offer("desk#1", "a/four"));
        queue.offer(wanting("desk#2", "a/one", "pond"));
        queue.hold(&run("desk#2"), vec![Hold { lock: "pond".into(), stage: "a".into(), job: None }]);
        let here: Vec<_> = (0..9).map(|at| RunnerFacts { name: format!("r{at}"), ..runner("pond", &[]) }).collect();
        let jobs = ["one", "two", "three", "four", "five"].map(|name| JobKey::new("a", name));
        let alone: Vec<_> = jobs.iter().map(|job| queue.why_waiting(&run("desk#1"), job, &here, &limits)).collect();
        assert_eq!(queue.why_all_wait(&run("desk#1"), &jobs, &here, &limits), alone);
        assert_eq!(alone[0].as_deref(), Some("waits for a free place at r0, r1, r2 and 6 more"));
        assert!(alone[1].as_deref().is_some_and(|why| why.starts_with("no runner with `cargo` is here: r0 lacks")));
        assert_eq!((alone[2].as_deref(), &alone[4]), (Some("waits for `pond`, which desk#2 stage a holds"), &None));
    }

    #[test]
    fn projects_take_turns_however_many_jobs_one_of_them_has() {
        let mut queue = Queue::default();
        for number in 1..=5 {
            queue.offer(offer(&format!("many#{number}"), "a/b"));
        }
        queue.offer(offer("few#1", "a/b"));
        let limits = Limits::default();
        let order: Vec<_> = std::iter::from_fn(|| take(&mut queue, &limits)).collect();
        assert_eq!(order[..3], ["many#1 a/b", "few#1 a/b", "many#2 a/b"]);
    }

    #[test]
    fn a_project_with_twice_the_weight_gets_twice_as_much_and_none_gets_more_than_its_cap() {
        let mut queue = Queue::default();
        for number in 1..=9 {
            queue.offer(offer(&format!("heavy#{number}"), "a/b"));
            queue.offer(offer(&format!("light#{number}"), "a/b"));
        }
        let share = |weight, limit| Share { weight, limit };
        let projects = [("heavy".parse().unwrap(), share(2, None)), ("light".parse().unwrap(), share(1, Some(2)))];
        let limits = Limits { projects: projects.into(), pools: BTreeMap::new() };
        let taken: Vec<_> = (0..6).filter_map(|_| take(&mut queue, &limits)).collect();
        assert_eq!(taken.iter().filter(|one| one.starts_with("heavy")).count(), 4);
        let rest: Vec<_> = std::iter::from_fn(|| take(&mut queue, &limits)).collect();
        assert!(rest.iter().all(|one| one.starts_with("heavy")), "{rest:?}");
        let words = queue.why_waiting(&run("light#9"), &JobKey::from_text("a/b"), &[runner("pond", &[])], &limits);
        assert_eq!(words.unwrap(), "light may have 2 jobs at once");
        queue.release(&run("light#1"), &JobKey::from_text("a/b"));
        assert_eq!(take(&mut queue, &limits).unwrap(), "light#3 a/b");
    }

    #[test]
    fn a_pool_takes_no_more_jobs_than_it_may() {
        let mut queue = Queue::default();
        queue.offer(offer("a#1", "a/b"));
        queue.offer(offer("b#1", "a/b"));
        let limits = Limits { projects: BTreeMap::new(), pools: [("pond".to_owned(), 1)].into() };
        assert!(take(&mut queue, &limits).is_some());
        assert!(take(&mut queue, &limits).is_none());
        let words = queue.why_waiting(&run("b#1"), &JobKey::from_text("a/b"), &[runner("pond", &[])], &limits);
        assert_eq!(words.unwrap(), "the pool `pond` may have 1 jobs at once");
    }

    #[test]
    fn what_is_held_is_held_against_other_runs_and_other_jobs_until_it_is_let_go() {
        let mut queue = Queue::default();
        let limits = Limits::default();
        queue.offer(wanting("desk#1", "a/one", "pond"));
        queue.offer(wanting("desk#1", "a/two", "pond"));
        queue.offer(wanting("desk#2", "a/one", "pond"));
        queue.offer(wanting("labels#1", "a/one", "pond"));
        assert_eq!(take(&mut queue, &limits).unwrap(), "desk#1 a/one");
        assert_eq!(take(&mut queue, &limits).unwrap(), "labels#1 a/one", "another project has its own");
        assert_eq!(take(&mut queue, &limits), None);
        let words = queue.why_waiting(&run("desk#2"), &JobKey::from_text("a/one"), &[runner("pond", &[])], &limits);
        assert_eq!(words.unwrap(), "waits for `pond`, which desk#1 a/one holds");
        queue.release(&run("desk#1"), &JobKey::from_text("a/one"));
        queue.hold(&run("desk#1"), Vec::new());
        assert_eq!(take(&mut queue, &limits).unwrap(), "desk#1 a/two");
    }

    #[test]
    fn a_job_that_no_runner_can_take_says_what_is_missing() {
        let mut queue = Queue::default();
        let limits = Limits::default();
        let needs = Needs { pool: None, tools: vec!["cargo".into()], ..Needs::default() };
        queue.offer(Offer { who: Who::Runner(needs), ..offer("desk#1", "a/b") });
        let words = |queue: &Queue, runners: &[RunnerFacts]| {
            queue.why_waiting(&run("desk#1"), &JobKey::from_text("a/b"), runners, &limits).unwrap()
        };
        assert_eq!(words(&queue, &[]), "no runner is here; start one: pondrix runner join");
        assert_eq!(words(&queue, &[runner("pond", &["sh"])]), "no runner with `cargo` is here: pond-1 lacks `cargo`");
        assert_eq!(words(&queue, &[runner("pond", &["cargo"])]), "waits for a free place at pond-1");
        assert!(take(&mut queue, &limits).is_none());
        assert!(queue.take(Some(&runner("pond", &["cargo"])), &limits).is_some());
        let needs = Needs { pool: Some("big".into()), ..Needs::default() };
        queue.offer(Offer { who: Who::Runner(needs), ..offer("desk#1", "a/b") });
        let told = words(&queue, &[runner("pond", &[])]);
        assert_eq!(told, "no runner of the pool `big` is here: pond-1 is of the pool `pond`");
    }

    #[test]
    fn a_job_for_a_platform_is_for_runners_of_its_kind_of_whatever_variant_where_they_say_none() {
        let of = |platforms: &[&str]| RunnerFacts {
            platforms: platforms.iter().map(|platform| (*platform).to_owned()).collect(),
            ..runner("pond", &[])
        };
        for (needed, platforms, fits) in [
            ("linux/arm64", &["linux/amd64"][..], false),
            ("linux/arm64", &[], false),
            ("linux/arm64", &["linux/amd64", "linux/arm64"], true),
            ("linux/arm/v7", &["linux/arm"], true),
            ("linux/arm", &["linux/arm/v7"], false),
            ("linux/arm64", &["linux/arm"], false),
            ("linux/arm/v7", &["linux/arm/v6"], false),
        ] {
            let mut queue = Queue::default();
            let needs = Needs { platform: Some(needed.into()), ..Needs::default() };
            queue.offer(Offer { who: Who::Runner(needs), ..offer("desk#1", "a/b") });
            let here = of(platforms);
            if !fits {
                let told = queue.why_waiting(
                    &run("desk#1"),
                    &JobKey::from_text("a/b"),
                    std::slice::from_ref(&here),
                    &Limits::default(),
                );
                let expected = format!(
                    "no runner that runs programs for {needed} is here: pond-1 does not run programs for {needed}"
                );
                assert_eq!(told.unwrap(), expected);
            }
            assert_eq!(queue.take(Some(&here), &Limits::default()).is_some(), fits, "{needed} at {platforms:?}");
        }
    }

    #[test]
    fn rollouts_are_for_the_server_and_count_for_no_project() {
        let mut queue = Queue::default();
        queue.offer(Offer { who: Who::Server, ..offer("desk#1", "a/b") });
        assert!(take(&mut queue, &Limits::default()).is_none());
        assert!(queue.take(None, &Limits::default()).is_some());
        assert_eq!(queue.taken.of_project(&"desk".parse().unwrap()), 0);
    }

    proptest! {
        #[test]
        fn nothing_is_taken_twice_nothing_is_forgotten_and_no_lock_has_two_holders(
            offers in prop::collection::vec((0u64..3, 1u64..4, 0usize..3, prop::option::of(0u8..2)), 0..40),
            finish in prop::collection::vec(any::<bool>(), 0..80),
        ) {
            let mut queue = Queue::default();
            let mut wanted = BTreeSet::new();
            for (project, number, job, lock) in offers {
                let (of, job) = (format!("p{project}#{number}"), format!("s/j{job}"));
                if wanted.insert((of.clone(), job.clone())) {
                    queue.offer(lock.map_or_else(|| offer(&of, &job), |lock| wanting(&of, &job, &format!("l{lock}"))));
                }
            }
            let mut running: Vec<Offer> = Vec::new();
            let mut done = BTreeSet::new();
            let mut finish = finish.into_iter();
            loop {
                let ends_one = finish.next() == Some(true) && !running.is_empty();
                let taken =
                    if ends_one { None } else { queue.take(Some(&runner("pond", &[])), &Limits::default()) };
                if let Some(taken) = taken {
                    for other in running.iter().filter(|other| other.run.project == taken.run.project) {
                        prop_assert!(other.locks_wanted.iter().all(|a| taken.locks_wanted.iter().all(|b| a.lock != b.lock)));
                    }
                    // Another event of the run, before the run has heard that the job was taken.
                    let known = running.iter().filter(|other| other.run == taken.run).flat_map(|other| other.locks_wanted.clone());
                    queue.hold(&taken.run, known.collect());
                    running.push(taken);
                } else if let Some(ended) = running.pop() {
                    queue.release(&ended.run, &ended.job);
                    let still = running.iter().filter(|other| other.run == ended.run).flat_map(|other| other.locks_wanted.clone());
                    queue.hold(&ended.run, still.collect());
                    prop_assert!(done.insert((ended.run.to_string(), ended.job.to_string())), "taken twice");
                } else {
                    break;
                }
            }
            prop_assert_eq!(done, wanted);
        }
    }
}
