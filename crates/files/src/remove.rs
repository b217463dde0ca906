//! Recursive removal of folders of any depth.

use std::ffi::{CStr, CString, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, rename, renameat, unlinkat};
use rustix::io::Errno;

use crate::folder::{is_dots, make_writable, open_to_empty};

/// Maximum number of nested folders that are open at once. Deeper folders are moved up before they are emptied.
const OPEN_AT_ONCE: usize = 24;
/// Maximum number of passes over one folder. Another process may add files during the removal.
const MOST_ROUNDS: usize = 64;

/// Removes a file, a link (not its target), or a folder with its contents. The owner's missing permissions on folders, which
/// images contain, are added first. The depth of a folder costs neither stack nor file descriptors.
///
/// # Errors
/// Errors of the file system, with the name of the entry. [`io::ErrorKind::NotFound`] if `path` does not exist.
pub fn remove(path: &Path) -> io::Result<()> {
    let (parent, name) = (path.parent().unwrap_or(Path::new("")), path.file_name());
    let name = name.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "a path without a name"))?;
    let parent = if parent.as_os_str().is_empty() { Path::new(".") } else { parent };
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let parent = rustix::fs::openat(CWD, parent, flags, Mode::empty())?;
    remove_at(parent.as_fd(), name)
}

/// Removes an entry of an open folder, like [`remove`].
///
/// # Errors
/// As for [`remove`].
pub fn remove_at(parent: BorrowedFd<'_>, name: &OsStr) -> io::Result<()> {
    let name = CString::new(name.as_bytes())?;
    match unlinkat(parent, &name, AtFlags::empty()) {
        Ok(()) => return Ok(()),
        // Errors for a folder (unlink(2), Linux and POSIX).
        Err(Errno::ISDIR | Errno::PERM) => {}
        Err(error) => return Err(error.into()),
    }
    match unlinkat(parent, &name, AtFlags::REMOVEDIR) {
        Ok(()) => return Ok(()),
        Err(Errno::NOTEMPTY | Errno::EXIST) => {}
        Err(error) => return Err(error.into()),
    }
    for _ in 1..MOST_ROUNDS {
        empty(open_to_empty(parent, &name)?)?;
        match unlinkat(parent, &name, AtFlags::REMOVEDIR) {
            // Another process added files, or the file system skipped some while others were removed.
            Err(Errno::NOTEMPTY | Errno::EXIST) => {}
            other => return Ok(other?),
        }
    }
    Ok(unlinkat(parent, &name, AtFlags::REMOVEDIR)?)
}

/// Renames a folder to a new name in `into`, which must be on the same file system. The old path is free afterwards, and
/// the caller can remove the folder later. Returns the new path.
///
/// # Errors
/// Errors of the file system.
pub fn move_aside(path: &Path, into: &Path) -> io::Result<PathBuf> {
    let place = tempfile::Builder::new().prefix("aside-").tempdir_in(into)?.keep();
    // A folder may replace an empty folder (rename(2)).
    rename(path, &place)?;
    Ok(place)
}

/// A folder that is being emptied.
struct Level {
    entries: Dir,
    /// The name in the parent folder; empty for the topmost folder.
    name: CString,
    /// The number of passes so far.
    rounds: usize,
}

impl Level {
    fn new(folder: OwnedFd, name: CString) -> io::Result<Self> {
        Ok(Self { entries: Dir::new(folder)?, name, rounds: 1 })
    }
}

/// Empties an open folder. Folders below [`OPEN_AT_ONCE`] levels are renamed into the topmost folder and emptied in a later
/// pass.
fn empty(top: OwnedFd) -> io::Result<()> {
    let topmost = top.try_clone()?;
    let mut levels = vec![Level::new(top, CString::default())?];
    let (mut moved, mut has_moved) = (0_u64, false);
    loop {
        let depth = levels.len();
        let Some(level) = levels.last_mut() else { return Ok(()) };
        let Some(entry) = level.entries.read() else {
            if depth == 1 {
                if !has_moved {
                    return Ok(());
                }
                has_moved = false;
                level.entries.rewind();
                continue;
            }
            go_up(&mut levels)?;
            continue;
        };
        let entry = entry?;
        let name = entry.file_name();
        if is_dots(name) {
            continue;
        }
        let kind = entry.file_type();
        let folder = level.entries.fd()?;
        if !matches!(kind, FileType::Directory) && is_unlinked(folder, name)? {
            continue;
        }
        // Empty folders need not be opened.
        match writable(folder, || unlinkat(folder, name, AtFlags::REMOVEDIR)) {
            Ok(()) | Err(Errno::NOENT) => continue,
            Err(Errno::NOTEMPTY | Errno::EXIST) => {}
            Err(error) => return Err(told(error.into(), name)),
        }
        if depth < OPEN_AT_ONCE {
            let inner = open_to_empty(folder, name).map_err(|error| told(error, name))?;
            let inner = Level::new(inner, name.to_owned())?;
            levels.push(inner);
        } else {
            move_up(folder, name, topmost.as_fd(), &mut moved).map_err(|error| told(error, name))?;
            has_moved = true;
        }
    }
}

/// Removes the innermost folder after all entries were read. Starts another pass if the folder is not empty.
fn go_up(levels: &mut Vec<Level>) -> io::Result<()> {
    let [.., above, level] = levels.as_mut_slice() else { return Ok(()) };
    let folder = above.entries.fd()?;
    match writable(folder, || unlinkat(folder, &level.name, AtFlags::REMOVEDIR)) {
        Ok(()) | Err(Errno::NOENT) => drop(levels.pop()),
        Err(Errno::NOTEMPTY | Errno::EXIST) if level.rounds < MOST_ROUNDS => {
            level.rounds += 1;
            level.entries.rewind();
        }
        Err(error) => return Err(told(error.into(), &level.name)),
    }
    Ok(())
}

/// Removes an entry that is not a folder. Returns false if the entry is a folder.
fn is_unlinked(folder: BorrowedFd<'_>, name: &CStr) -> io::Result<bool> {
    match writable(folder, || unlinkat(folder, name, AtFlags::empty())) {
        Ok(()) | Err(Errno::NOENT) => Ok(true),
        Err(Errno::ISDIR) => Ok(false),
        Err(error) => Err(told(error.into(), name)),
    }
}

/// Calls `act`. If permission is denied, adds the owner's permissions to the folder and calls `act` again.
fn writable<T>(folder: BorrowedFd<'_>, mut act: impl FnMut() -> rustix::io::Result<T>) -> rustix::io::Result<T> {
    match act() {
        Err(Errno::ACCESS) => {
            make_writable(folder)?;
            act()
        }
        other => other,
    }
}

/// Renames a folder into the topmost folder.
fn move_up(folder: BorrowedFd<'_>, name: &CStr, topmost: BorrowedFd<'_>, moved: &mut u64) -> io::Result<()> {
    loop {
        *moved += 1;
        let new = format!("moved-up-{moved}");
        match writable(folder, || renameat(folder, name, topmost, &new)) {
            Ok(()) => return Ok(()),
            // The name exists already: an untrusted folder may contain any name.
            Err(Errno::EXIST | Errno::NOTEMPTY | Errno::NOTDIR) => {}
            // The rename updates `..` in the folder, which needs write permission on the folder (rename(2)).
            Err(Errno::ACCESS) => drop(open_to_empty(folder, name).and_then(|inner| {
                make_writable(inner.as_fd())?;
                Ok(renameat(folder, name, topmost, &new)?)
            })?),
            Err(error) => return Err(error.into()),
        }
    }
}

fn told(error: io::Error, name: &CStr) -> io::Error {
    io::Error::new(error.kind(), format!("{}: {error}", name.to_string_lossy()))
}

#[cfg(test)]
pub(crate) mod tests;
