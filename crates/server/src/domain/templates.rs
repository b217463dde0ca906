//! The templates that pipelines use, from the repositories of other projects.

use pondrix_api::TemplateUse;
use pondrix_core::ProjectName;
use pondrix_core::access::RefPattern;
use pondrix_core::pipeline::{NoTemplate, TemplateName, Templates};
use pondrix_core::work::RunFacts;
use sha2::{Digest, Sha256};

use super::{Engine, Standing};
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
    project: i64,
    named_by: NamedBy,
}

/// What a version was found by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum NamedBy {
    Tag,
    Branch,
    /// Its first digits, or all of them.
    Commit,
}

/// Whom templates are looked up for.
#[derive(Clone, Debug)]
pub(crate) struct Taker {
    /// Whether it is a run of a protected ref: whoever may move what it names would write what it does.
    pub(crate) is_trusted: bool,
    /// Whether it is to be run, and not looked at only.
    pub(crate) runs: bool,
    /// Its own project, whose protected refs it may name.
    pub(crate) project: ProjectName,
    pub(crate) protected: Vec<RefPattern>,
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
    /// A protected run names a branch, or some digits.
    #[error(
        "`{version}` of {project} may mean another commit tomorrow, and a run of a protected ref takes none that somebody \
         else may change: name a tag, or the whole commit, which is {commit} now"
    )]
    Moves { project: ProjectName, version: String, commit: String },
    /// A tag is another one than it was.
    #[error(
        "the tag `{tag}` of {project} was {was} when a protected run first used it, and is {is} now: name another tag, or the \
         whole commit"
    )]
    Moved { project: ProjectName, tag: String, was: String, is: String },
    /// The repository does not give it.
    #[error("{0}")]
    Unread(String),
}

impl Engine {
    /// Whom the templates are for of a start of a project.
    pub(super) async fn taker(&self, project: &ProjectName, facts: &RunFacts, runs: bool) -> Result<Taker, StoreError> {
        let name = project.to_string();
        let standing = self.store.read(move |c| Standing::read(c, &name, None)).await?;
        let candidate = standing.candidate(facts, self.is_in_ref(facts).await?);
        let (is_trusted, protected) = (candidate.is_trusted(), candidate.protected.to_vec());
        Ok(Taker { is_trusted, runs, project: project.clone(), protected })
    }

    /// Looks up the templates that a pipeline file uses. That there is none is told where it is used.
    pub(crate) async fn templates(&self, uses: Vec<TemplateName>, taker: &Taker) -> Result<Found, StoreError> {
        let mut found = Found::default();
        for name in uses {
            let template = match self.template(&name).await? {
                Ok(template) => self.settled(&name, template, taker).await?,
                Err(error) => Err(error),
            };
            let text = match template {
                Ok(FoundTemplate { text, commit, .. }) => {
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

    /// A template, where whoever takes it may take it by this name.
    async fn settled(
        &self,
        name: &TemplateName,
        template: FoundTemplate,
        taker: &Taker,
    ) -> Result<Result<FoundTemplate, TemplateError>, StoreError> {
        let FoundTemplate { project, named_by, .. } = template;
        let (version, commit) = (name.version.clone(), template.commit.clone());
        let tag = Some(version.as_str()).filter(|_| named_by == NamedBy::Tag);
        // What its own project protects is as good as what the run carries.
        let is_own = name.project == taker.project.as_str()
            && taker.protected.iter().any(|pattern| pattern.matches(&version, tag));
        if !taker.is_trusted || is_own || version == commit {
            return Ok(Ok(template));
        }
        let giver = || name.project.parse::<ProjectName>().unwrap_or_else(|_| taker.project.clone());
        if named_by != NamedBy::Tag {
            return Ok(Err(TemplateError::Moves { project: giver(), version, commit }));
        }
        let (tag, runs) = (version.clone(), taker.runs);
        let (is, asked) = (commit.clone(), tag.clone());
        let was = match runs {
            true => {
                let pin = move |c: &rusqlite::Connection| {
                    store::pin(c, project, &asked, &is)?;
                    store::pinned(c, project, &asked)
                };
                self.store.write(pin).await?
            }
            false => self.store.read(move |c| store::pinned(c, project, &asked)).await?,
        };
        Ok(match was.filter(|was| *was != commit) {
            None => Ok(template),
            Some(was) => Err(TemplateError::Moved { project: giver(), tag, was, is: commit }),
        })
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
            let tag = refs.tags.get(&version).map(|commit| (commit.clone(), NamedBy::Tag));
            let commit = tag.or_else(|| Some((refs.branches.get(&version)?.clone(), NamedBy::Branch)));
            Ok(Some((project, open, commit)))
        };
        let Some((project, open, commit)) = self.store.read(look).await? else {
            return Ok(Err(TemplateError::NoProject(name.project.clone())));
        };
        if !open {
            return Ok(Err(TemplateError::GivesNone(project.name)));
        }
        let repository = self.repository(&project);
        let (commit, named_by) = match commit {
            Some(found) => found,
            None => match repository.commit(&name.version).await {
                Some(commit) => (commit, NamedBy::Commit),
                None => {
                    let version = name.version.clone();
                    return Ok(Err(TemplateError::NoVersion { project: project.name, version }));
                }
            },
        };
        Ok(match repository.file(&commit, &name.path()).await {
            Ok(Some(text)) => Ok(FoundTemplate { text, commit, project: project.id, named_by }),
            Ok(None) => {
                let (path, version) = (name.path(), name.version.clone());
                Err(TemplateError::NoFile { project: project.name, path, version })
            }
            Err(error) => Err(TemplateError::Unread(error.to_string())),
        })
    }
}
