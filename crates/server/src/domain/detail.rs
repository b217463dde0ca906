//! What people see of a run.

use pondrix_api::{FailureView, RunDetail, RunSummary, StageView};
use pondrix_core::State;
use pondrix_core::run::{JobRun, Run, StepRun};

use super::following::is_waiting;
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

/// The same, of a run that stands so.
pub(super) fn summary_of(live: &LiveRun, run: &Run) -> RunSummary {
    if live.row.faults.is_empty() { live.summary(&summary_row(run)) } else { live.row.summary.clone() }
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
        let gates = || stage.gates.iter().map(|gate| gate.environment.as_str()).collect::<Vec<_>>().join(" and ");
        let question = stage.approval.as_ref().map(|approval| approval.question.clone());
        return Some(format!("{}: {}", stage.name, question.unwrap_or_else(|| format!("Roll out to {}?", gates()))));
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
        let seen = live.watch().borrow().clone();
        self.detail_as(live, &seen).await
    }

    /// A run, whole, as it was seen.
    pub(super) async fn detail_as(&self, live: &LiveRun, seen: &Seen) -> RunDetail {
        let run = &*seen.run;
        let mut stages = StageView::all(run);
        let waiting: Vec<_> = run.jobs().filter(|job| is_waiting(job)).collect();
        let reasons = self.why_waiting(live, &waiting).await;
        let views = stages.iter_mut().flat_map(|stage| &mut stage.jobs);
        let waiting = views.zip(run.jobs()).filter(|(_, job)| is_waiting(job)).map(|(view, _)| view);
        for (view, reason) in waiting.zip(reasons) {
            view.reason = reason;
        }
        RunDetail {
            summary: summary_of(live, run),
            stages,
            faults: live.row.faults.clone(),
            missing: run.missing.clone(),
            stopped_by: run.stopped_by.clone(),
            failure: self.failure(live, run).await,
            templates: live.row.templates.clone(),
            version: seen.version,
        }
    }

    /// Why jobs of a run wait, of each.
    pub(super) async fn why_waiting(&self, live: &LiveRun, jobs: &[&JobRun]) -> Vec<Option<String>> {
        if jobs.is_empty() {
            return Vec::new();
        }
        let keys = jobs.iter().map(|job| job.key.clone()).collect();
        self.scheduler.why_waiting(live.row.facts.id.clone(), keys).await
    }

    /// What broke in a run.
    pub(super) async fn failure(&self, live: &LiveRun, run: &Run) -> Option<FailureView> {
        let (job, step) = run.first_failure()?;
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
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use pondrix_core::Time;
    use pondrix_core::pipeline::{self, StartKind};
    use pondrix_core::plan::{Plan, Start};
    use pondrix_core::run::Event;

    use super::*;

    #[test]
    fn lists_name_the_first_jobs_that_run_and_count_the_others() {
        let text = "start commit=\"main\"\nstage \"verify\" {\n job \"unit\" {\n matrix { n \"1\" \"2\" \"3\" \"4\" \"5\" }\n \
                    container \"garden.test/base/shell:1\"\n step \"true\"\n }\n}\n";
        let start = Start {
            kind: StartKind::Commit,
            branch: "main".to_owned(),
            tag: None,
            changed: None,
            inputs: BTreeMap::new(),
        };
        let mut run = Run::new(&Plan::new(&pipeline::read(text).unwrap(), &start));
        let now = Time::from_millis(0);
        for event in [Event::PreflightBegan, Event::Began] {
            run.apply(&event, now).unwrap();
        }
        let jobs: Vec<_> = run.jobs().map(|job| job.key.clone()).collect();
        let mut notes = Vec::new();
        for job in jobs {
            run.apply(&Event::JobTaken { job, runner: "wren".to_owned() }, now).unwrap();
            notes.extend(note(&run));
        }
        let named = "verify/unit:1, verify/unit:2, verify/unit:3";
        assert_eq!(notes[0], "verify/unit:1");
        assert_eq!(notes[2..], [named.to_owned(), format!("{named}, and 1 more"), format!("{named}, and 2 more")]);
    }
}
