//! Rollouts: bringing an image to an environment, and watching until it runs there.

mod cluster;
mod manifests;

use std::sync::Arc;
use std::time::Duration;

use pondrix_core::JobKey;
use pondrix_core::pipeline::{JobKind, OnFailure, RolloutJob};
use pondrix_core::rollout::{Progress, judge};
use pondrix_core::run::{Event, JobResult, Outcome, StepEnd};
use pondrix_core::work::PushedImage;
use tokio_util::sync::CancellationToken;
use tracing::{error, info};

use crate::engine::{Engine, EngineError, LiveRun};
use crate::logs::OpenLog;
use crate::store;
use cluster::Cluster;
use manifests::Manifests;

/// Carries out rollouts as their turn comes, side by side, until `shutdown`.
pub(crate) async fn carry_out_orders(engine: Arc<Engine>, shutdown: CancellationToken) {
    loop {
        let (live, job) = tokio::select! {
            taken = engine.take_rollout() => taken,
            () = shutdown.cancelled() => return,
        };
        let engine = Arc::clone(&engine);
        tokio::spawn(async move {
            let log = engine.logs.log(&live.row.facts.id, &job);
            let rollout = Rollout { log, engine, live, job, before: tokio::sync::Mutex::default() };
            if let Err(error) = rollout.carry_out().await {
                error!(job = %rollout.job, %error, "a rollout could not be recorded");
            }
            rollout.engine.release(&rollout.live, &rollout.job).await;
        });
    }
}

/// Proves that an environment is known and answers.
///
/// # Errors
/// In words, why not.
pub(crate) async fn reach(engine: &Engine, name: &str) -> Result<(), String> {
    let wanted = name.to_owned();
    let environment = engine.store.read(move |c| store::environment(c, &wanted)).await;
    let environment = environment.map_err(|error| error.to_string())?;
    let environment = environment.ok_or_else(|| format!("there is no environment `{name}`"))?;
    let cluster = Cluster::connect(&environment).await.map_err(|words| format!("environment `{name}`: {words}"))?;
    cluster.answers().await.map_err(|words| format!("environment `{name}`: {words}"))
}

struct Rollout {
    engine: Arc<Engine>,
    live: Arc<LiveRun>,
    job: JobKey,
    log: Arc<OpenLog>,
    /// Set once anything may have been changed that is to be put back on failure.
    before: tokio::sync::Mutex<Option<Before>>,
}

/// What there was before, by the objects of the manifests.
struct Before {
    cluster: Cluster,
    manifests: Manifests,
    objects: Vec<Option<serde_json::Value>>,
}

const APPLY: usize = 0;
const SETTLE: usize = 1;

impl Rollout {
    /// Records an event. One that happened before the server was started again is refused, which is
    /// as it should be: rollouts are taken up from their beginning, and applying twice changes nothing.
    async fn record(&self, event: Event) -> Result<(), EngineError> {
        match self.engine.record(&self.live, &event).await {
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
        self.record(Event::JobEnded { job: self.job.clone(), outcome, reason }).await?;
        let (run, job) = (self.live.row.id, self.job.clone());
        Ok(self.engine.store.write(move |records| store::forget_before(records, run, &job)).await?)
    }

    async fn carry_out(&self) -> Result<(), EngineError> {
        if self.log.length() > 0 {
            self.say("the server was started again and takes the rollout up");
        }
        self.record(Event::JobTaken { job: self.job.clone(), runner: "server".to_owned() }).await?;
        let work = self.bring();
        let halted = self.live.halted(&self.job);
        let (step, end) = tokio::select! {
            ended = work => ended?,
            () = halted => {
                self.say("stopped; the cluster goes on with what it was told last");
                return self.end(Outcome::Stopped, None).await;
            }
        };
        match end {
            Ok(release) => {
                self.step_ended(step, StepEnd::Exit(0)).await?;
                self.record(Event::ResultAdded { job: self.job.clone(), result: release }).await?;
                self.end(Outcome::Passed, None).await
            }
            Err(words) => {
                self.say(&words);
                let words = match self.restore().await {
                    None => words,
                    Some(Ok(())) => format!("{words}; what was there before is back"),
                    Some(Err(why)) => format!("{words}; what was there before could not be put back: {why}"),
                };
                self.step_ended(step, StepEnd::Exit(1)).await?;
                self.end(Outcome::Failed, Some(words)).await
            }
        }
    }

    /// Puts back what was there before, where the pipeline wants that and anything was changed; nothing
    /// where not.
    async fn restore(&self) -> Option<Result<(), String>> {
        let before = self.before.lock().await.take()?;
        let limit = self.settle_limit();
        let settled = tokio::time::timeout(limit.to_std(), self.put_back(&before));
        Some(settled.await.unwrap_or_else(|_| Err(format!("it was not ready within {limit}"))))
    }

    async fn put_back(&self, before: &Before) -> Result<(), String> {
        let mut back = Vec::new();
        for (object, was) in before.manifests.objects().iter().zip(&before.objects) {
            let title = cluster::title(object);
            match was {
                Some(was) => {
                    before.cluster.put_back(was).await?;
                    let runs = cluster::images(was).map(|images| format!(", runs {images} again"));
                    self.say(&format!("put {title} back{}", runs.unwrap_or_default()));
                    back.push(was.clone());
                }
                None => self.say(&format!("{title} was not there before and is left as it is")),
            }
        }
        self.settle(&before.cluster, &Manifests::of(back)).await
    }

    fn settle_limit(&self) -> pondrix_core::Duration {
        match self.live.row.plan.job(&self.job).map(|job| &job.kind) {
            Some(JobKind::Rollout(rollout)) => rollout.time,
            _ => pondrix_core::Duration::from_seconds(0),
        }
    }

    /// Applies and watches. Answers the step that ended it, and how.
    async fn bring(&self) -> Result<(usize, Result<JobResult, String>), EngineError> {
        self.step_started(APPLY).await?;
        let applied = self.apply().await;
        let (cluster, manifests, rollout, release) = match applied {
            Ok(applied) => applied,
            Err(words) => return Ok((APPLY, Err(words))),
        };
        self.step_ended(APPLY, StepEnd::Exit(0)).await?;
        self.step_started(SETTLE).await?;
        let limit = rollout.time;
        let settled = tokio::time::timeout(limit.to_std(), self.settle(&cluster, &manifests)).await;
        let settled = settled.unwrap_or_else(|_| Err(format!("it was not ready within {limit}")));
        Ok((SETTLE, settled.map(|()| release)))
    }

    async fn apply(&self) -> Result<(Cluster, Manifests, RolloutJob, JobResult), String> {
        let Some(JobKind::Rollout(rollout)) = self.live.row.plan.job(&self.job).map(|job| job.kind.clone()) else {
            return Err(format!("{} is not a rollout", self.job));
        };
        let name = rollout.to.value.clone();
        let environment = self.engine.store.read(move |c| store::environment(c, &name)).await;
        let environment = environment.map_err(|error| error.to_string())?.ok_or_else(|| {
            let name = &rollout.to.value;
            format!("there is no environment `{name}`; make it known with `pondrix environment set {name} --kubeconfig FILE`")
        })?;
        let released = self.released(&rollout).await?;
        let mut manifests = Manifests::read(&self.engine, &self.live.row, &rollout.manifests).await?;
        let put = manifests.put_image(&rollout.image.value, &released.repository, &released.digest);
        if put == 0 {
            return Err(format!(
                "no container in {} uses the image `{}`: give one `image: {}`",
                rollout.manifests.join(", "),
                rollout.image.value,
                released.repository
            ));
        }
        manifests.annotate(&self.live.row.facts, released.tag.as_ref());
        let tag = released.tag.as_ref().map(|tag| format!(" ({tag})")).unwrap_or_default();
        self.say(&format!("image {}{tag}", released.repository.at(released.digest.clone())));
        let cluster = Cluster::connect(&environment).await?;
        let mut before = Vec::new();
        for object in manifests.objects() {
            before.push(cluster.now(object).await?);
        }
        if rollout.on_failure == OnFailure::Restore {
            let (run, job) = (self.live.row.id, self.job.clone());
            let keep = self.engine.store.write(move |records| store::keep_before(records, run, &job, &before)).await;
            before = keep.map_err(|error| error.to_string())?;
            let (cluster, manifests, objects) = (cluster.clone(), manifests.clone(), before.clone());
            *self.before.lock().await = Some(Before { cluster, manifests, objects });
        }
        for (object, before) in manifests.objects().iter().zip(&before) {
            let applied = cluster.apply(object).await?;
            let was = before.as_ref().and_then(cluster::images).map(|images| format!(", was {images}"));
            self.say(&format!("applied {applied}{}", was.unwrap_or_default()));
        }
        let result = JobResult::Release {
            environment: environment.name.clone(),
            image: released.repository.at(released.digest).to_string(),
            tag: released.tag.map(|tag| tag.to_string()),
            address: environment.address,
        };
        Ok((cluster, manifests, rollout, result))
    }

    /// The image that an earlier stage of this run pushed.
    async fn released(&self, rollout: &RolloutJob) -> Result<PushedImage, String> {
        let state = self.live.state.lock().await;
        PushedImage::of_job(&rollout.image.value, &self.live.row.plan, &state.run).map_err(|error| error.to_string())
    }

    /// Watches every Deployment until it is settled.
    async fn settle(&self, cluster: &Cluster, manifests: &Manifests) -> Result<(), String> {
        for deployment in manifests.deployments() {
            let mut last = String::new();
            loop {
                let (state, next) = cluster.deployment(deployment).await?;
                let (words, over) = match judge(&state) {
                    Progress::Moving(words) => (words, None),
                    Progress::Settled(words) => (words, Some(Ok(()))),
                    Progress::Failed(words) => (words.clone(), Some(Err(words))),
                };
                if words != last {
                    self.say(&format!("{}: {words}", cluster::title(deployment)));
                    last = words;
                }
                match over {
                    Some(Ok(())) => break,
                    Some(Err(words)) => return Err(words),
                    None => next.changed(WATCH_TIME).await?,
                }
            }
        }
        Ok(())
    }
}

/// How long one watch may stay silent before the object is read anew.
const WATCH_TIME: Duration = Duration::from_secs(20);
