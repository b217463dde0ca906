//! Opening folders by handles.

use std::ffi::CStr;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::{Mode, OFlags, chmod, openat};
use rustix::io::Errno;

/// Flags for a folder whose entries are read. A link is not followed.
const READ: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
/// Flags for a handle, which needs no read permission (open(2), `O_PATH`).
const HANDLE: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Opens a folder by name. Fails for a link.
pub(crate) fn open(parent: BorrowedFd<'_>, name: &CStr) -> rustix::io::Result<OwnedFd> {
    openat(parent, name, READ, Mode::empty())
}

/// Opens a folder to empty it. If the owner lacks permission, the mode is changed to 0700 first.
pub(crate) fn open_to_empty(parent: BorrowedFd<'_>, name: &CStr) -> io::Result<OwnedFd> {
    match open(parent, name) {
        Err(Errno::ACCESS) => {
            let handle = openat(parent, name, HANDLE, Mode::empty())?;
            make_writable(handle.as_fd())?;
            Ok(open(parent, name)?)
        }
        other => Ok(other?),
    }
}

/// Sets the mode of an open folder to 0700.
pub(crate) fn make_writable(folder: BorrowedFd<'_>) -> rustix::io::Result<()> {
    // chmod does not take an `O_PATH` handle; its path in `/proc` leads to the same folder.
    chmod(format!("/proc/self/fd/{}", folder.as_raw_fd()), Mode::RWXU)
}

/// Returns true for `.` and `..`.
pub(crate) fn is_dots(name: &CStr) -> bool {
    matches!(name.to_bytes(), b"." | b"..")
}
