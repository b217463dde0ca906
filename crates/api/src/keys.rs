//! The keys that secrets are sealed with, without themselves.

use pondrix_core::Time;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The keys that secrets are sealed with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeysView {
    /// The id of the master key, which the data keys are wrapped with. It tells nothing of the key.
    pub master: String,
    /// Where the master key comes from.
    pub from: String,
    /// Since when the data keys are wrapped with it.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Time>,
    /// How many data keys there are: one of the server, and one of each project.
    pub data_keys: u64,
    /// The ids of the keys that identities of jobs are checked with, the oldest first.
    #[serde(default)]
    pub identity_keys: Vec<String>,
}
