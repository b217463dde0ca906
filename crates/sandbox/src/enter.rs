//! The helper: creates the namespaces, maps the ids, waits.
//!
//! It is this same program started anew, because only a process with a single thread may be split
//! in two and go on with ordinary code.

use std::fs::File;
use std::io::{self, Read, Write};
use std::net::Ipv4Addr;
use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;

use rustix::process::{Pid, WaitOptions, waitpid};
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};

use crate::error::{SetupError, at, context};
use crate::spec::{Exit, Network, Spec};
use crate::wire::{self, Word};
use crate::{IdMap, PlaceIds, apart, init};

/// The first argument of a program that shall be the helper.
pub const ENTER_WORD: &str = "--enter-sandbox";

/// The first descriptor that is none of the standard ones.
const FIRST_OWN: i32 = 3;

/// Everything the helper is told.
#[derive(serde::Serialize, serde::Deserialize)]
pub(crate) struct Entrance {
    pub(crate) what: What,
    /// The folder of the skeleton and of where the root is mounted; empty where there is no root.
    pub(crate) frame: PathBuf,
    pub(crate) ids: IdMap,
    /// The ids that processes have which are not those of files, and the folders in which files are mapped to them: each
    /// of a file system of its own, and none above one before it.
    pub(crate) apart: Option<(PlaceIds, Vec<PathBuf>)>,
    /// The files that this process writes its number into, to be under limits with all that it starts.
    pub(crate) doors: Vec<PathBuf>,
}

/// What is wanted of the helper.
#[derive(serde::Serialize, serde::Deserialize)]
pub(crate) enum What {
    /// A command, in namespaces of its own.
    Run(Spec),
    /// A command, in the user and network namespaces that come with the next two messages.
    Join(Spec),
    /// A user and a network namespace for others to join, and nothing in them. These networks are not reached.
    Hold(Vec<(Ipv4Addr, u8)>),
}

/// A function of this program that a sandbox calls instead of a command ([`Spec::is_function`]). It receives the arguments
/// after its name and returns its exit status. Its standard output is the output of the sandbox.
pub type Function = fn(&[String]) -> i32;

/// Functions with their names.
pub type Functions = &'static [(&'static str, Function)];

/// Call this first in `main`: it takes over, and never returns, when the program was started by a
/// [`crate::Launcher`]. It must come before any thread is started. Sandboxes may call `functions`.
pub fn enter_if_asked(functions: Functions) {
    if std::env::args_os().nth(1).is_some_and(|word| word == ENTER_WORD) {
        std::process::exit(enter(functions));
    }
}

fn enter(functions: Functions) -> i32 {
    // First of all: nothing that starts here has the terminal of the person who started the runner.
    if rustix::process::setsid().is_err() || close_inherited().is_err() {
        return 2;
    }
    // The other end of the conversation with the caller is this process's standard input. No command inherits it: who
    // writes there speaks for this process.
    let control = match rustix::io::fcntl_dupfd_cloexec(io::stdin().as_fd(), FIRST_OWN) {
        Ok(control) => control,
        Err(_) => return 2,
    };
    match split(&control, functions) {
        Ok(child) => {
            // Only init may hold the conversation open, so that the caller sees its end when init ends.
            drop(control);
            if let Ok(null) = File::open("/dev/null") {
                let _ = rustix::stdio::dup2_stdin(&null);
            }
            // When init has been reaped, the kernel has ended every process of its namespace.
            while let Err(rustix::io::Errno::INTR) = waitpid(Some(child), WaitOptions::empty()) {}
            0
        }
        Err(error) => {
            let _ = wire::send(&control, &Word::Ended(Exit::Failed(error.to_string())), None);
            1
        }
    }
}

/// Closes everything but the standard descriptors: whatever the runner, or who started it, left open is not for here.
fn close_inherited() -> io::Result<()> {
    // SAFETY: this process has just begun, and nothing in it owns a descriptor yet but the standard ones.
    let answer = unsafe { libc::syscall(libc::SYS_close_range, FIRST_OWN, u32::MAX, 0) };
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Reads the entrance, makes `init` in new namespaces and maps its ids.
fn split(control: &OwnedFd, functions: Functions) -> Result<Pid, SetupError> {
    let said = wire::receive::<()>(control).ok().flatten().and_then(|((), fd)| fd);
    let mut text = String::new();
    let mut said = File::from(said.ok_or("the caller did not say what to run")?);
    context(said.read_to_string(&mut text), "read what to run")?;
    drop(said);
    let entrance: Entrance = context(serde_json::from_str(&text), "read what to run")?;

    for door in &entrance.doors {
        let entered = std::fs::write(door, std::process::id().to_string());
        context(at(entered, door), "come under limits")?;
    }
    // What maps the ids of files is the machine's to make, and no namespace's.
    let trees = match &entrance.apart {
        Some((place, folders)) if !matches!(entrance.what, What::Hold(_)) => {
            let mapped = folders.iter().map(|folder| apart::mapped(folder, entrance.ids, *place));
            context(mapped.collect::<io::Result<Vec<_>>>(), "map the ids of files")?
        }
        _ => Vec::new(),
    };
    let ids = entrance.apart.as_ref().map_or(entrance.ids, |(place, _)| place.map());
    let (mapped, mut tell_mapped) = context(io::pipe(), "make a pipe")?;
    let mut flags = libc::CLONE_NEWPID | libc::SIGCHLD;
    if !matches!(entrance.what, What::Hold(_)) {
        flags |= libc::CLONE_NEWNS | libc::CLONE_NEWIPC | libc::CLONE_NEWUTS | libc::CLONE_NEWCGROUP;
    }
    match &entrance.what {
        What::Hold(_) => flags |= libc::CLONE_NEWUSER | libc::CLONE_NEWNET,
        What::Join(_) => join(control)?,
        What::Run(spec) if spec.network == Network::Loopback => flags |= libc::CLONE_NEWUSER | libc::CLONE_NEWNET,
        What::Run(_) => flags |= libc::CLONE_NEWUSER,
    }
    // SAFETY: without CLONE_VM and with a null stack this is fork(2) in new namespaces: the child has
    // its own copy of the memory. This process has one thread, so no lock is held by another.
    let answer = unsafe { libc::syscall(libc::SYS_clone, libc::c_long::from(flags), 0, 0, 0, 0) };
    match answer {
        -1 => Err(SetupError::Asked(refused(&io::Error::last_os_error()))),
        0 => {
            drop(tell_mapped);
            std::process::exit(init::main(entrance, trees, mapped, control, functions));
        }
        child => {
            drop(mapped);
            let pid = i32::try_from(child).ok().and_then(Pid::from_raw).ok_or("the kernel gave no process id")?;
            if flags & libc::CLONE_NEWUSER != 0 {
                context(map_ids(pid, ids), "map ids into the sandbox")?;
            }
            if matches!(entrance.what, What::Hold(_)) {
                context(hand_out(control, pid), "share the network")?;
            }
            context(tell_mapped.write_all(b"m"), "begin: the sandbox has ended")?;
            Ok(pid)
        }
    }
}

/// Goes into the user and the network namespace that come over the wire, in this order: only who is root
/// in a user namespace may enter a network that belongs to it (setns(2)).
fn join(control: &OwnedFd) -> Result<(), SetupError> {
    for kind in [LinkNameSpaceType::User, LinkNameSpaceType::Network] {
        let namespace = wire::receive::<()>(control).ok().flatten().and_then(|((), fd)| fd);
        let namespace = namespace.ok_or("the caller did not say which network to join")?;
        context(move_into_link_name_space(namespace.as_fd(), Some(kind)), "join the network")?;
    }
    Ok(())
}

/// Hands a process's user and network namespaces to the caller.
fn hand_out(control: &OwnedFd, pid: Pid) -> io::Result<()> {
    for (name, word) in [("user", Word::Users), ("net", Word::Network)] {
        let namespace = File::open(format!("/proc/{}/ns/{name}", pid.as_raw_nonzero()))?;
        wire::send(control, &word, Some(namespace.as_fd()))?;
    }
    Ok(())
}

fn map_ids(pid: Pid, ids: IdMap) -> io::Result<()> {
    let folder = format!("/proc/{}", pid.as_raw_nonzero());
    if !ids.is_range() {
        // user_namespaces(7): who maps only the own group must give up setgroups first.
        std::fs::write(format!("{folder}/setgroups"), "deny")?;
    }
    std::fs::write(format!("{folder}/uid_map"), ids.user_line())?;
    std::fs::write(format!("{folder}/gid_map"), ids.group_line())
}

fn refused(error: &io::Error) -> String {
    format!(
        "this machine refuses user namespaces ({error}); allow them, for example with `sysctl user.max_user_namespaces=15000` \
         and, where the kernel knows it, `sysctl kernel.unprivileged_userns_clone=1`"
    )
}
