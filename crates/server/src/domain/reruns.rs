//! Reruns of earlier runs.

use std::sync::Arc;

use pondrix_api::TemplateUse;
use pondrix_core::State;
use pondrix_core::pipeline::{StartKind, TemplateName};
use pondrix_core::run::Event;
use pondrix_core::run::Run;
use pondrix_core::work::RunFacts;
use tracing::warn;

use super::{Asker, Engine, LiveRun, Standing, Started};
use crate::store::{self, NewRun, Project, StoreError};

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
        let was_trusted = facts.was_trusted
            && self.is_trusted_still(project, facts).await?
            && self.templates_stand(project, &earlier.row.templates).await?;
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
            was_trusted,
        };
        Ok(Started::Run(Box::new(self.admit(project.id, new, carried, |_| Ok(())).await?)))
    }
}

impl Engine {
    /// Whether a run that was trusted when it was made would be now: its repository is asked what it has. If that does not
    /// answer, what was last fetched decides.
    async fn is_trusted_still(&self, project: &Project, facts: &RunFacts) -> Result<bool, StoreError> {
        if let Err(error) = self.fetch(project).await {
            warn!(run = %facts.id, %error, "the repository could not be fetched before a rerun");
        }
        let (name, is_in_ref) = (project.name.to_string(), self.is_in_ref(facts).await?);
        let standing = self.store.read(move |c| Standing::read(c, &name, None)).await?;
        Ok(standing.candidate(facts, is_in_ref).is_trusted())
    }
}

impl Engine {
    /// Whether each template that a run used is still what its version names, or came before that: the run's plan has the
    /// text of then.
    async fn templates_stand(&self, own: &Project, uses: &[TemplateUse]) -> Result<bool, StoreError> {
        for TemplateUse { template, commit, .. } in uses {
            let Some((project, version)) = TemplateName::project_and_version(template) else { return Ok(false) };
            if version == commit {
                continue;
            }
            let name = project.to_owned();
            let Some(giver) = self.store.read(move |c| store::project(c, &name)).await? else { return Ok(false) };
            let repository = self.repository(&giver);
            // A protected run takes a tag, or what its own project protects.
            let mut stands = repository.contains(&format!("refs/tags/{version}"), commit).await;
            if stands == Ok(false) && giver.id == own.id {
                stands = repository.contains(&format!("refs/heads/{version}"), commit).await;
            }
            match stands {
                Ok(true) => {}
                Ok(false) => return Ok(false),
                Err(error) => {
                    warn!(template, %error, "whether a template stands cannot be found out");
                    return Ok(false);
                }
            }
        }
        Ok(true)
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
