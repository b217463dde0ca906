//! Reads the packages of an image in a sandbox, under the job's limits.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use pondrix_files::{TemporaryFolder, Watch};
use pondrix_image::inventory::{Inspector, Request, Told, read_told};
use pondrix_sandbox::{Bind, Exit, Launcher, Rootfs, Running, Spec};

use super::error::JobError;
use crate::log::Log;

/// Maximum total time per job.
const TIME: Duration = Duration::from_secs(180);
/// How often the job's end is checked.
const PAUSE: Duration = Duration::from_millis(25);

/// The inspector of one job.
#[derive(Debug)]
pub(crate) struct SandboxInspector {
    launcher: Launcher,
    /// A folder for the root file system of the sandbox.
    scratch: PathBuf,
    log: Log,
    watch: Watch,
    /// The time used so far, in milliseconds.
    spent: AtomicU64,
}

impl SandboxInspector {
    pub(crate) fn new(launcher: Launcher, scratch: PathBuf, log: Log, watch: Watch) -> Self {
        Self { launcher, scratch, log, watch, spent: AtomicU64::new(0) }
    }

    fn look(&self, request: &Request) -> Result<Told, JobError> {
        let left = TIME.saturating_sub(Duration::from_millis(self.spent.load(Ordering::Relaxed)));
        let since = Instant::now();
        let looked = self.look_for(request, left);
        let took = u64::try_from(since.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.spent.fetch_add(took, Ordering::Relaxed);
        looked
    }

    fn look_for(&self, request: &Request, time: Duration) -> Result<Told, JobError> {
        let until = Instant::now() + time;
        let folder = TemporaryFolder::new_in(&self.scratch)?;
        let show = |(from, to): (&std::path::Path, String)| Bind { from: from.to_owned(), to, read_only: true };
        let spec = Spec {
            argv: request.words(),
            is_function: true,
            binds: request.folders().map(show).collect(),
            ..Spec::new(Rootfs::new(Vec::new(), folder.path().join("root")))
        };
        let (reader, writer) = std::io::pipe()?;
        let running = self.launcher.start(&spec, writer.into())?;
        // Read while it runs: the process blocks when the pipe is full.
        let (ended, told) = std::thread::scope(|scope| {
            let reading = scope.spawn(|| read_told(reader));
            let ended = self.wait(running, until);
            (ended, reading.join())
        });
        ended?;
        let told = told.map_err(|_| JobError::asked("the answer of the process that reads them was not read"))?;
        Ok(told?)
    }

    fn wait(&self, mut running: Running, until: Instant) -> Result<(), JobError> {
        loop {
            if let Some(exit) = running.wait_at_most(PAUSE) {
                let hungry =
                    if running.was_out_of_memory() { ": it needed more memory than the job may use" } else { "" };
                return match exit {
                    Exit::Status(0) => Ok(()),
                    Exit::Failed(words) => Err(JobError::Asked(words)),
                    Exit::Signal(_) | Exit::Status(_) | Exit::Killed => {
                        Err(JobError::Asked(format!("the process that reads them was killed{hungry}")))
                    }
                };
            }
            self.watch.check()?;
            if Instant::now() >= until {
                let seconds = TIME.as_secs();
                return Err(JobError::Asked(format!("reading the packages of an image took longer than {seconds} s")));
            }
        }
    }
}

impl Inspector for SandboxInspector {
    fn inspect(&self, request: &Request) -> Option<Told> {
        match self.look(request) {
            Ok(told) => {
                told.problems.iter().for_each(|problem| self.log.say(&format!("warning: {problem}")));
                Some(told)
            }
            Err(error) => {
                self.log.say(&format!(
                    "warning: could not read the packages of a layer; the image's package list is incomplete: {error}"
                ));
                None
            }
        }
    }
}
