//! Files of what was in the memory of a program when it broke.

use std::io;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// Has this process, and all that it starts, leave no core file, which would hold its secrets. A limit of 0 does not stop a
/// core that the machine pipes to a program; a limit of 1 does (core(5), "Piping core dumps to a program").
///
/// # Errors
/// What the system says. A process that was started with a limit of 0 keeps it: it may not raise it.
pub fn forbid_core_files() -> io::Result<()> {
    let least = getrlimit(Resource::Core).maximum.map_or(1, |most| most.min(1));
    Ok(setrlimit(Resource::Core, Rlimit { current: Some(least), maximum: Some(least) })?)
}
