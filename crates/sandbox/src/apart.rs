//! Ids of the machine for each place, that no other place uses: processes of two jobs are then different users of the
//! machine, which share neither its limits for a user nor its keys, and of which none may signal or watch the other
//! whatever namespace it comes to.
//!
//! Files stay stored under the one range of [`crate::IdMap::for_this_process`], whichever place made them: inside, the
//! folder that they are in is mounted with its ids mapped (mount_setattr(2), "ID-mapped mounts"; Linux 5.19 for overlays).

use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::path::Path;

use rustix::fs::CWD;
use rustix::mount::{MoveMountFlags, OpenTreeFlags, move_mount, open_tree};
use rustix::process::{Pid, Signal, WaitOptions, kill_process, waitpid};

use crate::IdMap;
use crate::places::PlaceIds;
use crate::trees::{MountAttributes, set_attributes};

/// `MOUNT_ATTR_IDMAP` of linux/mount.h.
const MAP_IDS: u64 = 0x0010_0000;

/// `MS_PRIVATE` of linux/mount.h.
const PRIVATE: u64 = 1 << 18;

/// A folder's mount, not attached anywhere, in which what is stored under `stored` is seen under the ids of a place.
pub(crate) fn mapped(folder: &Path, stored: IdMap, place: PlaceIds) -> io::Result<OwnedFd> {
    let namespace = namespace(&place.user_lines(stored), &place.group_lines(stored))?;
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    let tree = open_tree(CWD, folder, flags)?;
    let user_namespace = u64::from(namespace.as_raw_fd().unsigned_abs());
    // On most machines all mounts are shared, and a copy of a shared mount is its peer: what is mounted below the copy
    // would appear on the machine too (mount_namespaces(7), "Shared subtrees").
    let attributes =
        MountAttributes { set: MAP_IDS, propagation: PRIVATE, user_namespace, ..MountAttributes::default() };
    set_attributes(tree.as_fd(), &attributes)?;
    Ok(tree)
}

/// Shows such a mount in the folder's place, in this process's mount namespace.
pub(crate) fn attach(tree: &OwnedFd, folder: &Path) -> io::Result<()> {
    Ok(move_mount(tree, c"", CWD, folder, MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH)?)
}

/// A user namespace with these maps, which nobody is in.
fn namespace(users: &str, groups: &str) -> io::Result<OwnedFd> {
    let (mut wait, end) = io::pipe()?;
    let flags = libc::c_long::from(libc::CLONE_NEWUSER | libc::SIGCHLD);
    // SAFETY: without CLONE_VM and with a null stack this is fork(2) in a new namespace. This process has one thread, so
    // no lock is held by another; the child only waits.
    let answer = unsafe { libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0) };
    match answer {
        -1 => return Err(io::Error::last_os_error()),
        0 => {
            drop(end);
            let _ = wait.read(&mut [0]);
            // SAFETY: nothing of this copy of the process is to be done at its end.
            unsafe { libc::_exit(0) }
        }
        _ => {}
    }
    let child = i32::try_from(answer).ok().and_then(Pid::from_raw).ok_or(io::ErrorKind::InvalidData)?;
    let made = (|| {
        let process = format!("/proc/{}", child.as_raw_nonzero());
        std::fs::write(format!("{process}/uid_map"), users)?;
        std::fs::write(format!("{process}/gid_map"), groups)?;
        Ok(File::open(format!("{process}/ns/user"))?.into())
    })();
    drop(end);
    let _ = kill_process(child, Signal::KILL);
    while let Err(rustix::io::Errno::INTR) = waitpid(Some(child), WaitOptions::empty()) {}
    made
}
