//! Registries: how they are reached, who signs in, and what they allow.

use pondrix_core::ProjectName;
use pondrix_core::access::Projects;
use pondrix_core::pipeline::Pattern;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A registry that is reached in a way of its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegistryView {
    /// The host in references.
    pub host: String,
    /// Where it is reached: `http[s]://HOST[:PORT]`.
    pub address: String,
    /// Who signs in, for what. Passwords are never shown.
    pub accounts: Vec<RegistryAccount>,
    /// Where name and password are shown besides the registry itself: the address of what gives tokens for it.
    pub signs_in_at: Option<String>,
    /// Whether certificates of its own are believed.
    pub certificates: bool,
    /// How layers for it are compressed, where a pipeline does not say: `gzip` or `zstd`.
    pub layers: Option<String>,
    /// The path in it that names of images mean which name no registry.
    pub bare_names: Option<String>,
    /// Of a change: who signed in until now, with passwords that are forgotten, since they were for another place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub forgotten: Vec<String>,
}

/// Somebody who signs in at a registry.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegistryAccount {
    /// The name.
    pub user: String,
    /// Whom the job's identity is for that signs in instead of a password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// For which repositories, by patterns of their paths; all where none is named. Of several who may, the one with the
    /// longest pattern signs in.
    #[schema(value_type = Vec<String>)]
    pub repositories: Vec<Pattern>,
    /// For jobs of which projects; all where none is named.
    #[schema(value_type = Vec<String>)]
    pub projects: Vec<Projects>,
}

/// What shall change of a registry. What is not said stays as it is.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct RegistryChange {
    /// The host in references.
    pub host: String,
    /// Where it is reached: `http[s]://HOST[:PORT]`; `https://HOST` where it was never said.
    pub address: Option<String>,
    /// Who signs in.
    pub user: Option<String>,
    /// The password, or a token that stands for one. It is never shown again. Without it, what is said of that user's
    /// repositories and projects is changed.
    pub password: Option<String>,
    /// Whom the job's identity is for that signs in instead of a password.
    #[serde(default)]
    pub audience: Option<String>,
    /// For which repositories that user signs in, by patterns of their paths; for all, where the list is empty.
    #[serde(default)]
    #[schema(value_type = Option<Vec<String>>)]
    pub repositories: Option<Vec<Pattern>>,
    /// For jobs of which projects; of all, where the list is empty.
    #[serde(default)]
    #[schema(value_type = Option<Vec<String>>)]
    pub projects: Option<Vec<Projects>>,
    /// Where name and password may be shown besides the registry itself: `http[s]://HOST[:PORT]`. Where somebody's
    /// password is given and nothing is said, the registry is asked.
    #[serde(default)]
    pub signs_in_at: Option<String>,
    /// Certificates of authorities, in PEM.
    pub certificates: Option<String>,
    /// How layers for it are compressed: `gzip` or `zstd`.
    pub layers: Option<String>,
    /// The path in it that names of images mean which name no registry; it may be empty.
    pub bare_names: Option<String>,
}

impl std::fmt::Debug for RegistryChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("RegistryChange").field("host", &self.host).finish_non_exhaustive()
    }
}

/// What is to be proved.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RegistryQuestion {
    /// The repository: `HOST/PATH`.
    pub repository: String,
    /// The project whose jobs shall use it; any, where none is named.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub project: Option<ProjectName>,
}

/// What a repository allows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RegistryProof {
    /// The repository.
    pub repository: String,
    /// What was tried, in its order. What needs something that failed was not tried.
    pub checks: Vec<RegistryCheck>,
}

/// Something that was tried.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RegistryCheck {
    /// `answers`, `pull` or `push`.
    pub what: String,
    /// Whether it is allowed.
    pub passed: bool,
    /// What came of it.
    pub words: String,
    /// What mends it, where it failed.
    pub help: Option<String>,
}

/// All registries that are reached in a way of their own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RegistryList {
    /// By host.
    pub registries: Vec<RegistryView>,
}
