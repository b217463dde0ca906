//! Removing a folder with all that is in it, however deep.

use std::ffi::{CStr, CString, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, rename, renameat, unlinkat};
use rustix::io::Errno;

use crate::folder::{is_dots, make_writable, open_to_empty};

/// How many folders are open at once, one in the other. What is deeper is moved up first.
const OPEN_AT_ONCE: usize = 24;
/// How often a folder is read anew in which something was left: others may put files into it meanwhile.
const MOST_ROUNDS: usize = 64;

/// Removes a folder with all that is in it, or a file; a link, and not what it leads to. Folders that their owner may not
/// change, as images have them, are opened to their owner first. Needs a fixed number of descriptors and no more stack
/// for deeper folders.
///
/// # Errors
/// What the system says, with the place; [`io::ErrorKind::NotFound`] when there is nothing.
pub fn remove(path: &Path) -> io::Result<()> {
    let (parent, name) = (path.parent().unwrap_or(Path::new("")), path.file_name());
    let name = name.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "a path without a name"))?;
    let parent = if parent.as_os_str().is_empty() { Path::new(".") } else { parent };
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let parent = rustix::fs::openat(CWD, parent, flags, Mode::empty())?;
    remove_at(parent.as_fd(), name)
}

/// Removes what has a name in an open folder, as [`remove`] does.
///
/// # Errors
/// As for [`remove`].
pub fn remove_at(parent: BorrowedFd<'_>, name: &OsStr) -> io::Result<()> {
    let name = CString::new(name.as_bytes())?;
    match unlinkat(parent, &name, AtFlags::empty()) {
        Ok(()) => return Ok(()),
        // What a system says of a folder (unlink(2), POSIX and Linux).
        Err(Errno::ISDIR | Errno::PERM) => {}
        Err(error) => return Err(error.into()),
    }
    match unlinkat(parent, &name, AtFlags::REMOVEDIR) {
        Ok(()) => return Ok(()),
        Err(Errno::NOTEMPTY | Errno::EXIST) => {}
        Err(error) => return Err(error.into()),
    }
    empty(open_to_empty(parent, &name)?)?;
    Ok(unlinkat(parent, &name, AtFlags::REMOVEDIR)?)
}

/// Renames a folder to a new name in `into`, which is on the same file system, so that it can be removed while something
/// else has its place. Answers the new path.
///
/// # Errors
/// What the system says.
pub fn move_aside(path: &Path, into: &Path) -> io::Result<PathBuf> {
    let place = tempfile::Builder::new().prefix("aside-").tempdir_in(into)?.keep();
    // An empty folder gives way to another folder (rename(2)).
    rename(path, &place)?;
    Ok(place)
}

/// A folder that is being emptied.
struct Level {
    entries: Dir,
    /// Its name in the folder above; none of the topmost.
    name: CString,
    /// How often it was read.
    rounds: usize,
}

impl Level {
    fn new(folder: OwnedFd, name: CString) -> io::Result<Self> {
        Ok(Self { entries: Dir::new(folder)?, name, rounds: 1 })
    }
}

/// Empties an open folder. What is deeper than some levels is moved up into it, and is emptied later: this way the depth
/// costs neither descriptors nor stack.
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
        // Many folders are empty, or become so only by the moving below.
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

/// Removes the innermost folder, whose entries were all read. One that has some left is read once more.
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

/// Removes a file; answers whether that is done, and nothing but a folder is left.
fn is_unlinked(folder: BorrowedFd<'_>, name: &CStr) -> io::Result<bool> {
    match writable(folder, || unlinkat(folder, name, AtFlags::empty())) {
        Ok(()) | Err(Errno::NOENT) => Ok(true),
        Err(Errno::ISDIR) => Ok(false),
        Err(error) => Err(told(error.into(), name)),
    }
}

/// Does something in a folder; once more when its owner may not change it, after that is changed.
fn writable<T>(folder: BorrowedFd<'_>, mut act: impl FnMut() -> rustix::io::Result<T>) -> rustix::io::Result<T> {
    match act() {
        Err(Errno::ACCESS) => {
            make_writable(folder)?;
            act()
        }
        other => other,
    }
}

/// Gives a folder a new name in the topmost one.
fn move_up(folder: BorrowedFd<'_>, name: &CStr, topmost: BorrowedFd<'_>, moved: &mut u64) -> io::Result<()> {
    loop {
        *moved += 1;
        let new = format!("moved-up-{moved}");
        match writable(folder, || renameat(folder, name, topmost, &new)) {
            Ok(()) => return Ok(()),
            // Something has that name already, which nobody chose but who filled the folder.
            Err(Errno::EXIST | Errno::NOTEMPTY | Errno::NOTDIR) => {}
            // Its own `..` changes with the move, which needs the right to write it (rename(2)).
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
