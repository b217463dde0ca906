//! Laws of the list of jobs.

use proptest::prelude::*;

use super::*;
use crate::Time;
use crate::plan::{Plan, Start};
use crate::run::{Attempt, Run};

fn jobs_of(count: usize) -> Jobs {
    let job = |at: usize| {
        format!(
            "job \"j{at}\" {{ container \"x.test/y:1\"; step \"true\"; {} }}\n",
            if at.is_multiple_of(5) { "may-fail" } else { "" }
        )
    };
    let text = format!("start commit=\"main\"\nstage \"many\" {{ {} }}\n", (0..count).map(job).collect::<String>());
    let read = crate::pipeline::read(&text).unwrap();
    let start = Start {
        kind: crate::pipeline::StartKind::Commit,
        branch: "main".into(),
        tag: None,
        changed: None,
        inputs: std::collections::BTreeMap::new(),
    };
    Run::new(&Plan::new(&read, &start)).stages.remove(0).jobs
}

/// A change of a job's standing, by a number.
fn set(job: &mut JobRun, how: u8) {
    let states = [
        State::Queued,
        State::Queued,
        State::Running,
        State::Passed,
        State::Failed,
        State::Lost,
        State::Stopped,
        State::Skipped,
    ];
    job.state = states[usize::from(how) % states.len()];
    job.queued = (!how.is_multiple_of(3)).then(|| Time::from_millis(1));
    job.started = (how % 7 > 3).then(|| Time::from_millis(2));
    if how.is_multiple_of(11) {
        let (state, ended) = (State::Lost, Time::from_millis(3));
        job.attempts.push(Attempt { state, reason: None, runner: None, started: None, ended });
    }
}

/// What is known without looking at each job is what looking at each tells.
fn is_consistent(jobs: &Jobs) -> Result<(), TestCaseError> {
    let keys = |found: &mut dyn Iterator<Item = &JobRun>| found.map(|job| job.key.clone()).collect::<Vec<_>>();
    let all = || jobs.iter();
    prop_assert_eq!(all().count(), jobs.len());
    prop_assert_eq!(keys(&mut jobs.running()), keys(&mut all().filter(|job| job.state == State::Running)));
    prop_assert_eq!(jobs.running_count(), all().filter(|job| job.state == State::Running).count());
    prop_assert_eq!(keys(&mut jobs.failed()), keys(&mut all().filter(|job| job.fails_the_run())));
    prop_assert_eq!(jobs.are_over(), all().all(|job| job.state.is_over()));
    prop_assert_eq!(jobs.have_begun(), all().any(JobRun::has_begun));
    for from in [0, 1, PIECE - 1, PIECE, jobs.len() / 2, jobs.len()] {
        let fits = |job: &JobRun| job.key.as_str().ends_with(['1', '4', '7']);
        let expected = all().enumerate().skip(from).find(|(_, job)| job.is_unsettled() && fits(job));
        prop_assert_eq!(jobs.next_unsettled(from, fits), expected.map(|(place, _)| place));
    }
    for (place, job) in all().enumerate() {
        prop_assert_eq!(jobs.place(&job.key), Some(place));
        prop_assert_eq!(jobs.at(place), Some(job));
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn what_is_counted_is_what_is_there_a_copy_keeps_what_it_was_and_what_changed_since_is_known(
        count in prop::sample::select(vec![1, 5, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE]),
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..80),
    ) {
        let mut jobs = jobs_of(count);
        let first = jobs.clone();
        is_consistent(&jobs)?;
        for (place, how) in &changes {
            let before = jobs.clone();
            let was: Vec<JobRun> = before.iter().cloned().collect();
            set(&mut jobs.change(place.index(count)).unwrap(), *how);
            is_consistent(&jobs)?;
            prop_assert!(before.iter().eq(&was), "a copy was changed");
        }
        is_consistent(&jobs)?;
        let others: Vec<_> = jobs.iter().zip(first.iter()).filter(|(now, then)| now != then).map(|(now, _)| now).collect();
        prop_assert_eq!(jobs.changed_since(&first).collect::<Vec<_>>(), others);
        jobs.change_each(|job| job.state == State::Running, |job| job.state = State::Passed);
        prop_assert_eq!(jobs.running_count(), 0);
        is_consistent(&jobs)?;
        prop_assert!(jobs.change(count).is_none() && jobs.at(count).is_none());
    }
}

proptest! {
    #[test]
    fn what_is_told_late_was_neither_before_what_happened_earlier_nor_after_it_is_told(
        started in 0_i64..100_000, prepared in 0_i64..100_000, now in 0_i64..200_000, ago in prop_oneof![0_u64..200_000, any::<u64>()],
    ) {
        let mut job = jobs_of(1).at(0).unwrap().clone();
        (job.started, job.steps[0].started) = (Some(Time::from_millis(started)), Some(Time::from_millis(prepared)));
        let latest = started.max(prepared);
        let moment = job.moment(Time::from_millis(now), ago).millis();
        let expected = i64::try_from(ago).map_or(i64::MIN, |ago| now - ago).max(latest);
        // Where the clock was set back, nothing is known but when it is told.
        prop_assert_eq!(moment, if latest <= now { expected } else { now });
        prop_assert!(moment <= now);
    }
}
