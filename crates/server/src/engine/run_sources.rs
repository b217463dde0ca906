//! The files of a run: those of its commit, or those that are tried.

use pondrix_core::work::RunFacts;

use super::Engine;
use crate::git::Repository;
use crate::store::{self, RunRow};

impl Engine {
    async fn repository_of(&self, facts: &RunFacts) -> Result<Repository, String> {
        let name = facts.id.project.clone();
        let project = self.store.read(move |c| store::project(c, name.as_str())).await;
        let project = project.map_err(|error| error.to_string())?.ok_or("the project is gone")?;
        Ok(self.repository(&project))
    }

    /// The names of all files of a run.
    ///
    /// # Errors
    /// In words, when they cannot be told.
    pub(crate) async fn file_names(&self, row: &RunRow) -> Result<Vec<String>, String> {
        let facts = &row.facts;
        if let Some(files) = &row.files {
            return self.tries.names(files).await.map_err(|error| error.to_string());
        }
        let repository = self.repository_of(facts).await?;
        repository.file_names(&facts.commit).await.map_err(|error| error.to_string())
    }

    /// A file of a run; nothing when there is none of this name.
    ///
    /// # Errors
    /// In words, when it cannot be read.
    pub(crate) async fn file(&self, row: &RunRow, path: &str) -> Result<Option<String>, String> {
        let facts = &row.facts;
        if let Some(files) = &row.files {
            return self.tries.file(files, path).await.map_err(|error| error.to_string());
        }
        let repository = self.repository_of(facts).await?;
        repository.file(&facts.commit, path).await.map_err(|error| error.to_string())
    }
}
