//! Runs, as people and programs see them.

use std::collections::BTreeMap;

use pondrix_core::access::Gate;
use pondrix_core::pipeline::{Fault, StartKind};
use pondrix_core::run::{Attempt, JobResult, JobRun, JobUsage, PreflightFault, Run, StageRun, StepEnd, StepRun};
use pondrix_core::{State, Time};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A run in a list.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    /// `PROJECT#NUMBER`.
    pub run: String,
    /// The project.
    pub project: String,
    /// The number in its project.
    pub number: u64,
    /// Where it stands.
    pub state: State,
    /// Why it began.
    pub start: StartKind,
    /// The branch; empty for a run that a tag started.
    pub branch: String,
    /// The tag that started it.
    pub tag: Option<String>,
    /// The number of the run that it does again.
    pub rerun_of: Option<u64>,
    /// Who started it by hand, where somebody did.
    #[serde(default)]
    pub by: Option<String>,
    /// The commit's full id.
    pub commit: String,
    /// The first line of the commit's message.
    pub title: String,
    /// Who wrote the commit.
    pub author: String,
    /// When the run was created.
    #[schema(value_type = String, format = DateTime)]
    pub created: Time,
    /// When it began.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started: Option<Time>,
    /// When it was over.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Time>,
    /// What it is doing, or why it ended so, in a few words.
    pub note: Option<String>,
}

/// A page of runs, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunPage {
    /// The runs.
    pub runs: Vec<RunSummary>,
    /// Ask with `before` of this for the next page; nothing when this is the last.
    pub next: Option<String>,
}

/// A run, whole.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunDetail {
    /// As in a list.
    #[serde(flatten)]
    pub summary: RunSummary,
    /// Its stages, in order.
    pub stages: Vec<StageView>,
    /// Faults of its pipeline file; then nothing ran.
    pub faults: Vec<Fault>,
    /// What it needs and was not there; then nothing ran.
    pub missing: Vec<PreflightFault>,
    /// Who stopped it.
    pub stopped_by: Option<String>,
    /// What broke, when something did.
    pub failure: Option<FailureView>,
    /// The templates that its pipeline used.
    pub templates: Vec<TemplateUse>,
    /// How many events made it what it is; grows with every change.
    pub version: u64,
}

/// What changed of a run, as an event of its stream. What is not named is as it was.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunUpdate {
    /// As in a list.
    #[serde(flatten)]
    pub summary: RunSummary,
    /// The stages that changed, each with those of its jobs that did.
    pub stages: Vec<StageView>,
    /// What it needs and was not there; then nothing ran.
    pub missing: Vec<PreflightFault>,
    /// Who stopped it.
    pub stopped_by: Option<String>,
    /// What broke, when something did.
    pub failure: Option<FailureView>,
    /// How many events made it what it is.
    pub version: u64,
}

impl RunDetail {
    /// Makes it what it is after an update.
    pub fn update(&mut self, update: RunUpdate) {
        let RunUpdate { summary, stages, missing, stopped_by, failure, version } = update;
        (self.summary, self.missing, self.stopped_by) = (summary, missing, stopped_by);
        (self.failure, self.version) = (failure, version);
        for now in stages {
            let Some(stage) = self.stages.iter_mut().find(|stage| stage.name == now.name) else { continue };
            (stage.state, stage.approval) = (now.state, now.approval);
            for now in now.jobs {
                if let Some(job) = stage.jobs.iter_mut().find(|job| job.job == now.job) {
                    *job = now;
                }
            }
        }
    }
}

/// A template that a run's pipeline used.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TemplateUse {
    /// Which, in which version.
    pub template: String,
    /// The commit that the version meant.
    pub commit: String,
    /// The SHA-256 of its text, in hexadecimal.
    pub digest: String,
    /// The last run of the project in which it was another, under the same name and version.
    pub changed_since: Option<u64>,
}

/// A template.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TemplateText {
    /// Its text.
    pub text: String,
    /// The commit that its version means.
    pub commit: String,
}

/// A stage of a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StageView {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub state: State,
    /// The yes that it waits for, or waited for.
    pub approval: Option<ApprovalView>,
    /// Its jobs.
    pub jobs: Vec<JobView>,
}

/// A person's yes that a stage waits for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ApprovalView {
    /// What is asked.
    pub question: String,
    /// The person or the group whose answer counts; anybody's where nothing is said.
    pub whose: Option<String>,
    /// When it was asked.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub asked: Option<Time>,
    /// Until when an answer counts.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Time>,
    /// What was answered.
    pub yes: Option<bool>,
    /// Who answered.
    pub by: Option<String>,
    /// When.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub answered: Option<Time>,
    /// Who has said yes so far.
    #[serde(default)]
    pub said_yes: Vec<String>,
}

/// A job of a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct JobView {
    /// `STAGE/JOB`.
    pub job: String,
    /// `job`, `image` or `rollout`.
    pub kind: String,
    /// Where it stands.
    pub state: State,
    /// Why, where that is not plain; of a job that waits, what for.
    pub reason: Option<String>,
    /// The jobs that had to be over before it began.
    pub after: Vec<String>,
    /// Whether the stage passes when it fails.
    pub may_fail: bool,
    /// Which attempt it is, from 1.
    pub attempt: u32,
    /// The attempts before.
    pub attempts: Vec<AttemptView>,
    /// Who has it.
    pub runner: Option<String>,
    /// When its turn came.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub queued: Option<Time>,
    /// When it was taken.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started: Option<Time>,
    /// When everything that it needs was there: the commit's files, its image, its services, its caches.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub prepared: Option<Time>,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Time>,
    /// What its processes used, once it has ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<JobUsage>,
    /// Its steps.
    pub steps: Vec<StepView>,
    /// What it made.
    pub results: Vec<JobResult>,
}

impl JobView {
    /// Where its time went as far as it has gone, each part with its name, in milliseconds: `waiting` for its turn at
    /// a runner, `preparing` what it needs, `running` its steps, and `reporting` what they left. `now` ends the part
    /// that goes on.
    #[must_use]
    pub fn phases(&self, now: Time) -> Vec<(&'static str, u64)> {
        let mut phases = Vec::new();
        let Some(queued) = self.queued else { return phases };
        let end = self.ended.unwrap_or(now);
        phases.push(("waiting", self.started.unwrap_or(end).since(queued)));
        let Some(started) = self.started else { return phases };
        phases.push(("preparing", self.prepared.unwrap_or(end).since(started)));
        let Some(prepared) = self.prepared else { return phases };
        let last = self.steps.iter().filter_map(|step| step.ended).max();
        let is_done = self.steps.iter().all(|step| step.state.is_over());
        let done = last.filter(|_| is_done).unwrap_or(end).max(prepared);
        phases.push(("running", done.since(prepared)));
        if is_done {
            phases.push(("reporting", end.since(done)));
        }
        phases
    }
}

/// An attempt at a job that another one followed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AttemptView {
    /// How it ended.
    pub state: State,
    /// Why.
    pub reason: Option<String>,
    /// Who had it.
    pub runner: Option<String>,
    /// When it was taken.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started: Option<Time>,
    /// When it ended.
    #[schema(value_type = String, format = DateTime)]
    pub ended: Time,
}

/// A step of a job.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StepView {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub state: State,
    /// Whether the job goes on when it fails.
    pub may_fail: bool,
    /// When it began.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started: Option<Time>,
    /// When it ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Time>,
    /// How it ended.
    pub end: Option<StepEnd>,
    /// Where its part of the job's log begins, in bytes.
    pub log_start: u64,
    /// Where it ends, when it has.
    pub log_end: Option<u64>,
}

/// What broke in a run, on one screen.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FailureView {
    /// The job.
    pub job: String,
    /// The step, when one did.
    pub step: Option<String>,
    /// What happened, in words.
    pub what: String,
    /// The last lines of the step's log.
    pub last_lines: Vec<String>,
    /// The command that tells more.
    pub next: String,
}

/// A run by hand.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StartRequest {
    /// The branch whose newest commit shall run; `main` where neither it nor a tag is named.
    pub branch: Option<String>,
    /// The tag whose commit shall run.
    pub tag: Option<String>,
    /// The value of each input of the pipeline.
    #[serde(default)]
    pub inputs: BTreeMap<String, String>,
}

/// What is known of files that are to be tried.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryRequest {
    /// The branch that is checked out.
    pub branch: String,
    /// The commit that they come after.
    pub commit: String,
    /// When that was made.
    #[schema(value_type = String, format = DateTime)]
    pub commit_time: Time,
    /// What they are, for people.
    pub title: String,
    /// Whose they are.
    pub author: String,
    /// The value of each input of the pipeline.
    #[serde(default)]
    pub inputs: BTreeMap<String, String>,
}

/// A run again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RerunRequest {
    /// Everything; else what did not pass, and what passed keeps its results.
    #[serde(default)]
    pub all: bool,
}

/// An answer to the approval that a stage of a run waits for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AnswerRequest {
    /// The stage that was asked for. An answer is good for this one and no other.
    pub stage: String,
    /// Whether it is yes.
    pub yes: bool,
}

/// A stop.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StopRequest {}

/// An event of a connection that several streams share.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StreamEvent {
    /// The key that the follower gave to the stream.
    pub key: String,
    /// The event's kind: those of the stream alone, or `refused`, whose data is a problem.
    pub kind: String,
    /// Its id, to resume after it.
    pub id: String,
    /// Its data, as in the stream alone.
    #[schema(value_type = Object)]
    pub data: Box<serde_json::value::RawValue>,
}

/// A change of a run, as an event of a stream. The stream's event ids can be resumed from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// The run as it is now.
    pub run: RunSummary,
}

/// A piece of a log, as an event of a stream. The event's id is the offset after it, in bytes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogText {
    /// The text. Bytes that are no UTF-8 are shown as U+FFFD.
    pub text: String,
}

/// The end of a log, as the last event of a stream.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LogEnd {
    /// Where the job stands.
    pub state: State,
}

impl StageView {
    /// The stages of a run.
    #[must_use]
    pub fn all(run: &Run) -> Vec<Self> {
        let with_all = |stage: &StageRun| Self::with_jobs(stage, stage.jobs.iter().map(JobView::from).collect());
        run.stages.iter().map(with_all).collect()
    }

    /// A stage with these of its jobs.
    #[must_use]
    pub fn with_jobs(stage: &StageRun, jobs: Vec<JobView>) -> Self {
        let approval = stage.asks().then(|| approval(stage));
        Self { name: stage.name.clone(), state: stage.state, approval, jobs }
    }
}

/// What a stage asks: what its file does, and what the environments do that it goes to.
fn approval(stage: &StageRun) -> ApprovalView {
    let own = stage.approval.as_ref();
    let environments: Vec<_> = stage.gates.iter().map(|gate| gate.environment.as_str()).collect();
    let question =
        own.map_or_else(|| format!("Roll out to {}?", environments.join(" and ")), |own| own.question.clone());
    // While it waits, whose answer is still wanted; afterwards, whose was.
    let waits = stage.state == State::Waiting;
    let of_file = own.filter(|_| !waits || !stage.is_approved()).and_then(|own| own.by.clone());
    let is_wanted = |gate: &&Gate| !waits || !gate.is_open(stage.yes());
    let of_gates =
        stage.gates.iter().filter(is_wanted).map(|gate| format!("{} for {}", gate.whose(), gate.environment));
    let whose: Vec<_> = of_file.into_iter().chain(of_gates).collect();
    let until = stage.asked.zip(own.and_then(|own| own.within));
    // The one that decided it: a no, or the last yes of those that were wanted.
    let answer = stage.no().or_else(|| stage.answers.last().filter(|_| !waits));
    ApprovalView {
        question,
        whose: (!whose.is_empty()).then(|| whose.join(", and ")),
        asked: stage.asked,
        until: until.map(|(at, within)| at.plus_millis(i64::from(within.seconds()) * 1000)),
        yes: answer.map(|answer| answer.yes),
        by: answer.map(|answer| answer.by.clone()),
        answered: answer.map(|answer| answer.at),
        said_yes: stage.yes().map(|(name, _)| name.to_owned()).collect(),
    }
}

impl From<&JobRun> for JobView {
    fn from(job: &JobRun) -> Self {
        Self {
            job: job.key.to_string(),
            kind: job.kind.to_owned(),
            state: job.state,
            reason: job.reason.clone(),
            after: job.after.iter().map(ToString::to_string).collect(),
            may_fail: job.may_fail,
            attempt: job.attempt(),
            attempts: job.attempts.iter().map(AttemptView::from).collect(),
            runner: job.runner.clone(),
            queued: job.queued,
            started: job.started,
            prepared: job.prepared,
            usage: job.usage,
            ended: job.ended,
            steps: job.steps.iter().map(StepView::from).collect(),
            results: job.results.clone(),
        }
    }
}

impl From<&Attempt> for AttemptView {
    fn from(one: &Attempt) -> Self {
        let Attempt { state, reason, runner, started, ended } = one.clone();
        Self { state, reason, runner, started, ended }
    }
}

impl From<&StepRun> for StepView {
    fn from(step: &StepRun) -> Self {
        Self {
            name: step.name.clone(),
            state: step.state,
            may_fail: step.may_fail,
            started: step.started,
            ended: step.ended,
            end: step.end,
            log_start: step.log_start,
            log_end: step.log_end,
        }
    }
}
