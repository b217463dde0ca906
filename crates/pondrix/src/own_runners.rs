//! The server's own runners: processes of this same program, kept running.
//!
//! A runner outlives a server that is killed, and goes on with its job. The next server finds it
//! by its folder, which is still taken, and leaves it alone.

use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use pondrix_sandbox::WithoutTerminal as _;
use rustix::process::{Pid, Signal, kill_process};
use tokio::process::{Child, Command};
use tokio_util::sync::CancellationToken;
use tracing::warn;

use crate::shared::machine::Allows;
use crate::systemd;

/// This program, also after a package has replaced its file.
const THIS_PROGRAM: &str = "/proc/self/exe";
/// The exit status of a runner whose folder another one has.
pub(crate) const FOLDER_TAKEN: u8 = 75;
/// How long to wait before a runner is started again.
const PAUSE: Duration = Duration::from_secs(1);
/// The same, while an earlier server's runner goes on in the folder.
const PAUSE_WHILE_TAKEN: Duration = Duration::from_secs(5);
/// How long a runner may take to leave.
const LEAVE_TIME: Duration = Duration::from_secs(8);

/// How own runners are started.
#[derive(Clone, Debug)]
pub(crate) struct OwnRunner {
    pub(crate) name: String,
    pub(crate) data: PathBuf,
    pub(crate) address_file: PathBuf,
    pub(crate) token_file: PathBuf,
    pub(crate) slots: usize,
    pub(crate) allows: Allows,
    pub(crate) alone_for: Duration,
    /// Where its own log goes; to standard error by default.
    pub(crate) log: Option<PathBuf>,
}

impl OwnRunner {
    fn start(&self) -> std::io::Result<Child> {
        let mut command = Command::new(THIS_PROGRAM);
        command.as_std_mut().arg0("pondrix");
        command
            .args(["runner", "join"])
            .arg("--data")
            .arg(&self.data)
            .arg("--server-file")
            .arg(&self.address_file)
            .arg("--token-file")
            .arg(&self.token_file)
            .args(["--slots", &self.slots.to_string()])
            .args(["--alone-for", &format!("{}s", self.alone_for.as_secs())])
            .args(self.allows.arguments())
            .stdin(std::process::Stdio::null());
        // The server's options decide, and the service manager hears of the server alone.
        for (variable, _) in std::env::vars_os() {
            let name = variable.to_string_lossy();
            if name.starts_with("PONDRIX_RUNNER_") || systemd::OWN_VARIABLES.contains(&&*name) {
                command.env_remove(&variable);
            }
        }
        // Nothing that runs jobs has the terminal of the person who started the server. Ctrl-C goes to the processes of
        // the terminal only; the server ends its runners itself.
        command.as_std_mut().without_terminal();
        if let Some(log) = &self.log {
            let file = std::fs::File::options().create(true).append(true).open(log)?;
            command.stdout(file.try_clone()?).stderr(file);
        }
        command.spawn()
    }

    /// Keeps the runner running until `shutdown`; then ends it, whoever started it.
    pub(crate) async fn keep(self, shutdown: CancellationToken) {
        while !shutdown.is_cancelled() {
            let mut pause = PAUSE;
            match self.start() {
                Err(error) => warn!(%error, "the own runner could not be started"),
                Ok(mut child) => tokio::select! {
                    ended = child.wait() => {
                        let taken = ended.as_ref().is_ok_and(|status| status.code() == Some(FOLDER_TAKEN.into()));
                        if taken {
                            pause = PAUSE_WHILE_TAKEN;
                        } else {
                            warn!(name = self.name, ?ended, "the own runner ended; it is started again");
                        }
                    }
                    () = shutdown.cancelled() => {
                        leave(&mut child).await;
                        break;
                    }
                },
            }
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = shutdown.cancelled() => {}
            }
        }
        end_adopted(&self.data).await;
    }
}

async fn leave(child: &mut Child) {
    if let Some(pid) = child.id().and_then(|id| Pid::from_raw(id.cast_signed())) {
        let _ = kill_process(pid, Signal::TERM);
    }
    if tokio::time::timeout(LEAVE_TIME, child.wait()).await.is_err() {
        let _ = child.kill().await;
    }
}

/// Ends runners that an earlier server started and this one, which has so many, has not.
pub(crate) async fn end_further(data: PathBuf, count: usize) {
    let number = |entry: &std::fs::DirEntry| entry.file_name().to_str()?.strip_prefix("runner-")?.parse::<usize>().ok();
    for entry in std::fs::read_dir(data).into_iter().flatten().flatten() {
        if number(&entry).is_some_and(|number| number > count) {
            end_adopted(&entry.path()).await;
        }
    }
}

/// Ends a runner that an earlier server started. Its folder says which process it is, and that the
/// folder is locked says that this process is still that runner.
async fn end_adopted(data: &Path) {
    let lock = data.join("lock");
    let Ok(file) = std::fs::File::open(&lock) else { return };
    let is_free = || rustix::fs::flock(&file, rustix::fs::FlockOperation::NonBlockingLockShared).is_ok();
    if is_free() {
        return;
    }
    let pid = std::fs::read_to_string(&lock).ok().and_then(|text| Pid::from_raw(text.trim().parse().ok()?));
    let Some(pid) = pid else { return };
    let _ = kill_process(pid, Signal::TERM);
    let freed = async {
        while !is_free() {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    if tokio::time::timeout(LEAVE_TIME, freed).await.is_err() {
        let _ = kill_process(pid, Signal::KILL);
    }
}
