//! Who may do what: roles, whom they are given to, and in which projects they hold.
//!
//! A right is looked up and never deduced from what somebody asks: nothing that is not given is allowed.

mod names;
mod openid;
mod places;
mod protection;
mod reach;
mod resolving;
mod scope;

use serde::{Deserialize, Serialize};

pub use names::{Holder, HolderError, Projects, ProjectsError};
pub use openid::{NotLetIn, OpenIdPerson, OpenIdRules, openid_person};
pub use places::{NotRemote, RepositoryHost, is_public};
pub use protection::{Approvers, Candidate, EnvironmentRules, Freeze, Gate, RefPattern, Refs, RuleBroken, Starter};
pub use reach::{Network, NoNetwork, Reach};
pub use resolving::{Heard, NameQuestion};
pub use scope::{ScopeError, SecretScope, TwoEnvironments, nearest};

/// What somebody may do in the projects for which it is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Role {
    /// See the project, its runs, logs, artifacts and images.
    Look,
    /// Look, and answer approvals.
    Approve,
    /// Look, and set and remove secrets.
    Secrets,
    /// Look, answer approvals, and start, try, stop and rerun.
    Run,
    /// Make projects known whose names fit; and with `maintain`, for those, environments, runners, and who signs in at
    /// registries.
    Add,
    /// All of these but making projects known, and change what the project says of itself.
    Maintain,
    /// Everything, and give roles.
    Administer,
}

/// What a question asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    /// To see.
    Look,
    /// To answer an approval.
    Approve,
    /// To set and remove secrets.
    Secrets,
    /// To start, try, stop and rerun.
    Run,
    /// To make a project known.
    Add,
    /// To change a project's own settings.
    Maintain,
    /// Everything else.
    Administer,
}

impl Role {
    /// All roles, the smallest first.
    pub const ALL: [Self; 7] =
        [Self::Look, Self::Approve, Self::Secrets, Self::Run, Self::Add, Self::Maintain, Self::Administer];

    /// The word that people write.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Look => "look",
            Self::Approve => "approve",
            Self::Secrets => "secrets",
            Self::Run => "run",
            Self::Add => "add",
            Self::Maintain => "maintain",
            Self::Administer => "administer",
        }
    }

    /// What it allows, for people.
    #[must_use]
    pub const fn about(self) -> &'static str {
        match self {
            Self::Look => "see runs, logs, artifacts, images",
            Self::Approve => "look, and answer approvals",
            Self::Secrets => "look, and set and remove secrets",
            Self::Run => "look, answer approvals, start, try, stop, rerun",
            Self::Add => "make projects known whose names fit; with maintain, also what is for those alone",
            Self::Maintain => "run, secrets, and the project's own settings",
            Self::Administer => "everything, and give roles; in all projects, the whole server",
        }
    }

    /// Whether it is enough for a need.
    #[must_use]
    pub fn allows(self, need: Need) -> bool {
        match need {
            Need::Look => true,
            Need::Approve => matches!(self, Self::Approve | Self::Run | Self::Maintain | Self::Administer),
            Need::Secrets => matches!(self, Self::Secrets | Self::Maintain | Self::Administer),
            Need::Run => matches!(self, Self::Run | Self::Maintain | Self::Administer),
            Need::Add => matches!(self, Self::Add | Self::Administer),
            Need::Maintain => matches!(self, Self::Maintain | Self::Administer),
            Need::Administer => self == Self::Administer,
        }
    }
}

impl std::fmt::Display for Role {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.word())
    }
}

impl std::str::FromStr for Role {
    type Err = UnknownRole;

    fn from_str(text: &str) -> Result<Self, UnknownRole> {
        Self::ALL.into_iter().find(|role| role.word() == text).ok_or_else(|| UnknownRole(text.to_owned()))
    }
}

/// A text that is no role.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no role; these are: look, approve, secrets, run, add, maintain, administer")]
pub struct UnknownRole(String);

impl Need {
    /// The smallest role that is enough.
    #[must_use]
    pub const fn smallest(self) -> Role {
        match self {
            Self::Look => Role::Look,
            Self::Approve => Role::Approve,
            Self::Secrets => Role::Secrets,
            Self::Run => Role::Run,
            Self::Add => Role::Add,
            Self::Maintain => Role::Maintain,
            Self::Administer => Role::Administer,
        }
    }
}

/// A role in some projects.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Grant {
    /// What may be done.
    pub role: Role,
    /// Where: a project, those whose names begin so (`garden-*`), or all (`*`).
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub projects: Projects,
}

impl Grant {
    /// A role in all projects, and for what is of no project.
    #[must_use]
    pub const fn everywhere(role: Role) -> Self {
        Self { role, projects: Projects::all() }
    }

    fn allows(&self, need: Need, project: Option<&str>) -> bool {
        let fits = match project {
            Some(project) => self.projects.matches(project),
            None => self.projects.is_all(),
        };
        fits && self.role.allows(need)
    }
}

/// What whoever shows a token may do.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rights {
    /// What they and their teams were given.
    pub grants: Vec<Grant>,
    /// The most that they may do with this token, where it is limited.
    pub limit: Option<Grant>,
}

impl Rights {
    /// Whether they may, in a project; for what is of no project, nothing is said.
    #[must_use]
    pub fn allow(&self, need: Need, project: Option<&str>) -> bool {
        self.limit.as_ref().is_none_or(|limit| limit.allows(need, project))
            && self.grants.iter().any(|grant| grant.allows(need, project))
    }

    /// Whether they may in all of these projects, also in those that are added later.
    #[must_use]
    pub fn allow_in_all(&self, need: Need, projects: &[Projects]) -> bool {
        let in_all_of = |projects: &Projects| {
            let covers = |grant: &Grant| grant.role.allows(need) && grant.projects.covers(projects);
            self.limit.as_ref().is_none_or(covers) && self.grants.iter().any(covers)
        };
        projects.iter().all(in_all_of)
    }

    /// Whether they may set something that is for these projects alone, in place of whoever administers the server: who
    /// maintains all of them, where they may add such. Its name, where it has one of its own, is to be one that they may
    /// add.
    #[must_use]
    pub fn allow_setting_for(&self, name: Option<&str>, projects: &[Projects]) -> bool {
        !projects.is_empty()
            && name.is_none_or(|name| self.allow(Need::Add, Some(name)))
            && [Need::Add, Need::Maintain].into_iter().all(|need| self.allow_in_all(need, projects))
    }

    /// Whether they may in some project at least.
    #[must_use]
    pub fn allow_somewhere(&self, need: Need) -> bool {
        let by_limit = |grant: &Grant| match &self.limit {
            Some(limit) => limit.role.allows(need) && limit.projects.overlaps(&grant.projects),
            None => true,
        };
        self.grants.iter().any(|grant| grant.role.allows(need) && by_limit(grant))
    }

    /// Whether they may give a role away, or take it: who administers projects, in no more than these.
    #[must_use]
    pub fn allow_giving(&self, grant: &Grant) -> bool {
        let covers = |own: &Grant| own.role == Role::Administer && own.projects.covers(&grant.projects);
        self.limit.as_ref().is_none_or(covers) && self.grants.iter().any(covers)
    }

    /// Whether there may be a project among these that they see.
    #[must_use]
    pub fn see_some_of(&self, projects: &Projects) -> bool {
        self.limit.as_ref().is_none_or(|limit| limit.projects.overlaps(projects))
            && self.grants.iter().any(|grant| grant.projects.overlaps(projects))
    }

    /// Whether every project is seen, also one that is added later.
    #[must_use]
    pub fn see_all(&self) -> bool {
        self.allow(Need::Look, None)
    }
}

#[cfg(test)]
mod tests;
