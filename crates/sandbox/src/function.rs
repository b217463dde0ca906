//! Functions of this program that are called in a sandbox: for reading what strangers wrote. No program and no library of
//! the machine has to be shown for that.

use std::fs::File;
use std::io;
use std::panic::catch_unwind;

use rustix::process::{Pid, Resource, Rlimit, setpgid, setrlimit};
use rustix::thread::{CapabilitySet, CapabilitySets, set_capabilities};

use crate::enter::{Function, Functions};
use crate::error::SetupError;
use crate::spec::Spec;

/// The memory that a function may take, in bytes, however much the sandbox may.
const MOST_MEMORY: u64 = 1 << 30;
/// What is said to the caller of a function that broke (a panic says the rest).
const BROKE: i32 = 101;

/// The function that is asked for, if one is.
pub(crate) fn find(spec: &Spec, functions: Functions) -> Result<Option<Function>, SetupError> {
    if !spec.is_function {
        return Ok(None);
    }
    let named = functions.iter().find(|(name, _)| spec.argv.first().is_some_and(|word| word == name));
    Ok(Some(named.ok_or("this program has no such function")?.1))
}

/// Calls a function in a process of its own, with nothing open but its output.
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
            // Nothing of the process that this one was made of is to be put in order here.
            // SAFETY: it takes a number and does not return.
            unsafe { libc::_exit(status) }
        }
        child => Pid::from_raw(child).ok_or_else(|| io::Error::other("the kernel gave no process id")),
    }
}

/// Gives up what a command would lose when it begins.
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
