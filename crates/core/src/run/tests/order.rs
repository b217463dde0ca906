//! What begins after what, what is tried again, and what waits for a person.

use super::{apply, at, ended, exit, key, run_of, started, taken};
use crate::State;
use crate::access::Gate;
use crate::run::{Effect, Event, Outcome, Run, StepEnd};

fn job(name: &str, lines: &str) -> String {
    format!("job \"{name}\" {{ container \"x.test/y:1\"; step \"true\"\n {lines}\n }}\n")
}

/// Takes a job of one step and ends it.
fn does(run: &mut Run, job: &str, outcome: Outcome) -> Vec<Effect> {
    let status = i32::from(outcome != Outcome::Passed);
    apply(run, &[taken(job), started(job, 0), exit(job, 0, status), ended(job, outcome)])
}

fn offered(effects: &[Effect]) -> Vec<String> {
    effects
        .iter()
        .filter_map(|effect| if let Effect::Offer(job) = effect { Some(job.to_string()) } else { None })
        .collect()
}

fn state(run: &Run, job: &str) -> (State, Option<String>) {
    let job = run.job(&key(job)).unwrap();
    (job.state, job.reason.clone())
}

#[test]
fn a_job_begins_when_all_that_it_comes_after_are_over_and_is_skipped_when_one_failed() {
    let text = format!(
        "stage \"a\" {{ {} {} {} {} }}",
        job("one", ""),
        job("two", ""),
        job("three", "after \"one\" \"two\""),
        job("four", "after \"three\"")
    );
    let mut run = run_of(&text);
    assert_eq!(offered(&apply(&mut run, &[Event::Began])), ["a/one", "a/two"]);
    assert!(offered(&does(&mut run, "a/one", Outcome::Passed)).is_empty());
    assert_eq!(offered(&does(&mut run, "a/two", Outcome::Passed)), ["a/three"]);
    assert_eq!(offered(&does(&mut run, "a/three", Outcome::Passed)), ["a/four"]);
    assert_eq!(does(&mut run, "a/four", Outcome::Passed), [Effect::Over(State::Passed)]);

    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    does(&mut run, "a/one", Outcome::Passed);
    assert_eq!(does(&mut run, "a/two", Outcome::Failed), [Effect::Over(State::Failed)]);
    assert_eq!(state(&run, "a/three"), (State::Skipped, Some("`two` did not pass".to_owned())));
    assert_eq!(state(&run, "a/four"), (State::Skipped, Some("`three` did not pass".to_owned())));
}

#[test]
fn what_is_for_failures_runs_only_after_one_and_what_is_for_any_end_always() {
    let text = format!(
        "stage \"a\" {{ {} {} }}\nstage \"b\" {{ {} }}\nstage \"clean\" {{ when result=\"any\"\n {} {} }}",
        job("one", ""),
        job("tell", "after \"one\"\n when result=\"failed\""),
        job("two", ""),
        job("sweep", ""),
        job("mourn", "when result=\"failed\""),
    );
    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    assert_eq!(offered(&does(&mut run, "a/one", Outcome::Passed)), ["b/two"]);
    assert_eq!(state(&run, "a/tell"), (State::Skipped, Some("nothing before it failed".to_owned())));
    assert_eq!(offered(&does(&mut run, "b/two", Outcome::Passed)), ["clean/sweep"]);
    assert_eq!(does(&mut run, "clean/sweep", Outcome::Passed), [Effect::Over(State::Passed)]);

    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    assert_eq!(offered(&does(&mut run, "a/one", Outcome::Failed)), ["a/tell"]);
    assert_eq!(offered(&does(&mut run, "a/tell", Outcome::Passed)), ["clean/sweep", "clean/mourn"]);
    assert_eq!(state(&run, "b/two").0, State::Skipped);
    does(&mut run, "clean/sweep", Outcome::Passed);
    assert_eq!(does(&mut run, "clean/mourn", Outcome::Passed), [Effect::Over(State::Failed)]);
}

#[test]
fn a_job_that_may_fail_fails_alone_and_a_step_that_may_lets_its_job_go_on() {
    let text = format!(
        "stage \"a\" {{ {}\n job \"two\" {{ container \"x.test/y:1\"; step \"lint\" may-fail=#true; step \"test\" }}\n {} }}",
        job("one", "may-fail"),
        job("three", "after \"one\"")
    );
    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    assert_eq!(offered(&does(&mut run, "a/one", Outcome::Failed)), ["a/three"]);
    apply(
        &mut run,
        &[taken("a/two"), started("a/two", 0), exit("a/two", 0, 1), started("a/two", 1), exit("a/two", 1, 0)],
    );
    apply(&mut run, &[ended("a/two", Outcome::Passed)]);
    assert_eq!(run.job(&key("a/two")).unwrap().state, State::Passed);
    assert_eq!(does(&mut run, "a/three", Outcome::Passed), [Effect::Over(State::Passed)]);
    assert_eq!(run.first_failure(), None);
}

#[test]
fn a_job_is_tried_again_as_often_as_it_says_and_each_time_is_kept() {
    let mut run = run_of(&format!("stage \"a\" {{ {} }}", job("one", "retry 2")));
    apply(&mut run, &[Event::Began]);
    assert_eq!(does(&mut run, "a/one", Outcome::Failed), [Effect::Offer(key("a/one"))]);
    assert_eq!(apply(&mut run, &[taken("a/one"), ended("a/one", Outcome::Lost)]), [Effect::Offer(key("a/one"))]);
    let job = run.job(&key("a/one")).unwrap();
    assert_eq!((job.state, job.attempt(), job.steps[0].state), (State::Queued, 3, State::Queued));
    assert_eq!(job.attempts.iter().map(|one| one.state).collect::<Vec<_>>(), [State::Failed, State::Lost]);
    assert_eq!(does(&mut run, "a/one", Outcome::Failed), [Effect::Over(State::Failed)]);
}

#[test]
fn a_job_that_is_tried_again_only_when_its_runner_vanished_is_not_after_a_failure() {
    let mut run = run_of(&format!("stage \"a\" {{ {} }}", job("one", "retry 2 only=\"lost\"")));
    apply(&mut run, &[Event::Began]);
    assert_eq!(apply(&mut run, &[taken("a/one"), ended("a/one", Outcome::Lost)]), [Effect::Offer(key("a/one"))]);
    assert_eq!(does(&mut run, "a/one", Outcome::Failed), [Effect::Over(State::Failed)]);
}

#[test]
fn a_stopped_job_is_not_tried_again() {
    let mut run = run_of(&format!("stage \"a\" {{ {} }}", job("one", "retry 2")));
    apply(&mut run, &[Event::Began, taken("a/one"), Event::StopAsked { by: "wren".into() }]);
    let over = apply(
        &mut run,
        &[
            started("a/one", 0),
            Event::StepEnded { job: key("a/one"), step: 0, end: StepEnd::Stopped, log: 0 },
            ended("a/one", Outcome::Stopped),
        ],
    );
    assert_eq!(over, [Effect::Over(State::Stopped)]);
}

fn answer(yes: bool, by: &str) -> Event {
    Event::Answered { stage: "b".into(), yes, by: by.into(), teams: None }
}

#[test]
fn a_stage_waits_for_a_yes_and_a_no_stops_the_run() {
    let text = format!(
        "stage \"a\" {{ {} }}\nstage \"b\" {{ approval \"Open it?\"\n {} }}\nstage \"last\" {{ {} }}",
        job("one", ""),
        job("two", ""),
        job("three", "")
    );
    let waiting = || {
        let mut run = run_of(&text);
        apply(&mut run, &[Event::Began]);
        assert!(run.apply(&answer(true, "ines"), at(3)).is_err(), "nothing is asked yet");
        assert!(does(&mut run, "a/one", Outcome::Passed).is_empty());
        assert_eq!(
            (run.state, run.stages[1].state, run.stages[1].asked),
            (State::Waiting, State::Waiting, Some(at(5)))
        );
        assert!(run.apply(&taken("b/two"), at(6)).is_err(), "nobody said yes yet");
        run
    };
    let mut run = waiting();
    assert_eq!(offered(&apply(&mut run, &[answer(true, "ines")])), ["b/two"]);
    assert_eq!(run.state, State::Running);
    assert!(run.apply(&answer(false, "tomas"), at(7)).is_err(), "an answer counts once");
    for (by, reason) in [("tomas", "rejected by tomas"), ("nobody", "nobody approved it in time")] {
        let mut run = waiting();
        assert_eq!(apply(&mut run, &[answer(false, by)]), [Effect::Over(State::Stopped)]);
        assert_eq!(state(&run, "b/two"), (State::Stopped, Some(reason.to_owned())));
        assert_eq!(state(&run, "last/three").0, State::Skipped);
    }
    let mut run = waiting();
    assert_eq!(apply(&mut run, &[Event::StopAsked { by: "wren".into() }]), [Effect::Over(State::Stopped)]);
}

#[test]
fn a_stage_that_nothing_of_would_run_asks_nobody() {
    let text =
        format!("stage \"a\" {{ {} }}\nstage \"b\" {{ approval \"Open it?\"\n {} }}", job("one", ""), job("two", ""));
    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    assert_eq!(does(&mut run, "a/one", Outcome::Failed), [Effect::Over(State::Failed)]);
    assert_eq!(run.stages[1].asked, None);
}

#[test]
fn what_is_left_out_is_skipped_from_the_beginning_and_stops_nothing() {
    let text = format!(
        "stage \"a\" {{ {} }}\nstage \"b\" {{ {} {} }}",
        job("one", "when branch=\"fix\""),
        job("two", "when branch=\"fix\""),
        job("three", "after \"two\"")
    );
    let mut run = run_of(&text);
    assert_eq!(state(&run, "a/one"), (State::Skipped, Some("only on branch fix, and this is main".to_owned())));
    assert_eq!(offered(&apply(&mut run, &[Event::Began])), ["b/three"]);
    assert_eq!(run.stages[0].state, State::Skipped);
    assert_eq!(does(&mut run, "b/three", Outcome::Passed), [Effect::Over(State::Passed)]);
}

#[test]
fn a_stage_holds_what_it_is_exclusive_in_from_its_first_job_to_its_end() {
    let text = format!(
        "stage \"a\" {{ exclusive \"pond\"\n {} {} }}\nstage \"b\" {{ {} }}",
        job("one", ""),
        job("two", "after \"one\""),
        job("three", "exclusive \"bench\"")
    );
    let held = |run: &Run| {
        run.locks_held().iter().map(|hold| format!("{} {} {:?}", hold.lock, hold.stage, hold.job)).collect::<Vec<_>>()
    };
    let mut run = run_of(&text);
    apply(&mut run, &[Event::Began]);
    assert!(held(&run).is_empty(), "nothing runs yet");
    apply(&mut run, &[taken("a/one")]);
    assert_eq!(held(&run), ["pond a None"]);
    apply(&mut run, &[started("a/one", 0), exit("a/one", 0, 0), ended("a/one", Outcome::Passed)]);
    assert_eq!(held(&run), ["pond a None"], "between its jobs, too");
    does(&mut run, "a/two", Outcome::Passed);
    assert!(held(&run).is_empty());
    apply(&mut run, &[taken("b/three")]);
    assert_eq!(held(&run), ["bench b Some(JobKey(\"b/three\"))"]);
}

#[test]
fn what_is_carried_over_is_not_done_again_and_what_comes_after_it_begins() {
    let text = format!(
        "stage \"a\" {{ {} {} }}\nstage \"b\" {{ {} }}",
        job("one", ""),
        job("two", "after \"one\""),
        job("three", "")
    );
    let mut run = run_of(&text);
    let carried = |job: &str| Event::Carried { job: key(job), from: "desk#1".parse().unwrap(), results: Vec::new() };
    apply(&mut run, &[carried("a/one")]);
    assert_eq!(offered(&apply(&mut run, &[Event::Began])), ["a/two"]);
    assert!(run.apply(&carried("b/three"), at(3)).is_err(), "only before it begins");
    assert!(run.apply(&taken("a/one"), at(3)).is_err());
    does(&mut run, "a/two", Outcome::Passed);
    assert_eq!(does(&mut run, "b/three", Outcome::Passed), [Effect::Over(State::Passed)]);
    assert_eq!(state(&run, "a/one"), (State::Passed, Some("passed in desk#1".to_owned())));

    let mut run = run_of(&text);
    let all = apply(&mut run, &[carried("a/one"), carried("a/two"), carried("b/three"), Event::Began]);
    assert_eq!(all, [Effect::Over(State::Passed)]);
}

#[test]
fn a_stage_that_goes_to_a_guarded_environment_waits_for_as_many_people_as_that_wants_and_for_what_its_file_asks() {
    let text = format!(
        "stage \"a\" {{ {} }}\nstage \"b\" {{ approval \"Open it?\" by=\"growers\"\n {} }}",
        job("one", ""),
        job("two", "")
    );
    let gate = Gate {
        environment: "production".to_owned(),
        of: vec!["team:keepers".parse().unwrap()],
        count: 2,
        not_by: vec!["ines".to_owned()],
    };
    let said = |by: &str, team: &str, yes: bool| {
        let (stage, by, teams) = ("b".to_owned(), by.to_owned(), Some(vec![team.to_owned()]));
        Event::Answered { stage, yes, by, teams }
    };
    let waiting = || {
        let mut run = run_of(&text);
        run.stages[1].gates.push(gate.clone());
        apply(&mut run, &[Event::Began]);
        does(&mut run, "a/one", Outcome::Passed);
        assert_eq!((run.state, run.stages[1].state), (State::Waiting, State::Waiting));
        run
    };
    let mut run = waiting();
    for (by, team) in [("odile", "keepers"), ("wren", "growers"), ("ines", "keepers")] {
        assert!(apply(&mut run, &[said(by, team, true)]).is_empty(), "{by}");
        assert_eq!((run.state, run.stages[1].state), (State::Waiting, State::Waiting), "{by}");
    }
    assert!(run.apply(&said("odile", "keepers", true), at(9)).is_err(), "twice by the same is once");
    assert_eq!(run.stages[1].closed_gates().count(), 1, "who started the run does not count");
    assert_eq!(offered(&apply(&mut run, &[said("tomas", "keepers", true)])), ["b/two"]);
    // The keepers alone are not whom the file asks.
    let mut run = waiting();
    apply(&mut run, &[said("odile", "keepers", true), said("tomas", "keepers", true)]);
    assert_eq!((run.state, run.stages[1].is_approved()), (State::Waiting, false));
    assert_eq!(offered(&apply(&mut run, &[said("wren", "growers", true)])), ["b/two"]);
    // One no is enough.
    let mut run = waiting();
    apply(&mut run, &[said("odile", "keepers", true)]);
    assert_eq!(apply(&mut run, &[said("tomas", "keepers", false)]), [Effect::Over(State::Stopped)]);
    assert_eq!(state(&run, "b/two"), (State::Stopped, Some("rejected by tomas".to_owned())));
}
