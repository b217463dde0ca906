//! Endurance: a log of ten million lines that hundreds follow, thousands of runs one after the other, and a thousand
//! repositories that are looked at.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use pondrix_api::{NewProject, RunsWanted, StartRequest};
use pondrix_core::RunId;
use pondrix_sandbox::{Exit, Launcher, Rootfs, Spec};
use pondrix_standin::garden::Repository;
use serde_json::{Value, json};

use super::support::{Server, World, family, one_job};
use super::{measure_of, median, status_of};

/// The command that writes, and how many lines.
const LINES: u64 = 10_000_000;
const WRITE: &str = "yes 'a line of a log' | head -n 10000000";
const FOLLOWERS: usize = 500;
/// How many runs the soak has, and after how many its level is taken.
const RUNS: usize = 2_000;
const LEVEL_AFTER: usize = 200;
const SOAK_FOLLOWERS: usize = 3;
const REPOSITORIES: usize = 1_000;
const WATCH_TIME: Duration = Duration::from_secs(60);

/// The layer of the base image, as the server's own runner has it unpacked.
pub(super) fn layer_of(world: &World) -> PathBuf {
    let layers = world.folder.path().join("server/runner-1/images/layers");
    let with_shell = std::fs::read_dir(layers).unwrap().flatten().find(|layer| layer.path().join("bin/sh").exists());
    with_shell.unwrap().path()
}

/// The command in a sandbox, with its output in a file.
fn written_by_hand(folder: &Path, layer: &Path) -> Duration {
    let since = Instant::now();
    let out = std::fs::File::create(folder.join("out")).unwrap();
    let spec = Spec {
        argv: ["/bin/sh", "-c", WRITE].map(str::to_owned).into(),
        env: [("PATH".to_owned(), "/bin".to_owned())].into(),
        fresh_tmp: true,
        ..Spec::new(Rootfs::new(vec![layer.to_owned()], folder.join("root")))
    };
    let mut running = Launcher::with_helper(super::support::PONDRIX).start(&spec, out.into()).unwrap();
    assert_eq!(running.wait(), Exit::Status(0));
    since.elapsed()
}

/// How long a job takes that writes ten million lines, from its step's begin until all of them are in the server.
async fn written(world: &World, repository: &Repository, followers: usize) -> Duration {
    let commit = repository.push("Again").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let read = Arc::new(AtomicU64::new(0));
    let following: Vec<_> = (0..followers)
        .map(|_| {
            let (client, run, read) = (world.client.clone(), run.clone(), Arc::clone(&read));
            tokio::spawn(async move {
                let mut stream = std::pin::pin!(client.follow_log(&run, "verify/unit", 0).await.unwrap());
                // As a person's terminal over a slow line: a piece, and a pause.
                while stream.next().await.is_some_and(|item| item.is_ok()) {
                    read.fetch_add(1, Ordering::Relaxed);
                    tokio::time::sleep(Duration::from_millis(500)).await;
                }
            })
        })
        .collect();
    let detail = world.passes(&run).await;
    for one in following {
        one.abort();
    }
    let job = &detail.stages[0].jobs[0];
    if followers > 0 {
        println!("  {followers} followers took {} pieces meanwhile", read.load(Ordering::Relaxed));
    }
    Duration::from_millis(job.ended.unwrap().since(job.steps[0].started.unwrap()))
}

async fn long_log() -> Vec<Value> {
    let world = World::new().await;
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job(&format!("step \"{WRITE}\""))).await;
    world.passes(&run).await;
    let (layer, folder) = (layer_of(&world), tempfile::tempdir().unwrap());
    let process = world.server.as_ref().unwrap().child.id();
    let before = status_of(process, "VmRSS");
    let (mut bare, mut alone, mut followed) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..3 {
        let folder = folder.path().join(round.to_string());
        std::fs::create_dir(&folder).unwrap();
        bare.push(written_by_hand(&folder, &layer));
        alone.push(written(&world, &repository, 0).await);
        followed.push(written(&world, &repository, FOLLOWERS).await);
    }
    println!(
        "  memory of the server: {:.1} MB, and {:.1} MB at its most",
        before as f64 / 1024.0,
        status_of(process, "VmHWM") as f64 / 1024.0
    );
    let lines = format!("{LINES} lines of a job");
    vec![
        measure_of(&lines, "s", median(alone), median(bare.clone()), 2.0),
        measure_of(&format!("{lines}, with {FOLLOWERS} followers"), "s", median(followed), median(bare), 2.0),
    ]
}

/// What a process holds: memory in KiB, descriptors, threads.
#[derive(Clone, Copy, Debug)]
struct Held {
    memory: u64,
    descriptors: usize,
    threads: u64,
}

impl Held {
    fn by(process: u32) -> Self {
        let descriptors = std::fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
        Self { memory: status_of(process, "VmRSS"), descriptors, threads: status_of(process, "Threads") }
    }
}

/// The bytes of all files below a folder, as they lie on the disk.
fn size_of(folder: &Path) -> u64 {
    let output = Command::new("du").args(["--summarize", "--block-size=1"]).arg(folder).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    text.split_whitespace().next().unwrap().parse().unwrap()
}

async fn soak() -> Vec<Value> {
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo hello\"")).await;
    world.passes(&run).await;
    let project = run.project.clone();
    for _ in 0..SOAK_FOLLOWERS {
        let client = world.client.clone();
        tokio::spawn(async move {
            let mut changes = std::pin::pin!(client.follow_runs("").await.unwrap());
            while changes.next().await.is_some() {}
        });
    }
    let data = world.folder.path().join("server");
    let server = world.server.as_ref().unwrap().child.id();
    let runner = family(server).into_iter().map(|(id, _)| id).find(|id| *id != server).unwrap();
    let beside = |data: &Path| size_of(data) - size_of(&data.join("runner-1"));
    let mut at_level = None;
    let mut most = (0, 0);
    for done in 0..=RUNS {
        if done == LEVEL_AFTER {
            at_level = Some((Held::by(server), Held::by(runner), beside(&data)));
        }
        if done > LEVEL_AFTER && done % 100 == 0 {
            most = (most.0.max(status_of(server, "VmRSS")), most.1.max(status_of(runner, "VmRSS")));
        }
        let started = world.client.start(&project, &StartRequest::default()).await.unwrap();
        let run: RunId = started.run.parse().unwrap();
        world.passes(&run).await;
    }
    let (server_then, runner_then, size_then) = at_level.unwrap();
    let (server_now, runner_now) = (Held::by(server), Held::by(runner));
    let mut summary = Vec::new();
    for (who, then, now, most) in
        [("server", server_then, server_now, most.0), ("runner", runner_then, runner_now, most.1)]
    {
        println!(
            "  {who}: {:.1} MB, {} descriptors, {} threads after {LEVEL_AFTER} runs; {:.1} MB ({:.1} at the most), {}, {} after {RUNS}",
            then.memory as f64 / 1024.0,
            then.descriptors,
            then.threads,
            now.memory as f64 / 1024.0,
            most as f64 / 1024.0,
            now.descriptors,
            now.threads
        );
        let (ours, bare) = (now.memory as f64 / 1024.0, then.memory as f64 / 1024.0);
        let name = format!("memory of the {who} after {RUNS} runs and after {LEVEL_AFTER}");
        summary
            .push(json!({ "name": name, "unit": "MB", "ours": ours, "bare": bare, "ratio": ours / bare, "bar": 1.1 }));
    }
    let each = (beside(&data) - size_then) as f64 / (RUNS - LEVEL_AFTER) as f64 / 1e3;
    println!("  the server's folder: {each:.1} kB a run");
    summary.push(json!({ "name": "folder of a server, for each run", "unit": "kB", "ours": each, "bare": 20.0, "ratio": each / 20.0, "bar": 1.0 }));
    summary
}

/// How much processor time a process has had, with its children that have ended (proc(5), `/proc/pid/stat`, fields 14
/// to 17; ticks of 10 ms).
fn processor_with_children(process: u32) -> Duration {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    let ticks: u64 = fields[11..15].iter().map(|field| field.parse::<u64>().unwrap()).sum();
    Duration::from_millis(ticks * 10)
}

/// How long answers take while repositories are looked at: the 99th of a hundred, for so long.
async fn answers(world: &World, time: Duration) -> Duration {
    let (since, mut times) = (Instant::now(), Vec::new());
    while since.elapsed() < time {
        let asked = Instant::now();
        world.client.find_runs(&RunsWanted::default(), 50, None).await.unwrap();
        times.push(asked.elapsed());
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    times.sort();
    times[times.len() * 99 / 100]
}

async fn watching() -> Vec<Value> {
    let mut world = World::new().await;
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo hello\"")).await;
    world.passes(&run).await;
    for at in 0..REPOSITORIES {
        let bare = world.folder.path().join(format!("bed-{at}.git"));
        let cloned = Command::new("git").args(["clone", "--quiet", "--bare"]).arg(&repository.bare).arg(&bare).status();
        assert!(cloned.unwrap().success());
        let new = NewProject { name: format!("bed-{at}"), repository: bare.display().to_string(), credential: None };
        world.client.add_project(&new).await.unwrap();
    }
    let data = world.folder.path().join("server");
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    // As often as it is done where nothing is said.
    world.server = Some(Server::start(&data, &listen, "30s").0);
    let server = world.server.as_ref().unwrap().child.id();
    let first = answers(&world, Duration::from_secs(10)).await;
    let later = answers(&world, WATCH_TIME / 2).await;
    // Nobody asks anything: what is used is for looking.
    let (before, since) = (processor_with_children(server), Instant::now());
    tokio::time::sleep(WATCH_TIME).await;
    let used = processor_with_children(server) - before;
    let share = used.as_secs_f64() / since.elapsed().as_secs_f64() * 100.0;
    println!("{REPOSITORIES} repositories looked at: {share:.1} % of a processor, with git's");
    println!(
        "  answers meanwhile, the 99th of a hundred: {:.1} ms in the first 10 s, {:.1} ms later",
        first.as_secs_f64() * 1e3,
        later.as_secs_f64() * 1e3
    );
    let limit = Duration::from_millis(10);
    vec![
        json!({ "name": "processor for looking at 1,000 repositories", "unit": "%", "ours": share, "bare": 5.0, "ratio": share / 5.0, "bar": 1.0 }),
        measure_of("answers while they are looked at", "ms", first.max(later), limit, 1.0),
    ]
}

/// Measures all of it, or what is named.
pub(super) async fn measures(is_wanted: impl Fn(&str) -> bool) -> Vec<Value> {
    let mut summary = Vec::new();
    if is_wanted("logs") {
        summary.extend(long_log().await);
    }
    if is_wanted("soak") {
        summary.extend(soak().await);
    }
    if is_wanted("watch") {
        summary.extend(watching().await);
    }
    summary
}
