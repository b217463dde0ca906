//! How projects, people and teams are named where rights are given.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::id::is_plain_name;

/// For which projects something holds: one by its name, those whose names begin so (`garden-*`), or all (`*`).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Projects(Kind);

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Kind {
    /// Names that begin so; all, where that is nothing.
    Beginning(String),
    /// One name.
    Name(String),
}

/// A text that names no projects.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` names no projects: write one's name, the beginning of names as in `garden-*`, or `*` for all")]
pub struct ProjectsError(String);

impl Projects {
    /// All projects.
    #[must_use]
    pub const fn all() -> Self {
        Self(Kind::Beginning(String::new()))
    }

    /// The one project, where it holds for no more.
    #[must_use]
    pub fn one(&self) -> Option<&str> {
        match &self.0 {
            Kind::Name(name) => Some(name),
            Kind::Beginning(_) => None,
        }
    }

    /// Whether it holds for all.
    #[must_use]
    pub fn is_all(&self) -> bool {
        matches!(&self.0, Kind::Beginning(beginning) if beginning.is_empty())
    }

    /// Whether it holds for a project.
    #[must_use]
    pub fn matches(&self, project: &str) -> bool {
        match &self.0 {
            Kind::Beginning(beginning) => project.starts_with(beginning),
            Kind::Name(name) => project == name,
        }
    }

    /// Whether it holds wherever the other does.
    #[must_use]
    pub fn covers(&self, other: &Self) -> bool {
        match (&self.0, &other.0) {
            (Kind::Beginning(own), Kind::Beginning(other) | Kind::Name(other)) => other.starts_with(own),
            (Kind::Name(own), Kind::Name(other)) => own == other,
            (Kind::Name(_), Kind::Beginning(_)) => false,
        }
    }

    /// Whether there may be a project for which both hold.
    #[must_use]
    pub fn overlaps(&self, other: &Self) -> bool {
        self.covers(other) || other.covers(self)
    }
}

impl FromStr for Projects {
    type Err = ProjectsError;

    fn from_str(text: &str) -> Result<Self, ProjectsError> {
        let fault = || ProjectsError(text.to_owned());
        match text.strip_suffix('*') {
            Some("") => Ok(Self::all()),
            // A beginning may end with a dash, as no name does.
            Some(beginning) if is_plain_name(beginning.strip_suffix('-').unwrap_or(beginning)) => {
                Ok(Self(Kind::Beginning(beginning.to_owned())))
            }
            None if is_plain_name(text) => Ok(Self(Kind::Name(text.to_owned()))),
            _ => Err(fault()),
        }
    }
}

impl TryFrom<String> for Projects {
    type Error = ProjectsError;

    fn try_from(text: String) -> Result<Self, ProjectsError> {
        text.parse()
    }
}

impl From<Projects> for String {
    fn from(projects: Projects) -> Self {
        projects.to_string()
    }
}

impl fmt::Display for Projects {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Kind::Beginning(beginning) => f.pad(&format!("{beginning}*")),
            Kind::Name(name) => f.pad(name),
        }
    }
}

/// Whom something is given to: a person (`wren`), or everybody of a team (`team:keepers`).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Holder {
    /// A person, by name.
    Person(String),
    /// A team, by name.
    Team(String),
}

/// A text that names neither a person nor a team.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is neither a person nor a team: write a name of a-z, 0-9 and `-`, and `team:` before a team's")]
pub struct HolderError(String);

impl Holder {
    /// Whether a person of these teams holds what it is given.
    #[must_use]
    pub fn is(&self, person: &str, teams: &[String]) -> bool {
        match self {
            Self::Person(name) => name == person,
            Self::Team(name) => teams.contains(name),
        }
    }
}

impl FromStr for Holder {
    type Err = HolderError;

    fn from_str(text: &str) -> Result<Self, HolderError> {
        let (name, is_team) = text.strip_prefix("team:").map_or((text, false), |name| (name, true));
        match (is_plain_name(name), is_team) {
            (true, true) => Ok(Self::Team(name.to_owned())),
            (true, false) => Ok(Self::Person(name.to_owned())),
            (false, _) => Err(HolderError(text.to_owned())),
        }
    }
}

impl TryFrom<String> for Holder {
    type Error = HolderError;

    fn try_from(text: String) -> Result<Self, HolderError> {
        text.parse()
    }
}

impl From<Holder> for String {
    fn from(holder: Holder) -> Self {
        holder.to_string()
    }
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Person(name) => f.pad(name),
            Self::Team(name) => f.pad(&format!("team:{name}")),
        }
    }
}
