//! Making machines runners, and what each may work for.

use pondrix_core::Time;
use pondrix_core::access::Projects;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a runner may work for, whatever it says of itself.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunnerBounds {
    /// The pool that it is of.
    pub pool: String,
    /// The projects that it works for; all, where none is named.
    #[serde(default)]
    #[schema(value_type = Vec<String>)]
    pub projects: Vec<Projects>,
    /// The programs that it is believed to have; all that it says, where none is named.
    #[serde(default)]
    pub tools: Vec<String>,
}

/// A runner to make known.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewRunner {
    /// Its name: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends.
    pub name: String,
    /// What it may work for.
    #[serde(flatten)]
    pub bounds: RunnerBounds,
}

/// A runner that was made known, or was given another token.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerMade {
    /// Its name.
    pub name: String,
    /// What it may work for.
    #[serde(flatten)]
    pub bounds: RunnerBounds,
    /// Its token, told this once.
    pub token: String,
}

/// An invitation to make: a token with which machines make themselves runners.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewInvitation {
    /// What those may work for.
    #[serde(flatten)]
    pub bounds: RunnerBounds,
    /// For how many machines it is good: 1 to 1000.
    pub machines: u32,
    /// For how many hours: 1 to 8760.
    pub hours: u32,
}

/// An invitation that is good.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    /// Its number.
    pub id: i64,
    /// What those may work for that it makes runners.
    #[serde(flatten)]
    pub bounds: RunnerBounds,
    /// For how many machines more it is good.
    pub machines: u32,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub ends: Time,
    /// Who made it.
    pub by: String,
}

/// An invitation that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationMade {
    /// What is kept of it.
    #[serde(flatten)]
    pub invitation: InvitationView,
    /// Its token, told this once.
    pub token: String,
}
