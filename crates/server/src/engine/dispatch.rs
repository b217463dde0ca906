//! Jobs that wait for a runner, and who has which.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pondrix_api::{Assignment, NamedSecret};
use pondrix_core::pipeline::{JobKind, Spanned};
use pondrix_core::queue::{Offer, Queue, Who};
use pondrix_core::run::{Event, Hold, Outcome, Run};
use pondrix_core::work::{ImagePart, ImageWork, PushedImage, StepsWork, Work};
use pondrix_core::{JobKey, ProjectName, RunId, Time};
use tokio::sync::Notify;
use tracing::{error, warn};

use super::{Engine, EngineError, LiveRun, locked};
use crate::access;
use crate::clock::now;
use crate::store::{self, StoredLease};

/// The hash of what a runner shows to report on a job.
pub(crate) type LeaseHash = [u8; 32];

#[derive(Debug, Default)]
pub(super) struct Dispatch {
    queue: Mutex<Queue>,
    /// Told whenever somebody might find a job that there was none of before.
    changed: Notify,
    leases: Mutex<HashMap<LeaseHash, Lease>>,
}

/// Who has a job.
#[derive(Clone, Debug)]
pub(super) struct Lease {
    pub(super) hash: LeaseHash,
    run: i64,
    pub(super) job: JobKey,
    pub(super) runner: String,
    last_seen: Time,
    /// Whether the runner has shown that it knows of the job. It does nothing before it has.
    confirmed: bool,
}

/// Why a runner was given nothing.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TakeError {
    #[error("introduce yourself first")]
    Unknown,
    #[error(transparent)]
    Engine(#[from] EngineError),
}

/// After how long without a sign of life a job is given up.
const LOST_AFTER: Duration = Duration::from_secs(30);
/// After how long a job that its runner shows no knowledge of is offered again: the answer that gave
/// it away never arrived.
const RETURNED_AFTER: Duration = Duration::from_secs(5);

impl Lease {
    pub(super) fn new(hash: LeaseHash, run: i64, job: JobKey, runner: String) -> Self {
        Self { hash, run, job, runner, last_seen: now(), confirmed: false }
    }
}

impl Dispatch {
    pub(super) fn offer(&self, run: RunId, job: JobKey, who: Who, locks_wanted: Vec<Hold>) {
        locked(&self.queue).offer(Offer { run, job, who, locks_wanted, since: now() });
        self.wake();
    }

    pub(super) fn wake(&self) {
        self.changed.notify_waiters();
    }

    pub(super) fn hold(&self, lease: Lease) {
        locked(&self.leases).insert(lease.hash, lease);
    }

    fn confirm(&self, hash: &LeaseHash) {
        if let Some(lease) = locked(&self.leases).get_mut(hash) {
            lease.confirmed = true;
        }
    }

    /// Nobody has this job any more.
    pub(super) fn end(&self, run: i64, id: &RunId, job: &JobKey) {
        locked(&self.leases).retain(|_, lease| lease.run != run || lease.job != *job);
        locked(&self.queue).release(id, job);
    }

    /// What a run holds after a change of it, against other runs of its project.
    pub(super) fn update_locks(&self, id: &RunId, run: &Run) {
        let mut queue = locked(&self.queue);
        if run.state.is_over() {
            queue.forget(id);
        } else {
            queue.hold(id, run.locks_held());
        }
        drop(queue);
        self.wake();
    }

    /// The runners that have jobs, once for each.
    pub(super) fn busy(&self) -> Vec<String> {
        locked(&self.leases).values().map(|lease| lease.runner.clone()).collect()
    }
}

impl Engine {
    /// Leases and holds from before the server ended. The leases' time begins anew: the runners could
    /// not be heard.
    pub(super) async fn restore(&self, leases: Vec<StoredLease>) {
        for (hash, run, job, runner) in leases {
            let live = locked(&self.live).values().find(|live| live.row.id == run).cloned();
            if let Some(live) = live {
                let pool = self.pool_of(&runner).unwrap_or_default();
                locked(&self.dispatch.queue).restore(live.row.facts.id.clone(), job.clone(), Some(pool));
            }
            self.dispatch.hold(Lease::new(hash, run, job, runner));
        }
        let all: Vec<_> = locked(&self.live).values().cloned().collect();
        for live in all {
            self.dispatch.update_locks(&live.row.facts.id, &live.state.lock().await.run);
        }
    }

    /// Jobs that a runner has from before the server ended count for its pool, now that this is known.
    pub(super) fn put_into_pool(&self, runner: &str, pool: &str) {
        let leases: Vec<Lease> =
            locked(&self.dispatch.leases).values().filter(|l| l.runner == runner).cloned().collect();
        for lease in leases {
            let live = locked(&self.live).values().find(|live| live.row.id == lease.run).cloned();
            if let Some(live) = live {
                let (run, pool) = (live.row.facts.id.clone(), Some(pool.to_owned()));
                locked(&self.dispatch.queue).restore(run, lease.job, pool);
            }
        }
    }

    /// A job for a runner; nothing when there was none for so long.
    pub(crate) async fn take(
        self: &Arc<Self>,
        runner: &str,
        patience: Duration,
    ) -> Result<Option<Assignment>, TakeError> {
        let deadline = tokio::time::Instant::now() + patience;
        let facts = self.heard(runner).ok_or(TakeError::Unknown)?;
        loop {
            // Listening begins before looking, so that nothing is offered unheard in between.
            let changed = self.dispatch.changed.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            let offer = locked(&self.dispatch.queue).take(Some(&facts), &self.limits());
            if let Some(offer) = offer {
                if let Some(assignment) = self.assign(&offer, runner).await? {
                    return Ok(Some(assignment));
                }
                continue;
            }
            if tokio::time::timeout_at(deadline, changed).await.is_err() {
                return Ok(None);
            }
        }
    }

    /// The next rollout that may begin.
    pub(crate) async fn take_rollout(&self) -> (Arc<LiveRun>, JobKey) {
        loop {
            let changed = self.dispatch.changed.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            let offer = locked(&self.dispatch.queue).take(None, &self.limits());
            match offer {
                Some(offer) => match self.live(&offer.run) {
                    Some(live) => return (live, offer.job),
                    None => locked(&self.dispatch.queue).forget(&offer.run),
                },
                None => changed.await,
            }
        }
    }

    /// A job that was taken out of the queue is not taken after all.
    pub(crate) async fn release(&self, live: &LiveRun, job: &JobKey) {
        locked(&self.dispatch.queue).release(&live.row.facts.id, job);
        self.dispatch.update_locks(&live.row.facts.id, &live.state.lock().await.run);
    }

    async fn assign(self: &Arc<Self>, offer: &Offer, runner: &str) -> Result<Option<Assignment>, EngineError> {
        let job = &offer.job;
        let Some(live) = self.live(&offer.run) else {
            locked(&self.dispatch.queue).forget(&offer.run);
            return Ok(None);
        };
        let Ok(lease) = access::new_secret() else {
            error!("the machine gives no random bytes; a job is kept back");
            self.release(&live, job).await;
            locked(&self.dispatch.queue).offer(offer.clone());
            return Ok(None);
        };
        let hash = access::hash(&lease);
        let taken = Event::JobTaken { job: job.clone(), runner: runner.to_owned() };
        match self.record_with(&live, &taken, Some((hash, runner.to_owned()))).await {
            Ok(()) => {}
            // Stopped meanwhile.
            Err(EngineError::Refused(_)) => {
                self.release(&live, job).await;
                return Ok(None);
            }
            Err(error) => {
                self.release(&live, job).await;
                locked(&self.dispatch.queue).offer(offer.clone());
                return Err(error);
            }
        }
        let registries = self.registries().await?;
        let attempt = live.state.lock().await.run.job(job).map_or(1, pondrix_core::run::JobRun::attempt);
        let work = self.work(&live, job, attempt).await;
        let artifacts = match live.row.plan.job(job) {
            Some(planned) => self.artifacts_for(&live, planned).await?,
            None => Vec::new(),
        };
        let ready = match work {
            Ok(work) => self.secrets_for(&live.row.facts.id.project, &work).await.map(|secrets| (work, secrets)),
            Err(words) => Err(words),
        };
        match ready {
            Ok((work, secrets)) => {
                let registries = Self::registries_for(registries, &work);
                let facts = live.row.facts.clone();
                let log = self.logs.log(&facts.id, job).length();
                // Filled in where the runner is answered: there it is known where people reach the server.
                let address = String::new();
                let job = job.clone();
                Ok(Some(Assignment { lease, facts, address, job, attempt, log, work, artifacts, secrets, registries }))
            }
            Err(words) => {
                let ended = Event::JobEnded { job: job.clone(), outcome: Outcome::Failed, reason: Some(words) };
                self.record(&live, &ended).await?;
                Ok(None)
            }
        }
    }

    async fn work(&self, live: &LiveRun, key: &JobKey, attempt: u32) -> Result<Work, String> {
        let facts = &live.row.facts;
        let planned = live.row.plan.job(key).ok_or_else(|| format!("{key} is not in the plan"))?;
        let (outputs, parts, built) = {
            let run = &live.state.lock().await.run;
            let image = |job: &Spanned<String>| PushedImage::of_job(&job.value, &live.row.plan, run);
            let built = planned.kind.used_image().map(image).transpose();
            (live.outputs(run, key), ImagePart::all(planned, run), built)
        };
        let parts = parts.map_err(|error| error.to_string())?;
        let built = built.map_err(|error| error.to_string())?.map(|image| image.reference());
        match &planned.kind {
            JobKind::Steps(job) => StepsWork::new(planned, job, facts, attempt, &outputs, built)
                .map(|work| Work::Steps(Box::new(work)))
                .map_err(|error| error.to_string()),
            JobKind::Image(job) => {
                let name = facts.id.project.clone();
                let project = self.store.read(move |c| store::project(c, name.as_str())).await;
                let source = project.ok().flatten().map(|project| project.repository).unwrap_or_default();
                ImageWork::new(planned, job, facts, &source, &outputs)
                    .map(|work| Work::Image(Box::new(ImageWork { parts, ..work })))
                    .map_err(|error| error.to_string())
            }
            JobKind::Rollout(_) => Err(format!("{key} is not for a runner")),
        }
    }

    /// The values of the secrets that a job names, and of no other.
    async fn secrets_for(&self, project: &ProjectName, work: &Work) -> Result<Vec<NamedSecret>, String> {
        let secrets: Vec<&String> = match work {
            Work::Steps(work) => work.secrets.iter().map(|secret| &secret.name.value).collect(),
            Work::Image(work) => work.secrets.iter().chain(&work.keys).map(|secret| &secret.name.value).collect(),
        };
        if secrets.is_empty() {
            return Ok(Vec::new());
        }
        let name = project.clone();
        let read = move |c: &rusqlite::Connection| match store::project(c, name.as_str())? {
            Some(project) => store::sealed(c, project.id),
            None => Ok(BTreeMap::new()),
        };
        let sealed = self.store.read(read).await.map_err(|error| error.to_string())?;
        let open = |name: &String| {
            let sealed = sealed.get(name).ok_or_else(|| {
                format!("{project} has no secret `{name}`; set it: pondrix secret set {project} {name}")
            })?;
            let value = self.seal.unseal(&format!("{project}/{name}"), sealed).map_err(|error| error.to_string())?;
            Ok(NamedSecret { name: name.clone(), value })
        };
        secrets.into_iter().map(open).collect()
    }

    /// Why a job waits, in words; nothing when it does not.
    pub(super) fn why_waiting(&self, run: &RunId, job: &JobKey) -> Option<String> {
        let (here, limits) = (self.here(), self.limits());
        locked(&self.dispatch.queue).why_waiting(run, job, &here, &limits)
    }

    /// The job that a lease is for, when it is still held; being asked is a sign of life.
    pub(crate) fn leased(&self, hash: &LeaseHash) -> Option<(Arc<LiveRun>, JobKey)> {
        let lease = {
            let mut leases = locked(&self.dispatch.leases);
            let lease = leases.get_mut(hash)?;
            lease.last_seen = now();
            lease.confirmed = true;
            lease.clone()
        };
        self.heard(&lease.runner);
        let live = locked(&self.live).values().find(|live| live.row.id == lease.run).cloned()?;
        Some((live, lease.job))
    }

    /// Gives up every job of a runner that has forgotten them.
    pub(super) async fn lose_all_of(self: &Arc<Self>, runner: &str) {
        let of_runner = |lease: &&Lease| lease.runner == runner && lease.confirmed;
        let leases: Vec<Lease> = locked(&self.dispatch.leases).values().filter(of_runner).cloned().collect();
        for lease in leases {
            let reason = format!("runner {runner} was started anew and has forgotten it");
            let event = Event::JobEnded { job: lease.job.clone(), outcome: Outcome::Lost, reason: Some(reason) };
            self.give_up(&lease, &event).await;
        }
    }

    /// Gives up jobs whose runners have not been heard of for too long, and offers those again that
    /// never reached their runners.
    pub(crate) async fn give_up_lost(self: &Arc<Self>) {
        let silent_for = |lease: &Lease, limit: Duration| u128::from(now().since(lease.last_seen)) > limit.as_millis();
        let leases: Vec<Lease> = locked(&self.dispatch.leases).values().cloned().collect();
        for lease in leases {
            let event = if lease.confirmed && silent_for(&lease, LOST_AFTER) {
                let reason = format!("runner {} was not seen for {} s", lease.runner, LOST_AFTER.as_secs());
                Event::JobEnded { job: lease.job.clone(), outcome: Outcome::Lost, reason: Some(reason) }
            } else if !lease.confirmed && silent_for(&lease, RETURNED_AFTER) {
                Event::JobReturned { job: lease.job.clone() }
            } else {
                continue;
            };
            self.give_up(&lease, &event).await;
        }
    }

    async fn give_up(self: &Arc<Self>, lease: &Lease, event: &Event) {
        let live = locked(&self.live).values().find(|live| live.row.id == lease.run).cloned();
        let Some(live) = live else {
            locked(&self.dispatch.leases).remove(&lease.hash);
            return;
        };
        warn!(run = %live.row.facts.id, job = %lease.job, runner = lease.runner, ?event, "nothing is heard of a job");
        match self.record(&live, event).await {
            Ok(()) => {}
            // A job that began before the server was killed cannot be returned: it has had its runner.
            Err(EngineError::Refused(_)) => self.dispatch.confirm(&lease.hash),
            Err(error) => warn!(%error, "a lost job could not be given up"),
        }
    }
}
