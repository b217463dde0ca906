//! What the server holds: projects, environments, registries, access.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use pondrix_core::access::{EnvironmentRules, Projects, RefPattern, SecretScope};
use pondrix_core::{State, Time};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::InvitationView;

/// What signs in at a repository. It is never shown again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum GitCredential {
    /// Nobody, from now on.
    None,
    /// A name and a password, or a token that stands for one, at a repository at https.
    Password {
        /// The name.
        user: String,
        /// The password.
        password: String,
    },
    /// A private key, at a repository that is reached with ssh.
    Key {
        /// The key, as ssh-keygen(1) writes it; without a passphrase.
        key: String,
    },
}

impl std::fmt::Debug for GitCredential {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("GitCredential(..)")
    }
}

/// A repository to make known.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewProject {
    /// Its name here.
    pub name: String,
    /// The repository, as git reaches it from the server.
    pub repository: String,
    /// What signs in there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<GitCredential>,
}

/// A project.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProjectView {
    /// Its name.
    pub name: String,
    /// The repository.
    pub repository: String,
    /// Whether something signs in there that was set for the project.
    #[serde(default)]
    pub has_credential: bool,
    /// Where a hook of the repository says "look now", told to whoever maintains the project. The secret is in the
    /// address, or signs the request (Standard Webhooks).
    pub hook: Option<String>,
    /// The secret for signing, told to the same.
    pub hook_secret: Option<String>,
    /// When the repository was last seen.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub seen: Option<Time>,
    /// Why it could not be seen, or what was noted when it was.
    pub note: Option<String>,
    /// Whether the note is a fault.
    pub faulty: bool,
    /// The newest run's number and state.
    pub last_run: Option<u64>,
    /// The newest run's state.
    pub last_state: Option<State>,
    /// Its weight when projects take turns at the runners.
    pub weight: u32,
    /// How many of its jobs may run at once; any number where nothing is said.
    pub limit: Option<u32>,
    /// Whether pipelines of other projects may use templates of its repository.
    pub templates: bool,
    /// The branches and tags that it protects, `main`, `release/*`, `tag:v*`: what environments and secrets trust.
    #[schema(value_type = Vec<String>)]
    pub protected: Vec<RefPattern>,
}

/// What shall change of a project. What is not said stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ProjectChange {
    /// Its weight when projects take turns at the runners: 1 to 100.
    pub weight: Option<u32>,
    /// How many of its jobs may run at once; 0 for any number.
    pub limit: Option<u32>,
    /// Whether pipelines of other projects may use templates of its repository.
    pub templates: Option<bool>,
    /// All branches and tags that it protects from now on, `main`, `release/*`, `tag:v*`; the repository's default branch,
    /// where the list is empty.
    #[schema(value_type = Option<Vec<String>>)]
    pub protected: Option<Vec<RefPattern>>,
    /// What signs in at its repository.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<GitCredential>,
}

/// A secret's new value: a text, or bytes, which are never shown again; or who is asked for it whenever a job names it.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SecretValue {
    /// The value, where it is a text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// The value in base64 (RFC 4648, section 4), where it is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base64: Option<String>,
    /// The provider that is asked for it, by name, where it is kept elsewhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub provider: Option<String>,
    /// Whether only runs of protected refs are given it; as it was where nothing is said, and at first so for an
    /// environment, and not for others.
    #[serde(default)]
    pub protected: Option<bool>,
}

/// What was sent as a secret's value is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoValue {
    /// Both, or neither.
    #[error("a secret has one value: send `value`, a text, `base64`, bytes, or `provider`, who is asked for it")]
    NotOne,
    /// Something else than base64.
    #[error("`base64` is not in base64 (RFC 4648, section 4)")]
    NoBase64,
}

impl SecretValue {
    /// These bytes, as a text where they are one.
    #[must_use]
    pub fn new(bytes: Vec<u8>, protected: Option<bool>) -> Self {
        match String::from_utf8(bytes) {
            Ok(text) => Self { value: Some(text), protected, ..Self::default() },
            Err(other) => Self { base64: Some(STANDARD.encode(other.into_bytes())), protected, ..Self::default() },
        }
    }

    /// To be asked for where it is kept.
    #[must_use]
    pub fn kept_by(provider: String, protected: Option<bool>) -> Self {
        Self { provider: Some(provider), protected, ..Self::default() }
    }

    /// The bytes of the value; none where it is kept elsewhere.
    ///
    /// # Errors
    /// When there is not one, or it is not in base64.
    pub fn bytes(&self) -> Result<Vec<u8>, NoValue> {
        match (&self.value, &self.base64, &self.provider) {
            (Some(text), None, None) => Ok(text.clone().into_bytes()),
            (None, Some(text), None) => STANDARD.decode(text).map_err(|_| NoValue::NoBase64),
            (None, None, Some(_)) => Ok(Vec::new()),
            _ => Err(NoValue::NotOne),
        }
    }
}

impl std::fmt::Debug for SecretValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretValue(..)")
    }
}

/// A secret, without its value.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretView {
    /// Its name.
    pub name: String,
    /// For whom it is set: a project, `environment:NAME`, or `*` for all projects.
    #[schema(value_type = String)]
    pub scope: SecretScope,
    /// When it was set last.
    #[schema(value_type = String, format = DateTime)]
    pub set: Time,
    /// Who set it.
    pub by: String,
    /// Whether only runs of protected refs are given it.
    #[serde(default)]
    pub protected: bool,
    /// When it was given to a job last.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Time>,
    /// The run of that job: `lantern#12`.
    pub used_by: Option<String>,
    /// The provider that is asked for it, where it is kept elsewhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub provider: Option<String>,
}

/// Secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretList {
    /// By name; of a project those too that it shares with others, after its own.
    pub secrets: Vec<SecretView>,
    /// Of a project: what its newest pipeline names and is not set.
    #[serde(default)]
    pub missing: Vec<MissingSecret>,
}

/// A secret that a pipeline names, and that is not set.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MissingSecret {
    /// Its name.
    pub name: String,
    /// The first job that names it: `STAGE/JOB`.
    pub job: String,
    /// The run whose pipeline that is.
    pub run: String,
}

/// A secret to set that is no project's.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SharedSecret {
    /// For whom: `environment:NAME`, or `*` for all projects.
    #[schema(value_type = String)]
    pub scope: SecretScope,
    /// Its name.
    pub name: String,
    /// Its value.
    #[serde(flatten)]
    pub value: SecretValue,
}

impl std::fmt::Debug for SharedSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SharedSecret").field("scope", &self.scope).field("name", &self.name).finish_non_exhaustive()
    }
}

/// A secret to remove that is no project's.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SharedSecretName {
    /// For whom it is set: `environment:NAME`, or `*` for all projects.
    #[schema(value_type = String)]
    pub scope: SecretScope,
    /// Its name.
    pub name: String,
}

/// A runner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerView {
    /// Its name.
    pub name: String,
    /// The pool that it is of.
    pub pool: String,
    /// The projects that it works for; all, where none is named.
    #[schema(value_type = Vec<String>)]
    pub projects: Vec<Projects>,
    /// How many jobs it does at once.
    pub slots: usize,
    /// Number of slots in use, including stuck ones.
    pub busy: usize,
    /// Number of stuck slots: the job has ended, but its thread still runs. Restarting the runner frees them.
    pub stuck: usize,
    /// Whether it was seen lately.
    pub here: bool,
    /// When it was last seen since the server began, where it was.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Time>,
    /// Its version; empty where it was not seen.
    pub version: String,
    /// Who has paused it, where somebody has: it is given no more jobs.
    pub paused: Option<PauseView>,
}

/// That a runner is given no more jobs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PauseView {
    /// Who said so.
    pub by: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Time,
    /// Why, where they said.
    pub reason: Option<String>,
}

/// That a runner is to be given no more jobs.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PauseRequest {
    /// Why.
    #[serde(default)]
    pub reason: Option<String>,
}

/// A pool that has a limit.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PoolView {
    /// Its name.
    pub name: String,
    /// How many jobs may run at once in it; any number where nothing is said.
    pub limit: Option<u32>,
}

/// All runners that were seen since the server began, and the pools that have a limit.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerList {
    /// By name.
    pub runners: Vec<RunnerView>,
    /// By name.
    pub pools: Vec<PoolView>,
    /// Invitations that are good, by number; for administrators.
    #[serde(default)]
    pub invitations: Vec<InvitationView>,
}

/// All projects.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProjectList {
    /// By name.
    pub projects: Vec<ProjectView>,
}

/// An environment: where a rollout goes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentView {
    /// Its name.
    pub name: String,
    /// Where its cluster is reached; nothing where that has to be told anew.
    pub cluster: Option<String>,
    /// The namespace in the cluster: objects are applied in this one and no other.
    pub namespace: String,
    /// Where people reach what runs there.
    pub address: Option<String>,
    /// What it asks of a run that would roll out there.
    pub rules: EnvironmentRules,
    /// Who set it last.
    pub by: Option<String>,
    /// When.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub set: Option<Time>,
}

/// An environment to make known or to change. What is not said stays as it is.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentChange {
    /// Its name.
    pub name: String,
    /// How its cluster is reached and signed in at: the text of a kubeconfig file (YAML or JSON), of which the current
    /// context is kept, sealed. It is never shown again. It may name no files and run no programs.
    pub kubeconfig: Option<String>,
    /// The namespace in the cluster; the environment's name where it was never said.
    pub namespace: Option<String>,
    /// Where people reach what runs there.
    pub address: Option<String>,
    /// What it asks of a run, all of it; runs of protected refs where it was never said. A freeze in it is passed over.
    pub rules: Option<EnvironmentRules>,
}

impl std::fmt::Debug for EnvironmentChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("EnvironmentChange").field("name", &self.name).finish_non_exhaustive()
    }
}

/// That nothing is to be rolled out to an environment for now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct FreezeRequest {
    /// Why. Whoever is kept from a rollout is told.
    pub reason: String,
}

/// All environments.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentList {
    /// By name.
    pub environments: Vec<EnvironmentView>,
}

/// What a hook is told.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HookAnswer {
    /// The project that is looked at now.
    pub looking_at: String,
}
