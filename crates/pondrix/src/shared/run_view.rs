//! A run, as it is shown whole.

use std::collections::BTreeMap;

use pondrix_api::{ApprovalView, Client, JobView, RunDetail};
use pondrix_core::State;
use pondrix_core::junit::Report;
use pondrix_core::run::{JobResult, JobUsage};

use crate::output;

/// The tests that are flaky over the runs of a project, by job.
type Flaky = BTreeMap<String, Vec<String>>;

/// The flaky tests of every job of a run that reported tests, as far as the server tells them.
async fn flaky(client: &Client, detail: &RunDetail) -> Flaky {
    let mut found = Flaky::new();
    let is_tests = |result: &JobResult| matches!(result, JobResult::Tests { .. });
    for job in detail.stages.iter().flat_map(|stage| &stage.jobs).filter(|job| job.results.iter().any(is_tests)) {
        if let Ok(list) = client.flaky(&detail.summary.project, &job.job).await {
            found.insert(job.job.clone(), list.tests);
        }
    }
    found
}

/// Shows a run, whole.
pub(crate) async fn print(client: &Client, detail: &RunDetail) {
    let flaky = flaky(client, detail).await;
    let run = &detail.summary;
    output::line(&format!(
        "{}  {}  {}",
        output::strong(&run.run),
        output::state(run.state),
        output::took(run.started, run.ended)
    ));
    output::line(&format!(
        "  {} at {} by {}: {}",
        output::place(run),
        &run.commit[..12.min(run.commit.len())],
        output::plain(&run.author),
        output::plain(&run.title)
    ));
    if let Some(number) = run.rerun_of {
        output::line(&format!("  reruns {}#{number}", run.project));
    }
    if let Some(by) = &run.by {
        output::line(&format!("  started by {by}"));
    }
    if let Some(by) = &detail.stopped_by {
        output::line(&format!("  stopped by {by}"));
    }
    for one in &detail.templates {
        let commit = one.commit.get(..12).unwrap_or(&one.commit);
        let changed = one.changed_since.map(|number| format!("; changed since {}#{number}", run.project));
        output::line(&format!("  uses {} at {commit}{}", one.template, changed.unwrap_or_default()));
    }
    for fault in &detail.faults {
        output::line(&format!("\n{}", fault.render(pondrix_core::pipeline::FILE_NAME)));
    }
    if !detail.missing.is_empty() {
        output::line("\nNothing of it ran: something that it needs is not there.");
        for fault in &detail.missing {
            output::line(&format!("{} {}: {}", output::state(State::Failed), fault.job, output::plain(&fault.what)));
            output::line(&format!("  fix: {}", output::plain(&fault.fix)));
        }
        return;
    }
    for stage in &detail.stages {
        output::line(&format!("\n{}  {}", output::strong(&stage.name), output::state(stage.state)));
        if let Some(approval) = &stage.approval {
            print_approval(&run.run, approval);
        }
        for job in &stage.jobs {
            print_job(job);
            for test in flaky.get(&job.job).into_iter().flatten() {
                let about = format!("      flaky: {}, which passed and failed lately", output::plain(test));
                output::line(&output::strong(&about));
            }
        }
    }
    if let Some(failure) = &detail.failure {
        output::line(&format!("\n{} {}: {}", output::state(State::Failed), failure.job, output::plain(&failure.what)));
        for line in &failure.last_lines {
            output::line(&format!("  | {}", output::plain(line)));
        }
        output::line(&format!("  next: {}", failure.next));
    }
}

fn print_approval(run: &str, approval: &ApprovalView) {
    let question = output::plain(&approval.question);
    match (approval.yes, &approval.by) {
        (Some(yes), Some(by)) => {
            let who = if yes && approval.said_yes.len() > 1 { approval.said_yes.join(", ") } else { by.clone() };
            let said = if yes { "yes" } else { "no" };
            output::line(&format!("  {question}  {}", output::faint(&format!("{said}, {}", output::plain(&who)))));
        }
        _ if approval.asked.is_some() => {
            let whose = approval.whose.as_deref().map(|whose| format!("  for {whose} to answer")).unwrap_or_default();
            output::line(&format!("  {question}{}", output::faint(&whose)));
            if !approval.said_yes.is_empty() {
                output::line(&output::faint(&format!(
                    "  yes so far: {}",
                    output::plain(&approval.said_yes.join(", "))
                )));
            }
            output::line(&format!("  answer: pondrix approve '{run}', or pondrix reject '{run}'"));
        }
        _ => {}
    }
}

fn print_job(job: &JobView) {
    let carried = job.state == State::Passed && job.started.is_none();
    let reason = job.reason.as_ref().filter(|_| carried || matches!(job.state, State::Skipped | State::Queued));
    let mut about = reason.map_or_else(|| time_of(job), |reason| output::plain(reason));
    if job.state == State::Queued
        && let Some(queued) = job.queued
    {
        about = format!("{about} (for {})", output::length(output::now().since(queued)));
    }
    if job.may_fail && matches!(job.state, State::Failed | State::Lost) {
        about.push_str("  allowed to fail");
    }
    let name = job.job.split_once('/').map_or(job.job.as_str(), |(_, name)| name);
    output::line(&format!("  {} {name}  {}  {}", job.kind, output::state(job.state), output::faint(&about)));
    for (number, one) in (1..).zip(&job.attempts) {
        let took = output::took(one.started, Some(one.ended));
        let why = one.reason.as_deref().map(output::plain).unwrap_or_default();
        output::line(&format!(
            "    attempt {number} {}  {}",
            output::state(one.state),
            output::faint(&format!("{took} {why}"))
        ));
    }
    for step in job.steps.iter().filter(|step| step.state != State::Skipped && step.state != State::Queued) {
        let end = step
            .end
            .filter(|_| step.state != State::Passed)
            .map(|end| format!("  {}", end.words()))
            .unwrap_or_default();
        let took = output::took(step.started, step.ended);
        let name = output::cut(&output::plain(&step.name), 60);
        output::line(&format!("    {} {name}  {}{end}", output::state(step.state), output::faint(&took)));
    }
    for result in &job.results {
        print_result(result);
    }
    if let Some(usage) = job.usage.as_ref().and_then(usage_words) {
        output::line(&output::faint(&format!("    used {usage}")));
    }
}

/// What a job used, as far as its runner measured it: `48.0 MB of memory, 400 ms of CPU time, …`.
fn usage_words(usage: &JobUsage) -> Option<String> {
    let JobUsage { memory, cpu_millis, processes, read, written } = usage;
    let parts = [
        memory.map(|bytes| format!("{} of memory", output::bytes(bytes))),
        cpu_millis.map(|millis| format!("{} of CPU time", output::length(millis))),
        processes.map(|count| format!("{count} processes")),
        read.map(|bytes| format!("{} read", output::bytes(bytes))),
        written.map(|bytes| format!("{} written", output::bytes(bytes))),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// How long a job took or has taken, and what of that was not its steps' time.
fn time_of(job: &JobView) -> String {
    let took = output::took(job.started, job.ended);
    let phases = job.phases(output::now());
    let parts: Vec<_> = phases
        .iter()
        .filter(|(phase, millis)| *phase != "running" && *millis >= PHASE_SHOWN)
        .map(|(phase, millis)| format!("{phase} {}", output::length(*millis)))
        .collect();
    if took.is_empty() || parts.is_empty() { took } else { format!("{took} ({})", parts.join(", ")) }
}

/// How long a part of a job that is not its steps has to last to be told, in milliseconds.
const PHASE_SHOWN: u64 = 100;

fn print_result(result: &JobResult) {
    match result {
        JobResult::Image { repository, digest, tags, base, platforms } => {
            let tags: Vec<_> = tags.iter().map(ToString::to_string).collect();
            // One without tags is part of an index that another job makes.
            let names = if tags.is_empty() { String::new() } else { format!(" as {}", tags.join(", ")) };
            let kinds = if platforms.is_empty() { String::new() } else { format!(", for {}", platforms.join(", ")) };
            output::line(&format!("    {repository}@{}{names}{kinds}", digest.short()));
            if let Some(base) = base {
                output::line(&output::faint(&format!("      on {}@{}", base.name, base.digest.short())));
            }
        }
        JobResult::Release { environment, tag, address, .. } => {
            let tag = tag.as_deref().map(|tag| format!(" {tag}")).unwrap_or_default();
            let address = address.as_deref().map(|address| format!(" at {address}")).unwrap_or_default();
            output::line(&format!("    {environment} runs{tag}{address}"));
        }
        JobResult::Output { name, value } => {
            output::line(&format!("    {name} = {}", output::cut(&output::plain(value), 80)));
        }
        JobResult::Artifact { name, count, bytes, .. } => {
            let about = format!("{count} files, {}", output::bytes(*bytes));
            output::line(&format!("    artifact {name}  {}", output::faint(&about)));
        }
        JobResult::Tests { report } => print_tests(report),
    }
}

fn print_tests(report: &Report) {
    let passed = report.tests.saturating_sub(report.failed + report.skipped);
    let skipped = if report.skipped > 0 { format!(", {} skipped", report.skipped) } else { String::new() };
    output::line(&format!("    tests: {passed} passed, {} failed{skipped}", report.failed));
    for failure in report.failures.iter().take(TESTS_SHOWN) {
        let place = failure.place.as_ref().map(|place| format!(" at {}", output::plain(place))).unwrap_or_default();
        output::line(&format!("      {} {}{place}", output::state(State::Failed), output::plain(&failure.test)));
        output::line(&format!("        {}", output::plain(&failure.message)));
    }
    if report.failures.len() > TESTS_SHOWN {
        output::line(&output::faint(&format!("      and {} more", report.failed as usize - TESTS_SHOWN)));
    }
    if let Some(slow) = report.slowest.first().filter(|slow| slow.millis >= 1000) {
        let about = format!("slowest: {} {}", output::plain(&slow.test), output::length(slow.millis));
        output::line(&output::faint(&format!("      {about}")));
    }
    for words in &report.damage {
        output::line(&format!("      the report is damaged: {}", output::plain(words)));
    }
}

/// How many failed tests are shown with a run.
const TESTS_SHOWN: usize = 8;
