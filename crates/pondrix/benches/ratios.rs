//! The cost of Pondrix against the bare cost of the same work, in one run, as ratios.
//!
//! Writes `target/bench/summary.json`: a list of `{name, unit, ours, bare, ratio, bar}`.

#![expect(clippy::unwrap_used, reason = "a measurement that cannot go on fails")]
#![expect(dead_code, reason = "the tests' world is shared, and not all of it is needed here")]

mod age;
mod endurance;
mod images;
mod load;
#[path = "../tests/e2e/processes.rs"]
mod processes;
#[path = "../tests/e2e/support.rs"]
mod support;

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use pondrix_api::Change;
use pondrix_core::{RunId, State, Time};
use pondrix_sandbox::{Exit, Launcher, Rootfs, Spec};
use pondrix_standin::garden::{REGISTRY, Repository};
use serde_json::json;
use support::{World, one_job};

const ROUNDS: usize = 15;

fn main() {
    // Started with `--list` by cargo's own listing of tests: there is nothing to list.
    if std::env::args().any(|argument| argument == "--list") {
        return;
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match arguments.iter().position(|argument| argument == images::CHILD_WORD) {
        Some(place) => runtime.block_on(images::child(&arguments[place + 1..])),
        None => runtime.block_on(measure(&arguments)),
    }
}

fn median(mut all: Vec<Duration>) -> Duration {
    all.sort();
    all[all.len() / 2]
}

/// By hand: fetch, take the files out, enter a sandbox over the base image, and say something.
fn by_hand(repository: &Repository, folder: &Path, layer: &Path, round: usize) -> Duration {
    let copy = folder.join("copy.git");
    if !copy.exists() {
        assert!(Command::new("git").args(["init", "--quiet", "--bare"]).arg(&copy).status().unwrap().success());
    }
    let since = Instant::now();
    let fetch = ["fetch", "--quiet", "--no-tags"];
    let fetched =
        Command::new("git").arg("--git-dir").arg(&copy).args(fetch).arg(&repository.bare).arg("+main:main").status();
    assert!(fetched.unwrap().success());
    let launcher = Launcher::with_helper(support::PONDRIX);
    let (mut reader, writer) = std::io::pipe().unwrap();
    let spec = Spec {
        argv: ["/bin/sh", "-c", "echo hello"].map(str::to_owned).into(),
        env: [("PATH".to_owned(), "/bin".to_owned())].into(),
        fresh_tmp: true,
        ..Spec::new(Rootfs::new(vec![layer.to_owned()], folder.join(format!("root-{round}"))))
    };
    let mut running = launcher.start(&spec, writer.into()).unwrap();
    let mut first = [0; 6];
    std::io::Read::read_exact(&mut reader, &mut first).unwrap();
    let took = since.elapsed();
    assert_eq!(running.wait(), Exit::Status(0));
    took
}

/// A number of a process's status: memory in KiB, or a count (proc(5), `/proc/pid/status`).
fn status_of(process: u32, field: &str) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix(field)?.strip_prefix(':')).unwrap();
    line.split_whitespace().next().unwrap().parse().unwrap()
}

/// What can be measured.
const MEASURED: [&str; 8] = ["runs", "images", "many", "load", "logs", "soak", "watch", "age"];

/// Measures everything, or what is named.
async fn measure(named: &[String]) {
    let is_wanted = |name: &str| {
        let mut all = named.iter().filter(|word| MEASURED.contains(&word.as_str())).peekable();
        all.peek().is_none() || all.any(|word| word == name)
    };
    let mut summary = Vec::new();
    if is_wanted("runs") {
        summary.extend(runs().await);
    }
    if is_wanted("images") {
        summary.extend(images::measures().await);
    }
    if is_wanted("many") {
        summary.extend(images::many::measures().await);
    }
    if is_wanted("load") {
        summary.extend(load::measures().await);
    }
    summary.extend(endurance::measures(is_wanted).await);
    if is_wanted("age") {
        summary.extend(age::measures().await);
    }
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/bench");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("summary.json"), serde_json::to_vec_pretty(&summary).unwrap()).unwrap();
}

/// How long each part of a run of one job took, in milliseconds.
struct Parts {
    preflight: u64,
    taken: u64,
    prepared: u64,
    ended: u64,
}

impl Parts {
    fn of(run: &pondrix_api::RunDetail) -> Self {
        let job = &run.stages[0].jobs[0];
        let took = |from: Option<Time>, to: Option<Time>| from.zip(to).map_or(0, |(from, to)| to.since(from));
        Self {
            preflight: took(Some(run.summary.created), job.queued),
            taken: took(job.queued, job.started),
            prepared: took(job.started, job.steps[0].started),
            ended: took(job.steps[0].started, job.steps[0].ended),
        }
    }
}

async fn runs() -> Vec<serde_json::Value> {
    let world = World::new().await;
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo hello\"")).await;
    world.passes(&run).await;
    let layer = endurance::layer_of(&world);
    let bare_folder = tempfile::tempdir().unwrap();
    let (mut ours, mut bare, mut parts) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        // Told of at once: a question now and then would be measured too.
        let mut changes = std::pin::pin!(world.client.follow_runs("").await.unwrap());
        let commit = repository.push("Again").unwrap();
        let since = Instant::now();
        let run: RunId = loop {
            let event = changes.next().await.unwrap().unwrap();
            let Ok(change) = serde_json::from_str::<Change>(&event.data) else { continue };
            if change.run.commit == commit {
                break change.run.run.parse().unwrap();
            }
        };
        let mut stream = std::pin::pin!(world.client.follow_log(&run, "verify/unit", 0).await.unwrap());
        assert_eq!(stream.next().await.unwrap().unwrap().kind, "log");
        ours.push(since.elapsed());
        parts.push(Parts::of(&world.passes(&run).await));
        bare.push(by_hand(&repository, bare_folder.path(), &layer, round));
    }
    let middle = |of: &dyn Fn(&Parts) -> u64| {
        let mut all: Vec<_> = parts.iter().map(of).collect();
        all.sort_unstable();
        all[all.len() / 2]
    };
    println!(
        "  of that, in ms: preflight {}, until a runner has it {}, its files and its place {}, entering and its end {}",
        middle(&|parts| parts.preflight),
        middle(&|parts| parts.taken),
        middle(&|parts| parts.prepared),
        middle(&|parts| parts.ended)
    );
    let mut summary = vec![measure_of("push to first log line", "ms", median(ours), median(bare), 1.3)];
    summary.push(many_jobs(&world, &layer).await);
    summary.push(check_of_a_long_file());
    summary
}

/// Prints a measure, and answers it for the summary.
fn measure_of(name: &str, unit: &str, ours: Duration, bare: Duration, bar: f64) -> serde_json::Value {
    let factor = if unit == "s" { 1.0 } else { 1e3 };
    let (ours, bare) = (ours.as_secs_f64() * factor, bare.as_secs_f64() * factor);
    let ratio = ours / bare;
    println!("{name}: {ours:.1} {unit}, bare {bare:.1} {unit}, ratio {ratio:.2} (bar {bar})");
    json!({ "name": name, "unit": unit, "ours": ours, "bare": bare, "ratio": ratio, "bar": bar })
}

/// How many jobs run at once: as many as the world's runner has places.
const SIDE_BY_SIDE: usize = 2;
const JOBS: usize = 1000;

/// A thousand jobs of one trivial step, against as many sandboxes entered by hand.
async fn many_jobs(world: &World, layer: &Path) -> serde_json::Value {
    let stage = |number: usize| {
        let values: Vec<_> = (0..JOBS / 4).map(|at| format!("\"{at}\"")).collect();
        format!(
            "stage \"s{number}\" {{\n job \"one\" {{\n matrix {{ n {} }}\n container \"{REGISTRY}/base/shell:1\"\n step \"echo hello\"\n }}\n}}\n",
            values.join(" ")
        )
    };
    let pipeline = "start commit=\"main\"\n".to_owned() + &(0..4).map(stage).collect::<String>();
    let server = world.server.as_ref().unwrap().child.id();
    let each = |before: Duration| (load::processor(server) - before).as_secs_f64() * 1e3 / JOBS as f64;
    let before = load::processor(server);
    let (_, run) = world.run_of_pipeline("pond-sensors", &pipeline).await;
    while !world.client.runs(None, 1, None).await.unwrap().runs.iter().all(|run| run.state.is_over()) {
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    let alone = each(before);
    assert_eq!(world.client.run(&run).await.unwrap().summary.state, State::Passed);
    let before = load::processor(server);
    let (_, run) = world.run_of_pipeline("visitor-desk", &pipeline).await;
    let detail = world.until_within(&run, Duration::from_secs(600), |run| run.summary.state.is_over()).await;
    println!(
        "  processor time of the server for each of 1,000 jobs: {alone:.2} ms, with one follower of the run {:.2} ms",
        each(before)
    );
    let took = |from: Option<Time>, to: Option<Time>| from.zip(to).map_or(0, |(from, to)| to.since(from));
    let ours = Duration::from_millis(took(detail.summary.started, detail.summary.ended));
    let jobs: Vec<_> = detail.stages.iter().flat_map(|stage| &stage.jobs).collect();
    assert!(jobs.len() == JOBS && jobs.iter().all(|job| job.state == State::Passed));
    let mean =
        |of: &dyn Fn(&pondrix_api::JobView) -> u64| jobs.iter().map(|job| of(job)).sum::<u64>() as f64 / JOBS as f64;
    println!(
        "  of each job, in ms: prepare its place {:.1}, enter and run {:.1}, tell the end {:.1}; the server between two jobs of a place {:.1}",
        mean(&|job| took(job.started, job.steps[0].started)),
        mean(&|job| took(job.steps[0].started, job.steps[0].ended)),
        mean(&|job| took(job.steps[0].ended, job.ended)),
        ours.as_secs_f64() * 1e3 * SIDE_BY_SIDE as f64 / JOBS as f64 - mean(&|job| took(job.started, job.ended)),
    );
    let launcher = Launcher::with_helper(support::PONDRIX);
    let bare = many_by_hand(&launcher, layer);
    let frame = tempfile::tempdir().unwrap();
    let sharing = many_by_hand(&launcher.sharing(frame.path().to_owned()).unwrap(), layer);
    println!("  by hand, with the folders shared that the runner's sandboxes share: {:.1} s", sharing.as_secs_f64());
    measure_of("1,000 jobs of one step", "s", ours, bare, 1.3)
}

/// As many sandboxes by hand, side by side as the jobs are.
fn many_by_hand(launcher: &Launcher, layer: &Path) -> Duration {
    let folder = tempfile::tempdir().unwrap();
    let since = Instant::now();
    std::thread::scope(|scope| {
        for place in 0..SIDE_BY_SIDE {
            let folder = folder.path().join(place.to_string());
            scope.spawn(move || {
                (0..JOBS / SIDE_BY_SIDE).for_each(|round| say_hello(launcher, &folder.join(round.to_string()), layer))
            });
        }
    });
    since.elapsed()
}

fn say_hello(launcher: &Launcher, folder: &Path, layer: &Path) {
    std::fs::create_dir_all(folder).unwrap();
    let (mut reader, writer) = std::io::pipe().unwrap();
    let spec = Spec {
        argv: ["/bin/sh", "-c", "echo hello"].map(str::to_owned).into(),
        env: [("PATH".to_owned(), "/bin".to_owned())].into(),
        fresh_tmp: true,
        ..Spec::new(Rootfs::new(vec![layer.to_owned()], folder.join("root")))
    };
    let mut running = launcher.start(&spec, writer.into()).unwrap();
    let mut said = String::new();
    std::io::Read::read_to_string(&mut reader, &mut said).unwrap();
    assert_eq!((running.wait(), said.as_str()), (Exit::Status(0), "hello\n"));
    std::fs::remove_dir_all(folder).unwrap();
}

/// The check of a file of 2,000 jobs, against the parser of KDL alone.
fn check_of_a_long_file() -> serde_json::Value {
    let job = |at: usize| {
        format!(
            "    job \"j{at}\" {{\n        container \"{REGISTRY}/base/shell:1\"\n        step \"./test.sh {at}\"\n    }}\n"
        )
    };
    let stage =
        |at: usize| format!("stage \"s{at}\" {{\n{}}}\n", (at * 100..at * 100 + 100).map(job).collect::<String>());
    let text: String = (0..20).map(stage).collect();
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let since = Instant::now();
        assert_eq!(pondrix_core::pipeline::read(&text).unwrap().jobs().count(), 2000);
        ours.push(since.elapsed());
        let since = Instant::now();
        assert_eq!(kdl::KdlDocument::parse_v2(&text).unwrap().nodes().len(), 20);
        bare.push(since.elapsed());
    }
    measure_of("check of 2,000 jobs", "ms", median(ours), median(bare), 1.5)
}
