//! Giving a job to a runner: that it has it, with everything that it needs for it.

use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{Assignment, NamedSecret};
use pondrix_core::JobKey;
use pondrix_core::pipeline::{JobKind, Spanned};
use pondrix_core::queue::Limits;
use pondrix_core::run::{Event, JobRun, Outcome};
use pondrix_core::work::{ImagePart, ImageWork, PushedImage, StepsWork, Work, WorkError};
use tracing::error;

use super::identities::Speaker;
use super::secrets::{self, NotGiven};
use super::{Engine, EngineError, LiveRun, NewLease, Standing};
use crate::access;
use crate::scheduler::{Grant, LEASE_TIME, Lease, LeaseHash, UnknownRunner};
use crate::store::{self, StoreError};

/// Why a job that a runner took cannot be done. Its job ends with these words.
#[derive(Debug, thiserror::Error)]
enum UnfitError {
    #[error("{0} is not in the plan")]
    NotPlanned(JobKey),
    #[error("{0} is not for a runner")]
    NotForRunner(JobKey),
    #[error(transparent)]
    Work(#[from] WorkError),
    #[error(transparent)]
    Secret(#[from] NotGiven),
}

/// Why a job was not given.
#[derive(Debug, thiserror::Error)]
enum AssignError {
    #[error(transparent)]
    Unfit(#[from] UnfitError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Why a runner was given nothing.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TakeError {
    #[error(transparent)]
    Unknown(#[from] UnknownRunner),
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl Engine {
    /// Reads weights and limits from the records anew.
    pub(crate) async fn read_limits(&self) -> Result<(), StoreError> {
        let limits = self.store.read(|c| Ok(Limits { projects: store::shares(c)?, pools: store::pools(c)? })).await?;
        self.scheduler.limits(limits);
        Ok(())
    }

    /// A job for a runner; nothing when there was none for so long.
    pub(crate) async fn take(
        self: &Arc<Self>,
        runner: &str,
        patience: Duration,
    ) -> Result<Option<Assignment>, TakeError> {
        let deadline = tokio::time::Instant::now() + patience;
        loop {
            let taken = self.scheduler.take(runner, self.clock.now());
            let Ok(grant) = tokio::time::timeout_at(deadline, taken).await else { return Ok(None) };
            let Some(grant) = grant? else { return Ok(None) };
            // Whoever asked may stop waiting: the job is then taken, not heard of, and offered again.
            let (engine, runner) = (Arc::clone(self), runner.to_owned());
            let assigned = tokio::spawn(async move { engine.assign(grant, &runner).await }).await;
            if let Some(assignment) = assigned.unwrap_or(Err(EngineError::Broke))? {
                return Ok(Some(assignment));
            }
        }
    }

    /// The run and the job of a lease, when it still holds and is this runner's; being asked is a sign of life. `text` is
    /// the lease's number and secret, as its runner has them.
    pub(crate) async fn leased(&self, runner: &str, text: &str) -> Option<(Arc<LiveRun>, Lease)> {
        let (number, secret) = text.split_once('-')?;
        let lease = self.scheduler.leased(number.parse().ok()?, access::hash(secret), self.clock.now()).await;
        let lease = lease.filter(|lease| lease.runner == runner)?;
        Some((self.live(&lease.run)?, lease))
    }

    async fn assign(self: &Arc<Self>, grant: Grant, runner: &str) -> Result<Option<Assignment>, EngineError> {
        let job = grant.job().clone();
        let Some(live) = self.live(grant.run()) else {
            grant.discard();
            return Ok(None);
        };
        let Ok(secret) = access::new_secret() else {
            error!("the machine gives no random bytes; a job is kept back");
            return Err(EngineError::Broke);
        };
        let hash: LeaseHash = access::hash(&secret);
        let taken = Event::JobTaken { job: job.clone(), runner: runner.to_owned() };
        let new = NewLease { hash, runner: runner.to_owned(), instance: grant.instance.clone() };
        // What does not depend on it is read meanwhile.
        let decided = self.decide(&live, Some(new), taken, |_| Ok(()));
        let (decided, registries) = tokio::join!(decided, self.registries());
        match decided {
            Ok(()) => grant.accept(),
            // Stopped meanwhile.
            Err(EngineError::Refused(_)) => {
                grant.discard();
                return Ok(None);
            }
            Err(error) => return Err(error),
        }
        let (number, attempt) = {
            let state = live.state.lock().await;
            (state.leases.get(&job).copied(), state.run.job(&job).map_or(1, JobRun::attempt))
        };
        // Ended in between.
        let Some(number) = number else { return Ok(None) };
        let (work, secrets) = match self.prepare(&live, &job, attempt, runner).await {
            Ok(prepared) => prepared,
            Err(AssignError::Store(error)) => return Err(error.into()),
            Err(AssignError::Unfit(why)) => {
                let ended =
                    Event::JobEnded { job, outcome: Outcome::Failed, reason: Some(why.to_string()), usage: None };
                self.record(&live, &ended).await?;
                return Ok(None);
            }
        };
        let registries = Self::registries_for(&*registries?, &live.row.facts.id.project, &work);
        let registries = self.identified(registries, Speaker::Job(&live, &job)).await?;
        let (log_limit, runner_caches, weight) = self.limits_of_job(&live.row.facts.id.project).await?;
        let earlier = self.earlier(&live, &job, &work).await?;
        let artifacts = match live.planned(&job) {
            Some(planned) => self.artifacts_for(&live, planned).await?,
            None => Vec::new(),
        };
        Ok(Some(Assignment {
            lease: format!("{number}-{secret}"),
            lease_seconds: LEASE_TIME.as_secs(),
            facts: live.row.facts.clone(),
            // Filled in where the runner is answered: there it is known where people reach the server.
            address: String::new(),
            log: self.logs.log(&live.row.facts.id, &job).length(),
            log_limit,
            runner_caches,
            weight,
            job,
            attempt,
            artifacts,
            secrets,
            registries,
            is_trusted: earlier.is_trusted,
            step_lists: earlier.step_lists,
            hash_key: self.hash_key(&live.row.facts.id.project),
            work,
        }))
    }

    async fn prepare(
        &self,
        live: &LiveRun,
        job: &JobKey,
        attempt: u32,
        runner: &str,
    ) -> Result<(Work, Vec<NamedSecret>), AssignError> {
        let work = self.work(live, job, attempt).await?;
        let planned = live.planned(job).ok_or_else(|| UnfitError::NotPlanned(job.clone()))?;
        let names = secrets::named(planned).map(str::to_owned).collect();
        let secrets = self.secrets_for(live, job, names, runner).await?.map_err(UnfitError::from)?;
        Ok((work, secrets))
    }

    async fn work(&self, live: &LiveRun, key: &JobKey, attempt: u32) -> Result<Work, AssignError> {
        let facts = &live.row.facts;
        let planned = live.planned(key).ok_or_else(|| UnfitError::NotPlanned(key.clone()))?;
        let (outputs, parts, built) = {
            let run = &live.now();
            let image = |job: &Spanned<String>| PushedImage::of_job(&job.value, &live.row.plan, run);
            let built = planned.kind.used_image().map(image).transpose();
            (live.outputs(run, key), ImagePart::all(planned, run), built)
        };
        let parts = parts.map_err(UnfitError::from)?;
        let built = built.map_err(UnfitError::from)?.map(|image| image.reference());
        match &planned.kind {
            JobKind::Steps(job) => {
                let work = StepsWork::new(planned, job, facts, attempt, &outputs, built).map_err(UnfitError::from)?;
                Ok(Work::Steps(Box::new(work)))
            }
            JobKind::Image(job) => {
                let name = facts.id.project.clone();
                let read = move |c: &rusqlite::Connection| {
                    Ok((store::project(c, name.as_str())?, Standing::read(c, name.as_str(), None)?))
                };
                let (project, standing) = self.store.read(read).await?;
                let source = project.map(|project| project.repository).unwrap_or_default();
                let is_trusted = standing.candidate(facts, self.is_in_ref(facts).await?).is_trusted();
                let work = ImageWork::new(planned, job, facts, &source, is_trusted, &outputs);
                let work = work.map_err(UnfitError::from)?;
                Ok(Work::Image(Box::new(ImageWork { parts, ..work })))
            }
            JobKind::Rollout(_) => Err(UnfitError::NotForRunner(key.clone()).into()),
        }
    }
}
