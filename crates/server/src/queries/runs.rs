//! Runs, and projects that have them.

use pondrix_api::RunSummary;
use pondrix_core::RunId;

use super::Queries;
use crate::store::{self, Project, ProjectRow, RunFilter, StoreError};

impl Queries {
    /// The project of a name.
    pub(crate) async fn project(&self, name: &str) -> Result<Option<Project>, StoreError> {
        let name = name.to_owned();
        self.records.read(move |c| store::project(c, &name)).await
    }

    /// All projects, by name.
    pub(crate) async fn projects(&self) -> Result<Vec<ProjectRow>, StoreError> {
        self.records.read(store::projects).await
    }

    /// Runs in the order in which they began, the newest first: those before one, at most so many.
    pub(crate) async fn runs(
        &self,
        filter: RunFilter,
        before: Option<i64>,
        most: usize,
    ) -> Result<Vec<(i64, RunSummary)>, StoreError> {
        self.records.read(move |c| store::page(c, &filter, before, most)).await
    }

    /// The same of any of these projects.
    pub(crate) async fn runs_of(
        &self,
        projects: Vec<String>,
        filter: RunFilter,
        before: Option<i64>,
        most: usize,
    ) -> Result<Vec<(i64, RunSummary)>, StoreError> {
        let question = move |c: &rusqlite::Connection| {
            // The newest of all are among the newest of each, which an index has in order.
            let mut all = Vec::new();
            for project in projects {
                all.extend(store::page(c, &RunFilter { project: Some(project), ..filter.clone() }, before, most)?);
            }
            all.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
            all.truncate(most);
            Ok(all)
        };
        self.records.read(question).await
    }

    /// Whether there was such a run, which was not kept.
    pub(crate) async fn was_removed(&self, run: &RunId) -> Result<bool, StoreError> {
        let run = run.clone();
        self.records.read(move |records| store::was_removed(records, &run)).await
    }

    /// The newest event, and the runs that changed after one. Nothing has changed after none.
    pub(crate) async fn changed_after(&self, event: Option<i64>) -> Result<(i64, Vec<RunSummary>), StoreError> {
        let question = move |c: &rusqlite::Connection| match event {
            Some(event) => store::changed_after(c, event),
            None => Ok((store::newest_event(c)?, Vec::new())),
        };
        self.records.read(question).await
    }
}
