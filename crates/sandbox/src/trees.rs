//! Detached mounts: file systems that exist, and that no path leads to yet.
//!
//! Everything that a command is to see is taken as a [`Tree`] while the machine's root is still there. The machine's root
//! is then detached, and only after that is any place of the new root looked up and a tree attached to it.

use std::fs;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::{AtFlags, Statx, StatxFlags, statx};
use rustix::mount::{
    FsMountFlags, FsOpenFlags, MountAttrFlags, MoveMountFlags, OpenTreeFlags, fsconfig_create, fsconfig_set_string,
    fsmount, fsopen, move_mount, open_tree,
};

/// The number of a mount, as the kernel knows it while the mount exists (statx(2), `STATX_MNT_ID`).
pub(crate) type MountId = u64;

/// How a tree is made of an open file or folder.
const CLONE: OpenTreeFlags =
    OpenTreeFlags::OPEN_TREE_CLONE.union(OpenTreeFlags::OPEN_TREE_CLOEXEC).union(OpenTreeFlags::AT_EMPTY_PATH);

/// `struct mount_attr` of linux/mount.h.
#[derive(Default)]
#[repr(C)]
pub(crate) struct MountAttributes {
    pub(crate) set: u64,
    pub(crate) clear: u64,
    pub(crate) propagation: u64,
    pub(crate) user_namespace: u64,
}

/// A mount that is attached to nothing. Dropping it before [`Tree::attach`] dissolves it.
#[derive(Debug)]
pub(crate) struct Tree {
    top: OwnedFd,
    /// Whether other mounts of the machine are below its top.
    has_mounts_below: bool,
}

impl Tree {
    /// A second mount of what `fd` refers to, a file or a folder; what is mounted below it is not part of it.
    ///
    /// # Errors
    /// When the kernel refuses, as for a folder with mounts below it that this user namespace may not take apart
    /// (mount_namespaces(7)).
    pub(crate) fn of(fd: impl AsFd) -> io::Result<Self> {
        Ok(Self { top: open_tree(fd, c"", CLONE)?, has_mounts_below: false })
    }

    /// Like [`Tree::of`]. If the kernel refuses to separate the folder from the mounts below it, the tree has these mounts
    /// too. Use it only for read-only trees: [`Tree::set`] changes all mounts of the tree.
    ///
    /// # Errors
    /// What the kernel says.
    pub(crate) fn whole(fd: impl AsFd) -> io::Result<Self> {
        match Self::of(&fd) {
            Err(error) if error.raw_os_error() == Some(libc::EINVAL) => {
                Ok(Self { top: open_tree(fd, c"", CLONE | OpenTreeFlags::AT_RECURSIVE)?, has_mounts_below: true })
            }
            other => other,
        }
    }

    /// A new file system with these options.
    ///
    /// # Errors
    /// When the kernel refuses it to this user namespace.
    pub(crate) fn new(kind: &str, options: &[(&str, &str)], attributes: MountAttrFlags) -> io::Result<Self> {
        let context = fsopen(kind, FsOpenFlags::FSOPEN_CLOEXEC)?;
        for (name, value) in options {
            fsconfig_set_string(&context, *name, *value)?;
        }
        fsconfig_create(&context)?;
        Ok(Self { top: fsmount(&context, FsMountFlags::FSMOUNT_CLOEXEC, attributes)?, has_mounts_below: false })
    }

    /// Adds attributes to it, such as that nothing in it can be written.
    ///
    /// # Errors
    /// What the kernel says.
    pub(crate) fn set(&self, attributes: MountAttrFlags) -> io::Result<()> {
        let set = u64::from(attributes.bits());
        let below = if self.has_mounts_below { libc::AT_RECURSIVE } else { 0 };
        change(self.top.as_fd(), below, &MountAttributes { set, ..MountAttributes::default() })
    }

    /// Attaches it to a place, whatever path leads there by then, and answers the numbers of its mounts, the top's first.
    ///
    /// # Errors
    /// When one is a file and the other a folder, and what else the kernel says.
    pub(crate) fn attach(&self, place: impl AsFd) -> io::Result<Vec<MountId>> {
        let both = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH | MoveMountFlags::MOVE_MOUNT_T_EMPTY_PATH;
        move_mount(&self.top, c"", place, c"", both)?;
        let top = mount_id(&facts(&self.top)?)?;
        if self.has_mounts_below {
            mounts_from(top, &fs::read_to_string("/proc/self/mountinfo")?)
        } else {
            Ok(vec![top])
        }
    }
}

impl AsFd for Tree {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.top.as_fd()
    }
}

/// A mount and all below it, of a list of mounts (proc(5), `/proc/[pid]/mountinfo`).
fn mounts_from(top: MountId, list: &str) -> io::Result<Vec<MountId>> {
    let numbers = |line: &str| {
        let mut words = line.split(' ').map(str::parse::<MountId>);
        Some((words.next()?.ok()?, words.next()?.ok()?))
    };
    let pairs = list.lines().map(numbers).collect::<Option<Vec<_>>>();
    let pairs = pairs.ok_or_else(|| io::Error::other("the list of mounts cannot be read"))?;
    let mut found = vec![top];
    let mut next = 0;
    while let Some(parent) = found.get(next).copied() {
        found.extend(pairs.iter().filter(|(id, of)| *of == parent && *id != parent).map(|(id, _)| *id));
        next += 1;
    }
    Ok(found)
}

/// Changes the attributes of the mount that `mount` is the root of (mount_setattr(2); Linux 5.12).
pub(crate) fn set_attributes(mount: BorrowedFd<'_>, attributes: &MountAttributes) -> io::Result<()> {
    change(mount, 0, attributes)
}

/// The same, with further flags.
fn change(mount: BorrowedFd<'_>, flags: i32, attributes: &MountAttributes) -> io::Result<()> {
    // SAFETY: the path is an empty string that ends, and the attributes are of the size that is said; both outlive the call.
    let answer = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            mount.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_EMPTY_PATH | flags,
            std::ptr::from_ref(attributes),
            size_of::<MountAttributes>(),
        )
    };
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Kind, inode and mount of what is open.
pub(crate) fn facts(fd: impl AsFd) -> io::Result<Statx> {
    let wanted = StatxFlags::TYPE | StatxFlags::INO | StatxFlags::MNT_ID;
    Ok(statx(fd, c"", AtFlags::EMPTY_PATH, wanted)?)
}

/// The number of the mount. A kernel that does not tell it is not trusted to be asked about it.
pub(crate) fn mount_id(facts: &Statx) -> io::Result<MountId> {
    if facts.stx_mask & StatxFlags::MNT_ID.bits() == 0 {
        return Err(io::Error::other("the kernel does not number its mounts: Linux 5.12 or newer is needed"));
    }
    Ok(facts.stx_mnt_id)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_mounts_below_one_are_found_and_no_others() {
        let list = "20 20 0:1 / / rw\n21 20 0:2 / /usr ro\n24 23 0:5 / /usr/lib/a/b ro\n22 20 0:3 / /srv rw\n23 21 0:4 / /usr/lib/a ro\n";
        assert_eq!(mounts_from(21, list).unwrap(), [21, 23, 24]);
        assert_eq!(mounts_from(22, list).unwrap(), [22]);
        assert_eq!(mounts_from(20, list).unwrap(), [20, 21, 22, 23, 24]);
        assert!(mounts_from(21, "no number").is_err());
    }
}
