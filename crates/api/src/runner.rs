//! Between the server and its runners.

use std::collections::BTreeSet;

use pondrix_core::image::{Account, Digest, Registries, Repository, Tag};
use pondrix_core::run::{JobResult, JobUsage, Outcome, StepEnd};
use pondrix_core::work::{RunFacts, Work};
use pondrix_core::{JobKey, RunId};
use serde::{Deserialize, Serialize};

use crate::FetchedArtifact;

/// A runner introduces itself. Who it is, and what it may work for, the server knows by its token.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Hello {
    /// How many jobs it does at once.
    pub slots: usize,
    /// Number of stuck slots: the job has ended, but its thread still runs.
    #[serde(default)]
    pub stuck: usize,
    /// The programs that its machine has.
    pub tools: BTreeSet<String>,
    /// Whether jobs may use its machine's own network.
    #[serde(default)]
    pub host_network: bool,
    /// The platforms whose programs it runs.
    #[serde(default)]
    pub platforms: BTreeSet<String>,
    /// Its version.
    pub version: String,
    /// Another one for each process: who introduces itself anew has forgotten the jobs it had.
    pub instance: String,
}

/// What a runner is told that has introduced itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Welcome {
    /// Its name.
    pub runner: String,
    /// The pool that it is of.
    pub pool: String,
}

/// A machine asks to be made a runner, with an invitation.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct JoinRequest {
    /// The name that it shall have.
    pub runner: String,
}

/// A machine was made a runner.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Joined {
    /// Its own token.
    pub token: String,
}

/// A job for a runner.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Assignment {
    /// Stands for the right to report on this job, in addresses: its number, `-`, and a secret.
    pub lease: String,
    /// How long the job is the runner's without the server having heard of it, in seconds. After that it is
    /// somebody else's, so the runner has to have ended it before.
    pub lease_seconds: u64,
    /// The run.
    pub facts: RunFacts,
    /// The run's page, where people reach the server.
    #[serde(default)]
    pub address: String,
    /// The job.
    pub job: JobKey,
    /// Which time it is tried, from 1.
    pub attempt: u32,
    /// How long its log is already, from the times before, in bytes.
    pub log: u64,
    /// How long it may be in all.
    pub log_limit: u64,
    /// The most that the caches which builds of its project mount may take on the runner, in bytes.
    #[serde(default)]
    pub runner_caches: Option<u64>,
    /// The project's weight, 1 to 100: its share of busy CPUs on the runner.
    #[serde(default = "usual_weight")]
    pub weight: u32,
    /// What to do.
    pub work: Work,
    /// The artifacts that the job fetches.
    pub artifacts: Vec<FetchedArtifact>,
    /// The values of the secrets that the work names.
    pub secrets: Vec<NamedSecret>,
    /// How registries are reached, with what signs in at them. It never enters the job.
    pub registries: Registries,
    /// Whether the run is of a ref that its project protects. What others leave in caches, such a run does not take.
    #[serde(default)]
    pub is_trusted: bool,
    /// The lists of steps in the registry that are to be believed, where the work names a repository for them: by the
    /// digests of their manifests.
    #[serde(default)]
    pub step_lists: Vec<Digest>,
    /// What the values of secrets are hashed with in the keys of steps.
    #[serde(default)]
    pub hash_key: HashKey,
}

/// The weight of a project that sets none.
const fn usual_weight() -> u32 {
    1
}

/// A key of hashes, which nobody else shall have.
#[derive(Clone, Default, Serialize, Deserialize)]
pub struct HashKey(pub [u8; 32]);

impl std::fmt::Debug for HashKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("HashKey(..)")
    }
}

/// A list of steps that a job left in a registry.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StepList {
    /// Where.
    pub repository: Repository,
    /// The digest of its manifest.
    pub list: Digest,
}

/// A secret with its value.
#[derive(Clone, Serialize, Deserialize)]
pub struct NamedSecret {
    /// Its name.
    pub name: String,
    /// Its value; in base64 on its way (RFC 4648, section 4).
    #[serde(with = "base64_bytes")]
    pub value: Vec<u8>,
}

mod base64_bytes {
    use base64::Engine as _;
    use base64::engine::general_purpose::STANDARD;
    use serde::{Deserialize, Deserializer, Serializer};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&STANDARD.encode(bytes))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        STANDARD.decode(String::deserialize(from)?).map_err(serde::de::Error::custom)
    }
}

impl std::fmt::Debug for NamedSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NamedSecret").field("name", &self.name).finish_non_exhaustive()
    }
}

/// A recipe names an image: a runner asks who signs in for it, where the registry knows those who do.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct AccountQuestion {
    /// The repository.
    pub repository: Repository,
}

/// Who signs in.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct AccountAnswer {
    /// Nobody, where nobody does so for the project and this repository.
    pub account: Option<Account>,
}

/// A step of a job begins that is given an identity.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct IdentityQuestion {
    /// Whom it is for: one of those that the job names.
    pub audience: String,
}

/// A signed token.
#[derive(Clone, Serialize, Deserialize)]
pub struct IdentityAnswer {
    /// The token.
    pub token: String,
}

impl std::fmt::Debug for IdentityAnswer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("IdentityAnswer").finish_non_exhaustive()
    }
}

/// A runner is about to set a tag.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct TagQuestion {
    /// The repository.
    pub repository: Repository,
    /// The tag.
    pub tag: Tag,
    /// Whether it moves from image to image.
    pub moves: bool,
}

/// Whether a tag may be set now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum TagAnswer {
    /// It may be, now.
    Set,
    /// Another job is about to set it: ask again.
    Wait,
    /// It stays where it is: it names the image of a later commit of the branch.
    Leave {
        /// The run of that commit.
        overtaken_by: RunId,
    },
}

/// A report, and how long ago what it tells of was: it may have waited for others, or for the server.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TimedReport {
    /// What happened.
    pub report: JobReport,
    /// How long ago, in milliseconds by the runner's clock.
    pub ago: u64,
}

/// Something that happened to the job of a lease. Reporting it again does no harm.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "report", rename_all = "kebab-case")]
pub enum JobReport {
    /// Everything that the job needs is there.
    Prepared,
    /// A step begins.
    StepStarted {
        /// The step, from 0.
        step: usize,
        /// How long the job's log is then, in bytes.
        log: u64,
    },
    /// A step ended.
    StepEnded {
        /// The step, from 0.
        step: usize,
        /// How it ended.
        end: StepEnd,
        /// How long the job's log is then, in bytes.
        log: u64,
    },
    /// The job made something that others use.
    Result {
        /// What it made.
        result: JobResult,
    },
    /// The job ended.
    Ended {
        /// How.
        outcome: Outcome,
        /// Why, where that is not plain from its steps.
        reason: Option<String>,
        /// What its processes used.
        #[serde(default)]
        usage: Option<JobUsage>,
    },
}

/// A sign of life, answered when there is something to say, or after a while.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Beat {
    /// Whether the job shall end.
    pub halt: bool,
}

/// How a job's files differ from those of the commit that a runner has.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SourceChanges {
    /// The commit that they are of; nothing when they are of none, but sent to be tried.
    pub commit: Option<String>,
    /// The difference; nothing when all have to be fetched.
    pub difference: Option<SourceDifference>,
}

/// What of a commit's files is not as in an earlier one.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct SourceDifference {
    /// How many files are new or other.
    pub changed: u64,
    /// The paths of those that are gone.
    pub removed: Vec<String>,
    /// Those that are as they were, but for the time of their last change, in seconds since 1970, where that was asked
    /// for.
    #[serde(default)]
    pub retimed: Vec<(String, u64)>,
}

/// How much of a log the server has.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LogLength {
    /// In bytes.
    pub length: u64,
}
