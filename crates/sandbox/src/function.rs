//! Calls a function of this program in a sandbox, for example to parse untrusted files. The sandbox needs no program and no
//! library of the machine.

use std::fs::File;
use std::io;
use std::panic::catch_unwind;

use rustix::process::{Pid, Resource, Rlimit, setpgid, setrlimit};
use rustix::thread::{CapabilitySet, CapabilitySets, set_capabilities};

use crate::enter::{Function, Functions};
use crate::error::SetupError;
use crate::spec::Spec;

/// Maximum address space of a function, in bytes.
const MOST_MEMORY: u64 = 1 << 30;
/// Exit status after a panic.
const BROKE: i32 = 101;

/// Finds the function that `spec` names.
pub(crate) fn find(spec: &Spec, functions: Functions) -> Result<Option<Function>, SetupError> {
    if !spec.is_function {
        return Ok(None);
    }
    let named = functions.iter().find(|(name, _)| spec.argv.first().is_some_and(|word| word == name));
    Ok(Some(named.ok_or("this program has no such function")?.1))
}

/// Calls a function in a child process that has only its output open.
pub(crate) fn start(function: Function, arguments: &[String]) -> io::Result<Pid> {
    // SAFETY: the C library's own fork: its allocator and its streams are sound in the child, although another thread of
    // this process waits for orders. That thread holds no lock of this program.
    match unsafe { libc::fork() } {
        -1 => Err(io::Error::last_os_error()),
        0 => {
            let status = match shut_in() {
                Ok(()) => catch_unwind(|| function(arguments)).unwrap_or(BROKE),
                Err(error) => {
                    eprintln!("{error}");
                    BROKE
                }
            };
            // Destructors and exit handlers of the parent process must not run here.
            // SAFETY: it takes a number and does not return.
            unsafe { libc::_exit(status) }
        }
        child => Pid::from_raw(child).ok_or_else(|| io::Error::other("the kernel gave no process id")),
    }
}

/// Drops the descriptors and capabilities that execve(2) would drop for a command.
fn shut_in() -> io::Result<()> {
    setpgid(None, None)?;
    rustix::stdio::dup2_stdin(File::open("/dev/null")?)?;
    // SAFETY: only numbers are passed, and whatever of this process owns one of these descriptors is never used again.
    if unsafe { libc::syscall(libc::SYS_close_range, 3, u32::MAX, 0) } < 0 {
        return Err(io::Error::last_os_error());
    }
    setrlimit(Resource::As, Rlimit { current: Some(MOST_MEMORY), maximum: Some(MOST_MEMORY) })?;
    let reading = CapabilitySet::DAC_OVERRIDE;
    set_capabilities(
        None,
        CapabilitySets { effective: reading, permitted: reading, inheritable: CapabilitySet::empty() },
    )?;
    Ok(())
}
