//! What people see of a run.

use pondrix_api::{FailureView, RunDetail, StageView};
use pondrix_core::run::{JobRun, Run, StepRun};
use pondrix_core::{JobKey, State};

use super::live::Seen;
use super::{Engine, LiveRun};
use crate::store::SummaryRow;

/// How many lines of a failed step's log are shown with the run.
const LINES_SHOWN: usize = 12;

/// How many of the jobs that run are named in lists: it is written with every event.
const MOST_NAMED: usize = 3;

/// What lists show of a run.
pub(super) fn summary_row(run: &Run) -> SummaryRow {
    SummaryRow { state: run.state, note: note(run), started: run.started, ended: run.ended }
}

fn note(run: &Run) -> Option<String> {
    if let Some(fault) = run.missing.first() {
        let more = run.missing.len() - 1;
        return Some(if more == 0 { fault.what.clone() } else { format!("{}, and {more} more", fault.what) });
    }
    if let Some((job, step)) = run.first_failure() {
        return Some(format!("{}: {}", job.key, what(job, step.map(|(_, step)| step))));
    }
    if let Some(by) = run.stopped_by.as_ref().filter(|_| run.state == State::Stopped) {
        return Some(format!("stopped by {by}"));
    }
    if let Some(stage) = run.stages.iter().find(|stage| stage.state == State::Waiting) {
        return stage.approval.as_ref().map(|approval| format!("{}: {}", stage.name, approval.question));
    }
    if run.state.is_over() {
        return None;
    }
    let running = run.stages.iter().flat_map(|stage| stage.jobs.running());
    let named: Vec<_> = running.take(MOST_NAMED).map(|job| job.key.as_str()).collect();
    let more = run.stages.iter().map(|stage| stage.jobs.running_count()).sum::<usize>() - named.len();
    let more = if more == 0 { String::new() } else { format!(", and {more} more") };
    (!named.is_empty()).then(|| named.join(", ") + &more)
}

/// What broke, in words.
fn what(job: &JobRun, step: Option<&StepRun>) -> String {
    let end = step.and_then(|step| Some(format!("{}: {}", step.name, step.end?.words())));
    let first_line = job.reason.as_ref().and_then(|reason| reason.lines().next()).map(str::to_owned);
    match (job.kind, end, first_line) {
        // The steps of these are the server's own: the reason says more than an exit status.
        ("image" | "rollout", Some(_), Some(reason)) => {
            format!("{}: {reason}", step.map_or("", |step| step.name.as_str()))
        }
        (_, Some(end), Some(reason)) => format!("{end}; {reason}"),
        (_, Some(end), None) => end,
        (_, None, Some(reason)) => reason,
        (_, None, None) => job.state.to_string(),
    }
}

impl Engine {
    /// A run, whole.
    pub(crate) async fn detail(&self, live: &LiveRun) -> RunDetail {
        let Seen { run, version } = live.watch().borrow().clone();
        let run = &*run;
        let summary =
            if live.row.faults.is_empty() { live.summary(&summary_row(run)) } else { live.row.summary.clone() };
        let failure = match run.first_failure() {
            None => None,
            Some((job, step)) => {
                let log = self.logs.log(&live.row.facts.id, &job.key);
                let (start, end) = step.map_or((0, None), |(_, step)| (step.log_start, step.log_end));
                Some(FailureView {
                    job: job.key.to_string(),
                    step: step.map(|(_, step)| step.name.clone()),
                    what: what(job, step.map(|(_, step)| step)),
                    last_lines: log.last_lines(start, end, LINES_SHOWN).await,
                    next: format!("pondrix log '{}' {}", live.row.facts.id, job.key),
                })
            }
        };
        let mut stages = StageView::all(run);
        let jobs = stages.iter_mut().flat_map(|stage| &mut stage.jobs);
        let waiting: Vec<_> = jobs.filter(|job| job.state == State::Queued && job.queued.is_some()).collect();
        if !waiting.is_empty() {
            let keys = waiting.iter().map(|job| JobKey::from_text(&job.job)).collect();
            let reasons = self.scheduler.why_waiting(live.row.facts.id.clone(), keys).await;
            for (job, reason) in waiting.into_iter().zip(reasons) {
                job.reason = reason;
            }
        }
        RunDetail {
            summary,
            stages,
            faults: live.row.faults.clone(),
            missing: run.missing.clone(),
            stopped_by: run.stopped_by.clone(),
            failure,
            templates: live.row.templates.clone(),
            version,
        }
    }
}
