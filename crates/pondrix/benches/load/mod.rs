//! Load: ten thousand jobs that wait and two hundred runners that ask, and runs of thousands of jobs.

use std::time::{Duration, Instant};

use pondrix_api::{Hello, JobReport, RunnerClient, TimedReport};
use pondrix_core::pipeline::Needs;
use pondrix_core::plan::{Plan, Start};
use pondrix_core::queue::{Limits, Offer, Queue, RunnerFacts, Who};
use pondrix_core::run::{Event, Outcome, Run, StepEnd};
use pondrix_core::{JobKey, RunId, Time};
use pondrix_standin::garden::REGISTRY;
use serde_json::{Value, json};

use super::support::{Server, World};

const JOBS: usize = 10_000;
const RUNNERS: usize = 200;
/// How many jobs each runner takes.
const TAKEN: usize = 10;
const LARGE: usize = 5_000;
const SMALL: usize = 5;

fn p99(times: &mut [Duration]) -> Duration {
    times.sort();
    times[times.len() * 99 / 100]
}

/// A measure that is held against a limit and not against other work.
fn limit_of(name: &str, ours: Duration, limit: Duration) -> Value {
    let (ours, limit) = (ours.as_secs_f64() * 1e3, limit.as_secs_f64() * 1e3);
    println!("{name}: {ours:.3} ms (at most {limit} ms)");
    json!({ "name": name, "unit": "ms", "ours": ours, "bare": limit, "ratio": ours / limit, "bar": 1.0 })
}

/// How many values one matrix has.
const VALUES: usize = 250;

/// A pipeline of one stage with so many jobs of one step.
fn pipeline(jobs: usize) -> String {
    let job = |first: usize| {
        let values: Vec<_> = (first..jobs.min(first + VALUES)).map(|at| format!("\"{at}\"")).collect();
        format!(
            " job \"j{first}\" {{\n matrix {{ n {} }}\n container \"{REGISTRY}/base/shell:1\"\n step \"echo hello\"\n }}\n",
            values.join(" ")
        )
    };
    let jobs: String = (0..jobs).step_by(VALUES).map(job).collect();
    format!("start commit=\"main\"\nstage \"many\" {{\n{jobs}}}\n")
}

/// A take and the return of what was taken before, in the queue alone.
fn takes() -> Value {
    let mut queue = Queue::default();
    for at in 0..JOBS {
        let run: RunId = format!("bed-{}#{}", at % 50, 1 + at / 500).parse().unwrap();
        let who = Who::Runner(Needs::default());
        let job = JobKey::new("many", &format!("j{at}"));
        queue.offer(Offer { run, job, who, locks_wanted: Vec::new(), since: Time::from_millis(0) });
    }
    let limits = Limits::default();
    let runners: Vec<_> = (0..RUNNERS)
        .map(|at| RunnerFacts { name: format!("r{at}"), pool: "pond".into(), ..RunnerFacts::default() })
        .collect();
    let mut times = Vec::new();
    let mut taken = Vec::new();
    for turn in 0..JOBS / 2 {
        let since = Instant::now();
        let offer = queue.take(Some(&runners[turn % RUNNERS]), &limits).unwrap();
        times.push(since.elapsed());
        taken.push(offer);
        if taken.len() > RUNNERS {
            let Offer { run, job, .. } = taken.remove(0);
            queue.release(&run, &job);
        }
    }
    limit_of(
        "a take of 10,000 jobs that wait, for 200 runners, the 99th of a hundred",
        p99(&mut times),
        Duration::from_millis(2),
    )
}

/// What an event of a run costs: tried on a copy, which then takes the run's place.
fn event_of(jobs: usize) -> Duration {
    let read = pondrix_core::pipeline::read(&pipeline(jobs)).unwrap();
    let start = Start {
        kind: pondrix_core::pipeline::StartKind::Commit,
        branch: "main".into(),
        tag: None,
        changed: None,
        inputs: std::collections::BTreeMap::new(),
    };
    let mut run = Run::new(&Plan::new(&read, &start));
    let now = Time::from_millis(1);
    for event in [Event::PreflightBegan, Event::Began] {
        run.apply(&event, now).unwrap();
    }
    let keys: Vec<JobKey> = run.jobs().map(|job| job.key.clone()).collect();
    let mut times = Vec::new();
    for round in 0..1000 {
        // All over a long run; of a short one the same job again, in a run as it was.
        let job = keys[round * 7 % keys.len()].clone();
        let event = Event::JobTaken { job, runner: "r".into() };
        let since = Instant::now();
        let mut next = run.clone();
        next.apply(&event, now).unwrap();
        if jobs > SMALL {
            drop(std::mem::replace(&mut run, next));
        } else {
            drop(next);
        }
        times.push(since.elapsed());
        if round >= keys.len() / 7 && jobs > SMALL {
            break;
        }
    }
    super::median(times)
}

/// How much processor time a process has had (proc(5), `/proc/pid/stat`, fields 14 and 15; ticks of 10 ms).
pub(super) fn processor(process: u32) -> Duration {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    let ticks: u64 = fields[11].parse::<u64>().unwrap() + fields[12].parse::<u64>().unwrap();
    Duration::from_millis(ticks * 10)
}

/// What a runner tells of a job of one command that is over at once.
fn trivial_job() -> Vec<TimedReport> {
    let reports = [
        JobReport::Prepared,
        JobReport::StepStarted { step: 0, log: 0 },
        JobReport::StepEnded { step: 0, end: StepEnd::Exit(0), log: 6 },
        JobReport::Ended { outcome: Outcome::Passed, reason: None, usage: None },
    ];
    reports.into_iter().map(|report| TimedReport { report, ago: 0 }).collect()
}

/// Ten thousand jobs of two runs, and two hundred runners that ask a real server.
async fn server() -> Vec<Value> {
    let mut world = World::new().await;
    let data = world.folder.path().join("server");
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    world.server = Some(Server::start_without_runner(&data, &listen));
    let mut runs = Vec::new();
    for name in ["visitor-desk", "plant-labels"] {
        let (_, run) = world.run_of_pipeline(name, &pipeline(LARGE)).await;
        world.until(&run, |run| run.stages[0].jobs.iter().all(|job| job.queued.is_some())).await;
        runs.push(run);
    }
    let url = world.url().to_owned();
    let process = world.server.as_ref().unwrap().child.id();
    // All of them before the first asks: what it takes and says nothing of is somebody else's after a few seconds.
    let known: Vec<_> = (0..RUNNERS)
        .map(|at| {
            let name = format!("bench-{at}");
            let token = std::fs::read_to_string(world.runner_token(&name, &[])).unwrap().trim().to_owned();
            (name, token)
        })
        .collect();
    let (before, since) = (processor(process), Instant::now());
    let runners = known.into_iter().map(|(name, token)| {
        let url = url.clone();
        tokio::spawn(async move {
            let client = RunnerClient::new(move || url.clone(), &token);
            let hello = Hello {
                slots: TAKEN,
                stuck: 0,
                tools: std::collections::BTreeSet::new(),
                host_network: false,
                platforms: [pondrix_image::Platform::here().to_string()].into(),
                version: "bench".into(),
                instance: name,
            };
            client.hello(&hello).await.unwrap();
            let (mut times, mut taken) = (Vec::new(), Vec::new());
            for _ in 0..TAKEN {
                let since = Instant::now();
                taken.push(client.take().await.unwrap().unwrap());
                times.push(since.elapsed());
            }
            (client, times, taken)
        })
    });
    let mut times = Vec::new();
    let (mut all, mut clients) = (Vec::new(), Vec::new());
    for runner in runners.collect::<Vec<_>>() {
        let (client, waited, taken) = runner.await.unwrap();
        times.extend(waited);
        clients.push(client.clone());
        all.push((client, taken));
    }
    let (taken, took) = (times.len() as u32, since.elapsed());
    println!(
        "  {taken} jobs given to {RUNNERS} runners that ask together in {:.2} s; each waits {:.1} ms in the middle, {:.1} ms as the 99th of a hundred",
        took.as_secs_f64(),
        super::median(times.clone()).as_secs_f64() * 1e3,
        p99(&mut times).as_secs_f64() * 1e3
    );
    let each = (processor(process) - before) / taken;
    // The rest of a trivial job: what it says, and that it began and ended.
    let before = processor(process);
    let tellers = all.into_iter().map(|(client, taken)| {
        tokio::spawn(async move {
            for assignment in taken {
                client.append_log(&assignment, 0, b"hello\n".to_vec()).await.unwrap();
                client.report(&assignment, &trivial_job()).await.unwrap();
            }
        })
    });
    for teller in tellers.collect::<Vec<_>>() {
        teller.await.unwrap();
    }
    let whole = each + (processor(process) - before) / taken;
    // And as they ask in the life of a server: one, and a moment later another.
    let mut alone = Vec::new();
    for one in &clients {
        tokio::time::sleep(Duration::from_millis(20)).await;
        let since = Instant::now();
        assert!(one.take().await.unwrap().is_some());
        alone.push(since.elapsed());
    }
    // What of that is not the take's: a question that is answered from memory.
    let mut nothing = Vec::new();
    for _ in 0..RUNNERS {
        tokio::time::sleep(Duration::from_millis(20)).await;
        let since = Instant::now();
        world.client.whoami().await.unwrap();
        nothing.push(since.elapsed());
    }
    // And the commit that it waits for: as much, written by hand.
    let folder = world.folder.path().join("by-hand.db");
    let by_hand = rusqlite::Connection::open(folder).unwrap();
    by_hand
        .execute_batch("PRAGMA journal_mode = wal; PRAGMA synchronous = full; PRAGMA wal_autocheckpoint = 0")
        .unwrap();
    by_hand.execute_batch("CREATE TABLE a (x BLOB); CREATE TABLE b (x BLOB); CREATE TABLE c (x BLOB)").unwrap();
    let mut commits = Vec::new();
    for _ in 0..RUNNERS {
        tokio::time::sleep(Duration::from_millis(20)).await;
        let since = Instant::now();
        let three = "BEGIN; INSERT INTO a VALUES (zeroblob(300)); INSERT INTO b VALUES (zeroblob(300));
                     INSERT INTO c VALUES (zeroblob(300)); COMMIT";
        by_hand.execute_batch(three).unwrap();
        commits.push(since.elapsed());
    }
    println!(
        "  a commit of three rows by hand, in ms: {:.2} in the middle, {:.2} as the 99th",
        super::median(commits.clone()).as_secs_f64() * 1e3,
        p99(&mut commits).as_secs_f64() * 1e3
    );
    println!(
        "  of one that asks alone, in ms: {:.2} in the middle, {:.2} as the 99th; a question answered from memory: {:.2} and {:.2}",
        super::median(alone.clone()).as_secs_f64() * 1e3,
        p99(&mut alone).as_secs_f64() * 1e3,
        super::median(nothing.clone()).as_secs_f64() * 1e3,
        p99(&mut nothing).as_secs_f64() * 1e3,
    );
    let mut shown = Vec::new();
    for _ in 0..20 {
        let since = Instant::now();
        assert_eq!(world.client.run(&runs[0]).await.unwrap().stages[0].jobs.len(), LARGE);
        shown.push(since.elapsed());
    }
    for run in &runs {
        drop(world.client.stop(run).await);
    }
    vec![
        limit_of(
            "processor time of the server to give a job of a run of 5,000 to a runner",
            each,
            Duration::from_millis(1),
        ),
        limit_of(
            "processor time of the server for a trivial job of a run of 5,000: taken, its log, its end",
            whole,
            Duration::from_millis(1),
        ),
        limit_of(
            "a take over HTTP of a run of 5,000 jobs, the 99th of a hundred",
            p99(&mut alone),
            Duration::from_millis(2),
        ),
        limit_of("show of a run of 5,000 jobs", super::median(shown), Duration::from_millis(50)),
    ]
}

/// Measures.
pub(super) async fn measures() -> Vec<Value> {
    let mut summary = vec![takes()];
    let (large, small) = (event_of(LARGE), event_of(SMALL));
    summary.push(limit_of("an event of a run of 5,000 jobs, on a copy", large, Duration::from_micros(200)));
    println!("  of a run of 5 jobs: {:.1} \u{b5}s", small.as_secs_f64() * 1e6);
    summary.extend(server().await);
    summary
}
