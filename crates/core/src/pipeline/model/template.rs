//! Templates: parts of pipelines that a platform team keeps in a repository of its own.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::id::is_plain_name;

/// Which template, and which version of it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct TemplateName {
    /// Its name: that of its file, without the ending.
    pub name: String,
    /// The project whose repository has it.
    pub project: String,
    /// The folder in that repository; empty for its root.
    pub folder: String,
    /// A tag, a branch or a commit of that repository.
    pub version: String,
}

/// A part of a template's name that cannot be what it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateNameError {
    /// Its own name.
    #[error("`{0}` cannot be a template's name")]
    Name(String),
    /// The project.
    #[error("`{0}` cannot be a project's name")]
    Project(String),
    /// The folder.
    #[error("`{0}` is not a folder inside the repository")]
    Folder(String),
    /// The version.
    #[error("`{0}` cannot be a version: it is a tag, a branch or a commit of the project's repository")]
    Version(String),
}

/// Why a template cannot be used, as whoever looked for it says it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NoTemplate(pub String);

/// The templates that a pipeline file uses: the text of each, or why there is none.
pub type Templates = BTreeMap<TemplateName, Result<String, NoTemplate>>;

impl TemplateName {
    /// A name, and where it is from.
    ///
    /// # Errors
    /// Which of its parts cannot be what it is.
    pub fn new(name: &str, project: &str, folder: &str, version: &str) -> Result<Self, TemplateNameError> {
        if !is_plain_name(name) {
            return Err(TemplateNameError::Name(name.to_owned()));
        }
        if !is_plain_name(project) {
            return Err(TemplateNameError::Project(project.to_owned()));
        }
        if folder.starts_with('/') || folder.split('/').any(|part| part == "..") {
            return Err(TemplateNameError::Folder(folder.to_owned()));
        }
        if version.is_empty() || version.starts_with('-') || version.contains(char::is_whitespace) {
            return Err(TemplateNameError::Version(version.to_owned()));
        }
        let folder = folder.trim_end_matches('/').to_owned();
        Ok(Self { name: name.to_owned(), project: project.to_owned(), folder, version: version.to_owned() })
    }

    /// The file's path in its repository.
    #[must_use]
    pub fn path(&self) -> String {
        let folder = if self.folder.is_empty() { String::new() } else { format!("{}/", self.folder) };
        format!("{folder}{}.kdl", self.name)
    }
}

impl TemplateName {
    /// The project and the version in a name as it is shown; nothing for a text that is none.
    #[must_use]
    pub fn project_and_version(shown: &str) -> Option<(&str, &str)> {
        let (project, rest) = shown.split_once('/')?;
        // A name is plain, and so the first `@` behind a file's ending is the one in front of the version.
        let (_, version) = rest.split_once(".kdl@")?;
        Some((project, version))
    }
}

/// As messages name it: `platform/templates/server.kdl@2`.
impl fmt::Display for TemplateName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}@{}", self.project, self.path(), self.version)
    }
}
