//! The templates that pipelines use, from the repositories of other projects.

use pondrix_api::TemplateUse;
use pondrix_core::ProjectName;
use pondrix_core::pipeline::{NoTemplate, TemplateName, Templates};
use sha2::{Digest, Sha256};

use super::Engine;
use crate::store::{self, StoreError};

/// The templates of a pipeline file, and what is noted of them in a run.
#[derive(Clone, Debug, Default)]
pub(crate) struct Found {
    pub(crate) templates: Templates,
    pub(crate) uses: Vec<TemplateUse>,
}

/// A template's text, and the commit that it is of.
#[derive(Clone, Debug)]
pub(crate) struct FoundTemplate {
    pub(crate) text: String,
    pub(crate) commit: String,
}

/// Why a template cannot be used.
#[derive(Clone, Debug, thiserror::Error)]
pub(crate) enum TemplateError {
    #[error("the server knows no project `{0}`")]
    NoProject(String),
    #[error("the project `{0}` gives none; who keeps it can allow that: pondrix project set {0} --templates yes")]
    GivesNone(ProjectName),
    #[error("{project} has no tag, branch or commit `{version}`")]
    NoVersion { project: ProjectName, version: String },
    #[error("{project} has no file {path} at {version}")]
    NoFile { project: ProjectName, path: String, version: String },
    /// The repository does not give it.
    #[error("{0}")]
    Unread(String),
}

impl Engine {
    /// Looks up the templates that a pipeline file uses. That there is none is told where it is used.
    pub(crate) async fn templates(&self, uses: Vec<TemplateName>) -> Result<Found, StoreError> {
        let mut found = Found::default();
        for name in uses {
            let text = match self.template(&name).await? {
                Ok(FoundTemplate { text, commit }) => {
                    let digest = Sha256::digest(&text).iter().map(|byte| format!("{byte:02x}")).collect();
                    found.uses.push(TemplateUse { template: name.to_string(), commit, digest, changed_since: None });
                    Ok(text)
                }
                Err(error) => Err(NoTemplate(error.to_string())),
            };
            found.templates.insert(name, text);
        }
        Ok(found)
    }

    /// A template as it is now, or why there is none.
    pub(crate) async fn template(
        &self,
        name: &TemplateName,
    ) -> Result<Result<FoundTemplate, TemplateError>, StoreError> {
        let (asked, version) = (name.project.clone(), name.version.clone());
        let look = move |c: &rusqlite::Connection| {
            let Some(project) = store::project(c, &asked)? else { return Ok(None) };
            let (open, refs) = (store::has_templates(c, project.id)?, store::refs(c, project.id)?);
            let commit = refs.tags.get(&version).or_else(|| refs.branches.get(&version)).cloned();
            Ok(Some((project, open, commit)))
        };
        let Some((project, open, commit)) = self.store.read(look).await? else {
            return Ok(Err(TemplateError::NoProject(name.project.clone())));
        };
        if !open {
            return Ok(Err(TemplateError::GivesNone(project.name)));
        }
        let repository = self.repository(&project);
        let commit = match commit {
            Some(commit) => commit,
            None => match repository.commit(&name.version).await {
                Some(commit) => commit,
                None => {
                    let version = name.version.clone();
                    return Ok(Err(TemplateError::NoVersion { project: project.name, version }));
                }
            },
        };
        Ok(match repository.file(&commit, &name.path()).await {
            Ok(Some(text)) => Ok(FoundTemplate { text, commit }),
            Ok(None) => {
                let (path, version) = (name.path(), name.version.clone());
                Err(TemplateError::NoFile { project: project.name, path, version })
            }
            Err(error) => Err(TemplateError::Unread(error.to_string())),
        })
    }
}
