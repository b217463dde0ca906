mod order;

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;
use crate::image::Digest;
use crate::pipeline::{self, StartKind};
use crate::plan::{Plan, Start};
use crate::run::{BaseImage, JobResult, PreflightFault};

const PIPELINE: &str = r#"
stage "verify" {
    job "one" { container "x.test/y:1"; step "a"; step "b" }
    job "two" { container "x.test/y:1"; step "c" }
}
stage "package" { image "desk" { push "x.test/desk" { tag "{run}" } } }
stage "staging" { rollout "desk" { to "staging"; image "desk"; manifests "d/*.yaml" } }
"#;

/// A run of a pipeline that a commit on main started.
fn run_of(text: &str) -> Run {
    let start =
        Start { kind: StartKind::Commit, branch: "main".into(), tag: None, changed: None, inputs: BTreeMap::new() };
    let pipeline = pipeline::read(text).unwrap_or_else(|faults| panic!("{faults:#?}"));
    Run::new(&Plan::new(&pipeline, &start))
}

fn new() -> Run {
    run_of(PIPELINE)
}

/// The same names, with everything that changes what follows what.
const TANGLED: &str = r#"
stage "verify" {
    job "one" { container "x.test/y:1"; retry 2; step "a" may-fail=#true; step "b" }
    job "two" { container "x.test/y:1"; may-fail; after "one"; step "c" }
}
stage "package" { approval "Go on?"; image "desk" { retry 1 only="lost"; push "x.test/desk" { tag "{run}" } } }
stage "staging" { when result="any"; rollout "desk" { to "staging"; image "desk"; manifests "d/*.yaml" } }
"#;

fn at(millis: i64) -> Time {
    Time::from_millis(millis)
}

fn key(text: &str) -> JobKey {
    JobKey::from_text(text)
}

fn taken(job: &str) -> Event {
    Event::JobTaken { job: key(job), runner: "pond-1".into() }
}

fn ended(job: &str, outcome: Outcome) -> Event {
    Event::JobEnded { job: key(job), outcome, reason: None, usage: None }
}

fn started(job: &str, step: usize) -> Event {
    Event::StepStarted { job: key(job), step, log: 0 }
}

fn exit(job: &str, step: usize, status: i32) -> Event {
    Event::StepEnded { job: key(job), step, end: StepEnd::Exit(status), log: 0 }
}

/// Applies events that must all be legal; the last one's effects.
fn apply(run: &mut Run, events: &[Event]) -> Vec<Effect> {
    let mut last = Vec::new();
    for event in events {
        last = run.apply(event, at(5)).unwrap_or_else(|refused| panic!("{event:?}: {refused}"));
    }
    last
}

fn pass_verify(run: &mut Run) -> Vec<Effect> {
    apply(
        run,
        &[
            Event::Began,
            taken("verify/one"),
            started("verify/one", 0),
            exit("verify/one", 0, 0),
            started("verify/one", 1),
            exit("verify/one", 1, 0),
            ended("verify/one", Outcome::Passed),
            taken("verify/two"),
            started("verify/two", 0),
            exit("verify/two", 0, 0),
            ended("verify/two", Outcome::Passed),
        ],
    )
}

#[test]
fn a_run_goes_through_its_stages_in_order_and_passes() {
    let mut run = new();
    let first = run.apply(&Event::Began, at(1)).unwrap();
    assert_eq!(first, [Effect::Offer(key("verify/one")), Effect::Offer(key("verify/two"))]);
    let mut run = new();
    assert_eq!(pass_verify(&mut run), [Effect::Offer(key("package/desk"))]);
    let after_image = apply(
        &mut run,
        &[
            taken("package/desk"),
            started("package/desk", 0),
            exit("package/desk", 0, 0),
            started("package/desk", 1),
            exit("package/desk", 1, 0),
            ended("package/desk", Outcome::Passed),
        ],
    );
    assert_eq!(after_image, [Effect::RollOut(key("staging/desk"))]);
    let over = apply(
        &mut run,
        &[
            taken("staging/desk"),
            started("staging/desk", 0),
            exit("staging/desk", 0, 0),
            started("staging/desk", 1),
            exit("staging/desk", 1, 0),
            ended("staging/desk", Outcome::Passed),
        ],
    );
    assert_eq!(over, [Effect::Over(State::Passed)]);
    assert!(run.outstanding().is_empty());
}

#[test]
fn a_failed_step_fails_the_run_and_skips_what_follows_with_the_reason() {
    let mut run = new();
    apply(
        &mut run,
        &[
            Event::Began,
            taken("verify/one"),
            started("verify/one", 0),
            exit("verify/one", 0, 3),
            ended("verify/one", Outcome::Failed),
        ],
    );
    assert_eq!(run.state, State::Running, "its neighbour may still end");
    let over = apply(
        &mut run,
        &[
            taken("verify/two"),
            started("verify/two", 0),
            exit("verify/two", 0, 0),
            ended("verify/two", Outcome::Passed),
        ],
    );
    assert_eq!(over, [Effect::Over(State::Failed)]);
    let rollout = run.job(&key("staging/desk")).unwrap();
    assert_eq!((rollout.state, rollout.reason.as_deref()), (State::Skipped, Some("stage `verify` did not pass")));
    let (job, step) = run.first_failure().unwrap();
    assert_eq!((job.key.as_str(), step.unwrap().1.name.as_str()), ("verify/one", "a"));
    assert_eq!(job.steps[1].state, State::Skipped);
}

#[test]
fn a_stop_halts_what_runs_and_begins_nothing_more() {
    let mut run = new();
    apply(&mut run, &[Event::Began, taken("verify/one")]);
    let stop = Event::StopAsked { by: "ines".into() };
    assert_eq!(run.apply(&stop, at(2)).unwrap(), [Effect::Halt(key("verify/one"))]);
    assert_eq!(run.job(&key("verify/two")).unwrap().state, State::Stopped);
    assert!(run.apply(&taken("verify/two"), at(3)).is_err());
    assert_eq!(run.outstanding(), [Effect::Halt(key("verify/one"))]);
    let over = run.apply(&ended("verify/one", Outcome::Failed), at(4)).unwrap();
    assert_eq!(over, [Effect::Over(State::Stopped)]);
}

#[test]
fn a_job_cannot_be_reported_passed_when_a_step_of_it_did_not() {
    let mut run = new();
    apply(&mut run, &[Event::Began, taken("verify/two"), ended("verify/two", Outcome::Passed)]);
    assert_eq!(run.job(&key("verify/two")).unwrap().state, State::Failed);
}

#[test]
fn a_repeated_report_is_refused_and_changes_nothing() {
    let mut run = new();
    pass_verify(&mut run);
    let before = run.clone();
    for event in [Event::Began, taken("verify/one"), exit("verify/one", 0, 0), ended("verify/one", Outcome::Failed)] {
        assert!(run.apply(&event, at(9)).is_err(), "{event:?}");
        assert_eq!(run, before);
    }
}

#[test]
fn a_job_that_never_reached_its_runner_waits_again_unless_the_run_was_stopped() {
    let mut run = new();
    apply(&mut run, &[Event::Began, taken("verify/one")]);
    let returned = Event::JobReturned { job: key("verify/one") };
    assert_eq!(run.apply(&returned, at(2)).unwrap(), [Effect::Offer(key("verify/one"))]);
    apply(&mut run, &[taken("verify/one"), started("verify/one", 0)]);
    assert!(run.apply(&returned, at(3)).is_err(), "a step of it began");
    let mut run = new();
    apply(&mut run, &[Event::Began, taken("verify/one"), Event::StopAsked { by: "ines".into() }]);
    assert_eq!(run.apply(&returned, at(3)).unwrap(), [Effect::Over(State::Stopped)]);
}

#[test]
fn a_run_whose_needs_are_not_there_fails_before_anything_of_it_begins() {
    let mut run = new();
    assert_eq!(run.apply(&Event::PreflightBegan, at(1)).unwrap(), [Effect::Preflight]);
    assert_eq!(run.outstanding(), [Effect::Preflight]);
    assert!(run.apply(&taken("verify/one"), at(1)).is_err());
    let fault = PreflightFault { job: "verify/one".into(), what: "no secret".into(), fix: "set it".into() };
    let barred = Event::PreflightFailed { missing: vec![fault.clone()] };
    assert_eq!(run.apply(&barred, at(2)).unwrap(), [Effect::Over(State::Failed)]);
    assert_eq!(run.missing, [fault]);
    assert!(run.jobs().all(|job| job.state == State::Skipped && job.queued.is_none()));
    assert!(run.apply(&Event::Began, at(3)).is_err());

    let mut run = new();
    apply(&mut run, &[Event::PreflightBegan, Event::Began]);
    assert!(run.apply(&barred, at(3)).is_err(), "what was proven stays proven");
    let mut run = new();
    let stop = Event::StopAsked { by: "ines".into() };
    assert_eq!(apply(&mut run, &[Event::PreflightBegan, stop]), [Effect::Over(State::Stopped)]);
}

fn any_event() -> impl Strategy<Value = Event> {
    let job = prop::sample::select(vec!["verify/one", "verify/two", "package/desk", "staging/desk", "no/such"]);
    let end = prop::sample::select(vec![
        StepEnd::Exit(0),
        StepEnd::Exit(0),
        StepEnd::Exit(0),
        StepEnd::Exit(1),
        StepEnd::Signal(9),
        StepEnd::TimedOut,
        StepEnd::Stopped,
    ]);
    let outcome =
        prop::sample::select(vec![Outcome::Passed, Outcome::Passed, Outcome::Failed, Outcome::Stopped, Outcome::Lost]);
    (0..20u8, job, 0usize..3, end, outcome).prop_map(|(kind, job, step, end, outcome)| match kind {
        0 => Event::Began,
        1..=3 => taken(job),
        4..=6 => started(job, step),
        7..=9 => Event::StepEnded { job: key(job), step, end, log: 1 },
        14 => Event::JobReturned { job: key(job) },
        15 => Event::Answered { stage: "package".into(), yes: true, by: "ines".into(), teams: None },
        17 | 18 => Event::PreflightBegan,
        19 => Event::PreflightFailed {
            missing: vec![PreflightFault { job: job.into(), what: "a".into(), fix: "b".into() }],
        },
        16 => Event::Answered { stage: "package".into(), yes: false, by: "tomas".into(), teams: None },
        10..=12 => Event::JobEnded { job: key(job), outcome, reason: None, usage: None },
        _ => Event::StopAsked { by: "wren".into() },
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn any_order_of_reports_ends_in_one_legal_state(
        tangled in any::<bool>(), events in prop::collection::vec(any_event(), 0..200),
    ) {
        let mut run = if tangled { run_of(TANGLED) } else { new() };
        let mut overs = 0;
        for (moment, event) in (0..).zip(&events) {
            let before = run.clone();
            match run.apply(event, at(moment)) {
                Ok(effects) => overs += effects.iter().filter(|e| matches!(e, Effect::Over(_))).count(),
                Err(_) => prop_assert_eq!(&before, &run, "a refused event changed the run"),
            }
            // A stage never opens before the one in front of it passed.
            for pair in run.stages.windows(2) {
                if pair[1].jobs.iter().any(|job| job.queued.is_some()) {
                    prop_assert!(pair[0].state.is_over() && (tangled || pair[0].state == State::Passed));
                }
            }
            // A job never passes with a step that did not, unless that step may fail.
            for job in run.jobs().filter(|job| job.state == State::Passed) {
                prop_assert!(job.steps.iter().all(|step| step.state == State::Passed || step.may_fail));
            }
            // Nothing that needs a yes begins without one.
            let package = &run.stages[1];
            if package.approval.is_some() && package.jobs.iter().any(|job| job.queued.is_some()) {
                prop_assert!(package.answers.iter().any(|answer| answer.yes));
            }
            // What is over stays over.
            if before.state.is_over() {
                prop_assert_eq!(&before, &run);
            }
        }
        prop_assert_eq!(overs, usize::from(run.state.is_over()));
        if run.state.is_over() {
            prop_assert!(run.jobs().all(|job| job.state.is_over()) && run.outstanding().is_empty());
        } else if run.state != State::Queued {
            // Nothing hangs: something is offered, rolled out, running, or asked.
            let running = run.jobs().any(|job| job.state == State::Running);
            prop_assert!(running || run.state == State::Waiting || !run.outstanding().is_empty());
        }
    }

    #[test]
    fn every_event_reads_back_as_it_was_stored(event in any_event()) {
        let stored = serde_json::to_string(&event).unwrap();
        prop_assert_eq!(serde_json::from_str::<Event>(&stored).unwrap(), event);
    }
}

#[test]
fn a_product_reads_back_as_it_was_stored() {
    let result = JobResult::Image {
        repository: "x.test/desk".parse().unwrap(),
        digest: Digest::from_bytes(&[1; 32]),
        tags: vec!["a".parse().unwrap()],
        base: Some(BaseImage { name: "x.test/base:1".to_owned(), digest: Digest::from_bytes(&[2; 32]) }),
        platforms: vec!["linux/arm64".to_owned()],
    };
    let event = Event::ResultAdded { job: key("package/desk"), result };
    let stored = serde_json::to_string(&event).unwrap();
    assert_eq!(serde_json::from_str::<Event>(&stored).unwrap(), event);
}
