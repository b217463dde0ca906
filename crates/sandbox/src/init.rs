//! The first process inside: makes the surroundings, starts the command, reaps, and ends with it.

use std::io::Read;
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::time::Duration;

use rustix::mount::{MountPropagationFlags, mount_change};
use rustix::process::{
    DumpableBehavior, Gid, Pid, Signal, Uid, WaitOptions, set_dumpable_behavior, set_parent_process_death_signal, wait,
};
use rustix::thread::{CapabilitySet, remove_capability_from_bounding_set};

use crate::core_files::forbid_core_files;
use crate::enter::{Entrance, Functions, What};
use crate::error::{SetupError, context};
use crate::inside::Root;
use crate::mounts::Sources;
use crate::network::{NAMES_AT, NAMES_PORT};
use crate::spec::{Exit, Network, Spec};
use crate::wire::{self, Order, Word};
use crate::{apart, function, routes, seccomp, users, verify};

/// What root inside may do to what is inside. Everything else is given up.
const KEPT: CapabilitySet = CapabilitySet::CHOWN
    .union(CapabilitySet::DAC_OVERRIDE)
    .union(CapabilitySet::FOWNER)
    .union(CapabilitySet::FSETID)
    .union(CapabilitySet::KILL)
    .union(CapabilitySet::NET_BIND_SERVICE)
    .union(CapabilitySet::SETFCAP)
    .union(CapabilitySet::SETGID)
    .union(CapabilitySet::SETPCAP)
    .union(CapabilitySet::SETUID)
    .union(CapabilitySet::SYS_CHROOT);

/// How long a connection to a port inside may take: it never leaves the machine.
const CONNECT_TIME: Duration = Duration::from_secs(1);

/// How often a program that is open for writing is tried again.
const BUSY_TRIES: usize = 100;

/// Runs to the end of the command; the status is of no interest to anybody.
pub(crate) fn main(
    entrance: Entrance,
    trees: Vec<OwnedFd>,
    mut mapped: impl Read,
    control: &OwnedFd,
    functions: Functions,
) -> i32 {
    // If the helper is killed, nobody would wait for this process: end with it.
    let _ = set_parent_process_death_signal(Some(Signal::KILL));
    let mut byte = [0];
    if mapped.read_exact(&mut byte).is_err() {
        return 1;
    }
    drop(mapped);
    let is_range = entrance.ids.is_range();
    let folders = entrance.apart.as_ref().map_or(&[][..], |(_, folders)| folders);
    if !trees.is_empty()
        && let Err(error) = context(show_mapped(trees, folders), "show files under the ids of this place")
    {
        let _ = wire::send(control, &Word::Ended(Exit::Failed(error.to_string())), None);
        return 0;
    }
    let end = match &entrance.what {
        What::Hold(closed) => hold(control, closed),
        What::Run(spec) => {
            let own_network = spec.network == Network::Loopback;
            surround(spec, &entrance.frame, is_range, own_network)
                .and_then(|root| run(spec, root, is_range, control, functions))
        }
        What::Join(spec) => surround(spec, &entrance.frame, is_range, false)
            .and_then(|root| run(spec, root, is_range, control, functions)),
    };
    let exit = end.unwrap_or_else(|error| Exit::Failed(error.to_string()));
    let _ = wire::send(control, &Word::Ended(exit), None);
    0
}

/// Shows the folders of what is stored with its ids mapped, here and nowhere else.
fn show_mapped(trees: Vec<OwnedFd>, folders: &[PathBuf]) -> std::io::Result<()> {
    mount_change("/", MountPropagationFlags::REC | MountPropagationFlags::PRIVATE)?;
    trees.iter().zip(folders).try_for_each(|(tree, folder)| apart::attach(tree, folder))
}

/// Keeps a network for others until nobody wants it any more.
fn hold(control: &OwnedFd, closed: &[(Ipv4Addr, u8)]) -> Result<Exit, SetupError> {
    context(bring_loopback_up(), "bring the loopback interface up")?;
    context(routes::close(closed), "close networks")?;
    let _ = wire::send(control, &Word::Started, None);
    follow_orders(control, None)
}

/// Namespaces are there; makes everything else that the command shall see, and answers the root file system.
fn surround(spec: &Spec, frame: &Path, range: bool, own_network: bool) -> Result<Root, SetupError> {
    let sources = Sources::take(spec, frame)?;
    if range {
        context(rustix::thread::set_thread_groups(&[]), "leave the machine's groups")?;
    }
    context(rustix::thread::set_thread_res_gid(Gid::ROOT, Gid::ROOT, Gid::ROOT), "become root's group inside")?;
    context(rustix::thread::set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT), "become root inside")?;
    // A change of ids clears it.
    context(set_parent_process_death_signal(Some(Signal::KILL)), "follow the helper's end")?;
    if own_network {
        context(bring_loopback_up(), "bring the loopback interface up")?;
    }
    context(rustix::system::sethostname(spec.hostname.as_bytes()), "set the host name")?;
    let root = sources.enter(spec)?;
    for capability in CapabilitySet::all().difference(KEPT).iter() {
        match remove_capability_from_bounding_set(capability) {
            // A kernel older than the capability does not know it.
            Ok(()) | Err(rustix::io::Errno::INVAL) => {}
            Err(error) => return context(Err(error), "give up a capability"),
        }
    }
    context(rustix::thread::set_no_new_privs(true), "forbid new privileges")?;
    Ok(root)
}

/// netdevice(7): the interface `lo` of a new network namespace is down.
fn bring_loopback_up() -> std::io::Result<()> {
    let socket = std::net::UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0))?;
    // SAFETY: an ifreq is plain data, for which all zeroes are valid.
    let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
    request.ifr_name[0] = b'l'.cast_signed();
    request.ifr_name[1] = b'o'.cast_signed();
    request.ifr_ifru.ifru_flags = (libc::IFF_UP | libc::IFF_RUNNING) as libc::c_short;
    // SAFETY: SIOCSIFFLAGS reads an ifreq, which `request` is and which outlives the call.
    let answer = unsafe { libc::ioctl(socket.as_raw_fd(), libc::SIOCSIFFLAGS, &raw const request) };
    if answer < 0 { Err(std::io::Error::last_os_error()) } else { Ok(()) }
}

fn run(spec: &Spec, root: Root, range: bool, control: &OwnedFd, functions: Functions) -> Result<Exit, SetupError> {
    let (user, group, home) = users::look_up(&spec.user, &root.read("/etc/passwd"), &root.read("/etc/group"))?;
    if (user, group) != (0, 0) && !range {
        let user = &spec.user;
        let why = "the runner is not root and has one id only; start the runner as root";
        return Err(SetupError::Asked(format!("user `{user}` cannot exist here: {why}")));
    }
    // The command begins where this process is: no path is followed once more.
    let folder = root.folder(Path::new(&spec.folder))?;
    context(rustix::process::fchdir(&folder), format!("enter {}", spec.folder))?;
    drop(folder);
    let (program, arguments) = spec.argv.split_first().ok_or("there is no command to run")?;
    let function = function::find(spec, functions)?;
    let mut command = Command::new(program);
    command.args(arguments).env_clear().envs(&spec.env).stdin(Stdio::null());
    if !spec.env.contains_key("HOME") {
        command.env("HOME", home.as_deref().unwrap_or("/"));
    }
    if (user, group) != (0, 0) {
        command.uid(user).gid(group);
    }
    context(forbid_core_files(), "forbid core files")?;
    // Other processes of this sandbox read nothing of this one's (ptrace(2), "Ptrace access mode checking").
    context(set_dumpable_behavior(DumpableBehavior::NotDumpable), "close this process to others")?;
    context(verify::isolated(&root, &[control.as_fd(), root.as_fd()]), "isolate the command")?;
    drop(root);
    // Last, since it also forbids this process to mount; and before the command exists.
    context(seccomp::restrict(spec.namespaces), "restrict system calls")?;
    // Before the command, which may use up at once all the processes that it is allowed.
    let orders = context(control.try_clone(), "listen for orders")?;
    let (begun, beginning) = mpsc::channel();
    let listening = std::thread::Builder::new().spawn(move || {
        if let Ok(child) = beginning.recv() {
            follow_orders(&orders, Some(child));
        }
    });
    context(listening, "listen for orders")?;
    // A group of its own: a signal reaches the command and what it started, and not this process.
    let child = match function {
        Some(function) => context(function::start(function, arguments), format!("begin {program}"))?,
        None => {
            let child = context(spawn(command.process_group(0)), format!("start `{program}`"))?;
            i32::try_from(child.id()).ok().and_then(Pid::from_raw).ok_or("the kernel gave no process id")?
        }
    };
    let _ = begun.send(child);
    let _ = wire::send(control, &Word::Started, None);
    loop {
        match wait(WaitOptions::empty()) {
            Ok(Some((pid, status))) if pid == child => {
                return Ok(match (status.exit_status(), status.terminating_signal()) {
                    (Some(code), _) => Exit::Status(code),
                    (None, Some(signal)) => Exit::Signal(signal),
                    (None, None) => continue,
                });
            }
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return context(Err(error), "wait for the command"),
        }
    }
}

/// Starts the command. A program that was just unpacked may be open for writing still, in a process that
/// another thread of the runner has forked and that has not yet become the program it shall be.
fn spawn(command: &mut Command) -> std::io::Result<Child> {
    const PAUSE: Duration = Duration::from_millis(5);
    for _ in 0..BUSY_TRIES {
        match command.spawn() {
            Err(error) if error.kind() == std::io::ErrorKind::ExecutableFileBusy => std::thread::sleep(PAUSE),
            other => return other,
        }
    }
    command.spawn()
}

fn hand_out(control: &OwnedFd, socket: std::io::Result<OwnedFd>) {
    let _ = match socket {
        Ok(socket) => wire::send(control, &Word::Socket, Some(socket.as_fd())),
        Err(error) => wire::send(control, &Word::Refused(error.raw_os_error().unwrap_or(libc::ETIMEDOUT)), None),
    };
}

fn follow_orders(control: &OwnedFd, child: Option<Pid>) -> ! {
    loop {
        match wire::receive::<Order>(control) {
            Ok(Some((Order::Signal(number), _))) => {
                if let Some((child, signal)) = child.zip(Signal::from_named_raw(number)) {
                    let _ = rustix::process::kill_process_group(child, signal);
                }
            }
            Ok(Some((Order::Connect(port), _))) => {
                let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
                hand_out(control, TcpStream::connect_timeout(&address, CONNECT_TIME).map(OwnedFd::from));
            }
            Ok(Some((Order::Listen, _))) => {
                hand_out(control, UdpSocket::bind((NAMES_AT, NAMES_PORT)).map(OwnedFd::from));
                hand_out(control, TcpListener::bind((NAMES_AT, NAMES_PORT)).map(OwnedFd::from));
            }
            // The caller is gone, or wants an end. With this process everything inside ends.
            Ok(None) | Err(_) => std::process::exit(0),
        }
    }
}
