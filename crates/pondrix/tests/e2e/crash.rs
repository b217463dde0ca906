//! The server is killed, and starts again.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::StreamExt;
use pondrix_api::StartRequest;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, VISITOR_DESK};
use rustix::process::{Pid, Signal, kill_process};

use crate::processes::EndOf;
use crate::support::{PATIENCE, Server, World, one_job, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_server_killed_in_the_middle_of_a_run_goes_on_and_loses_doubles_and_repeats_nothing() {
    let mut world = World::new().await;
    // Each step writes lines over a while, and says once that it ran.
    let step = |name: &str| {
        format!(
            "step name=\"{name}\" \"i=0; while [ $i -lt 40 ]; do echo {name} $i; i=$((i+1)); sleep 0.05; done; echo {name} ran\""
        )
    };
    let pipeline = one_job(&["a", "b", "c"].map(step).join("; "));
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    for wanted in ["a 10", "b 10", "c 10"] {
        until(wanted, async || {
            let log = world.client.log(&run, "verify/unit").await.ok()?;
            String::from_utf8_lossy(&log).contains(wanted).then_some(())
        })
        .await;
        let url = world.server.take().unwrap().kill();
        let listen = url.trim_start_matches("http://").to_owned();
        let (server, token) = Server::start(&world.folder.path().join("server"), &listen, "1h");
        assert!(token.is_none(), "a token is told once");
        world.server = Some(server);
    }
    let detail = world.passes(&run).await;
    let expected: String = ["a", "b", "c"]
        .iter()
        .flat_map(|name| (0..40).map(move |i| format!("{name} {i}\n")).chain([format!("{name} ran\n")]))
        .collect();
    assert_eq!(world.log(&run, "verify/unit").await, expected, "lines were lost or doubled");
    let steps = &detail.stages[0].jobs[0].steps;
    assert!(steps.iter().all(|step| step.state == State::Passed), "{steps:?}");
    let mut end = 0;
    for step in steps {
        assert_eq!(step.log_start, end, "each step's part of the log begins where the last one ended");
        end = step.log_end.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_killed_at_any_stage_brings_the_release_to_its_right_end() {
    let mut world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    for (number, stage) in ["verify", "package", "staging"].into_iter().enumerate() {
        let greeting = format!("Fernhollow greeting {number}");
        repository.write("desk/greeting.txt", &format!("{greeting}\n")).unwrap();
        let commit = repository.push(&greeting).unwrap();
        let run = world.run_of("visitor-desk", &commit).await;
        world.until(&run, |run| run.stages.iter().any(|one| one.name == stage && one.state != State::Queued)).await;
        let url = world.server.take().unwrap().kill();
        let listen = url.trim_start_matches("http://").to_owned();
        world.server = Some(Server::start(&world.folder.path().join("server"), &listen, "1h").0);
        world.passes(&run).await;
        let page = reqwest::get(format!("http://{}/", world.application)).await.unwrap().text().await.unwrap();
        assert!(page.contains(&greeting), "killed in {stage}: {page}");
    }
    let runs = world.client.runs(None, 10, None).await.unwrap().runs;
    assert_eq!(runs.len(), 3, "no start was lost or doubled");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_ended_ends_the_runner_that_an_earlier_one_started() {
    let mut world = World::new().await;
    let lock = world.folder.path().join("server/runner-1/lock");
    let runner = runner_in(&lock).await;
    let end = EndOf::process(runner).expect("it runs");
    let url = world.server.take().unwrap().kill();
    assert!(!end.is_there(), "the runner outlives the server");
    let listen = url.trim_start_matches("http://").to_owned();
    let (mut server, _) = Server::start(&world.folder.path().join("server"), &listen, "1h");
    server.end();
    assert!(end.comes(), "and ends with the next one");
    // Of one that has no runner itself it has no job any more either.
    let (server, _) = Server::start(&world.folder.path().join("server"), &listen, "1h");
    let end = EndOf::process(runner_in(&lock).await).expect("it runs");
    server.kill();
    world.server = Some(Server::start_without_runner(&world.folder.path().join("server"), &listen));
    assert!(end.comes(), "it was asked to leave");
}

/// Numbers that look random, the same in every run of the tests (Knuth, MMIX).
pub(crate) fn next(state: &mut u64) -> u64 {
    *state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    *state >> 33
}

#[tokio::test(flavor = "multi_thread")]
async fn two_hundred_runs_end_rightly_however_often_the_server_is_killed() {
    const RUNS: u64 = 200;
    const KILLS: u64 = 25;
    let mut world = World::new().await;
    let count = |name: &str| {
        format!("step \"i=0; while [ $i -lt 20 ]; do i=$((i+1)); echo {name} $i; done\"\n step \"echo {name} ended\"")
    };
    let job = |name: &str, lines: &str| {
        format!("job \"{name}\" {{ container \"{REGISTRY}/base/shell:1\"\n {lines}\n {} }}\n", count(name))
    };
    let pipeline = format!(
        "stage \"count\" {{\n{}{}}}\nstage \"again\" {{\n{}}}\n",
        job("one", ""),
        job("two", "after \"one\""),
        job("three", "")
    );
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &pipeline).unwrap();
    repository.push("Counts").unwrap();
    let (url, data) = (world.url().to_owned(), world.folder.path().join("server"));
    let listen = url.trim_start_matches("http://").to_owned();
    // One starts runs, as somebody would who tries again when the server does not answer.
    let client = world.client.clone();
    let given_up = Arc::new(AtomicBool::new(false));
    let is_given_up = Arc::clone(&given_up);
    let starter = tokio::spawn(async move {
        let name = "plant-labels".parse().unwrap();
        while !is_given_up.load(Ordering::Relaxed) {
            let newest =
                client.runs(Some(&name), 1, None).await.ok().map(|page| page.runs.first().map_or(0, |run| run.number));
            match newest {
                Some(number) if number >= RUNS => return,
                Some(_) => drop(client.start(&name, &StartRequest::default()).await),
                None => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        }
    });
    // The other kills, each time after so many changes of runs as no one chose.
    let mut seed = 20_261_124;
    for kill in 0..KILLS {
        let changes = next(&mut seed) % 20 + 1;
        let seen = tokio::time::timeout(PATIENCE, async {
            let mut stream = std::pin::pin!(world.client.follow_runs("").await.unwrap());
            for _ in 0..changes {
                stream.next().await.expect("the stream goes on").unwrap();
            }
        });
        if seen.await.is_err() {
            given_up.store(true, Ordering::Relaxed);
            panic!("nothing happens any more after {kill} kills");
        }
        world.server.take().unwrap().kill();
        world.server = Some(Server::start(&data, &listen, "1h").0);
    }
    tokio::time::timeout(PATIENCE * 4, starter).await.expect("the runs were started").unwrap();
    let log = |name: &str| (1..=20).map(|i| format!("{name} {i}\n")).collect::<String>() + &format!("{name} ended\n");
    for number in 1..=RUNS {
        let run = format!("plant-labels#{number}").parse().unwrap();
        let detail = world.passes(&run).await;
        for job in detail.stages.iter().flat_map(|stage| &stage.jobs) {
            let name = job.job.split_once('/').unwrap().1;
            assert_eq!(
                world.log(&run, &job.job).await,
                log(name),
                "{run} {name}: lines were lost, doubled or said twice"
            );
            assert_eq!((job.attempt, job.steps.len()), (1, 2));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_end_rightly_however_often_their_runner_is_killed() {
    const RUNS: u64 = 24;
    /// In each of these runs the first attempt does not end by itself: a runner is killed that has a job.
    const KILLED_IN: [u64; 5] = [2, 6, 11, 12, 19];
    let world = World::new().await;
    let waits = KILLED_IN.map(|number| format!("{number}.1")).join("|");
    let lines = format!(
        "retry 10 only=\"lost\"\n step \"i=0; while [ $i -lt 20 ]; do i=$((i+1)); echo line $i; done; case $PONDRIX_RUN.$PONDRIX_ATTEMPT in {waits}) sleep 300;; esac\"\n step \"echo ended\""
    );
    let (_, first) = world.run_of_pipeline("plant-labels", &one_job(&lines)).await;
    world.passes(&first).await;
    for _ in 1..RUNS {
        world.client.start(&first.project, &StartRequest::default()).await.unwrap();
    }
    let lock = world.folder.path().join("server/runner-1/lock");
    for number in KILLED_IN {
        let run = RunId { number, ..first.clone() };
        until("the last line before it waits", async || {
            let log = world.client.log(&run, "verify/unit").await.ok()?;
            log.ends_with(b"line 20\n").then_some(())
        })
        .await;
        // Another kill may have hit this run too.
        if world.client.run(&run).await.unwrap().stages[0].jobs[0].attempt == 1 {
            kill_process(runner_in(&lock).await, Signal::KILL).unwrap();
        }
    }
    let whole: String = (1..=20).map(|i| format!("line {i}\n")).collect::<String>() + "ended\n";
    for number in 1..=RUNS {
        let run = RunId { number, ..first.clone() };
        let detail = world.passes(&run).await;
        let job = &detail.stages[0].jobs[0];
        assert!(job.attempts.iter().all(|one| one.state == State::Lost), "{run}: {:?}", job.attempts);
        assert!(!KILLED_IN.contains(&number) || !job.attempts.is_empty(), "{run}: its runner was not killed");
        let log = world.log(&run, "verify/unit").await;
        let last = log.rsplit_once(&format!("attempt {} begins\n", job.attempt)).map_or(log.as_str(), |(_, last)| last);
        assert_eq!(last, whole, "{run}: the log of the attempt that passed is whole, once");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_whose_runner_is_killed_is_lost_at_once_and_tried_again_where_it_may_be() {
    let world = World::new().await;
    let lines =
        "retry 1 only=\"lost\"\n step \"echo attempt $PONDRIX_ATTEMPT; test $PONDRIX_ATTEMPT = 2 || sleep 300\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    until("the first attempt", async || {
        let log = world.client.log(&run, "verify/unit").await.ok()?;
        String::from_utf8_lossy(&log).contains("attempt 1").then_some(())
    })
    .await;
    let lock = world.folder.path().join("server/runner-1/lock");
    kill_process(runner_in(&lock).await, Signal::KILL).unwrap();
    let detail = world.passes(&run).await;
    let job = &detail.stages[0].jobs[0];
    assert_eq!((job.attempt, job.attempts[0].state), (2, State::Lost));
    // The next runner in its folder says so, long before its silence would.
    let reason = job.attempts[0].reason.as_deref().unwrap_or_default();
    assert!(reason.contains("runner own-1 was started anew"), "{reason}");
    assert_eq!(world.log(&run, "verify/unit").await, "attempt 1\nattempt 2 begins\nattempt 2\n");
    let (_, run) = {
        let lines = "step \"echo once; sleep 300\"";
        world.run_of_pipeline("visitor-desk", &one_job(lines)).await
    };
    until("its log", async || {
        let log = world.client.log(&run, "verify/unit").await.ok()?;
        (log == b"once\n").then_some(())
    })
    .await;
    kill_process(runner_in(&lock).await, Signal::KILL).unwrap();
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Lost);
    let reason = detail.failure.unwrap().what;
    assert!(reason.contains("runner own-1 was started anew"), "{reason}");
}

/// The runner that works in the folder of this lock, as soon as one has written its number down there and runs.
pub(crate) async fn runner_in(lock: &std::path::Path) -> Pid {
    let mut runner = None;
    until("a runner in its folder", async || {
        let pid = std::fs::read_to_string(lock).ok()?.trim().parse().ok().and_then(Pid::from_raw)?;
        // The number of one that was killed stays until the next has the folder.
        runner = EndOf::process(pid).is_some_and(|end| !end.is_there()).then_some(pid);
        runner.map(drop)
    })
    .await;
    runner.unwrap()
}
