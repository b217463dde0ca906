//! What a start would make of a pipeline.

use std::collections::BTreeMap;

use pondrix_core::pipeline::{Fault, FileSystem, JobKind, RequiredResult, StartKind};
use pondrix_core::plan::{Plan, PlannedJob, PlannedStage};
use pondrix_core::run::PreflightFault;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A start that does not happen.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PlanRequest {
    /// The branch; `main` where neither it nor a tag is named.
    pub branch: Option<String>,
    /// The tag.
    pub tag: Option<String>,
    /// Why it would start: by hand, where nothing is said.
    pub start: Option<StartKind>,
    /// The paths of the files that would have changed; not known, where nothing is said.
    pub changed: Option<Vec<String>>,
    /// The value of each input.
    #[serde(default)]
    pub inputs: BTreeMap<String, String>,
}

/// What a start would make of a pipeline.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanView {
    /// Why no run would begin; nothing when one would.
    pub nothing: Option<String>,
    /// Whether it would stop older runs of its branch.
    pub supersede: bool,
    /// The stages, in order.
    pub stages: Vec<PlannedStageView>,
    /// Faults of the pipeline file; there is then nothing else.
    pub faults: Vec<Fault>,
    /// Rollouts that the environments' rules would not let through, each with why and what to do.
    #[serde(default)]
    pub refused: Vec<PreflightFault>,
}

/// A stage of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlannedStageView {
    /// Its name.
    pub name: String,
    /// What it asks a person.
    pub approval: Option<String>,
    /// What it holds against other runs of the project.
    pub exclusive: Option<String>,
    /// Its jobs.
    pub jobs: Vec<PlannedJobView>,
}

/// A job of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlannedJobView {
    /// `STAGE/JOB`.
    pub job: String,
    /// `job`, `image` or `rollout`.
    pub kind: String,
    /// Why it is left out; nothing when it is not.
    pub left_out: Option<String>,
    /// The jobs that must be over before it begins.
    pub after: Vec<String>,
    /// `passed`, `failed` or `any`: how these, and earlier stages, must have ended.
    pub required_result: String,
    /// Its values of the matrix.
    pub matrix: BTreeMap<String, String>,
    /// The pool that its runner must be of.
    pub pool: Option<String>,
    /// The programs that its runner must have.
    pub tools: Vec<String>,
    /// The platform whose programs its runner must run.
    pub platform: Option<String>,
    /// How often it is tried again.
    pub retry: u32,
    /// Whether the stage passes when it fails.
    pub may_fail: bool,
    /// What it holds against other jobs of the project.
    pub locks: Vec<String>,
    /// What it does, in a few words.
    pub what: String,
}

impl PlanView {
    /// A plan, and why it would not begin.
    #[must_use]
    pub fn new(plan: &Plan, nothing: Option<String>) -> Self {
        let stages = plan.stages.iter().map(PlannedStageView::from).collect();
        Self {
            nothing: nothing.or_else(|| plan.nothing_to_do()),
            supersede: plan.supersede,
            stages,
            faults: Vec::new(),
            refused: Vec::new(),
        }
    }

    /// No plan, for a file with faults.
    #[must_use]
    pub fn faulty(faults: Vec<Fault>) -> Self {
        let nothing = Some("the pipeline file is faulty".to_owned());
        Self { nothing, supersede: false, stages: Vec::new(), faults, refused: Vec::new() }
    }
}

impl From<&PlannedStage> for PlannedStageView {
    fn from(stage: &PlannedStage) -> Self {
        Self {
            name: stage.name.clone(),
            approval: stage.approval.as_ref().map(|approval| approval.question.clone()),
            exclusive: stage.exclusive.clone(),
            jobs: stage.jobs.iter().map(PlannedJobView::from).collect(),
        }
    }
}

impl From<&PlannedJob> for PlannedJobView {
    fn from(job: &PlannedJob) -> Self {
        let required = RequiredResult::WORDS.iter().find(|(_, value)| *value == job.required_result);
        Self {
            job: job.key.to_string(),
            kind: job.kind.word().to_owned(),
            left_out: job.left_out.clone(),
            after: job.after.iter().map(ToString::to_string).collect(),
            required_result: required.map_or("passed", |(word, _)| word).to_owned(),
            matrix: job.matrix.clone(),
            pool: job.needs.pool.clone(),
            tools: job.needs.tools.clone(),
            platform: job.needs.platform.clone(),
            retry: job.retry.times,
            may_fail: job.may_fail,
            locks: job.locks.clone(),
            what: what(job),
        }
    }
}

fn what(job: &PlannedJob) -> String {
    match &job.kind {
        JobKind::Steps(job) => {
            let steps = if job.steps.len() == 1 { "1 step".to_owned() } else { format!("{} steps", job.steps.len()) };
            match &job.file_system {
                FileSystem::Image(image) => format!("{steps} in {}", image.value),
                FileSystem::Built(image) => format!("{steps} in the image {}", image.value),
                FileSystem::Host => format!("{steps} on the runner's machine"),
            }
        }
        JobKind::Image(image) => {
            let pushes: Vec<_> = image.pushes.iter().map(|push| push.repository.to_string()).collect();
            let what = match job.parts.len() {
                0 => image.recipe.clone(),
                count => format!("an index of {count} images"),
            };
            format!("{what} to {}", pushes.join(", "))
        }
        JobKind::Rollout(job) => format!("image {} to {}", job.image.value, job.to.value),
    }
}
