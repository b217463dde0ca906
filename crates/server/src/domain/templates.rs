//! The templates that pipelines use, from the repositories of other projects.

use pondrix_api::TemplateUse;
use pondrix_core::pipeline::{TemplateName, Templates};
use sha2::{Digest, Sha256};

use super::Engine;
use crate::store::{self, StoreError};

/// The templates of a pipeline file, and what is noted of them in a run.
#[derive(Clone, Debug, Default)]
pub(crate) struct Found {
    pub(crate) templates: Templates,
    pub(crate) uses: Vec<TemplateUse>,
}

impl Engine {
    /// Looks up the templates that a pipeline file uses. That there is none is told where it is used.
    pub(crate) async fn templates(&self, uses: Vec<TemplateName>) -> Result<Found, StoreError> {
        let mut found = Found::default();
        for name in uses {
            let text = match self.template(&name).await? {
                Ok((text, commit)) => {
                    let digest = Sha256::digest(&text).iter().map(|byte| format!("{byte:02x}")).collect();
                    found.uses.push(TemplateUse { template: name.to_string(), commit, digest, changed_since: None });
                    Ok(text)
                }
                Err(words) => Err(words),
            };
            found.templates.insert(name, text);
        }
        Ok(found)
    }

    /// A template's text and the commit that it is of; or in words, why there is none.
    pub(crate) async fn template(&self, name: &TemplateName) -> Result<Result<(String, String), String>, StoreError> {
        let (asked, version) = (name.project.clone(), name.version.clone());
        let look = move |c: &rusqlite::Connection| {
            let Some(project) = store::project(c, &asked)? else { return Ok(None) };
            let (open, refs) = (store::has_templates(c, project.id)?, store::refs(c, project.id)?);
            let commit = refs.tags.get(&version).or_else(|| refs.branches.get(&version)).cloned();
            Ok(Some((project, open, commit)))
        };
        let Some((project, open, commit)) = self.store.read(look).await? else {
            return Ok(Err(format!("the server knows no project `{}`", name.project)));
        };
        if !open {
            return Ok(Err(format!(
                "the project `{}` gives none; who keeps it can allow that: pondrix project set {} --templates yes",
                project.name, project.name
            )));
        }
        let repository = self.repository(&project);
        let commit = match commit {
            Some(commit) => commit,
            None => match repository.commit(&name.version).await {
                Some(commit) => commit,
                None => {
                    let words = format!("{} has no tag, branch or commit `{}`", project.name, name.version);
                    return Ok(Err(words));
                }
            },
        };
        Ok(match repository.file(&commit, &name.path()).await {
            Ok(Some(text)) => Ok((text, commit)),
            Ok(None) => Err(format!("{} has no file {} at {}", project.name, name.path(), name.version)),
            Err(error) => Err(error.to_string()),
        })
    }
}
