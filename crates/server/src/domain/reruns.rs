//! Reruns of earlier runs.

use std::sync::Arc;

use pondrix_core::State;
use pondrix_core::pipeline::StartKind;
use pondrix_core::run::Event;
use pondrix_core::run::Run;

use super::{Asker, Engine, LiveRun, Started};
use crate::store::{NewRun, Project, StoreError};

impl Engine {
    /// Does again what did not pass in a run, while what passed keeps its results; or everything.
    pub(crate) async fn rerun(
        self: &Arc<Self>,
        project: &Project,
        earlier: &LiveRun,
        all: bool,
        by: &Asker,
    ) -> Result<Started, StoreError> {
        let facts = &earlier.row.facts;
        let run = earlier.now();
        if !earlier.row.faults.is_empty() {
            let why = format!("the pipeline file of {} is faulty; correct it and commit", facts.id);
            return Ok(Started::Nothing(why));
        }
        if !run.state.is_over() {
            let why = format!("{} goes on; stop it first, or wait: pondrix stop '{}'", facts.id, facts.id);
            return Ok(Started::Nothing(why));
        }
        let carried = if all { Vec::new() } else { carried(earlier, &run) };
        if !all && run.jobs().all(|job| matches!(job.state, State::Passed | State::Skipped) && !job.barred) {
            return Ok(Started::Nothing(format!(
                "every job of {} passed; to run everything again: pondrix rerun '{}' --all",
                facts.id, facts.id
            )));
        }
        let summary = &earlier.row.summary;
        let new = NewRun {
            start: StartKind::Rerun,
            branch: facts.branch.clone(),
            tag: facts.tag.clone(),
            inputs: facts.inputs.clone(),
            commit: facts.commit.clone(),
            commit_time: facts.commit_time,
            title: summary.title.clone(),
            author: summary.author.clone(),
            plan: earlier.row.plan.clone(),
            faults: Vec::new(),
            templates: earlier.row.templates.clone(),
            rerun_of: Some(earlier.row.id),
            files: earlier.row.files.clone(),
            by: Some(by.name.clone()),
        };
        Ok(Started::Run(Box::new(self.admit(project.id, new, carried, |_| Ok(())).await?)))
    }
}

/// What passed in an earlier run. An approval is asked for again where anything of its stage is done again.
fn carried(earlier: &LiveRun, run: &Run) -> Vec<Event> {
    let passed = run.jobs().filter(|job| job.state == State::Passed);
    passed
        .map(|job| Event::Carried {
            job: job.key.clone(),
            from: earlier.row.facts.id.clone(),
            results: job.results.clone(),
        })
        .collect()
}
