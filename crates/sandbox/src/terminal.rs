//! Programs that have nothing to do with the terminal of the person who started this one.

use std::os::unix::process::CommandExt;
use std::process::Command;

use rustix::process::setsid;

/// A command that begins a session of its own, without a controlling terminal (setsid(2)). What it runs can then neither
/// type into the terminal of the person who started this program, nor write to it through `/dev/tty`.
///
/// It leads a process group of its own too: `process_group` must not be set besides.
pub trait WithoutTerminal {
    /// The same command, in a session of its own.
    fn without_terminal(&mut self) -> &mut Self;
}

impl WithoutTerminal for Command {
    fn without_terminal(&mut self) -> &mut Self {
        // SAFETY: between fork and exec only setsid(2) is called, which allocates nothing and takes no lock.
        unsafe { self.pre_exec(|| Ok(setsid().map(drop)?)) }
    }
}
