//! What a pipeline file says, once read.

mod artifacts;
mod condition;
mod image;
mod job;
mod rollout;
mod start;
mod steps;
mod template;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub(super) use artifacts::DEFAULT_KEEP;
pub use artifacts::{Artifact, Cache, Fetch, Output};
pub use condition::{Condition, Conditions, RequiredResult};
pub use image::{BuildSecret, ImageJob, LayerForm, Push};
pub use job::{Axis, Job, JobKind, Matrix, Needs, Retry};
pub use rollout::{Destination, OnFailure, RolloutJob};
pub(super) use start::DEFAULT_LONGEST;
pub use start::{Allowed, Input, InputKind, StartKind, StartRule, UnknownStart};
pub use steps::{FileSystem, IdentityUse, Limits, Network, Ready, SECRET_FOLDER, SecretUse, Service, Step, StepsJob};
pub use template::{NoTemplate, TemplateName, TemplateNameError, Templates};

use super::Span;
use crate::Duration;

/// A value and where it stood in the file. Only the value is stored.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Spanned<T> {
    /// The value.
    pub value: T,
    /// Where it stood.
    #[serde(skip)]
    pub span: Span,
}

impl<T: PartialEq> PartialEq for Spanned<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

impl<T> From<T> for Spanned<T> {
    fn from(value: T) -> Self {
        Self { value, span: Span::default() }
    }
}

/// What happens to a commit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Pipeline {
    /// What it is for, in a sentence.
    pub about: Option<String>,
    /// What makes it start by itself.
    pub starts: Vec<StartRule>,
    /// What a start may say.
    #[serde(default)]
    pub inputs: Vec<Input>,
    /// Variables for every step of every job.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Whether a newer commit of the branch stops the runs of older ones.
    #[serde(default)]
    pub supersede: bool,
    /// The stages, in order.
    pub stages: Vec<Stage>,
}

/// A step of the order. Its jobs run side by side, but for what `after` says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stage {
    /// Its name, unique in the pipeline.
    pub name: Spanned<String>,
    /// Whether it is in a run.
    #[serde(default)]
    pub conditions: Conditions,
    /// How earlier stages must have ended.
    #[serde(default)]
    pub required_result: RequiredResult,
    /// Variables for every step of its jobs.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// One at a time across the project's runs, among all stages and jobs that name this.
    #[serde(default)]
    pub exclusive: Option<String>,
    /// A person's yes that it waits for.
    #[serde(default)]
    pub approval: Option<Approval>,
    /// Its jobs, at least one.
    pub jobs: Vec<Job>,
}

/// A person's yes or no that a stage waits for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Approval {
    /// What is asked.
    pub question: String,
    /// The person, or the group of people, whose answer counts; anybody's where nothing is said.
    #[serde(default)]
    pub by: Option<String>,
    /// How long an answer may take; no limit where nothing is said.
    pub within: Option<Duration>,
}

/// How long steps may take where the file does not say.
pub(super) const DEFAULT_TIME: Duration = Duration::from_seconds(3_600);
/// How long a service of a job may take to be ready where the file does not say.
pub(super) const DEFAULT_READY_WITHIN: Duration = Duration::from_seconds(60);
/// How long a rollout may take where the file does not say.
pub(super) const DEFAULT_ROLLOUT_TIME: Duration = Duration::from_seconds(300);

impl Approval {
    /// Whether a person's answer counts.
    #[must_use]
    pub fn is_for(&self, person: &str, groups: &[String]) -> bool {
        self.by.as_ref().is_none_or(|by| by == person || groups.contains(by))
    }
}

impl Pipeline {
    /// Every stage with its jobs, in order.
    pub fn jobs(&self) -> impl Iterator<Item = (&Stage, &Job)> {
        self.stages.iter().flat_map(|stage| stage.jobs.iter().map(move |job| (stage, job)))
    }
}
