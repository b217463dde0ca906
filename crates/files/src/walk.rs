//! Going through all that is in a folder.

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

/// How many folders may be in each other in a layer, an artifact or a cache.
pub const DEEPEST: usize = 512;
/// How long a path in a layer, an artifact or a cache may be, in bytes. Nothing opens a path of 4,096 bytes or more at once
/// (`PATH_MAX`), and the folder around it has a path of its own.
pub const LONGEST_PATH: usize = 3072;
/// How much of a path is shown that is too long or too deep, in bytes.
const SHOWN: usize = 60;

/// How a folder is opened that is gone through.
const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// How much there may be in a folder.
#[derive(Clone, Copy, Debug)]
pub struct Bounds {
    /// How many folders may be in each other.
    pub deepest: usize,
    /// How long a path from the topmost folder may be, in bytes.
    pub longest_path: usize,
    /// How many files, folders and links there may be.
    pub entries: u64,
    /// How long all paths together may be, in bytes: whoever keeps them needs that much memory.
    pub paths: u64,
}

impl Bounds {
    /// What is kept: layers, artifacts, caches.
    pub const KEPT: Self = Self { deepest: DEEPEST, longest_path: LONGEST_PATH, entries: 2_000_000, paths: 256 << 20 };
    /// What is only counted: at any depth.
    pub const COUNTED: Self =
        Self { deepest: usize::MAX, longest_path: usize::MAX, entries: 50_000_000, paths: u64::MAX };
}

/// In which order a folder is gone through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// As it comes: files of a folder before its folders.
    Any,
    /// By name, a folder right before what is in it.
    Sorted,
}

/// Something in a folder.
pub struct Found<'a> {
    /// The folder that it is in.
    pub folder: BorrowedFd<'a>,
    /// Its name there.
    pub name: &'a CStr,
    /// Its path from the topmost folder.
    pub path: &'a Path,
    /// What the system says of it, of a link itself.
    pub stat: Stat,
}

impl Found<'_> {
    /// What it is.
    #[must_use]
    pub fn kind(&self) -> FileType {
        FileType::from_raw_mode(self.stat.st_mode)
    }

    /// Its length, in bytes.
    #[must_use]
    pub fn length(&self) -> u64 {
        u64::try_from(self.stat.st_size).unwrap_or(0)
    }

    /// Opens a file to read it. What became something else since it was found is not opened.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(&self) -> io::Result<File> {
        // Not to wait for somebody who writes, where it is a pipe now.
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = openat(self.folder, self.name, flags, Mode::empty())?;
        let now = fstat(&file)?;
        if (now.st_dev, now.st_ino, now.st_mode) != (self.stat.st_dev, self.stat.st_ino, self.stat.st_mode) {
            return Err(changed(self.path));
        }
        Ok(File::from(file))
    }

    /// Where a link leads.
    ///
    /// # Errors
    /// What the system says.
    pub fn target(&self) -> io::Result<OsString> {
        let target = rustix::fs::readlinkat(self.folder, self.name, Vec::new())?;
        Ok(OsString::from_vec(target.into_bytes()))
    }
}

/// A folder whose entries are known, and some of which are still to be gone through.
struct Level {
    /// In reverse order.
    left: Vec<CString>,
    /// How long the path of this folder is.
    path: usize,
    /// Which folder it is: its device and inode.
    is: (u64, u64),
}

/// Goes through all that is below a folder. Follows no link and needs a few descriptors only, however deep it is: it goes
/// back up by `..`, and makes sure that this is the folder that it came from. What others move elsewhere meanwhile is
/// passed over.
///
/// # Errors
/// What the system says; what there is too much of; [`crate::GivenUp`]; and those of `each`.
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
                // It went, or became something else.
                Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => continue,
                other => other.map_err(|error| walker.told(error.into()))?,
            };
            if levels.len() > bounds.deepest {
                return Err(walker.too("more than", bounds.deepest as u64, "folders are in each other"));
            }
            levels.push(walker.enter(&inner)?);
            current = inner;
        }
    }
    Ok(())
}

/// The folder above the one that was gone through, which is that of the last level. Where others have moved what is below
/// it, it is looked for at its path, and passed over where it is not there either.
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

/// A path for people, of which only the beginning is shown where it is long.
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
    /// Reads the names in a folder. Where the order does not matter, all but folders are done at once, and need no memory.
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

    /// Tells of something, whose path is the current one from now on. Answers whether it is a folder.
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
            return Err(self.too("all paths together are longer than", self.bounds.paths, "bytes"));
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
