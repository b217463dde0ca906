//! What people and runners may make happen to a run. Whether they may, whether it can be, and that it happens are
//! decided under the run's one lock: nothing changes in between.

use std::sync::Arc;

use pondrix_api::{JobReport, TagAnswer, TagQuestion, TimedReport};
use pondrix_core::access::Gate;
use pondrix_core::run::{Event, Outcome, Run, StageRun};
use pondrix_core::{JobKey, State, Time};
use tracing::{info, warn};

use super::decide::View;
use super::{Asker, Engine, EngineError, LiveRun};
use crate::scheduler::{Lease, Overdue};
use crate::store;

/// How much longer than it may be a log is taken: what is said of what was left out, and the ends of steps.
const LOG_SLACK: u64 = 16 << 20;

/// The stage of a run that waits for an answer.
fn waiting(run: &Run) -> Option<&StageRun> {
    run.stages.iter().find(|stage| stage.state == State::Waiting)
}

/// Whether the time for an answer to a stage is over.
fn has_lapsed(stage: &StageRun, now: Time) -> bool {
    let limit = stage.approval.as_ref().and_then(|approval| approval.within);
    let late = |(asked, limit): (Time, pondrix_core::Duration)| now.since(asked) > u64::from(limit.seconds()) * 1000;
    stage.state == State::Waiting && stage.asked.zip(limit).is_some_and(late)
}

/// Refuses, in words, an answer that would count for nothing: neither to what the pipeline file asks, nor to what the
/// environments do. Whoever's yes counts may say no, to a run of their own too.
fn may_answer(stage: &StageRun, by: &Asker, yes: bool) -> Result<(), String> {
    let own_file = stage.approval.as_ref().filter(|approval| approval.is_for(&by.name, &by.teams));
    let of_gate = |gate: &&Gate| gate.of.iter().any(|holder| holder.is(&by.name, &by.teams));
    let gates: Vec<&Gate> = stage.gates.iter().filter(of_gate).collect();
    if own_file.is_some() || gates.iter().any(|gate| !yes || gate.counts(&by.name, &by.teams)) {
        return Ok(());
    }
    if let Some(gate) = gates.first() {
        let words = "the yes of whoever started a run, or wrote its commit, does not count";
        return Err(format!("{words} for {}: somebody else of {} is to say it", gate.environment, gate.whose()));
    }
    let of_file = stage.approval.as_ref().and_then(|approval| approval.by.clone());
    let whose: Vec<_> = of_file.into_iter().chain(stage.gates.iter().map(Gate::whose)).collect();
    Err(format!("only {} may answer that, and you are {}", whose.join(", or "), by.name))
}

impl Engine {
    /// Answers the approval of a stage, as a person who may.
    ///
    /// # Errors
    /// When the stage waits for no answer, or for somebody else's.
    pub(crate) async fn answer(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        stage: &str,
        yes: bool,
        by: Asker,
    ) -> Result<(), EngineError> {
        let (run, stage) = (live.row.facts.id.clone(), stage.to_owned());
        let teams = Some(by.teams.clone());
        let event = Event::Answered { stage: stage.clone(), yes, by: by.name.clone(), teams };
        let check = move |state: View<'_>| {
            let found = state.run.stages.iter().find(|one| one.name == stage);
            let Some(asks) = found.filter(|found| found.state == State::Waiting && found.asks()) else {
                let words = match (found, waiting(state.run)) {
                    (None, _) => format!("{run} has no stage `{stage}`"),
                    (Some(found), None) => {
                        format!("stage `{stage}` of {run} is {} and waits for no answer", found.state)
                    }
                    (Some(found), Some(other)) => format!(
                        "stage `{stage}` of {run} is {} and waits for no answer; stage `{}` does",
                        found.state, other.name
                    ),
                };
                return Err(EngineError::Conflict(words));
            };
            may_answer(asks, &by, yes).map_err(EngineError::Forbidden)
        };
        self.decide(live, None, event, check).await
    }

    /// Asks to stop a run.
    pub(crate) async fn stop(self: &Arc<Self>, live: &Arc<LiveRun>, by: Asker) -> Result<(), EngineError> {
        self.record(live, &Event::StopAsked { by: by.name }).await
    }

    /// Records what a runner says of its job, in the order in which it says it. What was reported before is taken, and
    /// changes nothing.
    ///
    /// # Errors
    /// When the lease holds no more, or it cannot be stored; nothing of it is then.
    pub(crate) async fn report(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        lease: &Lease,
        reports: Vec<TimedReport>,
    ) -> Result<(), EngineError> {
        let lease = lease.clone();
        let events = reports.into_iter().map(|told| (event_of(lease.job.clone(), told.report), told.ago)).collect();
        self.decide_again(live, events, move |state| state.must_be_held(&lease)).await
    }

    /// Records an event of a job, as long as it is done under this lease and no later one.
    async fn record_under(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        lease: &Lease,
        event: Event,
    ) -> Result<(), EngineError> {
        let lease = lease.clone();
        self.decide(live, None, event, move |state| state.must_be_held(&lease)).await
    }

    /// Appends to a job's log at an offset, as long as it is done under this lease and no later one. Answers how long
    /// the log is then.
    ///
    /// # Errors
    /// When the lease holds no more, or the log cannot be written.
    pub(crate) async fn append_log(
        &self,
        live: &LiveRun,
        lease: &Lease,
        offset: u64,
        bytes: Vec<u8>,
    ) -> Result<u64, EngineError> {
        // Held while it is written: who takes the job after this one must find all of it.
        let state = live.state.lock().await;
        if !state.is_held(lease) {
            return Err(EngineError::LeaseEnded);
        }
        // Runners keep to the limit, and tell a little more of what they leave out.
        if offset + bytes.len() as u64 > self.log_limit + LOG_SLACK {
            return Err(EngineError::Invalid("the log is longer than a job's may be".to_owned()));
        }
        let log = self.logs.log(&live.row.facts.id, &lease.job);
        Ok(log.append(offset, bytes).await?)
    }

    /// Whether a job may set a tag now. Of two jobs that are about to set one tag, the second waits until the first
    /// has ended; and a tag that moves does not move back from a later commit of a branch to an earlier one.
    ///
    /// # Errors
    /// When the lease holds no more.
    pub(crate) async fn may_tag(
        &self,
        live: &LiveRun,
        lease: &Lease,
        question: TagQuestion,
    ) -> Result<TagAnswer, EngineError> {
        let TagQuestion { repository, tag, moves } = question;
        if !live.state.lock().await.is_held(lease) {
            return Err(EngineError::LeaseEnded);
        }
        if !moves {
            return Ok(TagAnswer::Set);
        }
        if !self.scheduler.claim(lease.number, format!("{repository}:{tag}")).await {
            return Ok(TagAnswer::Wait);
        }
        // Stored before it is told: a runner that sets the tag may not live to tell that it did.
        let run = live.row.id;
        let later = self.store.write(move |records| store::grant_tag(records, run, &repository, &tag)).await?;
        Ok(later.map_or(TagAnswer::Set, |overtaken_by| TagAnswer::Leave { overtaken_by }))
    }

    /// Takes it as a no where nobody answered in time.
    pub(crate) async fn give_up_unanswered(self: Arc<Self>) {
        for live in self.all_live() {
            let now = self.clock.now();
            let run = live.now();
            let Some(stage) = run.stages.iter().find(|stage| has_lapsed(stage, now)).map(|stage| stage.name.clone())
            else {
                continue;
            };
            let by = "nobody".to_owned();
            let event = Event::Answered { stage: stage.clone(), yes: false, by, teams: None };
            let check = move |state: View<'_>| {
                let waits = state.run.stages.iter().any(|one| one.name == stage && has_lapsed(one, now));
                if waits { Ok(()) } else { Err(EngineError::Conflict("it was answered after all".to_owned())) }
            };
            match self.decide(&live, None, event, check).await {
                Ok(()) | Err(EngineError::Conflict(_)) => {}
                Err(error) => warn!(run = %live.row.facts.id, %error, "an approval could not be given up"),
            }
        }
    }

    /// Gives up jobs whose runners have not been heard of for too long, and offers those again that never
    /// reached their runners.
    pub(crate) async fn give_up_lost_jobs(self: Arc<Self>) {
        for (lease, overdue) in self.scheduler.overdue().await {
            let seconds = crate::scheduler::LEASE_TIME.as_secs();
            let event = match overdue {
                Overdue::Lost => lost(&lease, format!("runner {} was not heard of for {seconds} s", lease.runner)),
                Overdue::Unheard => Event::JobReturned { job: lease.job.clone() },
            };
            self.give_up(&lease, event).await;
        }
    }

    /// Gives up every job of a runner that has forgotten them.
    pub(super) async fn give_up_forgotten(self: &Arc<Self>, leases: Vec<Lease>) {
        for lease in leases {
            let event = lost(&lease, format!("runner {} was started anew and has forgotten it", lease.runner));
            self.give_up(&lease, event).await;
        }
    }

    /// Gives up jobs whose runners are those of the server that the records were copied of.
    pub(super) async fn give_up_restored(self: &Arc<Self>, leases: Vec<Lease>) {
        for lease in leases {
            let event = lost(&lease, format!("runner {} had it when the backup was made", lease.runner));
            self.give_up(&lease, event).await;
        }
    }

    pub(super) async fn give_up(self: &Arc<Self>, lease: &Lease, event: Event) {
        let Some(live) = self.live(&lease.run) else {
            self.scheduler.release(lease.run.clone(), lease.job.clone());
            return;
        };
        info!(run = %lease.run, job = %lease.job, lease = lease.number, runner = lease.runner, ?event, "given up");
        match self.record_under(&live, lease, event).await {
            // It was heard of after all, or has ended.
            Ok(()) | Err(EngineError::LeaseEnded) => {}
            // A job that began before the server was killed cannot be returned: it has had its runner.
            Err(EngineError::Refused(_)) => self.scheduler.confirm(lease.number),
            Err(error) => warn!(run = %lease.run, job = %lease.job, %error, "a lost job could not be given up"),
        }
    }
}

fn lost(lease: &Lease, reason: String) -> Event {
    Event::JobEnded { job: lease.job.clone(), outcome: Outcome::Lost, reason: Some(reason), usage: None }
}

/// What a report says has happened to a run.
fn event_of(job: JobKey, report: JobReport) -> Event {
    match report {
        JobReport::Prepared => Event::JobPrepared { job },
        JobReport::StepStarted { step, log } => Event::StepStarted { job, step, log },
        JobReport::StepEnded { step, end, log } => Event::StepEnded { job, step, end, log },
        JobReport::Result { result } => Event::ResultAdded { job, result },
        JobReport::Ended { outcome, reason, usage } => Event::JobEnded { job, outcome, reason, usage },
    }
}
