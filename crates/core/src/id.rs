//! Names of projects, runs and jobs, checked where they enter.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The name of a project: 1 to 63 of `a-z`, `0-9` and `-`, beginning and ending with a letter or
/// digit, so that it stands unchanged in addresses, image names and Kubernetes labels.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ProjectName(String);

/// A run's name: `PROJECT#NUMBER`, numbered from 1 in its project.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct RunId {
    /// The project.
    pub project: ProjectName,
    /// The number, from 1.
    pub number: u64,
}

/// A job's place in its run: `STAGE/JOB`, unique in the run.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct JobKey(String);

/// Why a text is not a name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Not a project's name.
    #[error("`{0}` cannot be a project's name: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends")]
    Project(String),
    /// Not a run's name.
    #[error("`{0}` is not a run: write PROJECT#NUMBER, as in `visitor-desk#42`")]
    Run(String),
}

/// The rule for names of projects, stages, jobs and environments.
pub(crate) fn is_plain_name(text: &str) -> bool {
    let inner = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    (1..=63).contains(&text.len()) && text.chars().all(inner) && !text.starts_with('-') && !text.ends_with('-')
}

impl ProjectName {
    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for ProjectName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        if is_plain_name(text) { Ok(Self(text.to_owned())) } else { Err(NameError::Project(text.to_owned())) }
    }
}

impl TryFrom<String> for ProjectName {
    type Error = NameError;

    fn try_from(text: String) -> Result<Self, NameError> {
        text.parse()
    }
}

impl From<ProjectName> for String {
    fn from(name: ProjectName) -> Self {
        name.0
    }
}

impl fmt::Display for ProjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl FromStr for RunId {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let fault = || NameError::Run(text.to_owned());
        let (project, number) = text.split_once('#').ok_or_else(fault)?;
        let number = number.parse().ok().filter(|n| *n > 0).ok_or_else(fault)?;
        Ok(Self { project: project.parse().map_err(|_| fault())?, number })
    }
}

impl TryFrom<String> for RunId {
    type Error = NameError;

    fn try_from(text: String) -> Result<Self, NameError> {
        text.parse()
    }
}

impl From<RunId> for String {
    fn from(id: RunId) -> Self {
        id.to_string()
    }
}

impl fmt::Display for RunId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}#{}", self.project, self.number))
    }
}

impl JobKey {
    /// The key of a job in a stage.
    #[must_use]
    pub fn new(stage: &str, job: &str) -> Self {
        Self(format!("{stage}/{job}"))
    }

    /// A key as it came in a request; whether such a job exists is for the run to say.
    #[must_use]
    pub fn from_text(text: &str) -> Self {
        Self(text.to_owned())
    }

    /// The key as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The job's name without its stage.
    #[must_use]
    pub fn job(&self) -> &str {
        self.0.split_once('/').map_or(self.0.as_str(), |(_, job)| job)
    }

    /// The stage's name.
    #[must_use]
    pub fn stage(&self) -> &str {
        self.0.split_once('/').map_or("", |(stage, _)| stage)
    }
}

impl fmt::Display for JobKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_could_leave_a_path_or_an_address_are_refused() {
        for text in ["", "..", "a/b", "A", "-a", "a-", "a b", "ä", &"x".repeat(64)] {
            assert!(text.parse::<ProjectName>().is_err(), "{text:?} was taken for a name");
        }
        assert!("visitor-desk".parse::<ProjectName>().is_ok());
    }

    #[test]
    fn a_run_is_named_by_project_and_number() {
        let id: RunId = "visitor-desk#42".parse().unwrap();
        assert_eq!((id.project.as_str(), id.number), ("visitor-desk", 42));
        assert_eq!(id.to_string(), "visitor-desk#42");
        for text in ["visitor-desk", "#42", "visitor-desk#0", "visitor-desk#x", "A#1"] {
            assert!(text.parse::<RunId>().is_err(), "{text:?} was taken for a run");
        }
    }
}
