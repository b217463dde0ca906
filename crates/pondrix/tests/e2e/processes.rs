//! Ends of processes, as far as tests wait for them.

use std::os::fd::OwnedFd;
use std::path::Path;
use std::process::Child;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{FlockOperation, flock};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process, pidfd_open};

use crate::support::PATIENCE;

/// Tells when a process has ended, whatever its number means by then.
pub(crate) struct EndOf(OwnedFd);

impl EndOf {
    /// Of a process; nothing where it is not there any more.
    pub(crate) fn process(pid: Pid) -> Option<Self> {
        pidfd_open(pid, PidfdFlags::empty()).ok().map(Self)
    }

    fn is_there_within(&self, patience: Duration) -> bool {
        let patience = Timespec::try_from(patience).unwrap();
        let mut polled = [PollFd::new(&self.0, PollFlags::IN)];
        rustix::io::retry_on_intr(|| poll(&mut polled, Some(&patience))).unwrap() > 0
    }

    /// Waits for the end; answers whether it came.
    pub(crate) fn comes(&self) -> bool {
        self.is_there_within(PATIENCE)
    }

    /// Whether the process has ended.
    pub(crate) fn is_there(&self) -> bool {
        self.is_there_within(Duration::ZERO)
    }
}

/// Waits for a child's end. One that does not end is killed, and fails the test.
pub(crate) fn wait(child: &mut Child) {
    let pid = Pid::from_child(child);
    let ended = EndOf::process(pid).is_none_or(|end| end.comes());
    if !ended {
        child.kill().unwrap();
    }
    child.wait().unwrap();
    assert!(ended, "the process {pid} did not end");
}

/// Ends the runners that a server of this folder left behind when it was killed; nobody else does before they have been
/// alone for minutes.
pub(crate) fn end_left_runners(data: &Path) {
    for entry in std::fs::read_dir(data).into_iter().flatten().flatten() {
        let lock = entry.path().join("lock");
        let Ok(file) = std::fs::File::open(&lock) else { continue };
        // Whose number it says is there as long as it is locked.
        if flock(&file, FlockOperation::NonBlockingLockShared).is_ok() {
            continue;
        }
        let pid = std::fs::read_to_string(&lock).unwrap_or_default().trim().parse().ok().and_then(Pid::from_raw);
        if let Some((pid, end)) = pid.and_then(|pid| Some((pid, EndOf::process(pid)?))) {
            let _ = kill_process(pid, Signal::TERM);
            end.comes();
        }
    }
}
