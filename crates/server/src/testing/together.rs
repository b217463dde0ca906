//! What is asked of one run at once is decided together and stored together; and nobody fails for another's sake.

use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{Assignment, Hello, JobReport, TimedReport};
use pondrix_core::State;
use pondrix_core::run::{Outcome, StepEnd};
use tokio::task::JoinSet;

use super::runner::row;
use super::{World, in_scripted_time};
use crate::domain::{EngineError, LiveRun};
use crate::scheduler::Lease;
use crate::store;
use crate::store::scripted::Fate;

const JOBS: usize = 8;

/// A run of eight jobs, and a runner that has asked for none of them.
async fn run_of_many() -> (World, Arc<LiveRun>) {
    let world = World::new(1).await;
    world.repository.commit("main", &[]);
    world.start().await;
    tokio::time::sleep(Duration::from_secs(1)).await;
    let jobs: String = (0..JOBS).map(|at| format!("job \"j{at}\" {{ on-host; step \"a\" }}; ")).collect();
    world.repository.commit("main", &[("pondrix.kdl", &format!("start commit=\"**\"; stage \"one\" {{ {jobs} }}"))]);
    world.server().unwrap().watcher.wake(1);
    world.until("pond#1", |_, run| run.jobs().all(|job| job.queued.is_some())).await;
    let hello = Hello {
        slots: JOBS,
        stuck: 0,
        tools: Default::default(),
        host_network: false,
        platforms: Default::default(),
        version: String::new(),
        instance: String::new(),
    };
    world.engine().greet(row("wren"), hello).await;
    let live = world.engine().find(&"pond#1".parse().unwrap()).await.unwrap().unwrap();
    (world, live)
}

/// Has all jobs taken while the run is held, so that all of it is decided when it is let go.
async fn taken(world: &World, live: &LiveRun) -> Vec<Assignment> {
    let held = live.state.lock().await;
    let mut takes = JoinSet::new();
    for _ in 0..JOBS {
        let engine = world.engine();
        takes.spawn(async move { engine.take("wren", Duration::from_secs(4)).await });
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    drop(held);
    takes.join_all().await.into_iter().map(|taken| taken.unwrap().unwrap()).collect()
}

async fn lease(world: &World, assignment: &Assignment) -> Lease {
    world.engine().leased("wren", &assignment.lease).await.unwrap().1
}

async fn events(world: &World) -> usize {
    world.records().read(|c| store::events(c, 1)).await.unwrap().len()
}

/// Reports of what happens now.
fn now<const N: usize>(reports: [JobReport; N]) -> Vec<TimedReport> {
    reports.into_iter().map(|report| TimedReport { report, ago: 0 }).collect()
}

fn whole_job() -> Vec<TimedReport> {
    now([
        JobReport::Prepared,
        JobReport::StepStarted { step: 0, log: 0 },
        JobReport::StepEnded { step: 0, end: StepEnd::Exit(0), log: 0 },
        JobReport::Ended { outcome: Outcome::Passed, reason: None, usage: None },
    ])
}

#[test]
fn jobs_that_are_taken_at_once_are_stored_in_one_write_and_each_has_its_lease() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let (before, mut changes) = (events(&world).await, world.engine().changes());
        let taken = taken(&world, &live).await;
        assert_eq!(taken.len(), JOBS);
        assert_eq!(events(&world).await, before + JOBS);
        assert!(changes.try_recv().is_ok() && changes.try_recv().is_err(), "one write, told of once");
        for assignment in &taken {
            assert_eq!(lease(&world, assignment).await.job, assignment.job);
            world.engine().report(&live, &lease(&world, assignment).await, whole_job()).await.unwrap();
        }
        world.until("pond#1", |_, run| run.state == State::Passed).await;
    });
}

#[test]
fn what_could_not_be_stored_with_others_is_stored_alone() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let before = events(&world).await;
        world.next_writes([Fate::Fails]);
        let taken = taken(&world, &live).await;
        assert_eq!(events(&world).await, before + JOBS);
        let jobs: std::collections::BTreeSet<_> = taken.iter().map(|taken| taken.job.clone()).collect();
        assert_eq!(jobs.len(), JOBS, "each once");
    });
}

#[test]
fn one_that_cannot_be_stored_fails_and_the_others_do_not() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let all = taken(&world, &live).await;
        let before = events(&world).await;
        // All together, then the first alone.
        world.next_writes([Fate::Fails, Fate::Fails]);
        let held = live.state.lock().await;
        let mut reports = Vec::new();
        for assignment in &all {
            let (engine, live, lease) = (world.engine(), Arc::clone(&live), lease(&world, assignment).await);
            let told = tokio::spawn(async move { engine.report(&live, &lease, now([JobReport::Prepared])).await });
            // In the order of this list.
            tokio::time::sleep(Duration::from_millis(1)).await;
            reports.push(told);
        }
        drop(held);
        let mut told = Vec::new();
        for report in reports {
            told.push(report.await.unwrap());
        }
        assert!(matches!(&told[0], Err(error) if error.is_transient()), "{:?}", told[0]);
        assert!(told[1..].iter().all(Result::is_ok), "{told:?}");
        assert_eq!(events(&world).await, before + JOBS - 1);
    });
}

#[test]
fn what_is_reported_together_is_stored_whole_or_not_at_all_and_once() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let all = taken(&world, &live).await;
        let (before, lease) = (events(&world).await, lease(&world, &all[0]).await);
        world.next_writes([Fate::Fails]);
        let failed = world.engine().report(&live, &lease, whole_job()).await.unwrap_err();
        assert!(failed.is_transient(), "{failed}");
        assert_eq!(events(&world).await, before, "nothing of it");
        assert!(live.now().job(&all[0].job).unwrap().prepared.is_none());
        // A part of it, which is then told again with the rest.
        world.engine().report(&live, &lease, whole_job()[..2].to_vec()).await.unwrap();
        world.engine().report(&live, &lease, whole_job()).await.unwrap();
        assert_eq!(events(&world).await, before + 4, "each once");
        let again = world.engine().report(&live, &lease, whole_job()).await.unwrap_err();
        assert!(matches!(again, EngineError::LeaseEnded), "{again}");
        assert_eq!(live.now().job(&all[0].job).unwrap().state, State::Passed);
    });
}

#[test]
fn a_write_of_many_that_is_stored_and_not_heard_of_is_read_again_and_none_is_lost() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let before = events(&world).await;
        world.next_writes([Fate::StoredUnheard]);
        let all = taken(&world, &live).await;
        assert_eq!(events(&world).await, before + JOBS, "none twice");
        for assignment in &all {
            world.engine().report(&live, &lease(&world, assignment).await, whole_job()).await.unwrap();
        }
        world.until("pond#1", |_, run| run.state == State::Passed).await;
    });
}

#[test]
fn an_answer_that_nobody_waits_for_any_more_is_given_all_the_same() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let held = live.state.lock().await;
        let (engine, of) = (world.engine(), Arc::clone(&live));
        let asker = crate::domain::Asker { name: "ines".to_owned(), ..crate::domain::Asker::server() };
        let stopping = tokio::spawn(async move { engine.stop(&of, asker).await });
        tokio::time::sleep(Duration::from_millis(1)).await;
        stopping.abort();
        drop(held);
        world.until("pond#1", |_, run| run.state == State::Stopped).await;
        let late = world.engine().report(&live, &any_lease(), now([JobReport::Prepared])).await;
        assert!(matches!(late, Err(EngineError::LeaseEnded)));
    });
}

/// A lease that was never given.
fn any_lease() -> Lease {
    Lease {
        hash: [0; 32],
        number: 99,
        run: "pond#1".parse().unwrap(),
        job: pondrix_core::JobKey::new("one", "j0"),
        runner: "wren".to_owned(),
        instance: String::new(),
    }
}

#[test]
fn what_is_told_late_is_shown_as_it_was_and_nobody_waits_from_before_it_was_told() {
    in_scripted_time(async {
        let (world, live) = run_of_many().await;
        let all = taken(&world, &live).await;
        let lease = lease(&world, &all[0]).await;
        let told = |report: JobReport, ago: u64| TimedReport { report, ago };
        tokio::time::sleep(Duration::from_secs(4)).await;
        let reports = vec![
            told(JobReport::Prepared, 3_500),
            told(JobReport::StepStarted { step: 0, log: 0 }, 3_000),
            told(JobReport::StepEnded { step: 0, end: StepEnd::Exit(0), log: 0 }, 1_000),
            told(JobReport::Ended { outcome: Outcome::Passed, reason: None, usage: None }, 900),
        ];
        let before = world.engine().clock.now();
        world.engine().report(&live, &lease, reports.clone()).await.unwrap();
        let run = live.now();
        let job = run.job(&all[0].job).unwrap();
        let step = &job.steps[0];
        assert_eq!(step.ended.unwrap().since(step.started.unwrap()), 2_000);
        assert_eq!(step.started.unwrap().since(job.prepared.unwrap()), 500);
        assert!(job.ended.unwrap() >= before, "that it is over, others hear now");
        // A runner whose clock is wild changes the order of nothing.
        let other = self::lease(&world, &all[1]).await;
        let wild = reports.into_iter().map(|told| TimedReport { ago: u64::MAX - told.ago, ..told }).collect();
        world.engine().report(&live, &other, wild).await.unwrap();
        let run = live.now();
        let job = run.job(&all[1].job).unwrap();
        let times = [job.started, job.prepared, job.steps[0].started, job.steps[0].ended, job.ended];
        assert!(times.is_sorted() && times[0].is_some(), "{times:?}");
        world.end();
    });
}
