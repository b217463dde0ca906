//! Single faults, each as it was found.

use std::time::Duration;

use pondrix_core::run::{Outcome, Run};
use pondrix_core::{JobKey, State};

use super::runner::{self, Deeds};
use super::{Plan, World, in_scripted_time};
use crate::domain::{Asker, EngineError};
use crate::ports::ClusterError;
use crate::store;

const MANIFEST: &str = "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: app}\nspec: {replicas: 1, template: {spec: {containers: [{name: app, image: app}]}}}\n";
const PUSH: &str =
    r#"image "app" { push "registry.fernhollow.test/pond" { tag "{commit.short}-{run}"; moving "newest" } }"#;

fn rollout_pipeline() -> String {
    format!(
        r#"
start commit="**"
stage "make" {{ {PUSH} }}
stage "staging" {{ rollout "app" {{ to "staging"; image "app"; manifests "app.yaml"; limit time="5m" }} }}
"#
    )
}

fn ines() -> Asker {
    Asker { name: "ines".to_owned(), ..Asker::server() }
}

fn job(run: &Run, key: &str) -> pondrix_core::run::JobRun {
    run.job(&JobKey::from_text(key)).unwrap().clone()
}

/// A world whose project was seen, with a server and a runner that is quick and never fails.
async fn world() -> World {
    let world = World::new(1).await;
    world.repository.commit("main", &[]);
    world.start().await;
    tokio::time::sleep(Duration::from_secs(1)).await;
    let plan = Plan { longest_step: Duration::from_secs(1), fails: 0 };
    tokio::spawn(runner::run(world.clone(), "wren".to_owned(), 1, plan, Deeds::default()));
    world
}

fn push(world: &World, pipeline: &str) -> String {
    let commit = world
        .repository
        .commit("main", &[("pondrix.kdl", pipeline), ("app.yaml", MANIFEST), ("image.recipe", "FROM scratch")]);
    world.server().unwrap().watcher.wake(1);
    commit
}

#[test]
fn an_answer_is_good_for_the_stage_that_was_asked_for_and_for_no_other() {
    in_scripted_time(async {
        let world = world().await;
        push(
            &world,
            r#"
start commit="**"
stage "one" { approval "begin?"; job "a" { on-host; step "a" } }
stage "two" { approval "go on?" by="otto"; job "b" { on-host; step "b" } }
"#,
        );
        world.until("pond#1", |_, run| run.state == State::Waiting).await;
        let live = world.engine().find(&"pond#1".parse().unwrap()).await.unwrap().unwrap();
        let early = world.engine().answer(&live, "two", true, ines()).await.unwrap_err();
        assert_eq!(early.to_string(), "stage `two` of pond#1 is queued and waits for no answer; stage `one` does");
        world.engine().answer(&live, "one", true, ines()).await.unwrap();
        world.until("pond#1", |_, run| run.stages[1].state == State::Waiting).await;
        // Somebody's second click on the first question, after the second was asked.
        let late = world.engine().answer(&live, "one", true, ines()).await.unwrap_err();
        assert!(matches!(late, EngineError::Conflict(_)), "{late}");
        let other = world.engine().answer(&live, "two", true, ines()).await.unwrap_err();
        assert_eq!(other.to_string(), "only otto may answer that, and you are ines");
        assert_eq!(live.state.lock().await.run.stages[1].state, State::Waiting, "nothing was answered");
        let otto = Asker { name: "otto".to_owned(), ..Asker::server() };
        world.engine().answer(&live, "two", true, otto).await.unwrap();
        world.until("pond#1", |_, run| run.state == State::Passed).await;
        world.end();
    });
}

#[test]
fn an_approval_that_nobody_answers_in_time_lapses_and_no_sooner() {
    in_scripted_time(async {
        let world = world().await;
        push(
            &world,
            r#"start commit="**"; stage "one" { approval "begin?" within="10m"; job "a" { on-host; step "a" } }"#,
        );
        world.until("pond#1", |_, run| run.state == State::Waiting).await;
        tokio::time::sleep(Duration::from_secs(590)).await;
        world.until("pond#1", |_, run| run.state == State::Waiting).await;
        tokio::time::sleep(Duration::from_secs(15)).await;
        world
            .until("pond#1", |_, run| {
                run.state == State::Stopped && job(run, "one/a").reason.as_deref() == Some("nobody approved it in time")
            })
            .await;
        world.end();
    });
}

#[test]
fn a_repository_whose_hook_comes_no_more_is_looked_at_as_often_as_one_without() {
    in_scripted_time(async {
        let world = world().await;
        let pipeline = r#"start commit="**"; stage "one" { job "a" { on-host; step "a" } }"#;
        // The hook comes, and then no more.
        push(&world, pipeline);
        world.until("pond#1", |_, run| run.state == State::Passed).await;
        let mut waited = Vec::new();
        for number in 2..=3 {
            let since = tokio::time::Instant::now();
            world.repository.commit("main", &[("pondrix.kdl", pipeline), ("bed", &number.to_string())]);
            let run = format!("pond#{number}");
            world.until(&run, |_, run| run.state == State::Passed).await;
            waited.push(since.elapsed().as_secs());
        }
        assert!(waited[0] > 30 && waited[0] < 100, "five times as seldom: {waited:?} s");
        assert!(waited[1] < 30, "as often as others: {waited:?} s");
        world.end();
    });
}

#[test]
fn a_rollout_that_breaks_ends_its_job_with_an_id_and_holds_nothing_any_more() {
    in_scripted_time(async {
        let world = world().await;
        world.cluster.break_who_asks();
        push(&world, &rollout_pipeline());
        world
            .until("pond#1", |_, run| {
                let job = job(run, "staging/app");
                job.state == State::Failed
                    && job.reason.as_deref().is_some_and(|words| {
                        words.starts_with("the server broke while it did this; its log says why, under ")
                    })
            })
            .await;
        assert_eq!(world.engine().scheduler.holders().await, []);
        world.end();
    });
}

#[test]
fn a_rollout_lives_through_records_that_cannot_be_written_for_a_while() {
    in_scripted_time(async {
        let world = world().await;
        push(&world, &rollout_pipeline());
        world.until("pond#1", |_, run| job(run, "staging/app").state == State::Running).await;
        world.trouble_of_records(100, 0);
        tokio::time::sleep(Duration::from_secs(120)).await;
        world.trouble_of_records(0, 0);
        world.until("pond#1", |_, run| run.state == State::Passed).await;
        world.end();
    });
}

#[test]
fn a_connection_that_breaks_fails_no_rollout_and_what_is_certain_fails_it_at_once() {
    in_scripted_time(async {
        let world = world().await;
        let reset = || ClusterError::Unanswered {
            doing: "apply deployment/app".into(),
            words: "connection reset by peer".into(),
            is_certain: false,
        };
        world.cluster.fail_with([reset(), reset(), reset(), reset()]);
        push(&world, &rollout_pipeline());
        world.until("pond#1", |_, run| run.state == State::Passed).await;
        let refused =
            || ClusterError::Refused { doing: "apply deployment/app".into(), words: "no such field".into(), code: 422 };
        world.cluster.fail_with([refused()]);
        push(&world, &format!("// again\n{}", rollout_pipeline()));
        world
            .until("pond#2", |_, run| {
                let job = job(run, "staging/app");
                job.state == State::Failed
                    && job.reason.as_deref() == Some("the cluster refused to apply deployment/app: no such field (422)")
                    && job.ended.unwrap().since(job.started.unwrap()) < 1000
            })
            .await;
        // What does not come back is given up when the rollout's time is over.
        world.cluster.fail_with(std::iter::repeat_with(reset).take(10_000));
        push(&world, &format!("// once more\n{}", rollout_pipeline()));
        world
            .until("pond#3", |_, run| {
                let job = job(run, "staging/app");
                let took = |job: &pondrix_core::run::JobRun| job.ended.unwrap().since(job.started.unwrap());
                job.state == State::Failed && (300_000..330_000).contains(&took(&job))
            })
            .await;
        world.end();
    });
}

#[test]
fn an_older_run_that_ends_later_moves_neither_a_tag_nor_the_newest_image_nor_an_environment_back() {
    in_scripted_time(async {
        let world = World::new(1).await;
        world.repository.commit("main", &[]);
        world.start().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        // The first run waits for an answer, and is overtaken by the second.
        let held = format!(
            r#"
start commit="**"
stage "wait" {{ approval "now?"; job "a" {{ on-host; step "a" }} }}
stage "make" {{ {PUSH} }}
stage "staging" {{ rollout "app" {{ to "staging"; image "app"; manifests "app.yaml"; limit time="5m" }} }}
"#
        );
        let older = push(&world, &held);
        world.until("pond#1", |_, run| run.state == State::Waiting).await;
        let newer = push(&world, &rollout_pipeline());
        let plan = Plan { longest_step: Duration::from_secs(1), fails: 0 };
        tokio::spawn(runner::run(world.clone(), "wren".to_owned(), 1, plan, Deeds::default()));
        world.until("pond#2", |_, run| run.state == State::Passed).await;
        let live = world.engine().find(&"pond#1".parse().unwrap()).await.unwrap().unwrap();
        world.engine().answer(&live, "wait", true, ines()).await.unwrap();
        world
            .until("pond#1", |_, run| {
                let rollout = job(run, "staging/app");
                run.state == State::Stopped
                    && rollout.reason.as_deref()
                        == Some("overtaken by pond#2, which carries a later commit and runs there already")
            })
            .await;
        let history = world.registry.history();
        assert_eq!(history["registry.fernhollow.test/pond:newest"], std::slice::from_ref(&newer));
        let own = format!("registry.fernhollow.test/pond:{}-1", &older[..7]);
        let has_own =
            history.iter().any(|(tag, commits)| tag.ends_with("-1") && *commits == std::slice::from_ref(&older));
        assert!(has_own, "its own tag is set all the same: {own} in {history:?}");
        assert_eq!(world.cluster.applied(), [("deployment/app".to_owned(), "pond#2".to_owned())]);
        let newest = world.records().read(store::newest_images).await.unwrap();
        assert_eq!(newest[0].0.run, "pond#2");
        // Who goes back by hand goes back.
        let project = world.records().read(|c| store::project(c, "pond")).await.unwrap().unwrap();
        world.engine().rerun(&project, &live, true, &ines()).await.unwrap();
        world.until("pond#3", |_, run| run.state == State::Waiting).await;
        let again = world.engine().find(&"pond#3".parse().unwrap()).await.unwrap().unwrap();
        world.engine().answer(&again, "wait", true, ines()).await.unwrap();
        world.until("pond#3", |_, run| run.state == State::Passed).await;
        assert_eq!(world.cluster.applied().last().unwrap().1, "pond#3");
        assert_eq!(world.registry.history()["registry.fernhollow.test/pond:newest"], [newer]);
        world.end();
    });
}

#[test]
fn a_tag_on_something_else_than_a_commit_hinders_nothing() {
    in_scripted_time(async {
        let world = world().await;
        world.repository.tag("of-a-file", &"b10b".repeat(10));
        push(&world, r#"start commit="**"; stage "one" { job "a" { on-host; step "a" } }"#);
        world.until("pond#1", |_, run| run.state == State::Passed).await;
        push(&world, r#"start commit="**"; stage "one" { job "b" { on-host; step "b" } }"#);
        world.until("pond#2", |_, run| run.state == State::Passed).await;
        world.end();
    });
}

#[test]
fn a_runner_that_is_cut_off_ends_its_job_before_the_server_gives_it_to_another() {
    in_scripted_time(async {
        let world = World::new(1).await;
        world.repository.commit("main", &[]);
        world.start().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        let (slow, deeds) = (Plan { longest_step: Duration::from_secs(100_000), fails: 0 }, Deeds::default());
        tokio::spawn(runner::run(world.clone(), "wren".to_owned(), 1, slow.clone(), deeds.clone()));
        push(
            &world,
            r#"start commit="**"; stage "one" { job "a" { on-host; exclusive "bench"; retry 1 only="lost"; step "a" } }"#,
        );
        world.until("pond#1", |_, run| job(run, "one/a").state == State::Running).await;
        tokio::time::sleep(Duration::from_secs(60)).await;
        world.until("pond#1", |_, run| job(run, "one/a").attempts.is_empty()).await;
        world.network.cut_off("wren", true);
        let quick = Plan { longest_step: Duration::from_secs(1), fails: 0 };
        tokio::spawn(runner::run(world.clone(), "heron".to_owned(), 1, quick, deeds.clone()));
        tokio::time::sleep(Duration::from_secs(20)).await;
        world.until("pond#1", |_, run| job(run, "one/a").state == State::Running).await;
        world
            .until("pond#1", |_, run| {
                let job = job(run, "one/a");
                run.state == State::Passed
                    && job.runner.as_deref() == Some("heron")
                    && job.attempts[0].state == Outcome::Lost.state()
                    && job.attempts[0].reason.as_deref() == Some("runner wren was not heard of for 30 s")
            })
            .await;
        // What the lost one still has to say is for nobody.
        world.network.cut_off("wren", false);
        tokio::time::sleep(Duration::from_secs(60)).await;
        assert_eq!(deeds.wrongs(), [""; 0]);
        world.end();
    });
}

#[test]
fn a_job_whose_answer_never_arrived_is_offered_again_after_five_seconds() {
    in_scripted_time(async {
        let world = World::new(1).await;
        world.repository.commit("main", &[]);
        world.start().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        push(&world, r#"start commit="**"; stage "one" { job "a" { on-host; step "a" } }"#);
        let hello = || pondrix_api::Hello {
            slots: 1,
            stuck: 0,
            tools: Default::default(),
            host_network: false,
            platforms: Default::default(),
            version: String::new(),
            instance: String::new(),
        };
        world.engine().greet(runner::row("deaf"), hello()).await;
        // It asks, and never hears the answer.
        let taken = world.engine().take("deaf", Duration::from_secs(20)).await.unwrap();
        assert!(taken.is_some());
        world.engine().greet(runner::row("wren"), hello()).await;
        let early = world.engine().take("wren", Duration::from_secs(4)).await.unwrap();
        assert!(early.is_none());
        let later = world.engine().take("wren", Duration::from_secs(3)).await.unwrap();
        assert_eq!(later.unwrap().attempt, 1, "nobody tried it before");
        world.end();
    });
}

#[test]
fn a_run_whose_records_cannot_be_read_is_marked_and_stops_nothing_else() {
    in_scripted_time(async {
        let world = World::new(1).await;
        world.repository.commit("main", &[]);
        world.start().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        for name in ["a", "b"] {
            push(
                &world,
                &format!("start commit=\"**\"\nstage \"one\" {{ job \"{name}\" {{ on-host; step \"a\" }} }}\n"),
            );
            tokio::time::sleep(Duration::from_secs(20)).await;
        }
        world.kill();
        let spoil = |c: &rusqlite::Connection| {
            c.execute("UPDATE events SET body = '{\"event\":\"sang\"}' WHERE run = 1 AND id = (SELECT max(id) FROM events WHERE run = 1)", [])?;
            Ok(())
        };
        world.records().write(spoil).await.unwrap();
        world.start().await;
        let plan = Plan { longest_step: Duration::from_secs(1), fails: 0 };
        tokio::spawn(runner::run(world.clone(), "wren".to_owned(), 1, plan, Deeds::default()));
        world.until("pond#2", |_, run| run.state == State::Passed).await;
        let listed = world.records().read(|c| store::page(c, &store::RunFilter::default(), None, 10)).await.unwrap();
        let (_, first) = listed.last().unwrap();
        assert_eq!(first.state, State::Failed);
        assert_eq!(first.note.as_deref(), Some("what is recorded of it cannot be read; the server's log says why"));
        let error = world.engine().find(&"pond#1".parse().unwrap()).await.unwrap_err();
        assert!(error.is_unreadable(), "{error}");
        world.end();
    });
}
