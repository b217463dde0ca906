//! Bounded walk through a folder.

use std::ffi::{CStr, CString, OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, ResolveFlags, Stat, fstat, openat, openat2, statat};
use rustix::io::Errno;

use crate::folder::{self, is_dots};
use crate::watch::Watch;

/// Maximum depth of nested folders in a layer, an artifact or a cache.
pub const DEEPEST: usize = 512;
/// Maximum length of a path in a layer, an artifact or a cache, in bytes. The kernel limits a path to 4,095 bytes
/// (`PATH_MAX`), which includes the path of the store.
pub const LONGEST_PATH: usize = 3072;
/// How much of a long path a message shows, in bytes.
const SHOWN: usize = 60;

/// Flags for the folders of a walk.
const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Limits of a walk.
#[derive(Clone, Copy, Debug)]
pub struct Bounds {
    /// Maximum depth of nested folders.
    pub deepest: usize,
    /// Maximum length of a path relative to the root, in bytes.
    pub longest_path: usize,
    /// Maximum number of entries.
    pub entries: u64,
    /// Maximum total length of all paths, in bytes: the memory of a caller that keeps them.
    pub paths: u64,
}

impl Bounds {
    /// Limits of layers, artifacts and caches.
    pub const KEPT: Self = Self { deepest: DEEPEST, longest_path: LONGEST_PATH, entries: 2_000_000, paths: 256 << 20 };
    /// Limits of a walk that only counts: any depth.
    pub const COUNTED: Self =
        Self { deepest: usize::MAX, longest_path: usize::MAX, entries: 50_000_000, paths: u64::MAX };
}

/// Order of the entries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// Directory order. The files of a folder come before its subfolders.
    Any,
    /// Sorted by name. A folder comes directly before its contents.
    Sorted,
}

/// An entry.
pub struct Found<'a> {
    /// The parent folder.
    pub folder: BorrowedFd<'a>,
    /// The name in the parent folder.
    pub name: &'a CStr,
    /// The path relative to the root.
    pub path: &'a Path,
    /// The result of fstatat(2) without following links.
    pub stat: Stat,
}

impl Found<'_> {
    /// The type of the entry.
    #[must_use]
    pub fn kind(&self) -> FileType {
        FileType::from_raw_mode(self.stat.st_mode)
    }

    /// The length, in bytes.
    #[must_use]
    pub fn length(&self) -> u64 {
        u64::try_from(self.stat.st_size).unwrap_or(0)
    }

    /// Opens the file for reading.
    ///
    /// # Errors
    /// Errors of the file system, and an error if another file replaced this one after it was found.
    pub fn open(&self) -> io::Result<File> {
        // A pipe would block otherwise.
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = openat(self.folder, self.name, flags, Mode::empty())?;
        let now = fstat(&file)?;
        if (now.st_dev, now.st_ino, now.st_mode) != (self.stat.st_dev, self.stat.st_ino, self.stat.st_mode) {
            return Err(changed(self.path));
        }
        Ok(File::from(file))
    }

    /// The target of a link.
    ///
    /// # Errors
    /// Errors of the file system.
    pub fn target(&self) -> io::Result<OsString> {
        let target = rustix::fs::readlinkat(self.folder, self.name, Vec::new())?;
        Ok(OsString::from_vec(target.into_bytes()))
    }
}

/// A folder whose entries were read.
struct Level {
    /// Entries that remain, in reverse order.
    left: Vec<CString>,
    /// The length of the path of this folder.
    path: usize,
    /// Device and inode.
    is: (u64, u64),
}

/// Calls `each` for every entry below `root`. The walk does not follow links. It needs three file descriptors at any depth,
/// because it returns to a parent folder through `..` and compares device and inode. Folders that another process moves
/// away during the walk are skipped.
///
/// # Errors
/// Errors of the file system, an error for an exceeded limit, [`crate::GivenUp`], and the errors of `each`.
pub fn walk(
    root: &Path,
    order: Order,
    bounds: &Bounds,
    watch: &Watch,
    mut each: impl FnMut(&Found<'_>) -> io::Result<()>,
) -> io::Result<()> {
    let top = openat(CWD, root, FOLDER, Mode::empty())?;
    let mut current = top.try_clone()?;
    let mut walker = Walker { order, bounds, watch, entries: 0, paths: 0, path: Vec::new(), each: &mut each };
    let mut levels = vec![walker.enter(&current)?];
    while let Some(level) = levels.last_mut() {
        walker.path.truncate(level.path);
        let Some(name) = level.left.pop() else {
            levels.pop();
            let Some(above) = go_up(&top, &current, &mut levels, &walker.path)? else { return Ok(()) };
            current = above;
            continue;
        };
        if walker.visit(current.as_fd(), &name)? {
            let inner = match folder::open(current.as_fd(), &name) {
                // The folder vanished or was replaced.
                Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => continue,
                other => other.map_err(|error| walker.told(error.into()))?,
            };
            if levels.len() > bounds.deepest {
                return Err(walker.too("more than", bounds.deepest as u64, "nested folders"));
            }
            levels.push(walker.enter(&inner)?);
            current = inner;
        }
    }
    Ok(())
}

/// Opens the folder of the last level. If another process moved the folder below it, the parent is opened by its path. If
/// that is a different folder, the level is skipped.
fn go_up(top: &OwnedFd, from: &OwnedFd, levels: &mut Vec<Level>, path: &[u8]) -> io::Result<Option<OwnedFd>> {
    let Some(above) = levels.last() else { return Ok(None) };
    let up = openat(from, "..", FOLDER, Mode::empty())?;
    if identity(&up)? == above.is {
        return Ok(Some(up));
    }
    let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
    while let Some(above) = levels.last() {
        let at = Path::new(OsStr::from_bytes(&path[..above.path]));
        let at = if above.path == 0 { Path::new(".") } else { at };
        match openat2(top, at, FOLDER, Mode::empty(), beneath) {
            Ok(folder) if identity(&folder)? == above.is => return Ok(Some(folder)),
            _ => drop(levels.pop()),
        }
    }
    Ok(None)
}

/// Returns the beginning of a path, for messages.
#[must_use]
pub fn beginning(path: &Path) -> String {
    let bytes = path.as_os_str().as_bytes();
    let shown = String::from_utf8_lossy(&bytes[..bytes.len().min(SHOWN)]).into_owned();
    if bytes.len() > SHOWN { format!("{shown}…") } else { shown }
}

fn identity(folder: &OwnedFd) -> io::Result<(u64, u64)> {
    let stat = fstat(folder)?;
    Ok((stat.st_dev, stat.st_ino))
}

fn changed(path: &Path) -> io::Error {
    io::Error::other(format!("{} was replaced while it was read", path.display()))
}

struct Walker<'a> {
    order: Order,
    bounds: &'a Bounds,
    watch: &'a Watch,
    entries: u64,
    paths: u64,
    path: Vec<u8>,
    each: &'a mut dyn FnMut(&Found<'_>) -> io::Result<()>,
}

impl Walker<'_> {
    /// Reads the entries of a folder. With [`Order::Any`], entries that are not folders are visited at once, which saves
    /// memory.
    fn enter(&mut self, folder: &OwnedFd) -> io::Result<Level> {
        let (mut left, length) = (Vec::new(), self.path.len());
        for entry in Dir::read_from(folder)? {
            let entry = entry?;
            let name = entry.file_name();
            if is_dots(name) {
                continue;
            }
            self.entries += 1;
            if self.entries > self.bounds.entries {
                return Err(self.too("there are more than", self.bounds.entries, "files"));
            }
            let may_be_folder = matches!(entry.file_type(), FileType::Directory | FileType::Unknown);
            if self.order == Order::Sorted || may_be_folder {
                self.watch.check()?;
                left.push(name.to_owned());
            } else {
                self.visit(folder.as_fd(), name)?;
            }
            self.path.truncate(length);
        }
        if self.order == Order::Sorted {
            left.sort_unstable_by(|one, other| other.cmp(one));
        }
        Ok(Level { left, path: length, is: identity(folder)? })
    }

    /// Calls `each` for an entry, whose path becomes the current path. Returns true for a folder.
    fn visit(&mut self, folder: BorrowedFd<'_>, name: &CStr) -> io::Result<bool> {
        self.watch.check()?;
        let stat = match statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => return Ok(false),
            other => other.map_err(|error| self.told(error.into()))?,
        };
        if !self.path.is_empty() {
            self.path.push(b'/');
        }
        self.path.extend_from_slice(name.to_bytes());
        self.paths += self.path.len() as u64;
        if self.path.len() > self.bounds.longest_path {
            return Err(self.too("a path is longer than", self.bounds.longest_path as u64, "bytes"));
        }
        if self.paths > self.bounds.paths {
            return Err(self.too("all paths are in total longer than", self.bounds.paths, "bytes"));
        }
        let path = Path::new(OsStr::from_bytes(&self.path));
        let found = Found { folder, name, path, stat };
        (self.each)(&found)?;
        Ok(found.kind() == FileType::Directory)
    }

    fn shown(&self) -> String {
        beginning(Path::new(OsStr::from_bytes(&self.path)))
    }

    fn too(&self, before: &str, most: u64, after: &str) -> io::Error {
        io::Error::other(format!("{before} {most} {after}, at {}", self.shown()))
    }

    fn told(&self, error: io::Error) -> io::Error {
        io::Error::new(error.kind(), format!("{}: {error}", self.shown()))
    }
}

#[cfg(test)]
mod tests;
