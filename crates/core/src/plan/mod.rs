//! What a start makes of a pipeline: its stages and jobs after every `matrix`, `when` and `unless`.
//!
//! A [`Plan`] is all that a run needs to know of its pipeline. It is stored with the run, so that a run
//! stays what it was when the file changes.

mod conditions;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use conditions::{left_out, was_changed};

use crate::JobKey;
use crate::access::Gate;
use crate::pipeline::{
    Allowed, Approval, Fetch, ImageJob, Input, Job, JobKind, Needs, Pipeline, Push, RequiredResult, Retry, Stage,
    StartKind, StartRule,
};

/// What is known of a start.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Start {
    /// Why.
    pub kind: StartKind,
    /// The branch; empty for a run that a tag started.
    pub branch: String,
    /// The tag that started it.
    pub tag: Option<String>,
    /// The paths of the files that changed since the branch was last seen; nothing where that is not known.
    pub changed: Option<Vec<String>>,
    /// The value of each input.
    pub inputs: BTreeMap<String, String>,
}

/// What a start makes of a pipeline.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// The stages, in order, those too that are left out.
    pub stages: Vec<PlannedStage>,
    /// Whether the run stops older ones of its branch.
    pub supersede: bool,
}

/// A stage of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedStage {
    /// Its name.
    pub name: String,
    /// What it holds against other runs of the project.
    pub exclusive: Option<String>,
    /// The yes that it waits for.
    pub approval: Option<Approval>,
    /// Those that the environments want which it goes to.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gates: Vec<Gate>,
    /// Its jobs, those too that are left out.
    pub jobs: Vec<PlannedJob>,
}

/// A job of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedJob {
    /// Its key, unique in the plan: of a matrix, `STAGE/JOB:VALUE`.
    pub key: JobKey,
    /// Its name in the file.
    pub name: String,
    /// Its values of the matrix.
    pub matrix: BTreeMap<String, String>,
    /// Why it is left out, when it is.
    pub left_out: Option<String>,
    /// The jobs that must be over before it begins.
    pub after: Vec<JobKey>,
    /// How these, and earlier stages, must have ended.
    pub required_result: RequiredResult,
    /// Whether it is tried again.
    pub retry: Retry,
    /// Whether the stage may pass when it fails.
    pub may_fail: bool,
    /// What it holds against other jobs of the project while it runs.
    pub locks: Vec<String>,
    /// The runner that it needs.
    pub needs: Needs,
    /// Where the artifacts come from that it fetches, in their order.
    #[serde(default)]
    pub fetches: Vec<JobKey>,
    /// The jobs that build the images of the index that this one makes, where each has a runner of its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<JobKey>,
    /// What it does; variables of the file and of its stage are among its own.
    pub kind: JobKind,
}

/// Why nothing starts.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotStarted {
    /// A rule is about other files than those that changed.
    #[error("nothing that fits `{0}` was changed")]
    NothingChanged(String),
    /// No rule is about such a start.
    #[error("no `start` of its pipeline fits")]
    NoRule,
}

/// Whether a commit or a moment starts a run of a pipeline, and if not, why not.
///
/// # Errors
/// Why not.
pub fn check_start(pipeline: &Pipeline, start: &Start) -> Result<(), NotStarted> {
    if pipeline.starts.iter().any(|rule| fits(rule, start)) {
        return Ok(());
    }
    let near = |rule: &&StartRule| matches!(rule, StartRule::Commit { branch, .. } if start.tag.is_none() && branch.matches(&start.branch));
    Err(match pipeline.starts.iter().find(near) {
        Some(StartRule::Commit { changed: Some(paths), .. }) => NotStarted::NothingChanged(paths.to_string()),
        _ => NotStarted::NoRule,
    })
}

fn fits(rule: &StartRule, start: &Start) -> bool {
    match (rule, &start.tag) {
        (StartRule::Commit { branch, changed }, None) => {
            start.kind == StartKind::Commit
                && branch.matches(&start.branch)
                && changed.as_ref().is_none_or(|paths| was_changed(paths, start))
        }
        (StartRule::Tag { tag }, Some(named)) => start.kind == StartKind::Commit && tag.matches(named),
        // The clock looks at its rules itself.
        (StartRule::Schedule { branch, .. }, None) => start.kind == StartKind::Schedule && *branch == start.branch,
        // Who knows the branch's images has looked at them.
        (StartRule::BaseMoved, None) => start.kind == StartKind::BaseMoved,
        _ => false,
    }
}

/// What is wrong with what was said of an input.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum InputFault {
    /// It cannot be that.
    #[error("`{text}` cannot be the input `{name}`: write {allowed}")]
    Value {
        /// The input's name.
        name: String,
        /// What was said.
        text: String,
        /// What it may be.
        allowed: Allowed,
    },
    /// Nothing was said, and it has no default.
    #[error("the input `{name}`{help} has no value: write --input {name}=VALUE")]
    Missing {
        /// The input's name.
        name: String,
        /// What it is for, in brackets, where the pipeline says so.
        help: String,
    },
    /// There is none of that name.
    #[error("the pipeline has no input `{name}`; {help}")]
    Unknown {
        /// The name.
        name: String,
        /// What there is.
        help: String,
    },
}

/// Everything that is wrong with what was said of the inputs.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
pub struct InputFaults(pub Vec<InputFault>);

/// The value of every input, from what was said and from the defaults.
///
/// # Errors
/// Everything that is wrong with what was said.
pub fn inputs(declared: &[Input], said: &BTreeMap<String, String>) -> Result<BTreeMap<String, String>, InputFaults> {
    let mut values = BTreeMap::new();
    let mut faults = Vec::new();
    for input in declared {
        let name = &input.name.value;
        let value = match (said.get(name), &input.default) {
            (Some(text), _) => input.kind.accept(text).map_err(|allowed| InputFault::Value {
                name: name.clone(),
                text: text.clone(),
                allowed,
            }),
            (None, Some(default)) => Ok(default.clone()),
            (None, None) => {
                let help = input.help.as_ref().map(|help| format!(" ({help})")).unwrap_or_default();
                Err(InputFault::Missing { name: name.clone(), help })
            }
        };
        match value {
            Ok(value) => drop(values.insert(name.clone(), value)),
            Err(fault) => faults.push(fault),
        }
    }
    let known: Vec<_> = declared.iter().map(|input| input.name.value.as_str()).collect();
    for name in said.keys().filter(|name| !known.contains(&name.as_str())) {
        let help = crate::pipeline::help_for_unknown(name, &known);
        faults.push(InputFault::Unknown { name: name.clone(), help });
    }
    if faults.is_empty() { Ok(values) } else { Err(InputFaults(faults)) }
}

impl Plan {
    /// What a start makes of a pipeline.
    #[must_use]
    pub fn new(pipeline: &Pipeline, start: &Start) -> Self {
        let mut stages: Vec<PlannedStage> = Vec::new();
        for stage in &pipeline.stages {
            let stage_left_out = left_out(&stage.conditions, start).map(|why| format!("its stage: {why}"));
            let mut jobs = Vec::new();
            for job in &stage.jobs {
                let mut why = stage_left_out.clone().or_else(|| left_out(&job.conditions, start));
                if let Some(image) = job.kind.used_image() {
                    let image = &image.value;
                    let built = stages.iter().flat_map(|stage| &stage.jobs).find(|job| job.is_image(image));
                    let image_left_out = built.is_none_or(|job| job.left_out.is_some());
                    why = why.or_else(|| image_left_out.then(|| format!("the image `{image}` is left out")));
                }
                let mut after = Vec::new();
                for other in job.after.iter().filter_map(|after| stage.jobs.iter().find(|other| other.name == *after)) {
                    let keys = other.matrix.combinations().into_iter().map(|(suffix, _)| key(stage, other, &suffix));
                    after.extend(keys);
                }
                for (suffix, matrix) in job.matrix.combinations() {
                    jobs.extend(in_parts(PlannedJob {
                        key: key(stage, job, &suffix),
                        name: job.name.value.clone(),
                        matrix,
                        left_out: why.clone(),
                        after: after.clone(),
                        required_result: job.required_result.unwrap_or(stage.required_result),
                        retry: job.retry,
                        may_fail: job.may_fail,
                        locks: locks(job),
                        needs: job.needs.clone(),
                        fetches: Vec::new(),
                        parts: Vec::new(),
                        kind: kind(pipeline, &stage.env, job),
                    }));
                }
            }
            stages.push(PlannedStage {
                name: stage.name.value.clone(),
                exclusive: stage.exclusive.clone(),
                approval: stage.approval.clone(),
                gates: Vec::new(),
                jobs,
            });
        }
        let mut plan = Self { stages, supersede: pipeline.supersede };
        let fetching =
            plan.jobs().filter(|job| matches!(&job.kind, JobKind::Steps(steps) if !steps.fetches.is_empty()));
        let sources: Vec<_> =
            fetching.map(|job| (job.key.clone(), artifact_sources(&plan.before(&job.key), job))).collect();
        for (key, sources) in sources {
            if let Some(job) = plan.stages.iter_mut().flat_map(|stage| &mut stage.jobs).find(|job| job.key == key) {
                job.fetches = sources;
            }
        }
        plan
    }

    /// The jobs that are over before a job begins: those of earlier stages, in order, then those that it
    /// comes after, directly or not.
    #[must_use]
    pub fn before(&self, key: &JobKey) -> Vec<&PlannedJob> {
        let Some(at) = self.stages.iter().position(|stage| stage.name == key.stage()) else { return Vec::new() };
        let mut before: Vec<&PlannedJob> = self.stages[..at].iter().flat_map(|stage| &stage.jobs).collect();
        let of_stage = &self.stages[at].jobs;
        let mut keys: Vec<&JobKey> =
            of_stage.iter().find(|job| job.key == *key).map(|job| job.after.iter().collect()).unwrap_or_default();
        let mut next = 0;
        while let Some(key) = keys.get(next).copied() {
            if let Some(job) = of_stage.iter().find(|job| job.key == *key) {
                let more: Vec<_> = job.after.iter().filter(|more| !keys.contains(more)).collect();
                keys.extend(more);
                before.push(job);
            }
            next += 1;
        }
        before
    }

    /// Leaves out every rollout to an environment that does not fit, and says why.
    pub fn leave_out_rollouts(&mut self, fits: impl Fn(&str) -> bool, why: impl Fn(&str) -> String) {
        for job in self.stages.iter_mut().flat_map(|stage| &mut stage.jobs) {
            if let JobKind::Rollout(rollout) = &job.kind
                && job.left_out.is_none()
                && !fits(&rollout.to.value)
            {
                job.left_out = Some(why(&rollout.to.value));
            }
        }
    }

    /// Every job, in order.
    pub fn jobs(&self) -> impl Iterator<Item = &PlannedJob> {
        self.stages.iter().flat_map(|stage| &stage.jobs)
    }

    /// The job with this key.
    #[must_use]
    pub fn job(&self, key: &JobKey) -> Option<&PlannedJob> {
        self.jobs().find(|job| job.key == *key)
    }

    /// Whether a job makes a part of what another one makes: one of the images of an index.
    #[must_use]
    pub fn is_part(&self, key: &JobKey) -> bool {
        self.jobs().any(|job| job.parts.contains(key))
    }

    /// The image job of this name.
    #[must_use]
    pub fn image_job(&self, name: &str) -> Option<(&PlannedJob, &ImageJob)> {
        self.jobs().find_map(|job| match &job.kind {
            JobKind::Image(image) if job.name == name => Some((job, image)),
            _ => None,
        })
    }

    /// Why nothing of it would run; nothing when something would.
    #[must_use]
    pub fn nothing_to_do(&self) -> Option<String> {
        let mut reasons = self.jobs().map(|job| job.left_out.as_deref());
        let first = reasons.next()??.to_owned();
        reasons.all(|reason| reason.is_some()).then(|| format!("every job is left out: {first}"))
    }
}

impl PlannedJob {
    fn is_image(&self, name: &str) -> bool {
        self.name == name && matches!(self.kind, JobKind::Image(_))
    }
}

/// The jobs whose artifacts a job fetches.
fn artifact_sources(before: &[&PlannedJob], job: &PlannedJob) -> Vec<JobKey> {
    let JobKind::Steps(steps) = &job.kind else { return Vec::new() };
    let source = |fetch: &Fetch| {
        let leaves = |job: &&&PlannedJob| match &job.kind {
            JobKind::Steps(steps) => steps.artifacts.iter().any(|artifact| artifact.name == fetch.name),
            JobKind::Image(_) | JobKind::Rollout(_) => false,
        };
        let named = |job: &&&PlannedJob| fetch.from.as_ref().is_none_or(|from| job.key.job() == from.value);
        before.iter().filter(leaves).rfind(named).map(|job| job.key.clone())
    };
    // What the check let pass is found; what it did not never comes here.
    steps.fetches.iter().map(|fetch| source(fetch).unwrap_or_else(|| JobKey::new("?", &fetch.name.value))).collect()
}

/// What a job holds: what its file says, and a rollout its environment, so that two runs of a project
/// never change it at once.
fn locks(job: &Job) -> Vec<String> {
    let environment = match &job.kind {
        JobKind::Rollout(rollout) => Some(format!("environment {}", rollout.to.value)),
        JobKind::Steps(_) | JobKind::Image(_) => None,
    };
    job.exclusive.iter().cloned().chain(environment).collect()
}

/// A job, behind those that do parts of it: an image for several platforms that each have a runner of their own is
/// an index over images that other jobs build. These are pushed without a tag.
fn in_parts(mut job: PlannedJob) -> Vec<PlannedJob> {
    let JobKind::Image(image) = &job.kind else { return vec![job] };
    if !image.builds_native {
        return vec![job];
    }
    if let [platform] = &image.platforms[..] {
        job.needs.platform = Some(platform.clone());
        return vec![job];
    }
    let part = |platform: &String| {
        let name = format!("{}:{}", job.name, platform.replace('/', "-"));
        let pushes = image.pushes.iter().map(|push| Push { tags: Vec::new(), moving: Vec::new(), ..push.clone() });
        let image = ImageJob { platforms: vec![platform.clone()], pushes: pushes.collect(), ..image.clone() };
        PlannedJob {
            key: JobKey::new(job.key.stage(), &name),
            name,
            needs: Needs { platform: Some(platform.clone()), ..job.needs.clone() },
            kind: JobKind::Image(image),
            ..job.clone()
        }
    };
    let mut jobs: Vec<PlannedJob> = image.platforms.iter().map(part).collect();
    job.parts = jobs.iter().map(|part| part.key.clone()).collect();
    job.after.extend(job.parts.iter().cloned());
    jobs.push(job);
    jobs
}

/// The key of a job, or of one of its matrix.
fn key(stage: &Stage, job: &Job, suffix: &str) -> JobKey {
    JobKey::new(&stage.name.value, &format!("{}{suffix}", job.name.value))
}

/// What a job does, with the variables that the file and its stage give to every job.
fn kind(pipeline: &Pipeline, stage: &BTreeMap<String, String>, job: &Job) -> JobKind {
    let mut kind = job.kind.clone();
    if let JobKind::Steps(steps) = &mut kind {
        let own = std::mem::take(&mut steps.env);
        steps.env = pipeline.env.clone();
        steps.env.extend(stage.clone());
        steps.env.extend(own);
    }
    kind
}

#[cfg(test)]
mod tests;
