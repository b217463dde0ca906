//! One job, from taking it to its last report.

use std::io::BufRead;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use futures_util::future::FusedFuture;
use pondrix_api::{Assignment, ClientError, RunnerClient, SourceDifference};
use pondrix_core::image::Registries;
use pondrix_core::run::{Event, Outcome, StepEnd};
use pondrix_core::work::Work;
use pondrix_image::Platform;
use pondrix_image::layer::{self, UnpackError};
use pondrix_sandbox::Launcher;
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::config::RunnerConfig;
use crate::folder::Folder;
use crate::log::Log;
use crate::reports::{self, Reports};
use crate::sources::Claim;
use crate::{image_job, index_job, steps_job};

/// How long to wait before asking a server again that did not answer.
const PAUSE: Duration = Duration::from_millis(200);
/// What a compressed archive begins with (RFC 8878, section 3.1.1); one of git's does not.
const ZSTD_MAGIC: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

/// What the delivery of a job needs.
pub(crate) struct JobContext {
    client: RunnerClient,
    config: RunnerConfig,
    folder: Folder,
    launcher: Launcher,
    assignment: Arc<Assignment>,
    halted: Arc<AtomicBool>,
}

/// What the doing of a job needs, on a thread of its own.
pub(crate) struct JobExecutor {
    pub(crate) launcher: Launcher,
    pub(crate) folder: Folder,
    pub(crate) assignment: Arc<Assignment>,
    pub(crate) scratch: tempfile::TempDir,
    pub(crate) log: Log,
    pub(crate) deadline: Instant,
    /// Folders of the machine that a job may read that runs on it.
    pub(crate) shown: Vec<PathBuf>,
    /// Platforms that the machine emulates.
    pub(crate) emulated: Vec<Platform>,
    reports: Reports,
    halted: Arc<AtomicBool>,
    client: RunnerClient,
    handle: Handle,
}

/// Whether an archive has its end (POSIX.1-2017, pax, "ustar Interchange Format": two blocks of zeros). One that was
/// cut off between two files is otherwise not told from a whole one.
fn is_whole(archive: &std::fs::File) -> std::io::Result<()> {
    let mut end = [1; 1024];
    let length = archive.metadata()?.len();
    length.checked_sub(1024).map_or(Ok(()), |at| archive.read_exact_at(&mut end, at))?;
    if end == [0; 1024] { Ok(()) } else { Err(std::io::Error::other("what came of them ends too early")) }
}

/// The files that an image is built from.
pub(crate) struct Source {
    pub(crate) files: PathBuf,
    /// Holds them, where the runner keeps them for the next job.
    pub(crate) claim: Option<Claim>,
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
}

impl JobContext {
    pub(crate) fn new(
        client: &RunnerClient,
        config: &RunnerConfig,
        folder: &Folder,
        launcher: &Launcher,
        assignment: Assignment,
    ) -> Self {
        Self {
            client: client.clone(),
            config: config.clone(),
            folder: folder.clone(),
            launcher: launcher.clone(),
            assignment: Arc::new(assignment),
            halted: Arc::new(AtomicBool::new(false)),
        }
    }

    /// Does the job, and returns when everything about it has been delivered.
    pub(crate) async fn carry_out(self, shutdown: &CancellationToken) {
        let (reports, queue) = Reports::new();
        // Nothing that this job finds in the store goes while it runs.
        let in_use = self.folder.store.in_use();
        let scratch = match self.folder.scratch() {
            Ok(scratch) => scratch,
            Err(error) => {
                reports.send(self.ended(End::failed(format!("the runner has no room for the job: {error}"))));
                drop(reports);
                reports::deliver(&self.client, &self.assignment, queue).await;
                return;
            }
        };
        let log = match Log::new(&scratch.path().join("log"), self.assignment.log, &self.assignment.secrets) {
            Ok(log) => log,
            Err(error) => {
                warn!(%error, "could not begin a log");
                return;
            }
        };
        if self.assignment.attempt > 1 {
            log.say(&format!("attempt {} begins", self.assignment.attempt));
        }
        let executor = JobExecutor {
            launcher: self.launcher.clone(),
            folder: self.folder.clone(),
            assignment: Arc::clone(&self.assignment),
            scratch,
            log: log.clone(),
            deadline: Instant::now() + self.time(),
            shown: self.config.shown.clone(),
            emulated: self.config.emulated.clone(),
            reports: reports.clone(),
            halted: Arc::clone(&self.halted),
            client: self.client.clone(),
            handle: Handle::current(),
        };
        let (tell_ended, ended) = watch::channel(false);
        let doing = tokio::task::spawn_blocking(move || executor.carry_out());
        let deliver_reports = reports::deliver(&self.client, &self.assignment, queue);
        let deliver_log = log.deliver(&self.client, &self.assignment, ended);
        let finish = async {
            let (end, scratch) = match doing.await {
                Ok((end, scratch)) => (end, Some(scratch)),
                Err(error) => (End::failed(format!("the runner broke: {error}")), None),
            };
            (end, scratch, tell_ended)
        };
        // Fused: a log that the server no longer takes is done before the job is.
        let mut deliver_log = std::pin::pin!(deliver_log.fuse());
        let deliver = async {
            let mut finish = std::pin::pin!(finish);
            let (end, scratch, tell_ended) = tokio::select! {
                finished = &mut finish => finished,
                () = &mut deliver_log => finish.await,
            };
            // The full log first: who hears of the end may read it at once.
            let _ = tell_ended.send(true);
            if !deliver_log.is_terminated() {
                deliver_log.await;
            }
            reports.send(self.ended(end));
            drop(reports);
            drop(scratch);
            drop(in_use);
            self.free_space();
        };
        tokio::select! {
            (all, ()) = async { tokio::join!(deliver_reports, deliver) } => {
                if !all {
                    warn!(job = %self.assignment.job, "the job was no longer ours");
                }
            }
            () = self.listen(shutdown) => {}
        }
    }

    /// Forgets images that were not used for long, where there are too many; others need not wait for it.
    fn free_space(&self) {
        let (folder, limit) = (self.folder.clone(), self.config.store_limit);
        tokio::task::spawn_blocking(move || match folder.store.free_space(limit, &folder.all_build_caches()) {
            Ok(freed) if freed.count > 0 => info!(freed.count, freed.bytes, "made room among the images"),
            Ok(_) => {}
            Err(error) => warn!(%error, "the size of the images could not be told"),
        });
    }

    fn time(&self) -> Duration {
        match &self.assignment.work {
            Work::Steps(work) => work.time.to_std(),
            Work::Image(work) => work.time.to_std(),
        }
    }

    fn ended(&self, end: End) -> Event {
        Event::JobEnded { job: self.assignment.job.clone(), outcome: end.outcome, reason: end.reason }
    }

    /// Signs of life, and orders. Never ends; only the job's delivery does.
    async fn listen(&self, shutdown: &CancellationToken) {
        let beats = async {
            loop {
                match self.client.beat(&self.assignment).await {
                    Ok(beat) if beat.halt => {
                        self.halted.store(true, Ordering::Relaxed);
                        std::future::pending::<()>().await;
                    }
                    Ok(_) => {}
                    Err(ClientError::Problem(problem)) if problem.status < 500 => {
                        // The server gave the job up: whatever it does now is for nobody.
                        self.halted.store(true, Ordering::Relaxed);
                        std::future::pending::<()>().await;
                    }
                    Err(_) => tokio::time::sleep(PAUSE).await,
                }
            }
        };
        tokio::select! {
            () = beats => {}
            () = shutdown.cancelled() => {
                self.halted.store(true, Ordering::Relaxed);
                // The job ends now; its delivery may find nobody.
                tokio::time::sleep(self.config.grace()).await;
            }
        }
    }
}

impl JobExecutor {
    fn carry_out(self) -> (End, tempfile::TempDir) {
        let end = match &self.assignment.work {
            Work::Steps(work) => steps_job::carry_out(&self, work),
            Work::Image(work) if !work.parts.is_empty() => index_job::carry_out(&self, work),
            Work::Image(work) => image_job::carry_out(&self, work),
        };
        if let Some(reason) = &end.reason {
            self.log.say(reason);
        }
        let end = End { reason: end.reason.map(|reason| self.log.hide(&reason)), ..end };
        let end = if self.is_halted() { End { outcome: Outcome::Stopped, reason: None } } else { end };
        (end, self.scratch)
    }

    pub(crate) fn is_halted(&self) -> bool {
        self.halted.load(Ordering::Relaxed)
    }

    pub(crate) fn is_out_of_time(&self) -> bool {
        Instant::now() >= self.deadline
    }

    pub(crate) fn registries(&self) -> Registries {
        self.assignment.registries.clone()
    }

    pub(crate) fn block_on<F: Future>(&self, future: F) -> F::Output {
        self.handle.block_on(future)
    }

    /// Asks the server, as long as it takes: one that is away comes back, and nothing of the job is lost by
    /// waiting for it.
    pub(crate) fn patiently<T>(&self, ask: impl AsyncFn() -> Result<T, ClientError>) -> Result<T, ClientError> {
        loop {
            match self.block_on(ask()) {
                Err(ClientError::Unreachable { .. }) if !self.is_halted() && !self.is_out_of_time() => {
                    std::thread::sleep(PAUSE);
                }
                other => return other,
            }
        }
    }

    pub(crate) fn client(&self) -> &RunnerClient {
        &self.client
    }

    pub(crate) fn report(&self, event: Event) {
        self.reports.send(event);
    }

    pub(crate) fn step_started(&self, step: usize) {
        let (job, log) = (self.assignment.job.clone(), self.log.length());
        self.report(Event::StepStarted { job, step, log });
    }

    pub(crate) fn step_ended(&self, step: usize, end: StepEnd) {
        let (job, log) = (self.assignment.job.clone(), self.log.length());
        self.report(Event::StepEnded { job, step, end, log });
    }

    /// The commit's files in a folder of the job's own that root inside the sandbox owns.
    pub(crate) fn fetch_source(&self) -> Result<PathBuf, String> {
        let folder = self.scratch.path().join("source");
        self.fetch_into(&folder, None)?;
        Ok(folder)
    }

    /// The commit's files in a folder that is only read: the one that the runner keeps, where it is free.
    pub(crate) fn keep_source(&self) -> Result<Source, String> {
        let facts = &self.assignment.facts;
        let claim = self.folder.sources.claim(&facts.id.project, &facts.commit);
        let kept = claim.map(|claim| self.bring_up_to_date(claim)).transpose()?.flatten();
        Ok(match kept {
            Some(claim) => Source { files: claim.files(), claim: Some(claim) },
            None => Source { files: self.fetch_source()?, claim: None },
        })
    }

    /// Makes kept files those of the commit; nothing when the job's are no commit's.
    fn bring_up_to_date(&self, mut claim: Claim) -> Result<Option<Claim>, String> {
        let told = |error: &dyn std::fmt::Display| format!("could not keep the commit's files: {error}");
        let since = claim.commit();
        let ask = async || self.client.source_changes(&self.assignment, since.as_deref()).await;
        let changes = self.patiently(ask).map_err(|error| told(&error))?;
        if changes.commit.as_ref() != Some(&self.assignment.facts.commit) {
            return Ok(None);
        }
        if claim.is_ready {
            return Ok(Some(claim));
        }
        claim.begin().map_err(|error| told(&error))?;
        let changed = since.zip(changes.difference).map(|(since, difference)| self.change(&claim, &since, &difference));
        match changed {
            Some(Ok(())) => {}
            other => {
                // Whatever is wrong with what is here, it gives way to what is right.
                if let Some(Err(words)) = other {
                    warn!(words, "the kept files of a project are fetched anew");
                }
                claim.clear().map_err(|error| told(&error))?;
                self.fetch_into(&claim.files(), None)?;
            }
        }
        claim.finish().map_err(|error| told(&error))?;
        if let Err(error) = self.folder.sources.free_space() {
            warn!(%error, "could not remove files of a project");
        }
        Ok(Some(claim))
    }

    /// Makes the files of an earlier commit those of the job's.
    fn change(&self, claim: &Claim, since: &str, difference: &SourceDifference) -> Result<(), String> {
        difference.removed.iter().try_for_each(|path| claim.remove(path)).map_err(|error| error.to_string())?;
        if difference.changed > 0 {
            self.fetch_into(&claim.files(), Some(since))?;
        }
        let (changed, removed) = (difference.changed, difference.removed.len());
        self.log
            .say(&format!("the files of commit {since:.12} are kept here: {changed} changed since, {removed} removed"));
        Ok(())
    }

    /// Fetches the commit's files, or those that changed since another, into a folder.
    fn fetch_into(&self, folder: &Path, since: Option<&str>) -> Result<(), String> {
        let archive = self.scratch.path().join("source.tar");
        let told = |error: &dyn std::fmt::Display| format!("could not fetch the commit's files: {error}");
        let fetched = self.patiently(async || match since {
            Some(since) => self.client.source_since(&self.assignment, since, &archive).await,
            None => self.client.source(&self.assignment, &archive).await,
        });
        fetched.map_err(|error| told(&error))?;
        let unpacked = std::fs::File::open(&archive).map_err(UnpackError::from).and_then(|file| {
            let mut file = std::io::BufReader::new(file);
            let ids = self.launcher.ids();
            if !file.fill_buf()?.starts_with(&ZSTD_MAGIC) {
                is_whole(file.get_ref())?;
                return layer::unpack_files(file, folder, ids);
            }
            let mut decoder = zstd::Decoder::with_buffer(file)?;
            layer::unpack_files(&mut decoder, folder, ids)?;
            // Behind the last file stands what proves that all of it is there.
            std::io::copy(&mut decoder, &mut std::io::sink())?;
            Ok(())
        });
        unpacked.map_err(|error| told(&error))?;
        let _ = std::fs::remove_file(&archive);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn an_archive_that_was_cut_off_between_two_files_is_not_taken_for_a_whole_one() {
        let mut builder = tar::Builder::new(Vec::new());
        for name in ["lily", "fern"] {
            let mut header = tar::Header::new_gnu();
            header.set_size(512);
            builder.append_data(&mut header, name, &[b'x'; 512][..]).unwrap();
        }
        let bytes = builder.into_inner().unwrap();
        let checked = |bytes: &[u8]| {
            let mut file = tempfile::tempfile().unwrap();
            file.write_all(bytes).unwrap();
            is_whole(&file).is_ok()
        };
        assert!(checked(&bytes));
        // Each file is a head and a block.
        for cut in [0, 512, 1024, 2048, bytes.len() - 512] {
            assert!(!checked(&bytes[..cut]), "{cut}");
        }
    }
}
