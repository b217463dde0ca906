//! What can happen to a run, and what is then to be done.

use serde::{Deserialize, Serialize};

use crate::image::{Digest, Repository, Tag};
use crate::junit::Report;
use crate::{JobKey, RunId, State, Time};

/// Something that happened. Stored as it is, in order; a run is what its events make of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A job passed in an earlier run, of which this one does the rest again.
    Carried {
        /// The job.
        job: JobKey,
        /// The earlier run.
        from: RunId,
        /// What it made there.
        results: Vec<JobResult>,
    },
    /// The run begins with the proof that it can finish.
    PreflightBegan,
    /// Something that the run needs is not there. Nothing of it runs.
    PreflightFailed {
        /// All of it.
        missing: Vec<PreflightFault>,
    },
    /// The run's first stage begins.
    Began,
    /// A runner, or the server itself, took a job.
    JobTaken {
        /// The job.
        job: JobKey,
        /// Who took it.
        runner: String,
    },
    /// Everything that a job needs is there: its first step begins.
    JobPrepared {
        /// The job.
        job: JobKey,
    },
    /// A job that was taken never reached whoever took it, and waits again.
    JobReturned {
        /// The job.
        job: JobKey,
    },
    /// A step begins.
    StepStarted {
        /// The job.
        job: JobKey,
        /// The step, from 0.
        step: usize,
        /// How long the job's log was then, in bytes.
        log: u64,
    },
    /// A step ended.
    StepEnded {
        /// The job.
        job: JobKey,
        /// The step, from 0.
        step: usize,
        /// How it ended.
        end: StepEnd,
        /// How long the job's log was then, in bytes.
        log: u64,
    },
    /// A job made something that others use.
    ResultAdded {
        /// The job.
        job: JobKey,
        /// What it made.
        result: JobResult,
    },
    /// A job ended.
    JobEnded {
        /// The job.
        job: JobKey,
        /// How.
        outcome: Outcome,
        /// Why, where that is not plain from its steps.
        reason: Option<String>,
        /// What its processes used, as far as its runner could measure it.
        usage: Option<JobUsage>,
    },
    /// Somebody answered a stage's approval, or the time for an answer was over.
    Answered {
        /// The stage.
        stage: String,
        /// Whether the answer was yes.
        yes: bool,
        /// Who gave it; `nobody`, when the time was over.
        by: String,
        /// The teams that they were of then; nothing in records of a time when nobody asked.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        teams: Option<Vec<String>>,
    },
    /// Somebody asked to stop the run.
    StopAsked {
        /// Who.
        by: String,
    },
}

/// Something that a run needs and that is not there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PreflightFault {
    /// The job that needs it.
    pub job: String,
    /// What is wrong.
    pub what: String,
    /// What mends it: a command, where there is one.
    pub fix: String,
}

/// What the processes of a job used together, by the control group of the job. The kernel of a runner may not measure
/// everything.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JobUsage {
    /// Peak memory, in bytes, with the page cache of its files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// CPU time, in milliseconds, of all CPUs together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu_millis: Option<u64>,
    /// Peak number of processes and threads, including the sandbox itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes: Option<u64>,
    /// Bytes read from disks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read: Option<u64>,
    /// Bytes written to disks. Control groups of version 1 do not count writes that the kernel delays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<u64>,
}

/// How a step ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepEnd {
    /// With this exit status; 0 is well.
    Exit(i32),
    /// By this signal.
    Signal(i32),
    /// The job's time was over.
    TimedOut,
    /// The run was stopped.
    Stopped,
    /// It could not be begun.
    NotStarted,
}

/// How a job ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Well.
    Passed,
    /// Badly.
    Failed,
    /// By the run's stop.
    Stopped,
    /// Its runner vanished.
    Lost,
}

/// What an image was built on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BaseImage {
    /// The name that its recipe gives it, with the registry.
    pub name: String,
    /// The digest that this name meant.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub digest: Digest,
}

/// Something that a job made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum JobResult {
    /// An image in a registry.
    Image {
        /// The repository.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        repository: Repository,
        /// The manifest's digest.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        digest: Digest,
        /// The tags it was given.
        #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
        tags: Vec<Tag>,
        /// What it was built on; nothing for an image from scratch.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        base: Option<BaseImage>,
        /// What it is for, where it is an index of images for several platforms.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        platforms: Vec<String>,
    },
    /// A text that later jobs see.
    Output {
        /// Its name.
        name: String,
        /// The text.
        value: String,
    },
    /// Files that later jobs can fetch, and people.
    Artifact {
        /// Their name.
        name: String,
        /// How many there are.
        count: u64,
        /// How long they are together, in bytes.
        bytes: u64,
        /// Until when they are kept.
        #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
        until: Time,
    },
    /// What test reports say.
    Tests {
        /// That.
        report: Report,
    },
    /// An environment that runs an image now.
    Release {
        /// The environment.
        environment: String,
        /// The image, by digest.
        image: String,
        /// The tag that was pushed with it, for people.
        tag: Option<String>,
        /// Where people reach the application, when the environment says.
        address: Option<String>,
    },
}

/// What is to be done after an event. Doing one twice does no harm.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Effect {
    /// What the run needs is to be looked at.
    Preflight,
    /// A job waits for a runner.
    Offer(JobKey),
    /// A rollout is for the server to carry out.
    RollOut(JobKey),
    /// Whoever has this job shall end it.
    Halt(JobKey),
    /// The run is over.
    Over(State),
}

impl StepEnd {
    /// The state of a step that ended so.
    #[must_use]
    pub const fn state(self) -> State {
        match self {
            Self::Exit(0) => State::Passed,
            Self::Exit(_) | Self::Signal(_) | Self::TimedOut | Self::NotStarted => State::Failed,
            Self::Stopped => State::Stopped,
        }
    }

    /// How it ended, in words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Exit(status) => format!("exit status {status}"),
            Self::Signal(9) => "killed (signal 9)".to_owned(),
            Self::Signal(signal) => format!("ended by signal {signal}"),
            Self::TimedOut => "out of time".to_owned(),
            Self::Stopped => "stopped".to_owned(),
            Self::NotStarted => "could not be started".to_owned(),
        }
    }
}

impl Outcome {
    /// The state of a job that ended so.
    #[must_use]
    pub const fn state(self) -> State {
        match self {
            Self::Passed => State::Passed,
            Self::Failed => State::Failed,
            Self::Stopped => State::Stopped,
            Self::Lost => State::Lost,
        }
    }
}
