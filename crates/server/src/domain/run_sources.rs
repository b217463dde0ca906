//! Repositories as they are reached, and the files of a run: those of its commit, or those that are tried.

use std::sync::Arc;

use pondrix_core::work::RunFacts;
use tracing::warn;

use super::Engine;
use super::keys::credential_place;
use crate::ports::git::{Credential, GitError, Repository, Signing, copy_path};
use crate::store::{self, Project, RunRow, StoreError};
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
    /// The repository of a project.
    pub(crate) fn repository(&self, project: &Project) -> Arc<dyn Repository> {
        let name = project.name.as_str();
        let opened = project.credential.as_ref().and_then(|sealed| {
            let opened = self.seal.unseal(&credential_place(name), sealed);
            // Without it the repository refuses, and says so.
            let opened = opened.inspect_err(|error| warn!(project = name, %error, "what signs in there is lost"));
            serde_json::from_slice::<Credential>(&opened.ok()?).ok()
        });
        let known_hosts = self.data.join("known_hosts");
        let signing = Signing { credential: opened, is_trusted: project.is_trusted, known_hosts };
        self.repositories.open(&project.repository, signing, copy_path(&self.data, name))
    }

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
