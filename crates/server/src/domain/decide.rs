//! Making something happen to a run: decided, stored and applied under its one lock.
//!
//! Flushing a disk takes as long for a hundred events as for one. What is asked while a write is under way is therefore
//! decided together when that has ended, each on what the one before it made of the run, and stored in one write. Should
//! that fail, each is decided anew and stored alone: nobody fails for another's sake.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use pondrix_core::pipeline::JobKind;
use pondrix_core::queue::{Offer, Who};
use pondrix_core::run::{Effect, Event, Run};
use pondrix_core::{JobKey, Time};
use tokio::sync::oneshot;
use tracing::{error, info, warn};

use super::live::LiveState;
use super::{Engine, EngineError, LiveRun, detail, locked};
use crate::scheduler::{Lease, LeaseHash};
use crate::store::{self, EncodedEvent, StoreError};

/// The most decisions that are stored together.
const MOST_TOGETHER: usize = 64;

/// Who has a job from now on.
#[derive(Clone, Debug)]
pub(super) struct NewLease {
    pub(super) hash: LeaseHash,
    pub(super) runner: String,
    pub(super) instance: String,
}

/// How a run stands for whoever decides what happens to it.
#[derive(Clone, Copy, Debug)]
pub(super) struct View<'a> {
    pub(super) run: &'a Run,
    leases: &'a BTreeMap<JobKey, i64>,
    /// The jobs whose leases hold no more by what is decided with this.
    ended: &'a BTreeSet<JobKey>,
}

impl View<'_> {
    /// Whether a lease is the one that its job is done under now.
    fn is_held(&self, lease: &Lease) -> bool {
        self.leases.get(&lease.job) == Some(&lease.number) && !self.ended.contains(&lease.job)
    }

    /// Refuses what is done under a lease that holds no more.
    pub(super) fn must_be_held(&self, lease: &Lease) -> Result<(), EngineError> {
        if self.is_held(lease) { Ok(()) } else { Err(EngineError::LeaseEnded) }
    }
}

/// Whether something may happen to a run as it stands. It is asked again when what was decided with it could not be
/// stored.
type Check = Box<dyn Fn(View<'_>) -> Result<(), EngineError> + Send + Sync>;

/// Something that is to be decided.
pub(super) struct Decision {
    /// Who has the job from then on that is taken by it.
    lease: Option<NewLease>,
    /// What is to happen, one after the other, if it may.
    events: Vec<Told>,
    check: Check,
    /// Whether an event that cannot be is passed over: it was told before.
    is_told_again: bool,
    answer: oneshot::Sender<Result<(), EngineError>>,
}

/// An event that is told some milliseconds after it happened.
struct Told {
    event: Arc<EncodedEvent>,
    ago: u64,
}

impl Told {
    fn new(event: Event, ago: u64) -> Result<Self, StoreError> {
        Ok(Self { event: Arc::new(EncodedEvent::new(event)?), ago })
    }

    /// When it happened to a run. What others wait for happens when they hear of it; what happens inside a job
    /// happened when its runner says.
    fn at(&self, run: &Run, now: Time) -> Time {
        match self.event.event() {
            Event::JobPrepared { job } | Event::StepStarted { job, .. } | Event::StepEnded { job, .. } => {
                run.job(job).map_or(now, |job| job.moment(now, self.ago))
            }
            _ => now,
        }
    }
}

/// An event, when it was, and what it makes of a run.
struct Step {
    event: Arc<EncodedEvent>,
    at: Time,
    run: Arc<Run>,
    effects: Vec<Effect>,
}

impl std::fmt::Debug for Decision {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Decision").field("lease", &self.lease).finish_non_exhaustive()
    }
}

impl Decision {
    /// What happens to a run that stands so, step by step.
    fn steps(&self, view: View<'_>, now: Time) -> Result<Vec<Step>, EngineError> {
        (self.check)(view)?;
        let mut steps: Vec<Step> = Vec::new();
        for told in &self.events {
            let (mut run, event) = (steps.last().map_or(view.run, |step| &step.run).clone(), &told.event);
            let at = told.at(&run, now);
            match run.apply(event.event(), at) {
                Ok(effects) => steps.push(Step { event: Arc::clone(event), at, run: Arc::new(run), effects }),
                Err(_) if self.is_told_again => {}
                Err(refused) => return Err(refused.into()),
            }
        }
        Ok(steps)
    }
}

impl Engine {
    /// Has an event happen if it may, as the run stands: what `check` looks at is what the event happens to. Whoever has
    /// the job from then on is remembered with it.
    ///
    /// It runs to its end even when whoever asked stops waiting: records and memory never part.
    pub(super) async fn decide(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        lease: Option<NewLease>,
        event: Event,
        check: impl Fn(View<'_>) -> Result<(), EngineError> + Send + Sync + 'static,
    ) -> Result<(), EngineError> {
        let (events, check) = (vec![Told::new(event, 0)?], Box::new(check));
        self.submit(live, |answer| Decision { lease, events, check, is_told_again: false, answer }).await
    }

    /// As [`Engine::decide`], of several events that follow each other, each with how many milliseconds ago it was. All
    /// of them are stored, or none; those that cannot be have happened before, and are passed over.
    pub(super) async fn decide_again(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        events: Vec<(Event, u64)>,
        check: impl Fn(View<'_>) -> Result<(), EngineError> + Send + Sync + 'static,
    ) -> Result<(), EngineError> {
        let events = events.into_iter().map(|(event, ago)| Told::new(event, ago));
        let (events, check) = (events.collect::<Result<_, _>>()?, Box::new(check));
        self.submit(live, |answer| Decision { lease: None, events, check, is_told_again: true, answer }).await
    }

    async fn submit(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        decision: impl FnOnce(oneshot::Sender<Result<(), EngineError>>) -> Decision,
    ) -> Result<(), EngineError> {
        let (answer, answered) = oneshot::channel();
        let is_first = {
            let mut waiting = locked(&live.waiting);
            waiting.push(decision(answer));
            waiting.len() == 1
        };
        // Whoever finds nobody waiting has all decided that come until the run is free.
        if is_first {
            let (engine, live) = (Arc::clone(self), Arc::clone(live));
            tokio::spawn(async move { engine.decide_waiting(&live).await });
        }
        answered.await.unwrap_or(Err(EngineError::Broke))
    }

    async fn decide_waiting(&self, live: &Arc<LiveRun>) {
        let mut state = live.state.lock().await;
        let mut waiting = std::mem::take(&mut *locked(&live.waiting));
        while !waiting.is_empty() {
            let rest = waiting.split_off(waiting.len().min(MOST_TOGETHER));
            self.decide_together(live, &mut state, waiting).await;
            waiting = rest;
        }
    }

    async fn decide_together(&self, live: &Arc<LiveRun>, state: &mut LiveState, decisions: Vec<Decision>) {
        let answers = match self.store_together(live, state, &decisions).await {
            Ok(answers) => answers,
            Err(error) if decisions.len() == 1 => vec![Err(error)],
            Err(_) => {
                let mut answers = Vec::new();
                for decision in &decisions {
                    match self.store_together(live, state, std::slice::from_ref(decision)).await {
                        Ok(answer) => answers.extend(answer),
                        Err(error) => answers.push(Err(error)),
                    }
                }
                answers
            }
        };
        for (decision, answer) in decisions.into_iter().zip(answers) {
            // Nobody may be waiting any more.
            drop(decision.answer.send(answer));
        }
    }

    /// Decides, stores and applies; answers what to tell each. Fails when nothing of all this was stored.
    async fn store_together(
        &self,
        live: &Arc<LiveRun>,
        state: &mut LiveState,
        decisions: &[Decision],
    ) -> Result<Vec<Result<(), EngineError>>, EngineError> {
        self.reconcile(live, state).await?;
        let now = self.clock.now();
        let mut answers = Vec::new();
        let mut steps: Vec<Step> = Vec::new();
        let mut writes = Vec::new();
        let mut ended_jobs = BTreeSet::new();
        for decision in decisions {
            let view = View {
                run: steps.last().map_or(&state.run, |step| &step.run),
                leases: &state.leases,
                ended: &ended_jobs,
            };
            let decided = match decision.steps(view, now) {
                Ok(decided) => decided,
                Err(error) => {
                    answers.push(Err(error));
                    continue;
                }
            };
            for step in decided {
                let event = step.event.event();
                let ended = ended_job(event);
                if let Some(job) = &ended {
                    ended_jobs.insert(job.clone());
                }
                let before = steps.last().map_or(&state.run, |last: &Step| &last.run);
                let took = ended.as_ref().and_then(|job| before.job(job)).filter(|job| job.runner.is_some());
                let took = took.and_then(|job| Some(step.at.since(job.started?)));
                let taken = decision.lease.clone().zip(taken_job(event));
                // The index is what others are built on, and not the images in it.
                let is_part = matches!(event, Event::ResultAdded { job, .. } if live.row.plan.is_part(job));
                writes.push((Arc::clone(&step.event), step.at, (ended, took), taken, is_part));
                steps.push(step);
            }
            answers.push(Ok(()));
        }
        let Some(last) = steps.last() else { return Ok(answers) };
        let row = detail::summary_row(&last.run);
        let summary = live.summary(&row);
        let (id, facts) = (live.row.id, live.row.facts.clone());
        let write = move |c: &rusqlite::Connection| {
            let mut new = Vec::new();
            let mut newest = 0;
            for (event, at, (ended, took), taken, is_part) in writes {
                if let Some((NewLease { hash, runner, instance }, job)) = taken {
                    let number = store::put_lease(c, &hash, id, &job, (&runner, &instance))?;
                    new.push(Lease { hash, number, run: facts.id.clone(), job, runner, instance });
                }
                if let Some(job) = &ended {
                    store::end_lease(c, id, job)?;
                }
                if let Some(took) = took {
                    store::add_time(c, id, at, took)?;
                }
                if let Event::ResultAdded { job, result } = event.event() {
                    Self::remember_tests(c, id, job, result)?;
                    if !is_part {
                        Self::remember_image(c, id, &facts, job, result, at)?;
                    }
                }
                newest = store::append_event(c, id, &event, at)?;
            }
            store::put_summary(c, id, &row)?;
            Ok((newest, new))
        };
        let changes = self.changes.clone();
        // Followers hear of changes in the order in which they are stored; nobody may be following.
        let publish = move |stored: &(i64, Vec<Lease>)| drop(changes.send((stored.0, summary)));
        let new = match self.store.write_and(write, publish).await {
            Ok((_, new)) => new,
            Err(StoreError::Unknown) => {
                state.is_in_doubt = true;
                let before = state.version;
                self.reconcile(live, state).await?;
                return if state.version > before { Ok(answers) } else { Err(StoreError::Undone.into()) };
            }
            Err(error) => return Err(error.into()),
        };
        for lease in new {
            state.leases.insert(lease.job.clone(), lease.number);
            self.scheduler.lease(lease, false);
        }
        steps.into_iter().for_each(|step| self.follow(live, state, step.event.event(), (step.run, step.effects)));
        Ok(answers)
    }

    /// Makes the run in memory what the records say that it is, where a write of it may or may not be stored.
    async fn reconcile(&self, live: &Arc<LiveRun>, state: &mut LiveState) -> Result<(), StoreError> {
        if !state.is_in_doubt {
            return Ok(());
        }
        let id = live.row.id;
        let (events, leases) = self.store.read(move |c| Ok((store::events(c, id)?, store::leases(c)?))).await?;
        let known = usize::try_from(state.version).unwrap_or(usize::MAX);
        let own = leases.into_iter().map(Lease::from).filter(|lease| lease.run == live.row.facts.id);
        let new: Vec<_> = own.filter(|lease| state.leases.get(&lease.job) != Some(&lease.number)).collect();
        for stored in events.into_iter().skip(known) {
            let mut next = Run::clone(&state.run);
            match next.apply(&stored.event, stored.at) {
                Ok(effects) => self.follow(live, state, &stored.event, (Arc::new(next), effects)),
                Err(error) => error!(run = %live.row.facts.id, %error, "a stored event does not fit"),
            }
        }
        for lease in new {
            state.leases.insert(lease.job.clone(), lease.number);
            self.scheduler.lease(lease, false);
        }
        warn!(run = %live.row.facts.id, "read anew: a write of it was reported neither as stored nor as failed");
        state.is_in_doubt = false;
        Ok(())
    }

    /// The run is now what a stored event made of it.
    fn follow(
        &self,
        live: &Arc<LiveRun>,
        state: &mut LiveState,
        event: &Event,
        (next, effects): (Arc<Run>, Vec<Effect>),
    ) {
        let run = &live.row.facts.id;
        if let Some(job) = ended_job(event) {
            state.leases.remove(&job);
            self.scheduler.release(run.clone(), job);
        }
        state.run = next;
        state.version += 1;
        live.show(state);
        let holds = (!state.run.state.is_over()).then(|| state.run.locks_held());
        self.scheduler.update(run.clone(), holds);
        for effect in effects {
            self.perform(live, &state.run, effect);
        }
    }

    pub(super) fn perform(&self, live: &Arc<LiveRun>, run: &Run, effect: Effect) {
        match effect {
            Effect::Preflight => drop(self.preflights.send(Arc::clone(live))),
            Effect::Offer(job) | Effect::RollOut(job) => {
                let Some(planned) = live.planned(&job) else { return };
                let is_rollout = matches!(planned.kind, JobKind::Rollout(_));
                let who = if is_rollout { Who::Server } else { Who::Runner(planned.needs.clone()) };
                let (of, locks_wanted) = (live.row.facts.id.clone(), run.locks_wanted(&job));
                self.scheduler.offer(Offer { run: of, job, who, locks_wanted, since: self.clock.now() });
            }
            Effect::Halt(job) => live.halt(job),
            Effect::Over(state) => {
                info!(run = %live.row.facts.id, %state, "over");
                locked(&self.live).remove(&live.row.facts.id);
                self.logs_wanted.notify_one();
            }
        }
    }
}

/// The job that nobody has any more after an event.
fn ended_job(event: &Event) -> Option<JobKey> {
    match event {
        Event::JobEnded { job, .. } | Event::JobReturned { job } => Some(job.clone()),
        _ => None,
    }
}

/// The job that somebody has after an event.
fn taken_job(event: &Event) -> Option<JobKey> {
    match event {
        Event::JobTaken { job, .. } => Some(job.clone()),
        _ => None,
    }
}
