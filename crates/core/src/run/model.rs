//! A run's state.

use super::{JobResult, JobUsage, Jobs, PreflightFault, StepEnd};
use crate::access::Gate;
use crate::pipeline::{Approval, JobKind, RequiredResult, Retry};
use crate::plan::{Plan, PlannedJob, PlannedStage};
use crate::{JobKey, State, Time};

/// One passage of a commit through its pipeline.
#[derive(Clone, Debug, PartialEq)]
pub struct Run {
    /// Where it stands.
    pub state: State,
    /// Its stages, in order.
    pub stages: Vec<StageRun>,
    /// When it began.
    pub started: Option<Time>,
    /// When it was over.
    pub ended: Option<Time>,
    /// Who asked to stop it.
    pub stopped_by: Option<String>,
    /// Whether what it needs is being looked at, and its first stage has not begun yet.
    pub in_preflight: bool,
    /// What it needed and was not there.
    pub missing: Vec<PreflightFault>,
}

/// A stage of a run.
#[derive(Clone, Debug, PartialEq)]
pub struct StageRun {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub state: State,
    /// The yes that it waits for.
    pub approval: Option<Approval>,
    /// When it began to wait for it.
    pub asked: Option<Time>,
    /// Those that the environments want which it goes to.
    pub gates: Vec<Gate>,
    /// Who said yes or no, and which, in their order.
    pub answers: Vec<Answer>,
    /// What it holds against other runs of the project while it goes on.
    pub exclusive: Option<String>,
    /// Its jobs, in order.
    pub jobs: Jobs,
}

/// Something that one stage or job at a time may hold among all runs of a project.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Hold {
    /// Its name.
    pub lock: String,
    /// The stage.
    pub stage: String,
    /// The job that holds it for itself; nothing where its whole stage does.
    pub job: Option<JobKey>,
}

/// What was answered to an approval.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Whether it was yes.
    pub yes: bool,
    /// Who said it; `nobody`, when the time for an answer was over.
    pub by: String,
    /// The teams that they were of then, where that is known.
    pub teams: Option<Vec<String>>,
    /// When.
    pub at: Time,
}

/// A job of a run.
#[derive(Clone, Debug, PartialEq)]
pub struct JobRun {
    /// Its key.
    pub key: JobKey,
    /// The word that declares its kind: `job`, `image` or `rollout`.
    pub kind: &'static str,
    /// Where it stands.
    pub state: State,
    /// Why, where that is not plain.
    pub reason: Option<String>,
    /// The jobs of its stage that must be over before it begins.
    pub after: Vec<JobKey>,
    /// How these, and earlier stages, must have ended.
    pub required_result: RequiredResult,
    /// Whether it is tried again.
    pub retry: Retry,
    /// Whether the stage may pass when it fails.
    pub may_fail: bool,
    /// What it holds against other jobs of the project while it runs.
    pub locks: Vec<String>,
    /// Whether it was skipped because something before it did not pass.
    pub barred: bool,
    /// How often it was tried and failed before.
    pub attempts: Vec<Attempt>,
    /// Who has it, or had it.
    pub runner: Option<String>,
    /// When it could have begun: its turn came.
    pub queued: Option<Time>,
    /// When it was taken.
    pub started: Option<Time>,
    /// When everything that it needs was there: the commit's files, its image, its services, its caches.
    pub prepared: Option<Time>,
    /// When it ended.
    pub ended: Option<Time>,
    /// What its processes used, once it has ended.
    pub usage: Option<JobUsage>,
    /// Its steps, in order.
    pub steps: Vec<StepRun>,
    /// What it made.
    pub results: Vec<JobResult>,
}

/// A time that a job was tried, and is tried again after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// How it ended.
    pub state: State,
    /// Why.
    pub reason: Option<String>,
    /// Who had it.
    pub runner: Option<String>,
    /// When it was taken.
    pub started: Option<Time>,
    /// When it ended.
    pub ended: Time,
}

/// A step of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct StepRun {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub state: State,
    /// Whether the job goes on when it fails.
    pub may_fail: bool,
    /// When it began.
    pub started: Option<Time>,
    /// When it ended.
    pub ended: Option<Time>,
    /// How it ended.
    pub end: Option<StepEnd>,
    /// Where its part of the job's log begins, in bytes.
    pub log_start: u64,
    /// Where its part of the job's log ends; not known while it runs.
    pub log_end: Option<u64>,
}

/// The steps that the server itself gives to jobs that the pipeline declares by kind.
const IMAGE_STEPS: [&str; 2] = ["build", "push"];
const ROLLOUT_STEPS: [&str; 2] = ["apply", "wait"];

impl Run {
    /// A run of a plan that has not begun.
    #[must_use]
    pub fn new(plan: &Plan) -> Self {
        let stages = plan.stages.iter().map(StageRun::new).collect();
        Self {
            state: State::Queued,
            stages,
            started: None,
            ended: None,
            stopped_by: None,
            in_preflight: false,
            missing: Vec::new(),
        }
    }

    /// Every job, in order.
    pub fn jobs(&self) -> impl Iterator<Item = &JobRun> {
        self.stages.iter().flat_map(|stage| stage.jobs.iter())
    }

    /// The job with this key.
    #[must_use]
    pub fn job(&self, key: &JobKey) -> Option<&JobRun> {
        self.stages.iter().find(|stage| stage.name == key.stage())?.jobs.get(key)
    }

    /// Where the job with this key is: the places of its stage and of itself, which are those in the plan too.
    #[must_use]
    pub fn place(&self, key: &JobKey) -> Option<(usize, usize)> {
        let at = self.stages.iter().position(|stage| stage.name == key.stage())?;
        Some((at, self.stages[at].jobs.place(key)?))
    }

    /// The first job that failed the run, or else any that failed, and its step that did, if one did.
    #[must_use]
    pub fn first_failure(&self) -> Option<(&JobRun, Option<(usize, &StepRun)>)> {
        let job = self.stages.iter().find_map(|stage| stage.jobs.failed().next())?;
        Some((job, job.steps.iter().enumerate().find(|(_, step)| step.state == State::Failed && !step.may_fail)))
    }

    /// What this run holds against others of its project: what stages hold from their first job's
    /// beginning to their end, and what jobs hold while they run.
    #[must_use]
    pub fn locks_held(&self) -> Vec<Hold> {
        let mut holds = Vec::new();
        for stage in &self.stages {
            let begun = stage.jobs.have_begun();
            if let Some(lock) = stage.exclusive.as_ref().filter(|_| begun && !stage.state.is_over()) {
                holds.push(Hold { lock: lock.clone(), stage: stage.name.clone(), job: None });
            }
            for job in stage.jobs.running() {
                let of_job =
                    |lock: &String| Hold { lock: lock.clone(), stage: stage.name.clone(), job: Some(job.key.clone()) };
                holds.extend(job.locks.iter().map(of_job));
            }
        }
        holds
    }

    /// What a job needs to hold before it can begin.
    #[must_use]
    pub fn locks_wanted(&self, key: &JobKey) -> Vec<Hold> {
        let Some(stage) = self.stages.iter().find(|stage| stage.name == key.stage()) else { return Vec::new() };
        let of_stage = stage.exclusive.iter().map(|lock| (lock, None));
        let of_job = stage.jobs.get(key).into_iter().flat_map(|job| job.locks.iter().map(|lock| (lock, Some(key))));
        let hold = |(lock, job): (&String, Option<&JobKey>)| Hold {
            lock: lock.clone(),
            stage: stage.name.clone(),
            job: job.cloned(),
        };
        of_stage.chain(of_job).map(hold).collect()
    }
}

impl StageRun {
    /// Whether anybody's yes is wanted before it begins.
    #[must_use]
    pub const fn asks(&self) -> bool {
        self.approval.is_some() || !self.gates.is_empty()
    }

    /// The no that ends it, where somebody said that.
    #[must_use]
    pub fn no(&self) -> Option<&Answer> {
        self.answers.iter().find(|answer| !answer.yes)
    }

    /// Whether what the pipeline file asks is answered with yes by somebody whose answer counts.
    #[must_use]
    pub fn is_approved(&self) -> bool {
        let counts = |answer: &Answer| match (&answer.teams, &self.approval) {
            (Some(teams), Some(approval)) => approval.is_for(&answer.by, teams),
            // It was looked at when it was given.
            (None, _) | (_, None) => true,
        };
        self.approval.is_none() || self.answers.iter().any(|answer| answer.yes && counts(answer))
    }

    /// The gates that are still closed.
    pub fn closed_gates(&self) -> impl Iterator<Item = &Gate> {
        self.gates.iter().filter(|gate| !gate.is_open(self.yes()))
    }

    /// Who said yes, and the teams that they were of.
    pub fn yes(&self) -> impl Iterator<Item = (&str, &[String])> {
        let yes = self.answers.iter().filter(|answer| answer.yes);
        yes.map(|answer| (answer.by.as_str(), answer.teams.as_deref().unwrap_or_default()))
    }

    fn new(stage: &PlannedStage) -> Self {
        Self {
            name: stage.name.clone(),
            state: State::Queued,
            approval: stage.approval.clone(),
            asked: None,
            gates: stage.gates.clone(),
            answers: Vec::new(),
            exclusive: stage.exclusive.clone(),
            jobs: stage.jobs.iter().map(JobRun::new).collect(),
        }
    }
}

impl JobRun {
    fn new(job: &PlannedJob) -> Self {
        let steps: Vec<StepRun> = match &job.kind {
            JobKind::Steps(job) => job.steps.iter().map(|step| StepRun::new(&step.name, step.may_fail)).collect(),
            JobKind::Image(_) => IMAGE_STEPS.iter().map(|name| StepRun::new(name, false)).collect(),
            JobKind::Rollout(_) => ROLLOUT_STEPS.iter().map(|name| StepRun::new(name, false)).collect(),
        };
        Self {
            key: job.key.clone(),
            kind: job.kind.word(),
            state: if job.left_out.is_some() { State::Skipped } else { State::Queued },
            reason: job.left_out.clone(),
            after: job.after.clone(),
            required_result: job.required_result,
            retry: job.retry,
            may_fail: job.may_fail,
            locks: job.locks.clone(),
            barred: false,
            attempts: Vec::new(),
            runner: None,
            queued: None,
            started: None,
            prepared: None,
            usage: None,
            ended: None,
            steps,
            results: Vec::new(),
        }
    }

    /// Which time this is, from 1.
    #[must_use]
    pub fn attempt(&self) -> u32 {
        u32::try_from(self.attempts.len()).unwrap_or(u32::MAX).saturating_add(1)
    }

    /// When something happened in it that is told `ago` milliseconds later: after what happened in it before, unless
    /// the clock was set back since.
    #[must_use]
    pub fn moment(&self, now: Time, ago: u64) -> Time {
        let steps = self.steps.iter().flat_map(|step| [step.started, step.ended]);
        let latest = steps.chain([self.started, self.prepared]).flatten().max();
        let moment = now.plus_millis(i64::try_from(ago).unwrap_or(i64::MAX).saturating_neg());
        latest.filter(|latest| *latest <= now).map_or(now, |latest| latest.max(moment))
    }

    /// Whether it is not decided yet whether it begins.
    pub(super) fn is_unsettled(&self) -> bool {
        self.state == State::Queued && self.queued.is_none()
    }

    /// Whether it fails the run.
    pub(super) fn fails_the_run(&self) -> bool {
        matches!(self.state, State::Failed | State::Lost) && !self.may_fail
    }

    /// Whether it began, now or before.
    pub(super) fn has_begun(&self) -> bool {
        self.started.is_some() || !self.attempts.is_empty()
    }

    /// Whether what comes after can begin with this job as it ended.
    pub(super) fn is_well(&self) -> bool {
        match self.state {
            State::Failed | State::Lost => self.may_fail,
            State::Skipped => !self.barred,
            state => state == State::Passed,
        }
    }
}

impl StepRun {
    fn new(name: &str, may_fail: bool) -> Self {
        Self {
            name: name.to_owned(),
            state: State::Queued,
            may_fail,
            started: None,
            ended: None,
            end: None,
            log_start: 0,
            log_end: None,
        }
    }

    /// The same step, before it began.
    pub(super) fn anew(&self) -> Self {
        Self::new(&self.name, self.may_fail)
    }

    /// Whether the job can pass with this step as it ended.
    pub(super) fn is_well(&self) -> bool {
        self.state == State::Passed || self.may_fail && self.state == State::Failed
    }
}
