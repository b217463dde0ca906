//! What the doing of a job needs, and how it ends.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{AccountQuestion, Assignment, ClientError, JobReport, RunnerClient};
use pondrix_core::Size;
use pondrix_core::access::Reach;
use pondrix_core::image::{Access, Registries, Repository};
use pondrix_core::run::{Outcome, StepEnd};
use pondrix_core::work::Work;
use pondrix_files::{TemporaryFolder, Watch};
use pondrix_image::Platform;
use pondrix_sandbox::Launcher;
use tokio::runtime::Handle;

use super::error::JobError;
use super::time::JobTime;
use crate::bounded::Bounded;
use crate::config::JobLimits;
use crate::contact::{Contact, Ending};
use crate::folder::Folder;
use crate::log::Log;
use crate::reports::Reports;

/// How often a request checks whether the job has ended.
const GIVEN_UP_CHECK: Duration = Duration::from_millis(100);

/// What is said of a failure that may be another's, and none a little later.
const MAY_PASS: &str = "; that may pass: do it again with `pondrix rerun`";

/// What the doing of a job needs, on a thread of its own.
pub(crate) struct JobExecutor {
    /// Its sandboxes together have no more of the machine than the job may.
    pub(crate) launcher: Launcher,
    pub(crate) limits: Option<JobLimits>,
    pub(crate) folder: Folder,
    pub(crate) assignment: Arc<Assignment>,
    /// The file system that enforces the disk limit. Dropped before `scratch`, which contains its mount point.
    pub(crate) bounded: Option<Bounded>,
    pub(crate) scratch: TemporaryFolder,
    pub(crate) log: Log,
    /// Folders of the machine that a job may read that runs on it.
    pub(crate) shown: Vec<PathBuf>,
    /// Platforms that the machine emulates.
    pub(crate) emulated: Vec<Platform>,
    /// Whether steps may make namespaces.
    pub(crate) namespaces: bool,
    /// What of the network a job reaches.
    pub(crate) reach: Reach,
    /// Who is asked for names.
    pub(crate) resolvers: Vec<SocketAddr>,
    pub(crate) reports: Reports,
    pub(crate) contact: Contact,
    pub(crate) client: RunnerClient,
    pub(crate) handle: Handle,
    pub(crate) time: JobTime,
    /// Cancels long operations.
    pub(crate) watch: Watch,
}

/// How a job's doing ended.
pub(crate) struct End {
    pub(crate) outcome: Outcome,
    pub(crate) reason: Option<String>,
}

impl End {
    pub(crate) fn failed(reason: impl Into<String>) -> Self {
        Self { outcome: Outcome::Failed, reason: Some(reason.into()) }
    }

    /// It could not be done.
    pub(crate) fn because(error: &JobError) -> Self {
        Self::because_all(std::slice::from_ref(error))
    }

    /// Several things could not be done.
    pub(crate) fn because_all(errors: &[JobError]) -> Self {
        let mut words = errors.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
        if errors.iter().all(JobError::is_transient) {
            words.push_str(MAY_PASS);
        }
        Self::failed(words)
    }
}

impl JobExecutor {
    /// Why the job is to end before it is done; nothing while it is not.
    pub(crate) fn why_ending(&self) -> Option<Ending> {
        self.contact.ending()
    }

    pub(crate) fn is_halted(&self) -> bool {
        self.why_ending().is_some()
    }

    /// The disk limit of the job.
    pub(crate) fn most_written(&self) -> Option<Size> {
        let own = match &self.assignment.work {
            Work::Steps(work) => work.limits.disk,
            Work::Image(_) => None,
        };
        own.or(self.limits.and_then(|limits| limits.disk))
    }

    /// Creates a file system for the job's files, if the job has a disk limit and the machine supports it.
    pub(crate) fn bound(&mut self) {
        let Some(most) = self.most_written() else { return };
        if let Some(bounded) = Bounded::new(self.scratch.path(), most, self.launcher.ids()) {
            self.launcher = self.launcher.with_mount(bounded.path().to_owned());
            self.bounded = Some(bounded);
        }
    }

    /// Returns the message for a job whose file system is full.
    pub(crate) fn why_full(&self) -> Option<String> {
        let limit = self.most_written().filter(|_| self.bounded.as_ref().is_some_and(Bounded::is_full))?;
        Some(format!("the job has written more than its limit of {limit}"))
    }

    /// The folder for all files that the job writes.
    pub(crate) fn room(&self) -> &Path {
        self.bounded.as_ref().map_or(self.scratch.path(), Bounded::path)
    }

    /// Whether the job, or getting ready for it, has taken longer than it may.
    pub(crate) fn is_out_of_time(&self) -> bool {
        self.time.is_over()
    }

    /// Everything is ready for the first step.
    pub(crate) fn is_prepared(&self) {
        if self.time.is_prepared() {
            self.report(JobReport::Prepared);
        }
    }

    /// The words for a job that has taken longer than it may.
    pub(crate) fn time_words(&self) -> String {
        self.time.words()
    }

    /// Cancels long operations when the job ends.
    pub(crate) const fn watch(&self) -> &Watch {
        &self.watch
    }

    pub(crate) fn registries(&self) -> Registries {
        Registries { others: Some(self.reach.clone()), ..self.assignment.registries.clone() }
    }

    /// The same for what is pushed now: an identity that signs in is made anew, as the one that came with the job may be
    /// good no more.
    pub(crate) fn registries_to_push(&self, to: &Repository) -> Result<Registries, JobError> {
        let mut registries = self.registries();
        let Some(access) = registries.by_host.get_mut(to.host()) else { return Ok(registries) };
        if access.account(to).is_some_and(|account| account.audience.is_some()) {
            self.ask_for_account(access, to)?;
        }
        Ok(registries)
    }

    fn ask_for_account(&self, access: &mut Access, repository: &Repository) -> Result<(), JobError> {
        let question = AccountQuestion { repository: repository.clone() };
        let answer = self.ask(async |client, assignment| client.account(assignment, &question).await)?;
        access.accounts = answer.account.into_iter().collect();
        Ok(())
    }

    /// The same for an image that a recipe names, of which the server did not know: who signs in for it may be somebody
    /// else than for what is pushed.
    pub(crate) fn registries_of(&self, image: &Repository) -> Result<Registries, JobError> {
        let mut registries = self.registries();
        let Work::Image(work) = &self.assignment.work else { return Ok(registries) };
        let is_known = work.pushes.iter().map(|push| &push.repository).chain(&work.cache).any(|known| known == image);
        let access = registries.by_host.get_mut(image.host());
        if let Some(access) = access.filter(|access| access.is_private && !is_known) {
            self.ask_for_account(access, image)?;
        }
        Ok(registries)
    }

    pub(crate) fn block_on<F: Future>(&self, future: F) -> F::Output {
        self.handle.block_on(future)
    }

    /// Waits for a request to a registry or another server. Drops the request when the job is stopped or exceeds its time.
    pub(crate) fn talk<T, E: Into<JobError>>(&self, talk: impl Future<Output = Result<T, E>>) -> Result<T, JobError> {
        let given_up = async {
            loop {
                tokio::time::sleep(GIVEN_UP_CHECK).await;
                if let Err(error) = self.watch.check() {
                    return error;
                }
            }
        };
        self.block_on(async {
            tokio::select! {
                answer = talk => answer.map_err(Into::into),
                error = given_up => Err(error.into()),
            }
        })
    }

    /// Asks the server, as long as the job may take: one that is away comes back, and nothing of the job is lost by
    /// waiting for it.
    pub(crate) fn ask<T>(
        &self,
        question: impl AsyncFn(&RunnerClient, &Assignment) -> Result<T, ClientError>,
    ) -> Result<T, ClientError> {
        let goes_on = || !self.is_halted() && !self.is_out_of_time();
        self.block_on(self.contact.ask(goes_on, || question(&self.client, &self.assignment)))
    }

    pub(crate) fn report(&self, report: JobReport) {
        self.reports.send(report);
    }

    pub(crate) fn step_started(&self, step: usize) {
        self.report(JobReport::StepStarted { step, log: self.log.length() });
    }

    pub(crate) fn step_ended(&self, step: usize, end: StepEnd) {
        self.report(JobReport::StepEnded { step, end, log: self.log.length() });
    }
}
