//! The delegated control group (version 2), and the place of this process in it.
//!
//! A group with processes of its own cannot pass controllers on to groups below it (kernel documentation, "Control Group
//! v2", "No Internal Process Constraint"). So each process of this program that stays moves itself once into a leaf of its
//! own below the delegated group. Groups of jobs are made beside the leaves. Nothing is moved later.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::thread::sleep;
use std::time::Duration;

use super::error::{NoControlGroups, is_of_user_manager, is_systemd_running};
use super::hierarchy::{Hierarchy, split_folders, words};
use super::names;

/// Controllers that a group must have.
const NEEDED: [&str; 2] = ["memory", "pids"];
/// Controllers that are used where they are there.
const OPTIONAL: [&str; 2] = ["cpu", "io"];
/// How often controllers are enabled again while other processes of this program still move into their leaves.
const ENABLE_TRIES: usize = 100;
const ENABLE_PAUSE: Duration = Duration::from_millis(20);
/// The extended attributes that systemd sets on a delegated group (systemd.resource-control(5), `Delegate=`).
const DELEGATION_MARKS: [&str; 2] = ["user.delegate", "trusted.delegate"];

/// A group of version 2 below which this process makes groups.
#[derive(Clone, Debug)]
pub(super) struct Delegated {
    pub(super) folder: PathBuf,
    pub(super) controllers: Vec<&'static str>,
}

/// Moves this process into a control group of its own below the one that it was started in, so that it can make groups
/// for jobs. Call this before another thread or process is started. Only the first call moves the process; later calls
/// return the same result. Where version 1 has the controllers, nothing is moved.
///
/// # Errors
/// If this process may not make groups with limits of memory and processes, with what to do about it.
pub fn settle() -> Result<(), NoControlGroups> {
    delegated().map(drop)
}

/// The delegated group; nothing where version 1 has the controllers.
pub(super) fn delegated() -> Result<Option<&'static Delegated>, NoControlGroups> {
    static DELEGATED: OnceLock<Result<Option<Delegated>, NoControlGroups>> = OnceLock::new();
    DELEGATED.get_or_init(find).as_ref().map(Option::as_ref).map_err(Clone::clone)
}

fn find() -> Result<Option<Delegated>, NoControlGroups> {
    let hierarchy = match Hierarchy::find(&NEEDED)? {
        Hierarchy::Unified { own } => own,
        Hierarchy::Split => {
            names::remove_left_groups(&split_folders());
            return Ok(None);
        }
    };
    let folder = match hierarchy.parent() {
        Some(parent) if names::is_leaf(&hierarchy) => parent.to_owned(),
        _ => hierarchy,
    };
    if is_systemd_running() && !is_delegated(&folder) {
        return Err(NoControlGroups::NotDelegated { folder });
    }
    names::remove_left_groups(std::slice::from_ref(&folder));
    move_into_leaf(&folder)?;
    let controllers = enable_all(&folder)?;
    Ok(Some(Delegated { folder, controllers }))
}

/// Whether systemd leaves this group to the processes that it started there. Where systemd could not set the mark, as for
/// units of an ordinary user, it is asked.
fn is_delegated(folder: &Path) -> bool {
    let has_mark = |name: &str| {
        let mut value = [0; 8];
        rustix::fs::getxattr(folder, name, &mut value).is_ok_and(|length| value[..length] == *b"1")
    };
    DELEGATION_MARKS.iter().any(|name| has_mark(name)) || is_unit_delegated(folder)
}

/// Asks systemd whether the unit of this group has `Delegate=yes`.
fn is_unit_delegated(folder: &Path) -> bool {
    let Some(unit) = folder.file_name() else { return false };
    let manager = if is_of_user_manager(folder) { "--user" } else { "--system" };
    let asked = Command::new("systemctl")
        .args([manager, "show", "--property=Delegate", "--value", "--"])
        .arg(unit)
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output();
    asked.is_ok_and(|answer| answer.status.success() && answer.stdout.trim_ascii() == b"yes")
}

fn move_into_leaf(folder: &Path) -> Result<(), NoControlGroups> {
    let leaf = folder.join(names::leaf());
    let procs = leaf.join("cgroup.procs");
    let refused = |path: &Path, error: io::Error| NoControlGroups::Refused {
        path: path.to_owned(),
        reason: error.to_string(),
        folder: folder.to_owned(),
    };
    for _ in 0..ENABLE_TRIES {
        match fs::create_dir(&leaf) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(refused(&leaf, error)),
            _ => {}
        }
        match fs::write(&procs, "0") {
            // Another process took the empty leaf for one that was left behind.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(refused(&procs, error)),
            Ok(()) => return Ok(()),
        }
    }
    Err(refused(&procs, io::ErrorKind::NotFound.into()))
}

/// Enables what there is of the controllers for the groups below a folder.
pub(super) fn enable_all(folder: &Path) -> Result<Vec<&'static str>, NoControlGroups> {
    let there = words(&folder.join("cgroup.controllers"));
    let is_there = |controller: &&'static str| there.iter().any(|one| one == controller);
    if let Some(missing) = NEEDED.iter().find(|controller| !is_there(controller)) {
        let file = folder.join("cgroup.controllers");
        return Err(NoControlGroups::Missing { file, missing, found: there.join(" "), folder: folder.to_owned() });
    }
    let mut enabled = Vec::new();
    for controller in NEEDED {
        enable(folder, controller)?;
        enabled.push(controller);
    }
    for controller in OPTIONAL.into_iter().filter(is_there) {
        // For example refused because real-time processes run (kernel documentation, "CPU").
        if enable(folder, controller).is_ok() {
            enabled.push(controller);
        }
    }
    Ok(enabled)
}

fn enable(folder: &Path, controller: &'static str) -> Result<(), NoControlGroups> {
    let control = folder.join("cgroup.subtree_control");
    for _ in 0..ENABLE_TRIES {
        let error = match fs::write(&control, format!("+{controller}")) {
            Ok(()) => return Ok(()),
            Err(error) => error,
        };
        if error.raw_os_error() != Some(libc::EBUSY) {
            return Err(NoControlGroups::Refused {
                path: control,
                reason: error.to_string(),
                folder: folder.to_owned(),
            });
        }
        if !is_systemd_running() {
            // In a container nobody else moves them: they are the shell and what started this program.
            move_others(folder);
        }
        sleep(ENABLE_PAUSE);
    }
    let processes = words(&folder.join("cgroup.procs")).iter().map(|id| process_words(id)).collect::<Vec<_>>();
    Err(NoControlGroups::Shared { folder: folder.to_owned(), processes: processes.join(", ") })
}

/// Moves the processes of a group into a leaf of their own.
fn move_others(folder: &Path) {
    let leaf = folder.join(names::LEAF_OF_OTHERS);
    let _ = fs::create_dir(&leaf);
    for process in words(&folder.join("cgroup.procs")) {
        // One that has ended meanwhile need not move. What cannot be moved is told when enabling fails.
        let _ = fs::write(leaf.join("cgroup.procs"), process);
    }
}

/// A process for people: `bash (1234)`.
fn process_words(id: &str) -> String {
    let name = fs::read_to_string(format!("/proc/{id}/comm")).unwrap_or_default();
    format!("{} ({id})", name.trim())
}
