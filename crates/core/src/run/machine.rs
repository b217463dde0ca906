//! How a run changes.

use super::jobs::Changing;
use super::model::{Answer, Attempt, JobRun, Run, StageRun, StepRun};
use super::{Effect, Event, Outcome, StepEnd};
use crate::{JobKey, State, Time};

/// Why an event cannot happen to a run as it stands. A repeated report is refused like any other
/// impossible one, so that reporting twice does no harm.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// No such job or step.
    #[error("the run has no `{0}`")]
    Unknown(String),
    /// It happened before, or its time has not come or is over.
    #[error("`{what}` is {state}")]
    NotNow {
        /// What it would have happened to.
        what: String,
        /// Where that stands.
        state: State,
    },
}

impl Run {
    /// Changes the run by an event that happened at `now`, and says what is to be done.
    ///
    /// # Errors
    /// When the event cannot happen to the run as it stands; the run is then unchanged.
    pub fn apply(&mut self, event: &Event, now: Time) -> Result<Vec<Effect>, Refused> {
        match event {
            Event::Carried { job, from, results } => {
                self.only_when(self.state == State::Queued)?;
                let mut job = self.job_in(job, State::Queued, |_| true)?;
                job.state = State::Passed;
                job.reason = Some(format!("passed in {from}"));
                job.results = results.clone();
                job.steps.iter_mut().for_each(|step| step.state = State::Skipped);
                Ok(Vec::new())
            }
            Event::PreflightBegan => {
                self.only_when(self.state == State::Queued)?;
                self.state = State::Running;
                self.started = Some(now);
                self.in_preflight = true;
                Ok(vec![Effect::Preflight])
            }
            Event::PreflightFailed { missing } => {
                self.only_when(self.in_preflight)?;
                self.in_preflight = false;
                self.missing = missing.clone();
                Ok(self.go_on(now))
            }
            Event::Began => {
                self.only_when(self.state == State::Queued || self.in_preflight)?;
                self.state = State::Running;
                self.started = self.started.or(Some(now));
                self.in_preflight = false;
                Ok(self.go_on(now))
            }
            Event::StopAsked { by } => self.stop(by, now),
            Event::Answered { stage, yes, by, teams } => {
                self.answer(stage, Answer { yes: *yes, by: by.clone(), teams: teams.clone(), at: now })
            }
            Event::JobTaken { job, runner } => {
                let mut job = self.job_in(job, State::Queued, |job| job.queued.is_some())?;
                job.state = State::Running;
                job.runner = Some(runner.clone());
                job.started = Some(now);
                Ok(Vec::new())
            }
            Event::JobPrepared { job } => {
                let mut job = self.job_in(job, State::Running, |job| job.prepared.is_none())?;
                job.prepared = Some(now);
                Ok(Vec::new())
            }
            Event::JobReturned { job } => {
                let unbegun =
                    |job: &JobRun| job.prepared.is_none() && job.steps.iter().all(|step| step.state == State::Queued);
                let mut job = self.job_in(job, State::Running, unbegun)?;
                job.state = State::Queued;
                job.runner = None;
                job.started = None;
                job.prepared = None;
                let offer = offer(&job);
                drop(job);
                Ok(if self.stopped_by.is_some() { self.go_on(now) } else { vec![offer] })
            }
            Event::StepStarted { job, step, log } => {
                let earlier_are_well = |job: &JobRun| job.steps.iter().take(*step).all(StepRun::is_well);
                let mut job = self.job_in(job, State::Running, earlier_are_well)?;
                let step = step_in(&mut job, *step, State::Queued)?;
                step.state = State::Running;
                step.started = Some(now);
                step.log_start = *log;
                Ok(Vec::new())
            }
            Event::StepEnded { job, step, end, log } => {
                let mut job = self.job_in(job, State::Running, |_| true)?;
                let step = step_in(&mut job, *step, State::Running)?;
                step.state = end.state();
                step.end = Some(*end);
                step.ended = Some(now);
                step.log_end = Some(*log);
                Ok(Vec::new())
            }
            Event::ResultAdded { job, result } => {
                let mut job = self.job_in(job, State::Running, |job| !job.results.contains(result))?;
                job.results.push(result.clone());
                Ok(Vec::new())
            }
            Event::JobEnded { job, outcome, reason, usage } => {
                let stopping = self.stopped_by.is_some();
                let mut job = self.job_in(job, State::Running, |_| true)?;
                end_job(&mut job, *outcome, reason.clone(), stopping, now);
                job.usage = *usage;
                if !stopping && job.is_attempted_again() {
                    job.begin_anew(now);
                    return Ok(vec![offer(&job)]);
                }
                drop(job);
                Ok(self.go_on(now))
            }
        }
    }

    /// What is still to be done, for a server that starts again and has forgotten.
    #[must_use]
    pub fn outstanding(&self) -> Vec<Effect> {
        let mut effects = Vec::new();
        effects.extend(self.in_preflight.then_some(Effect::Preflight));
        for job in self.jobs() {
            match (job.state, job.kind) {
                (State::Queued, "rollout") | (State::Running, "rollout") if job.queued.is_some() => {
                    effects.push(Effect::RollOut(job.key.clone()));
                }
                (State::Queued, _) if job.queued.is_some() => effects.push(Effect::Offer(job.key.clone())),
                _ => {}
            }
            if job.state == State::Running && self.stopped_by.is_some() {
                effects.push(Effect::Halt(job.key.clone()));
            }
        }
        effects
    }

    /// Refuses an event of the whole run whose time has not come or is over.
    fn only_when(&self, holds: bool) -> Result<(), Refused> {
        if holds { Ok(()) } else { Err(Refused::NotNow { what: "the run".to_owned(), state: self.state }) }
    }

    fn stop(&mut self, by: &str, now: Time) -> Result<Vec<Effect>, Refused> {
        self.only_when(!self.state.is_over() && self.stopped_by.is_none())?;
        self.in_preflight = false;
        self.stopped_by = Some(by.to_owned());
        self.started = self.started.or(Some(now));
        self.state = State::Running;
        let mut effects: Vec<_> =
            self.jobs().filter(|job| job.state == State::Running).map(|job| Effect::Halt(job.key.clone())).collect();
        effects.extend(self.go_on(now));
        Ok(effects)
    }

    fn answer(&mut self, name: &str, answer: Answer) -> Result<Vec<Effect>, Refused> {
        let now = answer.at;
        let stage = self.stages.iter_mut().find(|stage| stage.name == name);
        let stage = stage.ok_or_else(|| Refused::Unknown(format!("stage {name}")))?;
        let is_said = stage.answers.iter().any(|earlier| earlier.by == answer.by);
        if stage.state != State::Waiting || is_said {
            return Err(Refused::NotNow { what: format!("stage {name}"), state: stage.state });
        }
        stage.answers.push(answer);
        self.state = State::Running;
        Ok(self.go_on(now))
    }

    /// Opens stages and jobs whose turn has come, or ends the run, where nothing goes on any more.
    fn go_on(&mut self, now: Time) -> Vec<Effect> {
        let mut effects = Vec::new();
        let mut broken: Option<String> = None;
        for stage in &mut self.stages {
            if !self.missing.is_empty() {
                stage.bar(now);
            }
            if !stage.state.is_over() {
                stage.go_on(broken.as_deref(), self.stopped_by.as_deref(), now, &mut effects);
            }
            if !stage.state.is_over() {
                let waits = stage.state == State::Waiting;
                self.state = if waits { State::Waiting } else { State::Running };
                return effects;
            }
            if !matches!(stage.state, State::Passed | State::Skipped) && broken.is_none() {
                broken = Some(stage.name.clone());
            }
        }
        self.state = State::of_parts(self.stages.iter().map(|stage| stage.state));
        // A stop that kept anything from beginning stopped the run, whatever had passed before.
        let kept_back = self.jobs().any(|job| job.state == State::Skipped && job.barred);
        if !self.missing.is_empty() {
            self.state = State::Failed;
        }
        if self.stopped_by.is_some() && kept_back && matches!(self.state, State::Passed | State::Skipped) {
            self.state = State::Stopped;
        }
        self.ended = Some(now);
        effects.push(Effect::Over(self.state));
        effects
    }

    /// A job that stands in the state an event needs, to be changed.
    fn job_in(&mut self, key: &JobKey, state: State, also: impl Fn(&JobRun) -> bool) -> Result<Changing<'_>, Refused> {
        let unknown = || Refused::Unknown(key.to_string());
        let (stage, place) = self.place(key).ok_or_else(unknown)?;
        let jobs = &mut self.stages[stage].jobs;
        let job = jobs.at(place).ok_or_else(unknown)?;
        if job.state != state || !also(job) {
            return Err(Refused::NotNow { what: key.to_string(), state: job.state });
        }
        jobs.change(place).ok_or_else(unknown)
    }
}

impl StageRun {
    /// Opens the stage and its jobs as far as their turn has come, and ends it when nothing of it goes on.
    /// `broken` is the first stage before it that did not pass.
    fn go_on(&mut self, broken: Option<&str>, stopped_by: Option<&str>, now: Time, effects: &mut Vec<Effect>) {
        if let Some(by) = stopped_by {
            self.end_queued(now, |job| {
                let state = if job.queued.is_some() { State::Stopped } else { State::Skipped };
                (state, format!("stopped by {by}"))
            });
        } else if self.state == State::Queued {
            let may_begin = |job: &JobRun| job.state == State::Queued && job.required_result.allows(broken.is_some());
            let opens = self.jobs.iter().any(may_begin);
            let waits = opens && self.asks();
            self.state = if waits { State::Waiting } else { State::Running };
            self.asked = waits.then_some(now);
        }
        if self.state == State::Waiting && stopped_by.is_none() {
            match self.no() {
                None if self.is_approved() && self.closed_gates().next().is_none() => self.state = State::Running,
                None => return,
                Some(answer) => {
                    let reason = match answer.by.as_str() {
                        "nobody" => "nobody approved it in time".to_owned(),
                        by => format!("rejected by {by}"),
                    };
                    self.end_queued(now, |_| (State::Stopped, reason.clone()));
                }
            }
        }
        let mut from = 0;
        while let Some(at) = self.next_to_settle(from) {
            // One that is skipped is over, and others may wait for it, also before it; one that begins is not.
            from = if self.settle(at, broken, now, effects) { at + 1 } else { 0 };
        }
        if self.jobs.are_over() {
            let counted = |job: &JobRun| match job.state {
                State::Failed | State::Lost if job.may_fail => State::Passed,
                state => state,
            };
            self.state = State::of_parts(self.jobs.iter().map(counted));
        }
    }

    /// Ends the stage before it began, since something that the run needs is not there.
    fn bar(&mut self, now: Time) {
        self.end_queued(now, |_| (State::Skipped, "something that the run needs is not there".to_owned()));
    }

    /// Ends every job that nobody has.
    fn end_queued(&mut self, now: Time, how: impl Fn(&JobRun) -> (State, String)) {
        let end = |job: &mut JobRun| {
            let (state, reason) = how(job);
            job.state = state;
            job.reason = Some(reason);
            job.ended = Some(now);
            job.barred = true;
        };
        self.jobs.change_each(|job| job.state == State::Queued, end);
    }

    /// A job at this place or behind it whose turn has come, and of which it is not decided yet whether it begins.
    fn next_to_settle(&self, from: usize) -> Option<usize> {
        let is_over = |key: &JobKey| self.jobs.get(key).is_none_or(|job| job.state.is_over());
        self.jobs.next_unsettled(from, |job| job.after.iter().all(is_over))
    }

    /// Lets a job begin, or skips it, by what came before it. Answers whether it begins.
    fn settle(&mut self, at: usize, broken: Option<&str>, now: Time, effects: &mut Vec<Effect>) -> bool {
        let mut before: Vec<usize> =
            self.jobs.at(at).into_iter().flat_map(|job| &job.after).filter_map(|key| self.jobs.place(key)).collect();
        before.sort_unstable();
        let mut before = before.into_iter().filter_map(|place| self.jobs.at(place));
        let not_well = before.find(|job| !job.is_well()).map(|job| job.key.job().to_owned());
        let Some(mut job) = self.jobs.change(at) else { return false };
        if job.required_result.allows(broken.is_some() || not_well.is_some()) {
            job.queued = Some(now);
            effects.push(offer(&job));
            return true;
        }
        job.state = State::Skipped;
        job.barred = broken.is_some() || not_well.is_some();
        job.reason = Some(match (broken, not_well) {
            (_, Some(other)) => format!("`{other}` did not pass"),
            (Some(stage), None) => format!("stage `{stage}` did not pass"),
            (None, None) => "nothing before it failed".to_owned(),
        });
        false
    }
}

impl JobRun {
    /// Whether a job that ended is to be tried once more.
    fn is_attempted_again(&self) -> bool {
        let fits = self.state == State::Lost || self.state == State::Failed && !self.retry.only_lost;
        fits && self.attempts.len() < self.retry.times as usize
    }

    /// A job that ended waits for a runner once more.
    fn begin_anew(&mut self, now: Time) {
        self.attempts.push(Attempt {
            state: self.state,
            reason: self.reason.take(),
            runner: self.runner.take(),
            started: self.started.take(),
            ended: now,
        });
        self.state = State::Queued;
        self.queued = Some(now);
        self.ended = None;
        self.prepared = None;
        self.usage = None;
        self.results.clear();
        self.steps = self.steps.iter().map(StepRun::anew).collect();
    }
}

fn offer(job: &JobRun) -> Effect {
    if job.kind == "rollout" { Effect::RollOut(job.key.clone()) } else { Effect::Offer(job.key.clone()) }
}

fn step_in(job: &mut JobRun, at: usize, state: State) -> Result<&mut super::StepRun, Refused> {
    let key = job.key.clone();
    let step = job.steps.get_mut(at).ok_or_else(|| Refused::Unknown(format!("{key}, step {at}")))?;
    if step.state != state {
        return Err(Refused::NotNow { what: format!("{key}, step {at}"), state: step.state });
    }
    Ok(step)
}

/// Ends a job, and every step of it that has not ended.
fn end_job(job: &mut JobRun, outcome: Outcome, reason: Option<String>, stopping: bool, now: Time) {
    let steps_passed = job.steps.iter().all(StepRun::is_well);
    let outcome = match outcome {
        // A report cannot make a job pass whose steps did not.
        Outcome::Passed if !steps_passed => Outcome::Failed,
        Outcome::Failed | Outcome::Lost if stopping => Outcome::Stopped,
        other => other,
    };
    for step in &mut job.steps {
        match step.state {
            State::Running => {
                step.state = if outcome == Outcome::Stopped { State::Stopped } else { State::Failed };
                step.end = Some(if outcome == Outcome::Stopped { StepEnd::Stopped } else { StepEnd::NotStarted });
                step.ended = Some(now);
            }
            State::Queued => step.state = State::Skipped,
            _ => {}
        }
    }
    job.state = outcome.state();
    job.reason = reason;
    job.ended = Some(now);
}

#[cfg(test)]
#[path = "tests/machine.rs"]
mod tests;
