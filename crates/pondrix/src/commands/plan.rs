//! `pondrix plan`

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use pondrix_api::{PlanView, PlannedJobView};
use pondrix_core::pipeline::{self, FILE_NAME, StartKind};
use pondrix_core::plan::{self, Plan as CorePlan, Start};

use crate::cli::Global;
use crate::failure::{Failure, Outcome, USAGE};
use crate::shared::inputs::Inputs;
use crate::shared::pipeline_file;
use crate::{git, output};

/// Show what a start would run, and why.
///
/// Stages, jobs, what is left out. Needs no server but for templates, and starts nothing.
#[derive(Debug, Args)]
pub(crate) struct Plan {
    /// The file, or `-` for standard input.
    #[arg(default_value = FILE_NAME, value_name = "FILE")]
    file: PathBuf,
    /// The branch; the one that is checked out by default.
    #[arg(long, value_name = "BRANCH", conflicts_with = "tag")]
    branch: Option<String>,
    /// The tag, of a run that a tag starts.
    #[arg(long, value_name = "TAG")]
    tag: Option<String>,
    /// Why it would start: commit, schedule, base-moved, manual, try or rerun.
    #[arg(long, value_name = "START", default_value = "commit")]
    start: StartKind,
    /// A file that would have changed; may be given several times. Without one, it is taken as unknown,
    /// and every `changed` holds.
    #[arg(long, value_name = "PATH", conflicts_with = "since")]
    changed: Vec<String>,
    /// Take the files that changed since this commit or branch.
    #[arg(long, value_name = "COMMIT")]
    since: Option<String>,
    #[command(flatten)]
    inputs: Inputs,
}

impl Plan {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let (name, text) = pipeline_file::text(&self.file)?;
        let templates = pipeline_file::templates(global, &text).await;
        let pipeline = match pipeline::read_with(&text, &templates) {
            Ok(pipeline) => pipeline,
            Err(faults) => {
                if global.json {
                    output::json(&PlanView::faulty(faults))?;
                } else {
                    pipeline_file::print_faults(&name, &faults);
                }
                return Ok(ExitCode::from(USAGE));
            }
        };
        let branch = match (&self.tag, self.branch) {
            (Some(_), _) => String::new(),
            (None, Some(branch)) => branch,
            (None, None) => git::current_branch().unwrap_or_else(|| "main".to_owned()),
        };
        let changed = match self.since {
            Some(since) => Some(git::changed_since(&since).map_err(|error| Failure::usage(format!("{error:#}")))?),
            None => Some(self.changed).filter(|changed| !changed.is_empty()),
        };
        let mut start = Start { kind: self.start, branch, tag: self.tag, changed, inputs: BTreeMap::new() };
        let mut nothing = match self.start {
            StartKind::Commit | StartKind::Schedule | StartKind::BaseMoved => {
                plan::check_start(&pipeline, &start).err().map(|why| why.to_string())
            }
            StartKind::Manual | StartKind::Try | StartKind::Rerun => None,
        };
        match plan::inputs(&pipeline.inputs, &self.inputs.values()) {
            Ok(inputs) => start.inputs = inputs,
            Err(faults) => nothing = nothing.or_else(|| Some(faults.to_string())),
        }
        let view = PlanView::new(&CorePlan::new(&pipeline, &start), nothing);
        if global.json {
            output::json(&view)?;
        } else {
            print(&start, &view);
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn print(start: &Start, view: &PlanView) {
    let place = start.tag.as_ref().map_or_else(|| format!("branch {}", start.branch), |tag| format!("tag {tag}"));
    let what = match start.kind {
        StartKind::Commit => "A commit",
        StartKind::Schedule => "A moment of a schedule",
        StartKind::BaseMoved => "A base image that moved",
        StartKind::Manual => "A manual start",
        StartKind::Try => "A try",
        StartKind::Rerun => "A rerun",
    };
    output::line(&output::strong(&format!("{what} on {place}")));
    if let Some(nothing) = &view.nothing {
        output::line(&format!("starts nothing: {nothing}"));
    }
    if view.supersede {
        output::line("stops older runs of its branch");
    }
    let mut rows = Vec::new();
    for (number, stage) in (1..).zip(&view.stages) {
        let mut about = Vec::new();
        about.extend(stage.approval.as_ref().map(|question| format!("asks: {}", output::plain(question))));
        about.extend(stage.exclusive.as_ref().map(|lock| format!("one run at a time: {lock}")));
        for (at, job) in stage.jobs.iter().enumerate() {
            let mut row = row(job);
            let title = if at == 0 { output::strong(&format!("{number} {}", stage.name)) } else { String::new() };
            row.insert(0, title);
            if at == 0 && !about.is_empty() {
                let notes = row.last_mut().map(std::mem::take).unwrap_or_default();
                let all: Vec<_> = about.iter().cloned().chain(Some(notes).filter(|notes| !notes.is_empty())).collect();
                row.pop();
                row.push(all.join("; "));
            }
            rows.push(row);
        }
    }
    output::line("");
    output::table(&["STAGE", "JOB", "KIND", "WHAT", "NOTES"], &rows);
}

fn row(job: &PlannedJobView) -> Vec<String> {
    let name = job.job.split_once('/').map_or(job.job.as_str(), |(_, name)| name);
    let after: Vec<_> =
        job.after.iter().map(|key| key.split_once('/').map_or(key.as_str(), |(_, name)| name)).collect();
    let mut notes = Vec::new();
    if let Some(why) = &job.left_out {
        notes.push(format!("left out: {why}"));
    } else {
        notes.extend((!after.is_empty()).then(|| format!("after {}", after.join(", "))));
        notes.extend((job.required_result != "passed").then(|| format!("when result {}", job.required_result)));
        notes.extend(job.pool.as_ref().map(|pool| format!("pool {pool}")));
        notes.extend(job.platform.as_ref().map(|platform| format!("needs a runner for {platform}")));
        notes.extend((!job.tools.is_empty()).then(|| format!("needs {}", job.tools.join(", "))));
        notes.extend((job.retry > 0).then(|| format!("tried again {} times", job.retry)));
        notes.extend(job.may_fail.then(|| "may fail".to_owned()));
        notes.extend(job.locks.iter().map(|lock| format!("one at a time: {lock}")));
    }
    let dimmed = |text: &str| if job.left_out.is_some() { output::faint(text) } else { text.to_owned() };
    vec![dimmed(name), dimmed(&job.kind), dimmed(&output::plain(&job.what)), dimmed(&notes.join("; "))]
}
