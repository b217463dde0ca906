//! How long the past is kept, and removing what is not to be kept any more.

use pondrix_core::ProjectName;
use pondrix_core::pipeline::Pattern;
use pondrix_core::retention::{Age, Keep, Limits, Rule, What};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::RunSummary;

/// How long runs of a project and a branch are kept, and what hangs on them. What a rule does not say, a more general
/// one says. Ages are lengths of time as in `90d`, or `forever`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RetentionRule {
    /// The project; all where none is said.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub project: Option<ProjectName>,
    /// A pattern for branches; all branches, and tags and tries too, where none is said.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub branch: Option<Pattern>,
    /// How long runs are kept from their end on, with the records of their images, their tests and artifacts.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub runs: Option<Age>,
    /// How long logs are kept from their run's end on.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub logs: Option<Age>,
    /// How long caches are kept after they were last used.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub caches: Option<Age>,
    /// How many of the newest runs of each branch that is still there are kept, however old they are.
    #[serde(default)]
    pub at_least: Option<u32>,
    /// How many runs of each branch are kept, however new they are; 0 for any number.
    #[serde(default)]
    pub at_most: Option<u32>,
}

/// All rules.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionView {
    /// The most general first.
    pub rules: Vec<RetentionRule>,
    /// What holds where no rule says anything.
    pub usual: RetentionRule,
}

/// What would go.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RetentionQuestion {
    /// Of which project; of all where none is said.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub project: Option<ProjectName>,
    /// A rule that is taken as if it were set.
    #[serde(default)]
    pub rule: Option<RetentionRule>,
}

/// What would go now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RetentionPreview {
    /// How many runs.
    pub runs: u64,
    /// Of how many runs that stay the logs.
    pub logs: u64,
    /// How many records of images. The images stay in their registries.
    pub images: u64,
    /// How many caches.
    pub caches: u64,
    /// How long these are together, in bytes.
    pub cache_bytes: u64,
    /// The newest of the runs, and of those whose logs go: at most 500.
    pub going: Vec<GoingView>,
}

/// Something that would go.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GoingView {
    /// The run.
    pub run: RunSummary,
    /// `run`, or `logs` where it stays without them.
    #[schema(value_type = String)]
    pub what: GoingWhat,
    /// Why, in words.
    pub why: String,
}

/// What goes of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum GoingWhat {
    /// All of it.
    Run,
    /// Its logs alone.
    Logs,
}

/// What was removed with a project, and what is left of it outside.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ProjectRemoved {
    /// How many runs went.
    pub runs: u64,
    /// Its images, which are still in their registries.
    pub images: Vec<ImageOutside>,
    /// Where it has rolled out; the objects are still there.
    pub releases: Vec<ReleaseOutside>,
}

/// Images that stay in their registry.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImageOutside {
    /// The repository: `HOST/PATH`.
    pub repository: String,
    /// Where the registry is reached: an address.
    pub address: String,
    /// The images.
    pub digests: Vec<String>,
}

/// A rollout whose objects stay in their cluster.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReleaseOutside {
    /// The environment.
    pub environment: String,
    /// The namespace.
    pub namespace: String,
    /// Where its cluster is reached.
    pub cluster: Option<String>,
    /// The project.
    pub project: String,
    /// The rollout.
    pub job: String,
    /// The image that runs.
    pub image: String,
    /// The files of the repository that describe the objects, where they are known.
    pub manifests: Vec<String>,
}

/// What an environment ran when it was removed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentRemoved {
    /// The objects are still in the cluster.
    pub releases: Vec<ReleaseOutside>,
}

impl From<RetentionRule> for Rule {
    fn from(rule: RetentionRule) -> Self {
        let RetentionRule { project, branch, runs, logs, caches, at_least, at_most } = rule;
        Self { project, branch, keep: Keep { runs, logs, caches, at_least, at_most } }
    }
}

impl From<Rule> for RetentionRule {
    fn from(rule: Rule) -> Self {
        let Rule { project, branch, keep: Keep { runs, logs, caches, at_least, at_most } } = rule;
        Self { project, branch, runs, logs, caches, at_least, at_most }
    }
}

impl From<Limits> for RetentionRule {
    fn from(limits: Limits) -> Self {
        let Limits { runs, logs, caches, at_least, at_most } = limits;
        Self {
            runs: Some(runs),
            logs: Some(logs),
            caches: Some(caches),
            at_least: Some(at_least),
            at_most,
            ..Self::default()
        }
    }
}

impl From<What> for GoingWhat {
    fn from(what: What) -> Self {
        match what {
            What::Run => Self::Run,
            What::Logs => Self::Logs,
        }
    }
}
