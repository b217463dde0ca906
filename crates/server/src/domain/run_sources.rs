//! The files of a run: those of its commit, or those that are tried.

use std::sync::Arc;

use pondrix_core::work::RunFacts;

use super::Engine;
use crate::ports::git::{GitError, Repository};
use crate::store::{self, RunRow, StoreError};
use crate::tries::TryError;

/// Why a run's files cannot be told.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FilesError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the project is gone")]
    ProjectGone,
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Try(#[from] TryError),
}

impl Engine {
    async fn repository_of(&self, facts: &RunFacts) -> Result<Arc<dyn Repository>, FilesError> {
        let name = facts.id.project.clone();
        let project = self.store.read(move |c| store::project(c, name.as_str())).await?;
        Ok(self.repository(&project.ok_or(FilesError::ProjectGone)?))
    }

    /// The names of all files of a run.
    pub(crate) async fn file_names(&self, row: &RunRow) -> Result<Vec<String>, FilesError> {
        let facts = &row.facts;
        if let Some(files) = &row.files {
            return Ok(self.tries.names(files).await?);
        }
        Ok(self.repository_of(facts).await?.file_names(&facts.commit).await?)
    }

    /// A file of a run; nothing when there is none of this name.
    pub(crate) async fn file(&self, row: &RunRow, path: &str) -> Result<Option<String>, FilesError> {
        let facts = &row.facts;
        if let Some(files) = &row.files {
            return Ok(self.tries.file(files, path).await?);
        }
        Ok(self.repository_of(facts).await?.file(&facts.commit, path).await?)
    }
}
