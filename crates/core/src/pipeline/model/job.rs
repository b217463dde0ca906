//! What every kind of job may say.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Conditions, ImageJob, RequiredResult, RolloutJob, Spanned, StepsJob};

/// A unit that one runner does in one place, or that the server does itself (a rollout).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Job {
    /// Its name, unique in its stage.
    pub name: Spanned<String>,
    /// Jobs of the same stage that must be over before it begins.
    #[serde(default)]
    pub after: Vec<Spanned<String>>,
    /// Whether it is in a run.
    #[serde(default)]
    pub conditions: Conditions,
    /// How earlier stages and the jobs of `after` must have ended; nothing said: as its stage says.
    #[serde(default)]
    pub required_result: Option<RequiredResult>,
    /// One job for each combination of these values.
    #[serde(default)]
    pub matrix: Matrix,
    /// Whether it is tried again.
    #[serde(default)]
    pub retry: Retry,
    /// Whether the stage may pass when it fails.
    #[serde(default)]
    pub may_fail: bool,
    /// One at a time across the project's runs, among all jobs that name this.
    #[serde(default)]
    pub exclusive: Option<String>,
    /// The runner that it needs.
    #[serde(default)]
    pub needs: Needs,
    /// What it does.
    pub kind: JobKind,
}

/// The kinds of job.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum JobKind {
    /// Commands.
    Steps(StepsJob),
    /// Build, tag, push.
    Image(ImageJob),
    /// Bring to an environment.
    Rollout(RolloutJob),
}

/// Names with values: a job for each combination.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Matrix {
    /// The names, in the order in which they were written.
    pub axes: Vec<Axis>,
    /// Combinations that are left out: those in which all of these hold.
    pub without: Vec<BTreeMap<String, String>>,
}

/// One name of a matrix and its values.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Axis {
    /// The name.
    pub name: Spanned<String>,
    /// The values, each once.
    pub values: Vec<String>,
}

/// Whether a job is tried again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Retry {
    /// How often at the most, after the first time.
    pub times: u32,
    /// Only when its runner vanished.
    pub only_lost: bool,
}

/// What a job needs of its runner.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Needs {
    /// The pool that the runner is of; any, where nothing is said.
    pub pool: Option<String>,
    /// Programs that the runner's machine has.
    pub tools: Vec<String>,
    /// That the runner lets jobs use its machine's own network.
    pub host_network: bool,
    /// The platform whose programs the runner runs; any, where nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
}

impl JobKind {
    /// The image job of an earlier stage whose image it rolls out, or runs in, by its name.
    #[must_use]
    pub const fn used_image(&self) -> Option<&Spanned<String>> {
        match self {
            Self::Steps(steps) => steps.file_system.image_job(),
            Self::Rollout(rollout) => Some(&rollout.image),
            Self::Image(_) => None,
        }
    }

    /// The word that declares it.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Steps(_) => "job",
            Self::Image(_) => "image",
            Self::Rollout(_) => "rollout",
        }
    }
}

/// A value as it stands in the name of a job of a matrix: small letters, digits, `.` and `-`.
fn slug(value: &str) -> String {
    let letter = |c: char| match c.to_ascii_lowercase() {
        c if c.is_ascii_alphanumeric() || c == '.' => c,
        _ => '-',
    };
    value.chars().map(letter).collect()
}

impl Matrix {
    /// Every combination that is not left out, with the end of the job's name that it makes (`:alpine`);
    /// one empty combination where there is no matrix. The last name changes fastest.
    #[must_use]
    pub fn combinations(&self) -> Vec<(String, BTreeMap<String, String>)> {
        let mut all = vec![(String::new(), BTreeMap::new())];
        for axis in &self.axes {
            let longer = |(suffix, values): &(String, BTreeMap<String, String>)| {
                let (suffix, values) = (suffix.clone(), values.clone());
                axis.values.iter().map(move |value| {
                    let mut values = values.clone();
                    values.insert(axis.name.value.clone(), value.clone());
                    (format!("{suffix}:{}", slug(value)), values)
                })
            };
            all = all.iter().flat_map(longer).collect();
        }
        let left_out = |values: &BTreeMap<String, String>| {
            self.without.iter().any(|without| without.iter().all(|(name, value)| values.get(name) == Some(value)))
        };
        all.retain(|(_, values)| !left_out(values));
        all
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.axes.is_empty()
    }
}
