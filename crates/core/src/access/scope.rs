//! For whom a secret is set, and which one a job gets of those with its name.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::{NameError, ProjectName};

const ENVIRONMENT: &str = "environment:";
const EVERYWHERE: &str = "*";

/// For whom a secret is set: `*`, `lantern`, `environment:production`. The nearest is declared first.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum SecretScope {
    /// Jobs of stages that go to an environment.
    Environment(String),
    /// Jobs of a project.
    Project(ProjectName),
    /// Jobs of all projects.
    Everywhere,
}

/// A text that names nobody to set a secret for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{text}` is nothing to set secrets for: write a project's name, `environment:NAME`, or `*` for all projects ({why})"
)]
pub struct ScopeError {
    text: String,
    why: NameError,
}

/// Two environments that a stage goes to have a secret of the same name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TwoEnvironments {
    /// One.
    pub one: String,
    /// The other.
    pub other: String,
}

impl SecretScope {
    /// The environment, where it is one.
    #[must_use]
    pub fn environment(&self) -> Option<&str> {
        match self {
            Self::Environment(name) => Some(name),
            Self::Project(_) | Self::Everywhere => None,
        }
    }

    /// Whether secrets set for it are for runs of protected refs only, where nothing is said.
    #[must_use]
    pub const fn is_protected(&self) -> bool {
        matches!(self, Self::Environment(_))
    }
}

/// Of the values of a name that a job may have, each with for whom it is set, the nearest: that of an environment which its
/// stage goes to, then its project's, then that for all.
///
/// # Errors
/// When two environments have one: which is meant, nobody can say.
pub fn nearest<T>(
    all: impl IntoIterator<Item = (SecretScope, T)>,
) -> Result<Option<(SecretScope, T)>, TwoEnvironments> {
    let mut nearest: Option<(SecretScope, T)> = None;
    for (scope, value) in all {
        if let (Some((SecretScope::Environment(one), _)), SecretScope::Environment(other)) = (&nearest, &scope) {
            let (one, other) = (one.min(other).clone(), one.max(other).clone());
            return Err(TwoEnvironments { one, other });
        }
        if nearest.as_ref().is_none_or(|(known, _)| scope < *known) {
            nearest = Some((scope, value));
        }
    }
    Ok(nearest)
}

impl FromStr for SecretScope {
    type Err = ScopeError;

    fn from_str(text: &str) -> Result<Self, ScopeError> {
        if text == EVERYWHERE {
            return Ok(Self::Everywhere);
        }
        let (name, is_environment) = text.strip_prefix(ENVIRONMENT).map_or((text, false), |name| (name, true));
        // Environments are named as projects are.
        let name: ProjectName = name.parse().map_err(|why| ScopeError { text: text.to_owned(), why })?;
        Ok(if is_environment { Self::Environment(name.to_string()) } else { Self::Project(name) })
    }
}

impl TryFrom<String> for SecretScope {
    type Error = ScopeError;

    fn try_from(text: String) -> Result<Self, ScopeError> {
        text.parse()
    }
}

impl From<SecretScope> for String {
    fn from(scope: SecretScope) -> Self {
        scope.to_string()
    }
}

impl fmt::Display for SecretScope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Environment(name) => write!(f, "{ENVIRONMENT}{name}"),
            Self::Project(name) => write!(f, "{name}"),
            Self::Everywhere => f.write_str(EVERYWHERE),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scope(text: &str) -> SecretScope {
        text.parse().unwrap()
    }

    #[test]
    fn for_whom_a_secret_is_set_is_written_as_it_is_read() {
        for text in ["*", "lantern", "environment:production"] {
            assert_eq!(scope(text).to_string(), text);
        }
        for wrong in ["", "environment:", "environment:Two Words", "**", "garden-*", "Lantern", "team:keepers"] {
            let fault = wrong.parse::<SecretScope>().unwrap_err().to_string();
            assert!(fault.contains("write a project's name, `environment:NAME`, or `*`"), "{fault}");
        }
    }

    #[test]
    fn the_nearest_wins_in_whatever_order_they_come_and_of_two_environments_none() {
        let all = ["*", "lantern", "environment:production"].map(scope);
        for order in [[0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]] {
            for taken in 1..=3 {
                let some: Vec<_> = order[..taken].iter().map(|at| (all[*at].clone(), *at)).collect();
                let expected = order[..taken].iter().max().copied();
                assert_eq!(nearest(some).unwrap().map(|(_, at)| at), expected, "{order:?} {taken}");
            }
        }
        assert_eq!(nearest(Vec::<(SecretScope, ())>::new()).unwrap(), None);
        for two in
            [["environment:staging", "environment:production"], ["environment:production", "environment:staging"]]
        {
            let both = [scope("lantern"), scope(two[0]), scope(two[1])].map(|scope| (scope, ()));
            let told = TwoEnvironments { one: "production".to_owned(), other: "staging".to_owned() };
            assert_eq!(nearest(both).unwrap_err(), told);
        }
    }
}
