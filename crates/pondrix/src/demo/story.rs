//! The story that `pondrix demo --once` plays, point by point.

use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::{Context, anyhow};
use pondrix_api::RunDetail;
use pondrix_core::run::JobResult;
use pondrix_core::{RunId, State};
use pondrix_image::registry::pull;
use pondrix_sandbox::WithoutTerminal as _;
use pondrix_standin::garden::REGISTRY;
use tokio::io::AsyncWriteExt;

use super::checks::{self, Visitor, first_text, get, processes_with, run_of, until};
use super::world::World;
use super::{strangers, trials};
use crate::output;

const FIRST: &str = "Welcome to Fernhollow Botanic Garden";
const SECOND: &str = "The night-blooming cactus of Fernhollow opens tonight";

/// Says what was checked, and how long it took.
pub(super) struct Told {
    since: Instant,
    point: usize,
}

impl Told {
    pub(super) fn say(&mut self, words: &str) {
        let took = self.since.elapsed().as_millis();
        let time = format!("{}.{:02} s", took / 1000, took % 1000 / 10);
        output::hanging(&format!("{:>2}  {time:>7}  ", self.point), words);
        self.since = Instant::now();
    }
}

/// Plays the story; without `once` only as far as the application runs.
pub(super) async fn play(world: &World, once: bool) -> anyhow::Result<()> {
    let mut told = Told { since: Instant::now(), point: 1 };
    base_is_there(world, &mut told).await?;
    told.point = 2;
    let first = first_commit(world, &mut told).await?;
    told.point = 3;
    passes(world, &first, &mut told).await?;
    told.point = 4;
    answers(world, FIRST).await?;
    told.say(&format!("http://{} answers: {FIRST}", world.application));
    if !once {
        return Ok(());
    }
    told.point = 5;
    second_commit(world, &mut told).await?;
    told.point = 6;
    failing_commit(world, &mut told).await?;
    told.point = 7;
    stop_leaves_nothing(world, &mut told).await?;
    limit_leaves_nothing(world, &mut told).await?;
    told.point = 8;
    trials::tries(world, &mut told, SECOND).await?;
    told.point = 9;
    trials::prints(world, &mut told).await?;
    trials::templates(world, &mut told).await?;
    told.point = 10;
    trials::mends(world, &mut told).await?;
    trials::refuses(world, &mut told).await?;
    told.point = 11;
    trials::follows(world, &mut told).await?;
    told.point = 12;
    strangers::shares(world, &mut told).await?;
    strangers::guards(world, &mut told).await?;
    strangers::bounds(world, &mut told).await?;
    strangers::identifies(world, &mut told)?;
    strangers::remembers(world, &mut told).await?;
    Ok(())
}

async fn base_is_there(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let reference = format!("{REGISTRY}/base/shell:1").parse()?;
    let store = pondrix_image::Store::open(&world.folder.join("check"), pondrix_sandbox::IdMap::for_this_process());
    let store = store?;
    let image = pull(&reference, world.addresses(), &store).await?;
    if image.digest != world.base.digest {
        return Err(anyhow!("the registry has {} as the base image, not {}", image.digest, world.base.digest));
    }
    told.say(&format!("base image {reference} is in the registry: {}", image.digest.short()));
    Ok(())
}

pub(super) async fn answers(world: &World, greeting: &str) -> anyhow::Result<()> {
    let page = get(world.application, "/").await.context("the application")?;
    if page.contains(greeting) { Ok(()) } else { Err(anyhow!("the application does not answer with: {greeting}")) }
}

async fn first_commit(world: &World, told: &mut Told) -> anyhow::Result<RunId> {
    let commit = world.repository("visitor-desk").push("Opening hours and a greeting")?;
    let since = Instant::now();
    let (run, noticed) = run_of(&world.client, "visitor-desk", &commit).await?;
    first_text(&world.client, &run, "verify/unit").await?;
    told.say(&format!(
        "pushed, noticed through the hook as {run} {} ms after the push, first log line at a follower after {} ms",
        noticed.as_millis(),
        since.elapsed().as_millis()
    ));
    Ok(run)
}

pub(super) fn expect_state(run: &RunDetail, state: State) -> anyhow::Result<()> {
    if run.summary.state == state {
        return Ok(());
    }
    let broke = run
        .failure
        .as_ref()
        .map(|failure| format!("\n{}: {}\n{}", failure.job, failure.what, failure.last_lines.join("\n")));
    let faults = run.faults.iter().map(|fault| format!("\n{}", fault.render("pondrix.kdl")));
    let barred = run.missing.iter().map(|fault| format!("\n{}: {}", fault.job, fault.what));
    let why: String = broke.into_iter().chain(faults).chain(barred).collect();
    Err(anyhow!("{} is {} and not {state}{why}", run.summary.run, run.summary.state))
}

/// Follows a run through its stages to a good end.
async fn passes(world: &World, run: &RunId, told: &mut Told) -> anyhow::Result<RunDetail> {
    for stage in ["verify", "package", "staging"] {
        let is_over = |run: &RunDetail| {
            run.summary.state.is_over() || run.stages.iter().any(|one| one.name == stage && one.state.is_over())
        };
        let detail = until(&world.client, run, is_over).await?;
        let over = detail.stages.iter().find(|one| one.name == stage);
        if over.is_none_or(|one| one.state != State::Passed) {
            expect_state(&detail, State::Passed)?;
        }
        told.say(&format!("{run} {stage} passed{}", what_was_made(&detail, stage)));
    }
    let detail = until(&world.client, run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    check_tags(world, &detail)?;
    Ok(detail)
}

fn what_was_made(detail: &RunDetail, stage: &str) -> String {
    let jobs = detail.stages.iter().filter(|one| one.name == stage).flat_map(|one| &one.jobs);
    let made = jobs.flat_map(|job| &job.results).map(|result| match result {
        JobResult::Image { repository, digest, tags, .. } => {
            let tags: Vec<_> = tags.iter().map(ToString::to_string).collect();
            format!(": {repository}@{} pushed as {}", digest.short(), tags.join(" and "))
        }
        JobResult::Release { environment, tag, .. } => {
            format!(": {environment} runs {}", tag.as_deref().unwrap_or("it"))
        }
        JobResult::Output { name, value } => format!(", {name} {value}"),
        JobResult::Artifact { name, count, .. } => format!(", artifact {name} ({count} files)"),
        JobResult::Tests { report } => format!(", {} tests", report.tests),
    });
    made.collect()
}

/// The unique tag and the moving one both name what was pushed, and the release runs it.
fn check_tags(world: &World, detail: &RunDetail) -> anyhow::Result<()> {
    let results: Vec<_> = detail.stages.iter().flat_map(|stage| &stage.jobs).flat_map(|job| &job.results).collect();
    let pushed = results.iter().find_map(|result| match result {
        JobResult::Image { digest, .. } => Some(digest.clone()),
        _ => None,
    });
    let pushed = pushed.context("the run made no image")?;
    let tags = world.registry.tags("visitor/desk");
    let own = format!("{}-{}", &detail.summary.commit[..12], detail.summary.number);
    for tag in [own.as_str(), "edge"] {
        if tags.get(tag) != Some(&pushed) {
            return Err(anyhow!("the registry has {:?} under the tag {tag}, and {pushed} was pushed", tags.get(tag)));
        }
    }
    let released = results
        .iter()
        .any(|result| matches!(result, JobResult::Release { image, .. } if image.ends_with(&pushed.to_string())));
    if released { Ok(()) } else { Err(anyhow!("the release does not run what was pushed")) }
}

async fn second_commit(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let repository = world.repository("visitor-desk");
    repository.set_hook(None)?;
    repository.write("desk/greeting.txt", &format!("{SECOND}\n"))?;
    let visitor = Visitor::new(world.application);
    let commit = repository.push("A greeting for tonight")?;
    let (run, noticed) = run_of(&world.client, "visitor-desk", &commit).await?;
    told.say(&format!(
        "pushed without a hook, noticed by comparing branches as {run} {} ms after the push",
        noticed.as_millis()
    ));
    let detail = passes(world, &run, told).await?;
    told.say(&format!("replicas were replaced one by one: {}", scaling(world).await?));
    answers(world, SECOND).await?;
    let asked = visitor.leave().await?;
    let took = detail.summary.ended.zip(detail.summary.started).map_or(0, |(ended, started)| ended.since(started));
    told.say(&format!("answers: {SECOND}; all of {asked} requests during the {} were answered", output::length(took)));
    Ok(())
}

/// How the cluster says it changed the numbers of old and new replicas in the second rollout; each time
/// by one.
async fn scaling(world: &World) -> anyhow::Result<String> {
    let text = get(world.cluster_address, "/api/v1/namespaces/staging/events").await?;
    let events: serde_json::Value = serde_json::from_str(&text)?;
    let mut moves = Vec::new();
    for event in events["items"].as_array().into_iter().flatten().filter(|event| event["reason"] == "ScalingReplicaSet")
    {
        let words: Vec<_> = event["message"].as_str().unwrap_or_default().split(' ').collect();
        let [_, direction, .., from, _, to] = words[..] else { continue };
        let order: u64 =
            event["metadata"]["resourceVersion"].as_str().and_then(|order| order.parse().ok()).unwrap_or(0);
        moves.push((order, direction.to_owned(), from.parse::<i64>().unwrap_or(0), to.parse::<i64>().unwrap_or(0)));
    }
    moves.sort();
    // The first made the application's replicas where there were none.
    let second = moves.get(1..).unwrap_or_default();
    let step = |(_, direction, from, to): &(u64, String, i64, i64)| {
        let age = if direction == "up" { "new" } else { "old" };
        if (from - to).abs() == 1 {
            Ok(format!("{age} {from} to {to}"))
        } else {
            Err(anyhow!("{age} went from {from} to {to} at once"))
        }
    };
    let told = second.iter().map(step).collect::<Result<Vec<_>, _>>()?;
    if told.len() < 4 { Err(anyhow!("the cluster tells of {} steps only", told.len())) } else { Ok(told.join(", ")) }
}

/// Runs this same program as a person would; answers what it printed.
pub(super) async fn pondrix(world: &World, arguments: &[&str]) -> anyhow::Result<String> {
    pondrix_in(world, &world.folder, arguments, "").await
}

/// The same, in a folder, with something to read on its standard input.
pub(super) async fn pondrix_in(
    world: &World,
    folder: &Path,
    arguments: &[&str],
    input: &str,
) -> anyhow::Result<String> {
    let doing = || format!("pondrix {}", arguments.join(" "));
    let program = std::env::current_exe().with_context(doing)?;
    let mut command = tokio::process::Command::new(program);
    command.as_std_mut().without_terminal();
    let mut child = command
        .args(arguments)
        .current_dir(folder)
        .env("PONDRIX_URL", &world.server_address)
        .env("PONDRIX_TOKEN", &world.admin_token)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .with_context(doing)?;
    if let Some(mut stdin) = child.stdin.take() {
        // What does not read does not need to.
        let _ = stdin.write_all(input.as_bytes()).await;
    }
    let output = child.wait_with_output().await.with_context(doing)?;
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    if output.status.success() {
        return Ok(said);
    }
    Err(anyhow!("{}: {said}{}", doing(), String::from_utf8_lossy(&output.stderr)))
}

async fn failing_commit(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let repository = world.repository("visitor-desk");
    let before = world.registry.tags("visitor/desk");
    repository.write("desk/hours.txt", "Monday     closed\n")?;
    let commit = repository.push("Shorter hours")?;
    let (run, _) = run_of(&world.client, "visitor-desk", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Failed)?;
    let begun: Vec<_> =
        detail.stages.iter().filter(|stage| stage.state != State::Skipped).map(|stage| stage.name.as_str()).collect();
    if begun != ["verify"] {
        return Err(anyhow!("{run} should have stopped at verify, and came to {}", begun.join(", ")));
    }
    if world.registry.tags("visitor/desk") != before {
        return Err(anyhow!("a failed run pushed something"));
    }
    answers(world, SECOND).await?;
    told.say(&format!(
        "{run} failed at verify; nothing was built, pushed or rolled out; the application still answers: {SECOND}"
    ));
    let shown = pondrix(world, &["show", &run.to_string()]).await?;
    for wanted in ["./test.sh: exit status 1", "not ok: the hours name 1 days of 7"] {
        if !shown.contains(wanted) {
            return Err(anyhow!("`pondrix show` does not say `{wanted}`:\n{shown}"));
        }
    }
    told.say("`pondrix show` names the failing step and its last lines:");
    let from = shown.lines().position(|line| line.contains("verify/unit:")).unwrap_or(0);
    shown.lines().skip(from).for_each(|line| output::line(&format!("             {line}")));
    Ok(())
}

/// A pipeline of one step that never ends by itself, and starts more that do not either.
fn endless(time: &str, mark: &str) -> String {
    let step = format!("(sleep {mark} &); echo begun; trap '' TERM; sleep {mark}; sleep {mark}");
    format!(
        "start commit=\"main\"\nstage \"verify\" {{\n    job \"labels\" {{\n        container \"{REGISTRY}/base/shell:1\"\n        \
         limit time=\"{time}\"\n        step \"{step}\"\n    }}\n}}\n"
    )
}

async fn push_endless(world: &World, time: &str, mark: &str, message: &str) -> anyhow::Result<RunId> {
    let repository = world.repository("plant-labels");
    repository.write("pondrix.kdl", &endless(time, mark))?;
    let commit = repository.push(message)?;
    let (run, _) = run_of(&world.client, "plant-labels", &commit).await?;
    first_text(&world.client, &run, "verify/labels").await?;
    Ok(run)
}

/// How many processes such a step has, a moment after it said that it has begun.
const ENDLESS: usize = 2;

/// Waits until so many processes of a job are there. None are to be left at once where none are wanted.
async fn expect_processes(mark: &str, wanted: usize) -> anyhow::Result<()> {
    let since = Instant::now();
    loop {
        let count = processes_with(mark);
        if count == wanted {
            return Ok(());
        }
        if wanted == 0 || since.elapsed() > Duration::from_secs(60) {
            return Err(anyhow!("{count} processes of the job are alive, and not {wanted}"));
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

async fn stop_leaves_nothing(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let mark = format!("{}.071", 100_000 + std::process::id());
    let run = push_endless(world, "5m", &mark, "A check that never ends").await?;
    expect_processes(&mark, ENDLESS).await?;
    pondrix(world, &["stop", &run.to_string()]).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Stopped)?;
    expect_processes(&mark, 0).await?;
    told.say(&format!("`pondrix stop {run}`: {ENDLESS} processes before, none after"));
    Ok(())
}

async fn limit_leaves_nothing(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let mark = format!("{}.072", 100_000 + std::process::id());
    let run = push_endless(world, "2s", &mark, "The same, with a limit of 2 s").await?;
    let alive = checks::processes_with(&mark);
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Failed)?;
    let what = detail.failure.as_ref().map(|failure| failure.what.clone()).unwrap_or_default();
    if !what.contains("out of time") {
        return Err(anyhow!("{run} should be out of time: {what}"));
    }
    expect_processes(&mark, 0).await?;
    told.say(&format!("{run} over its limit: {alive} processes before, none after"));
    Ok(())
}
