//! How much of what all share a project may have.

use pondrix_core::ProjectName;
use pondrix_core::quota::{Quota, Used};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How much a project may have, and has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuotaView {
    /// The project.
    #[schema(value_type = String)]
    pub project: ProjectName,
    /// How much it may have: what was set for it, and for all where nothing was.
    pub quota: Quota,
    /// How much it has.
    pub used: Used,
}

/// Of several projects.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuotaList {
    /// By name.
    pub projects: Vec<QuotaView>,
}

/// What a project may have from now on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuotaChange {
    /// The project; each that says nothing itself, where none is named.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub project: Option<ProjectName>,
    /// How much.
    pub quota: Quota,
}
