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

/// The templates that a pipeline file uses: the text of each, or in words why there is none.
pub type Templates = BTreeMap<TemplateName, Result<String, String>>;

impl TemplateName {
    /// A name, and where it is from: `PROJECT@VERSION` or `PROJECT/FOLDER@VERSION`.
    ///
    /// # Errors
    /// In words, how it is to be written.
    pub fn new(name: &str, from: &str) -> Result<Self, String> {
        if !is_plain_name(name) {
            return Err(format!("`{name}` cannot be a template's name"));
        }
        let told = || format!("`{from}` does not say where the template is; write PROJECT/FOLDER@VERSION");
        let (place, version) = from.split_once('@').ok_or_else(told)?;
        let (project, folder) = place.split_once('/').unwrap_or((place, ""));
        let leaves = folder.starts_with('/') || folder.split('/').any(|part| part == "..");
        let is_version = !version.is_empty() && !version.starts_with('-') && !version.contains(char::is_whitespace);
        if !is_plain_name(project) || leaves || !is_version {
            return Err(told());
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

/// As messages name it: `platform/templates/server.kdl@2`.
impl fmt::Display for TemplateName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}@{}", self.project, self.path(), self.version)
    }
}
