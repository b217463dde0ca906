//! Opening folders by handles.

use std::ffi::CStr;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::{Mode, OFlags, chmod, openat};
use rustix::io::Errno;

/// How a folder is opened whose names are read: never by a link.
const READ: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
/// A handle that needs no right to read the folder (open(2), `O_PATH`).
const HANDLE: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Opens the folder of a name, which is no link.
pub(crate) fn open(parent: BorrowedFd<'_>, name: &CStr) -> rustix::io::Result<OwnedFd> {
    openat(parent, name, READ, Mode::empty())
}

/// The same for a folder that is to be emptied: one that its owner may not read or write is opened to its owner first.
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

/// Lets the owner of an open folder read and change it.
pub(crate) fn make_writable(folder: BorrowedFd<'_>) -> rustix::io::Result<()> {
    // A handle cannot be changed itself; its name in `/proc` leads to what it is of, and to no link.
    chmod(format!("/proc/self/fd/{}", folder.as_raw_fd()), Mode::RWXU)
}

/// Whether a name is that of the folder itself or of the one above it.
pub(crate) fn is_dots(name: &CStr) -> bool {
    matches!(name.to_bytes(), b"." | b"..")
}
