//! The demo's projects under random kills. `make test` kills a few times; `make trial KILLS=1000` for as long as one
//! likes.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use pondrix_api::{Client, RunSummary, StartRequest};
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{GLASSHOUSE_BASE, PLANT_LABELS, Repository, VISITOR_DESK};
use rustix::process::{Signal, kill_process};

use crate::crash::{next, runner_in};
use crate::support::{PATIENCE, Server, World};

/// How many kills where nothing is said.
const KILLS: u64 = 6;
/// How long at the most between two of them.
const LONGEST_PAUSE: u64 = 1_200;
/// How many runs may go on at once, so that each begins some time.
const AT_ONCE: usize = 4;

/// What the desk says at a commit: as long each time, since logs tell how long the page is.
fn greeting(number: u64) -> String {
    format!("Fernhollow greeting {number:06}\n")
}

/// Pushes commits, and starts runs, until told to end. Answers each commit of the desk with its number.
async fn commits(
    client: Client,
    desk: Repository,
    labels: Repository,
    is_over: Arc<AtomicBool>,
) -> BTreeMap<String, u64> {
    let mut pushed = BTreeMap::new();
    let mut number = 0u64;
    while !is_over.load(Ordering::Relaxed) {
        let going_on = client
            .runs(None, 100, None)
            .await
            .map_or(AT_ONCE, |page| page.runs.iter().filter(|run| !run.state.is_over()).count());
        if going_on >= AT_ONCE {
            tokio::time::sleep(Duration::from_millis(20)).await;
            continue;
        }
        number += 1;
        if number.is_multiple_of(3) {
            labels.write("note", &number.to_string()).unwrap();
            labels.push(&format!("Labels {number}")).unwrap();
        } else {
            desk.write("desk/greeting.txt", &greeting(number)).unwrap();
            let commit = desk.push(&format!("Greeting {number}")).unwrap();
            pushed.insert(commit, number);
        }
        if number.is_multiple_of(10) {
            // One that is refused or not heard is not started: nobody is told that it was.
            drop(client.start(&"visitor-desk".parse().unwrap(), &StartRequest::default()).await);
        }
    }
    pushed
}

/// All runs of the server.
async fn all_runs(client: &Client) -> Vec<RunSummary> {
    let (mut all, mut before) = (Vec::new(), None);
    loop {
        let page = client.runs(None, 200, before.as_deref()).await.unwrap();
        all.extend(page.runs);
        before = page.next;
        if before.is_none() {
            return all;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_killed_at_random_moments_every_commit_is_released_once_or_told_to_be_lost() {
    let kills = std::env::var("PONDRIX_KILLS").map_or(KILLS, |text| text.parse().expect("PONDRIX_KILLS is a number"));
    let mut world = World::looking_every("1s").await;
    let (base, _) = world.project("glasshouse-base", GLASSHOUSE_BASE).await;
    let bases = base.push("Bases").unwrap();
    base.push_tag("1", &bases).unwrap();
    let first = world.run_of("glasshouse-base", &bases).await;
    world.passes(&first).await;
    assert_eq!(world.pondrix(&["project", "set", "glasshouse-base", "--templates", "yes"]).await.status, 0);
    let (labels, _) = world.project("plant-labels", PLANT_LABELS).await;
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    desk.write("desk/greeting.txt", &greeting(0)).unwrap();
    let reference = world.run_of("visitor-desk", &desk.push("First").unwrap()).await;
    world.passes(&reference).await;
    let log = world.log(&reference, "verify/unit").await;
    let (data, listen) = (world.folder.path().join("server"), world.url().trim_start_matches("http://").to_owned());
    let is_over = Arc::new(AtomicBool::new(false));
    let pushing = tokio::spawn(commits(world.client.clone(), desk, labels, Arc::clone(&is_over)));
    let lock = data.join("runner-1/lock");
    let (mut seed, mut of_runner) = (20_261_126, 0);
    for _ in 0..kills {
        tokio::time::sleep(Duration::from_millis(next(&mut seed) % LONGEST_PAUSE)).await;
        if next(&mut seed).is_multiple_of(4) {
            of_runner += 1;
            // It may have ended just now: then it was another one's turn.
            let _ = kill_process(runner_in(&lock).await, Signal::KILL);
            continue;
        }
        world.server.take().unwrap().kill();
        world.server = Some(Server::start(&data, &listen, "1s").0);
    }
    is_over.store(true, Ordering::Relaxed);
    let pushed = tokio::time::timeout(PATIENCE, pushing).await.expect("the last push is done").unwrap();
    let newest = pushed.iter().max_by_key(|(_, number)| **number).map(|(commit, _)| commit.clone()).unwrap();
    world.run_of("visitor-desk", &newest).await;

    let runs = all_runs(&world.client).await;
    let mut of_commits: BTreeMap<&str, Vec<&RunSummary>> = BTreeMap::new();
    for run in runs.iter().filter(|run| run.project == "visitor-desk" && run.start.word() == "commit") {
        of_commits.entry(&run.commit).or_default().push(run);
    }
    for (commit, number) in &pushed {
        // A push that came while the server was away is seen when it is back; of several then only the newest.
        let of_commit = of_commits.get(commit.as_str()).map_or(0, Vec::len);
        assert!(of_commit <= 1, "commit {number} has {of_commit} runs");
    }
    assert_eq!(of_commits.get(newest.as_str()).map(Vec::len), Some(1), "the newest commit has its run");
    let (mut passed, mut lost) = (0, 0);
    for run in &runs {
        let name: RunId = run.run.parse().unwrap();
        let detail = world.end_of(&name).await;
        let jobs: Vec<_> = detail.stages.iter().flat_map(|stage| &stage.jobs).collect();
        let is_lost = jobs.iter().any(|job| job.state == State::Lost);
        let is_overtaken = jobs.iter().any(|job| job.reason.as_deref().is_some_and(|why| why.contains("overtaken")));
        match detail.summary.state {
            State::Passed => passed += 1,
            State::Lost if is_lost => lost += 1,
            state => assert!(is_lost || is_overtaken, "{name} is {state}: {:#?}", detail.failure),
        }
        for job in &jobs {
            assert_eq!(job.attempt, 1, "{name} {}: done twice", job.job);
            assert!(job.state.is_over(), "{name} {}: {}", job.job, job.state);
        }
        if run.project == "visitor-desk" && jobs[0].state == State::Passed {
            assert_eq!(world.log(&name, "verify/unit").await, log, "{name}: lines were lost or doubled");
        }
    }
    // What the environment runs is what the newest run brought there that could.
    let page = reqwest::get(format!("http://{}/", world.application)).await.unwrap().text().await.unwrap();
    let newest_released = runs.iter().filter(|run| run.project == "visitor-desk" && run.state == State::Passed);
    let newest_released = newest_released.max_by_key(|run| pushed.get(&run.commit).copied().unwrap_or_default());
    let number = newest_released.and_then(|run| pushed.get(&run.commit)).copied();
    let fresh = world.end_of(&world.run_of("visitor-desk", &newest).await).await.summary.state;
    if fresh == State::Passed {
        assert!(page.contains(greeting(pushed[&newest]).trim()), "{number:?}: {page}");
    }
    // The records are sound, and everything in them can be read.
    let file = world.folder.path().join("trial.backup").display().to_string();
    let restored = world.folder.path().join("restored").display().to_string();
    let made = world.pondrix(&["backup", &file]).await;
    assert!(made.status == 0 && !made.out.contains("does not have"), "{}{}", made.out, made.err);
    let proved = world.pondrix(&["restore", &file, "--data", &restored]).await;
    assert!(proved.status == 0 && !proved.out.contains("could not be read"), "{}{}", proved.out, proved.err);
    println!("{kills} kills ({of_runner} of the runner), {} runs: {passed} passed, {lost} lost", runs.len());
}
