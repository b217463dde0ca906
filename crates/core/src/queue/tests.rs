//! What the queue gives to whom, and what it says to those that wait.

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
            let expected =
                format!("no runner that runs programs for {needed} is here: pond-1 does not run programs for {needed}");
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
