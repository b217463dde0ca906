//! Detached mounts: file systems that exist, and that no path leads to yet.
//!
//! Everything that a command is to see is taken as a [`Tree`] while the machine's root is still there. The machine's root
//! is then detached, and only after that is any place of the new root looked up and a tree attached to it.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::{AtFlags, Statx, StatxFlags, statx};
use rustix::mount::{
    FsMountFlags, FsOpenFlags, MountAttrFlags, MoveMountFlags, OpenTreeFlags, fsconfig_create, fsconfig_set_string,
    fsmount, fsopen, move_mount, open_tree,
};

/// The number of a mount, as the kernel knows it while the mount exists (statx(2), `STATX_MNT_ID`).
pub(crate) type MountId = u64;

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
pub(crate) struct Tree(OwnedFd);

impl Tree {
    /// A second mount of what `fd` refers to, a file or a folder; what is mounted below it is not part of it.
    ///
    /// # Errors
    /// When the kernel refuses, as for a folder with mounts below it that this user namespace may not take apart
    /// (mount_namespaces(7)).
    pub(crate) fn of(fd: impl AsFd) -> io::Result<Self> {
        let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_EMPTY_PATH;
        Ok(Self(open_tree(fd, c"", flags)?))
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
        Ok(Self(fsmount(&context, FsMountFlags::FSMOUNT_CLOEXEC, attributes)?))
    }

    /// Adds attributes to it, such as that nothing in it can be written.
    ///
    /// # Errors
    /// What the kernel says.
    pub(crate) fn set(&self, attributes: MountAttrFlags) -> io::Result<()> {
        let set = u64::from(attributes.bits());
        set_attributes(self.0.as_fd(), &MountAttributes { set, ..MountAttributes::default() })
    }

    /// Attaches it to a place, whatever path leads there by then, and answers its number.
    ///
    /// # Errors
    /// When one is a file and the other a folder, and what else the kernel says.
    pub(crate) fn attach(&self, place: impl AsFd) -> io::Result<MountId> {
        let both = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH | MoveMountFlags::MOVE_MOUNT_T_EMPTY_PATH;
        move_mount(&self.0, c"", place, c"", both)?;
        mount_id(&facts(&self.0)?)
    }
}

impl AsFd for Tree {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

/// Changes the attributes of the mount that `mount` is the root of (mount_setattr(2); Linux 5.12).
pub(crate) fn set_attributes(mount: BorrowedFd<'_>, attributes: &MountAttributes) -> io::Result<()> {
    // SAFETY: the path is an empty string that ends, and the attributes are of the size that is said; both outlive the call.
    let answer = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            mount.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_EMPTY_PATH,
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
