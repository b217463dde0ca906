//! One job, from taking it to its last report.

use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::FusedFuture;
use pondrix_api::{Assignment, ClientError, JobReport, RunnerClient};
use pondrix_core::ProjectName;
use pondrix_core::run::JobUsage;
use pondrix_core::work::Work;
use pondrix_sandbox::{Launcher, StartError, Usage};
use tokio::runtime::Handle;
use tokio::sync::{oneshot, watch};
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::config::RunnerConfig;
use crate::contact::{Contact, Ending};
use crate::executor::{self, End, JobExecutor, JobTime, SandboxInspector};
use crate::folder::Folder;
use crate::log::Log;
use crate::reports::{self, Reports};
use crate::stuck::StuckPlaces;

/// How long to wait before asking a server again that did not answer.
const PAUSE: Duration = Duration::from_millis(200);
/// How long after it was taken a job first asks for orders. Taking it was a sign of life, and many are over by then.
const FIRST_BEAT: Duration = Duration::from_millis(100);
/// The longest that a sign of life may be on its way; the server keeps it for 5 s.
const BEAT_TIME: Duration = Duration::from_secs(10);

/// What the delivery of a job needs.
pub(crate) struct JobContext {
    client: RunnerClient,
    config: RunnerConfig,
    folder: Folder,
    launcher: Launcher,
    assignment: Arc<Assignment>,
    contact: Contact,
    stuck: StuckPlaces,
}

/// Keeps what builds of a project mount within what it may have on a runner.
fn keep_within(folder: &Folder, project: &ProjectName, limit: u64) {
    let caches = [true, false].map(|is_trusted| folder.build_caches(project, is_trusted));
    match folder.store.limit_caches(&caches, limit) {
        Ok(freed) if freed.count > 0 => {
            info!(%project, freed.count, freed.bytes, "removed caches over the project's quota")
        }
        Ok(_) => {}
        Err(error) => warn!(%project, %error, "the size of a project's caches could not be told"),
    }
}

/// What a control group counted, as the server stores it.
fn job_usage(usage: Usage) -> JobUsage {
    let Usage { memory, cpu, processes, read, written } = usage;
    let cpu_millis = cpu.map(|time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX));
    JobUsage { memory, cpu_millis, processes, read, written }
}

impl JobContext {
    pub(crate) fn new(
        client: &RunnerClient,
        config: RunnerConfig,
        folder: &Folder,
        launcher: &Launcher,
        assignment: Assignment,
        stuck: &StuckPlaces,
    ) -> Self {
        Self {
            client: client.clone(),
            config,
            folder: folder.clone(),
            launcher: launcher.clone(),
            stuck: stuck.clone(),
            contact: Contact::new(Duration::from_secs(assignment.lease_seconds)),
            assignment: Arc::new(assignment),
        }
    }

    /// Does the job, and returns when everything about it has been delivered. `place` is dropped when it is done: what
    /// is delivered after that needs no processor, and the next job has its place.
    pub(crate) async fn carry_out(self, shutdown: CancellationToken, place: oneshot::Sender<()>) {
        let (reports, queue) = Reports::new();
        // Nothing that this job finds in the store goes while it runs.
        let in_use = self.folder.store.in_use();
        let scratch = match self.folder.scratch() {
            Ok(scratch) => scratch,
            Err(error) => {
                reports.send(Self::ended(End::failed(format!("the runner has no room for the job: {error}"))));
                drop(reports);
                reports::deliver(&self.client, &self.contact, &self.assignment, queue).await;
                return;
            }
        };
        let log = match Log::new(
            &scratch.path().join("log"),
            self.assignment.log,
            self.assignment.log_limit,
            &self.assignment.secrets,
        ) {
            Ok(log) => log,
            Err(error) => {
                warn!(%error, "could not begin a log");
                return;
            }
        };
        let launcher = match self.limited() {
            Ok(limited) => limited.unwrap_or_else(|| self.launcher.clone()),
            Err(error) => {
                reports.send(Self::ended(End::failed(format!("the runner cannot limit what the job uses: {error}"))));
                drop(reports);
                reports::deliver(&self.client, &self.contact, &self.assignment, queue).await;
                return;
            }
        };
        if self.assignment.attempt > 1 {
            log.say(&format!("attempt {} begins", self.assignment.attempt));
        }
        let time = JobTime::new(match &self.assignment.work {
            Work::Steps(work) => work.time,
            Work::Image(work) => work.time,
        });
        let (watch, time_of_job) = (time.watch(&self.contact), time.clone());
        let measured = launcher.clone();
        let inspector = SandboxInspector::new(launcher.clone(), scratch.path().to_owned(), log.clone(), watch.clone());
        let executor = JobExecutor {
            launcher,
            limits: self.config.limits,
            folder: self.folder.for_job(&watch, Arc::new(inspector)),
            assignment: Arc::clone(&self.assignment),
            scratch,
            bounded: None,
            log: log.clone(),
            shown: self.config.shown.clone(),
            emulated: self.config.emulated.clone(),
            namespaces: self.config.namespaces,
            reach: self.config.reach.clone(),
            resolvers: self.config.resolvers.clone(),
            reports: reports.clone(),
            contact: self.contact.clone(),
            client: self.client.clone(),
            handle: Handle::current(),
            time,
            watch,
        };
        let (tell_ended, ended) = watch::channel(false);
        let doing = tokio::task::spawn_blocking(move || executor::carry_out(executor));
        let deliver_reports = reports::deliver(&self.client, &self.contact, &self.assignment, queue);
        let deliver_log = log.deliver(&self.client, &self.contact, &self.assignment, ended);
        let finish = async {
            let should_end = || self.contact.ending().is_some() || time_of_job.is_over();
            let (end, scratch) = match self.stuck.await_end(should_end, doing).await {
                Ok((end, scratch)) => (end, Some(scratch)),
                Err(error) => (End::failed(format!("the runner broke: {error}")), None),
            };
            // The group of the job is removed with its last launcher, which waits for the kernel.
            let usage = tokio::task::spawn_blocking(move || measured.usage()).await.ok().flatten().map(job_usage);
            drop(place);
            (end, usage, scratch, tell_ended)
        };
        // Fused: a log that the server no longer takes is done before the job is.
        let mut deliver_log = std::pin::pin!(deliver_log.fuse());
        let deliver = async {
            let mut finish = std::pin::pin!(finish);
            let (end, usage, scratch, tell_ended) = tokio::select! {
                finished = &mut finish => finished,
                () = &mut deliver_log => finish.await,
            };
            // The full log first: who hears of the end may read it at once.
            let _ = tell_ended.send(true);
            if !deliver_log.is_terminated() {
                deliver_log.await;
            }
            reports.send(JobReport::Ended { outcome: end.outcome, reason: end.reason, usage });
            drop(reports);
            drop(in_use);
            // Nobody need wait for it.
            let (folder, assignment) = (self.folder.clone(), Arc::clone(&self.assignment));
            tokio::task::spawn_blocking(move || {
                drop(scratch);
                if let Some(limit) = assignment.runner_caches {
                    keep_within(&folder, &assignment.facts.id.project, limit);
                }
            });
            self.folder.crowded.notify_one();
        };
        tokio::select! {
            (all, ()) = async { tokio::join!(deliver_reports, deliver) } => {
                if !all {
                    warn!(job = %self.assignment.job, "the job was no longer ours");
                }
            }
            () = self.listen(&shutdown) => {}
        }
    }

    /// The launcher of the job's sandboxes, with the limits of all of them together.
    fn limited(&self) -> Result<Option<Launcher>, StartError> {
        let limits = self.config.limits.map(|limits| limits.of_kernel(self.assignment.weight));
        limits.map(|limits| self.launcher.limited(&limits)).transpose()
    }

    fn ended(end: End) -> JobReport {
        JobReport::Ended { outcome: end.outcome, reason: end.reason, usage: None }
    }

    /// Signs of life, and orders. Never ends; only the job's delivery does.
    async fn listen(&self, shutdown: &CancellationToken) {
        let beats = async {
            tokio::time::sleep(FIRST_BEAT).await;
            loop {
                let beat = tokio::time::timeout(BEAT_TIME, self.contact.ask_once(self.client.beat(&self.assignment)));
                match beat.await {
                    Ok(Ok(beat)) if beat.halt => {
                        self.contact.end(Ending::Halted);
                        std::future::pending::<()>().await;
                    }
                    Ok(Ok(_)) => {}
                    Ok(Err(ClientError::Problem(problem))) if problem.status < 500 => {
                        // The server gave the job up: whatever it does now is for nobody.
                        self.contact.end(Ending::Halted);
                        std::future::pending::<()>().await;
                    }
                    Ok(Err(error)) => tokio::time::sleep(error.pause(PAUSE)).await,
                    Err(_) => {}
                }
            }
        };
        // On its own: a server that does not answer must not keep it from being seen that it does not.
        let watch = async {
            loop {
                let left = self.contact.time_left();
                if left.is_zero() {
                    warn!(job = %self.assignment.job, "the server is out of reach; the job is ended");
                    self.contact.end(Ending::Alone);
                    std::future::pending::<()>().await;
                }
                tokio::time::sleep(left).await;
            }
        };
        tokio::select! {
            () = beats => {}
            () = watch => {}
            () = shutdown.cancelled() => {
                self.contact.end(Ending::Halted);
                // The job ends now; its delivery may find nobody.
                tokio::time::sleep(self.config.grace()).await;
            }
        }
    }
}
