//! Rollouts: bringing an image to an environment, and watching until it runs there.

mod manifests;
#[cfg(test)]
mod tests;

use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use pondrix_api::EnvironmentView;
use pondrix_core::audit::{AuditResult, Deed};
use pondrix_core::pipeline::{JobKind, OnFailure, RolloutJob, StartKind};
use pondrix_core::rollout::{Progress, judge};
use pondrix_core::run::{Event, JobResult, Outcome, StepEnd};
use pondrix_core::work::{PushedImage, WorkError};
use pondrix_core::{JobKey, RunId};
use serde_json::{Value, json};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

use super::{Broken, guard};
use crate::backoff::Backoff;
use crate::domain::{Engine, EngineError, LiveRun, NotAdmitted, Standing, own_deed, own_names};
use crate::logs::OpenLog;
use crate::ports::{Cluster, ClusterError, images, title};
use crate::store::{self, EncodedObjects, StoreError};
use manifests::{ManifestError, Manifests};

/// How long one watch may stay silent before the object is read anew.
const WATCH_TIME: Duration = Duration::from_secs(20);
/// How long is waited before a cluster that did not answer is asked again: at first, and at the most.
const FIRST_PAUSE: Duration = Duration::from_millis(200);
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// The steps of a rollout.
const APPLY: usize = 0;
const WAIT: usize = 1;

/// Why a rollout failed.
#[derive(Debug, thiserror::Error)]
enum RolloutError {
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    #[error(transparent)]
    Manifest(#[from] ManifestError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Image(#[from] WorkError),
    #[error("{0} is not a rollout")]
    NotOne(JobKey),
    #[error("there is no environment `{0}`; make it known with `pondrix environment set {0} --kubeconfig FILE`")]
    NoEnvironment(String),
    #[error("no container in {manifests} uses the image `{image}`: give one `image: {repository}`")]
    NoContainer { manifests: String, image: String, repository: String },
    #[error("{0}; {help}", help = .0.help())]
    NotAdmitted(NotAdmitted),
    #[error("{environment} wants the yes of {whose} before anything is rolled out there, and it was not given")]
    NotApproved { environment: String, whose: String },
    #[error("{0}")]
    Sealed(String),
    #[error("it was not ready within {0}")]
    Late(pondrix_core::Duration),
    #[error("{0}")]
    NotReady(String),
}

/// Carries out rollouts as their turn comes, side by side, until `shutdown`.
pub(crate) async fn carry_out_orders(engine: Arc<Engine>, shutdown: CancellationToken) {
    loop {
        let taken = tokio::select! {
            taken = engine.scheduler.take_own(engine.clock.now()) => taken,
            () = shutdown.cancelled() => return,
        };
        let Some(grant) = taken else { return };
        let (Some(live), job) = (engine.live(grant.run()), grant.job().clone()) else {
            grant.discard();
            continue;
        };
        grant.accept();
        tokio::spawn(carry_out(Arc::clone(&engine), live, job));
    }
}

/// Carries out one rollout. However it ends, its job ends, and lets go of what it held.
async fn carry_out(engine: Arc<Engine>, live: Arc<LiveRun>, job: JobKey) {
    let log = engine.logs.log(&live.row.facts.id, &job);
    let rollout = Rollout { log, engine, live, job, before: tokio::sync::Mutex::default() };
    let words = match guard("a rollout", rollout.carry_out()).await {
        Ok(Ok(())) => None,
        Ok(Err(error)) => Some(format!("what happened could not be recorded: {error}")),
        Err(broken @ Broken { .. }) => Some(broken.to_string()),
    };
    if let Some(words) = words {
        error!(run = %rollout.live.row.facts.id, job = %rollout.job, words, "a rollout broke");
        rollout.say(&words);
        if let Err(error) = rollout.end(Outcome::Failed, Some(words)).await {
            error!(job = %rollout.job, %error, "a rollout that broke could not be ended");
        }
    }
    rollout.engine.scheduler.release(rollout.live.row.facts.id.clone(), rollout.job.clone());
}

/// Why an environment cannot be used.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ReachError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("there is no environment `{0}`")]
    Unknown(String),
    #[error("{0}")]
    Sealed(String),
    #[error("environment `{name}`: {error}")]
    Cluster { name: String, error: ClusterError },
}

/// Proves that an environment is known and answers.
pub(crate) async fn reach(engine: &Engine, name: &str) -> Result<(), ReachError> {
    let wanted = name.to_owned();
    let environment = engine.store.read(move |c| store::environment(c, &wanted)).await?;
    let environment = environment.ok_or_else(|| ReachError::Unknown(name.to_owned()))?;
    let reached = engine.reached(&environment).map_err(|error| ReachError::Sealed(error.to_string()))?;
    let answered = async { engine.clusters.connect(&reached).await?.answers().await };
    answered.await.map_err(|error| ReachError::Cluster { name: name.to_owned(), error })
}

struct Rollout {
    engine: Arc<Engine>,
    live: Arc<LiveRun>,
    job: JobKey,
    log: Arc<OpenLog>,
    /// Set once anything may have been changed that is to be put back on failure.
    before: tokio::sync::Mutex<Option<Before>>,
}

fn is_secret(object: &Value) -> bool {
    object["kind"] == "Secret"
}

/// An object as it is kept: of a secret nothing but that it was there.
fn without_secrets(object: Value) -> Value {
    if !is_secret(&object) {
        return object;
    }
    json!({ "apiVersion": object["apiVersion"], "kind": "Secret", "metadata": { "name": object["metadata"]["name"] } })
}

/// What there was before, by the objects of the manifests.
struct Before {
    cluster: Arc<dyn Cluster>,
    manifests: Manifests,
    objects: Vec<Option<Value>>,
}

/// What was applied, and is waited for.
struct Applied {
    cluster: Arc<dyn Cluster>,
    manifests: Manifests,
    time: pondrix_core::Duration,
    release: JobResult,
}

impl Rollout {
    /// Records an event, however long the records cannot be written. One that happened before the server was
    /// started again is refused, which is as it should be: rollouts are taken up from their beginning, and
    /// applying twice changes nothing.
    async fn record(&self, event: Event) -> Result<(), EngineError> {
        match self.engine.record_until_stored(&self.live, &event).await {
            Err(EngineError::Refused(_)) => Ok(()),
            other => other,
        }
    }

    fn say(&self, line: &str) {
        if let Err(error) = self.log.say(line) {
            error!(job = %self.job, %error, "the log of a rollout could not be written");
        }
    }

    async fn step_started(&self, step: usize) -> Result<(), EngineError> {
        self.record(Event::StepStarted { job: self.job.clone(), step, log: self.log.length() }).await
    }

    async fn step_ended(&self, step: usize, end: StepEnd) -> Result<(), EngineError> {
        self.record(Event::StepEnded { job: self.job.clone(), step, end, log: self.log.length() }).await
    }

    async fn end(&self, outcome: Outcome, reason: Option<String>) -> Result<(), EngineError> {
        info!(run = %self.live.row.facts.id, job = %self.job, ?outcome, "rollout ended");
        self.record(Event::JobEnded { job: self.job.clone(), outcome, reason, usage: None }).await?;
        let (run, job) = (self.live.row.id, self.job.clone());
        let forgotten = self.engine.store.write(move |records| store::forget_before(records, run, &job)).await;
        if let Err(error) = forgotten {
            // It is small, and of no use to anybody any more.
            warn!(job = %self.job, %error, "what was there before a rollout is still kept");
        }
        Ok(())
    }

    async fn carry_out(&self) -> Result<(), EngineError> {
        if self.log.length() > 0 {
            self.say("the server was started again and takes the rollout up");
        }
        self.record(Event::JobTaken { job: self.job.clone(), runner: "server".to_owned() }).await?;
        if let Some(later) = self.overtaken().await? {
            let words = format!("overtaken by {later}, which carries a later commit and runs there already");
            self.say(&words);
            return self.end(Outcome::Stopped, Some(words)).await;
        }
        self.note("rollout begin", AuditResult::Done, None).await?;
        let work = self.bring();
        let halted = self.live.halted(&self.job);
        let (step, end) = tokio::select! {
            ended = work => ended?,
            () = halted => {
                let words = "stopped; the cluster goes on with what it was told last";
                self.say(words);
                self.note("rollout end", AuditResult::Failed, Some(words)).await?;
                return self.end(Outcome::Stopped, None).await;
            }
        };
        match end {
            Ok(release) => {
                self.note("rollout end", AuditResult::Done, None).await?;
                self.step_ended(step, StepEnd::Exit(0)).await?;
                self.record(Event::ResultAdded { job: self.job.clone(), result: release }).await?;
                self.end(Outcome::Passed, None).await
            }
            Err(error) => {
                let result = match error {
                    RolloutError::NotAdmitted(_) | RolloutError::NotApproved { .. } => AuditResult::Refused,
                    _ => AuditResult::Failed,
                };
                let words = error.to_string();
                self.say(&words);
                let words = match self.restore().await {
                    None => words,
                    Some(Ok(())) => format!("{words}; what was there before is back"),
                    Some(Err(why)) => format!("{words}; what was there before could not be put back: {why}"),
                };
                self.note("rollout end", result, Some(&words)).await?;
                self.step_ended(step, StepEnd::Exit(1)).await?;
                self.end(Outcome::Failed, Some(words)).await
            }
        }
    }

    /// Notes in the audit what becomes of it.
    async fn note(&self, action: &str, result: AuditResult, words: Option<&str>) -> Result<(), EngineError> {
        let id = &self.live.row.facts.id;
        let to = match self.live.planned(&self.job).map(|job| &job.kind) {
            Some(JobKind::Rollout(rollout)) => rollout.to.value.clone(),
            _ => String::new(),
        };
        let of = format!("{} of #{}", self.job, id.number);
        let words = words.map_or_else(|| of.clone(), |words| format!("{of}: {words}"));
        let deed = Deed { result, words, ..own_deed(action, to, Some(id.project.as_str())) };
        Ok(self.engine.note_until_stored(deed).await?)
    }

    /// The run of a later commit of the branch that the environment has already. Who starts or reruns an earlier
    /// one by hand wants just that.
    async fn overtaken(&self) -> Result<Option<RunId>, EngineError> {
        let facts = &self.live.row.facts;
        let Some(JobKind::Rollout(rollout)) = self.live.planned(&self.job).map(|job| &job.kind) else {
            return Ok(None);
        };
        if matches!(facts.start, StartKind::Manual | StartKind::Rerun) || facts.is_try {
            return Ok(None);
        }
        let (run, job, environment) = (self.live.row.id, self.job.clone(), rollout.to.value.clone());
        Ok(self.engine.store.read(move |records| store::rollout_overtaken(records, run, &job, &environment)).await?)
    }

    /// Asks a cluster, again and again until `deadline` while what goes wrong may be well a little later.
    async fn patiently<'a, T>(
        &self,
        deadline: Instant,
        ask: impl Fn() -> BoxFuture<'a, Result<T, ClusterError>> + Send + Sync,
    ) -> Result<T, ClusterError> {
        let mut backoff = Backoff::new(FIRST_PAUSE, LONGEST_PAUSE);
        let mut told = None;
        loop {
            match ask().await {
                Err(error) if error.is_transient() && Instant::now() < deadline => {
                    if told.as_ref() != Some(&error) {
                        self.say(&format!("{error}; asked again"));
                        told = Some(error);
                    }
                    drop(tokio::time::timeout_at(deadline, backoff.wait()).await);
                }
                other => return other,
            }
        }
    }

    /// Puts back what was there before, where the pipeline wants that and anything was changed; nothing
    /// where not.
    async fn restore(&self) -> Option<Result<(), RolloutError>> {
        let before = self.before.lock().await.take()?;
        let limit = self.time_limit();
        let deadline = Instant::now() + limit.to_std();
        let settled = tokio::time::timeout_at(deadline, self.put_back(&before, deadline));
        Some(settled.await.unwrap_or(Err(RolloutError::Late(limit))))
    }

    async fn put_back(&self, before: &Before, deadline: Instant) -> Result<(), RolloutError> {
        let mut back = Vec::new();
        for (object, was) in before.manifests.objects().iter().zip(&before.objects) {
            let title = title(object);
            match was {
                Some(was) if is_secret(was) => {
                    self.say(&format!("{title} is left as it is: no copy is kept of what was in it before"));
                }
                Some(was) => {
                    self.patiently(deadline, || before.cluster.put_back(was)).await?;
                    let runs = images(was).map(|images| format!(", runs {images} again"));
                    self.say(&format!("put {title} back{}", runs.unwrap_or_default()));
                    back.push(was.clone());
                }
                None => self.say(&format!("{title} was not there before and is left as it is")),
            }
        }
        self.settle(&*before.cluster, &Manifests::of(back), deadline).await
    }

    fn time_limit(&self) -> pondrix_core::Duration {
        match self.live.planned(&self.job).map(|job| &job.kind) {
            Some(JobKind::Rollout(rollout)) => rollout.time,
            _ => pondrix_core::Duration::from_seconds(0),
        }
    }

    /// Applies and watches. Answers the step that ended it, and how.
    async fn bring(&self) -> Result<(usize, Result<JobResult, RolloutError>), EngineError> {
        self.step_started(APPLY).await?;
        let Applied { cluster, manifests, time, release } = match self.apply().await {
            Ok(applied) => applied,
            Err(error) => return Ok((APPLY, Err(error))),
        };
        self.step_ended(APPLY, StepEnd::Exit(0)).await?;
        self.step_started(WAIT).await?;
        let deadline = Instant::now() + time.to_std();
        let settled = tokio::time::timeout_at(deadline, self.settle(&*cluster, &manifests, deadline)).await;
        Ok((WAIT, settled.unwrap_or(Err(RolloutError::Late(time))).map(|()| release)))
    }

    async fn apply(&self) -> Result<Applied, RolloutError> {
        let Some(JobKind::Rollout(rollout)) = self.live.planned(&self.job).map(|job| job.kind.clone()) else {
            return Err(RolloutError::NotOne(self.job.clone()));
        };
        let deadline = Instant::now() + rollout.time.to_std();
        let name = rollout.to.value.clone();
        let environment = self.engine.store.read(move |c| store::environment(c, &name)).await?;
        let row = environment.ok_or_else(|| RolloutError::NoEnvironment(rollout.to.value.clone()))?;
        let environment = &row.view;
        self.may_roll_out(environment).await?;
        let reached = self.engine.reached(&row).map_err(|error| RolloutError::Sealed(error.to_string()))?;
        let released = self.released(&rollout).await?;
        let mut manifests = Manifests::read(&self.engine, &self.live.row, &rollout.manifests).await?;
        let put = manifests.put_image(&rollout.image.value, &released.repository, &released.digest);
        if put == 0 {
            return Err(RolloutError::NoContainer {
                manifests: rollout.manifests.join(", "),
                image: rollout.image.value.clone(),
                repository: released.repository.to_string(),
            });
        }
        manifests.fit(environment).map_err(RolloutError::NotAdmitted)?;
        manifests.annotate(&self.live.row.facts, released.tag.as_ref());
        let tag = released.tag.as_ref().map(|tag| format!(" ({tag})")).unwrap_or_default();
        self.say(&format!("image {}{tag}", released.repository.at(released.digest.clone())));
        let cluster = self.patiently(deadline, || self.engine.clusters.connect(&reached)).await?;
        let mut before = Vec::new();
        for object in manifests.objects() {
            let now = self.patiently(deadline, || cluster.now(object)).await?;
            before.push(now.map(without_secrets));
        }
        if rollout.on_failure == OnFailure::Restore {
            let (run, job) = (self.live.row.id, self.job.clone());
            let now = EncodedObjects::new(&before)?;
            let kept = self.engine.store.write(move |records| store::keep_before(records, run, &job, &now)).await?;
            before = kept.decode()?;
            let (cluster, manifests, objects) = (Arc::clone(&cluster), manifests.clone(), before.clone());
            *self.before.lock().await = Some(Before { cluster, manifests, objects });
        }
        for (object, before) in manifests.objects().iter().zip(&before) {
            self.patiently(deadline, || cluster.apply(object)).await?;
            let was = before.as_ref().and_then(images).map(|images| format!(", was {images}"));
            self.say(&format!("applied {}{}", title(object), was.unwrap_or_default()));
        }
        let release = JobResult::Release {
            environment: environment.name.clone(),
            image: released.repository.at(released.digest).to_string(),
            tag: released.tag.map(|tag| tag.to_string()),
            address: environment.address.clone(),
        };
        Ok(Applied { cluster, manifests, time: rollout.time, release })
    }

    /// Whether this run may roll out there now: the rules may be others than when it began.
    async fn may_roll_out(&self, environment: &EnvironmentView) -> Result<(), RolloutError> {
        let row = &self.live.row;
        let (project, by, author) = (row.facts.id.project.clone(), row.summary.by.clone(), row.summary.author.clone());
        let read = move |c: &rusqlite::Connection| {
            let own = own_names(c, by.as_deref(), &author)?;
            Ok((Standing::read(c, project.as_str(), by.as_deref())?, own))
        };
        let (standing, own) = self.engine.store.read(read).await?;
        let candidate = standing.candidate(&row.facts, self.engine.is_in_ref(&row.facts).await?);
        Engine::admitted(environment, &candidate, Some(self.engine.clock.now())).map_err(RolloutError::NotAdmitted)?;
        let run = self.live.now();
        let stage = run.stages.iter().find(|stage| stage.name == self.job.stage());
        match environment.rules.gate(&environment.name, own) {
            Some(gate) if !stage.is_some_and(|stage| gate.is_open(stage.yes())) => {
                Err(RolloutError::NotApproved { environment: environment.name.clone(), whose: gate.whose() })
            }
            _ => Ok(()),
        }
    }

    /// The image that an earlier stage of this run pushed.
    async fn released(&self, rollout: &RolloutJob) -> Result<PushedImage, RolloutError> {
        Ok(PushedImage::of_job(&rollout.image.value, &self.live.row.plan, &self.live.now())?)
    }

    /// Watches every Deployment until it is settled.
    async fn settle(
        &self,
        cluster: &dyn Cluster,
        manifests: &Manifests,
        deadline: Instant,
    ) -> Result<(), RolloutError> {
        for deployment in manifests.deployments() {
            let mut last = String::new();
            loop {
                let state = self.patiently(deadline, || cluster.now(deployment)).await?;
                let state = state.ok_or_else(|| ClusterError::Gone { title: title(deployment) })?;
                let (words, over) = match judge(&state) {
                    Progress::Moving(words) => (words, None),
                    Progress::Settled(words) => (words, Some(Ok(()))),
                    Progress::Failed(words) => (words.clone(), Some(Err(RolloutError::NotReady(words)))),
                };
                if words != last {
                    self.say(&format!("{}: {words}", title(deployment)));
                    last = words;
                }
                match over {
                    Some(Ok(())) => break,
                    Some(Err(error)) => return Err(error),
                    None => self.patiently(deadline, || cluster.changed(&state, WATCH_TIME)).await?,
                }
            }
        }
        Ok(())
    }
}
