//! Changing what is in a folder by handles: whatever stands there, no link is followed and nothing outside is touched.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::SystemTime;

use pondrix_sandbox::IdMap;
use rustix::fs::{AtFlags, CWD, FileType, Gid, Mode, OFlags, ResolveFlags, Timestamps, Uid};
use rustix::io::Errno;

/// A handle of a folder, which needs no right to read it (open(2), `O_PATH`).
const HANDLE: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// The times of a file (utimensat(2)).
pub(crate) fn times_of(time: SystemTime) -> Timestamps {
    let since = time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let stamp = rustix::fs::Timespec {
        tv_sec: i64::try_from(since.as_secs()).unwrap_or(i64::MAX),
        tv_nsec: since.subsec_nanos().into(),
    };
    Timestamps { last_access: stamp, last_modification: stamp }
}

/// Sets a file's times, of a link itself and not of what it points at.
///
/// # Errors
/// What the system says.
pub fn set_time(path: &Path, time: SystemTime) -> io::Result<()> {
    Ok(rustix::fs::utimensat(CWD, path, &times_of(time), AtFlags::SYMLINK_NOFOLLOW)?)
}

/// A folder, and the one beneath it that was asked for last: what an archive has in one folder mostly comes together.
pub(super) struct Beneath {
    top: Rc<OwnedFd>,
    last: Option<(PathBuf, Rc<OwnedFd>)>,
}

/// What stands at a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stands {
    Nothing,
    Folder,
    /// A character device 0/0, which says that lower layers have nothing there.
    Removed,
    Other,
}

impl Beneath {
    pub(super) fn open(root: &Path) -> io::Result<Self> {
        let top = rustix::fs::open(root, HANDLE, Mode::empty())?;
        Ok(Self { top: Rc::new(top), last: None })
    }

    /// The folder at a path, where all on the way there are folders.
    pub(super) fn folder(&mut self, path: &Path) -> io::Result<Option<Rc<OwnedFd>>> {
        if path.as_os_str().is_empty() {
            return Ok(Some(Rc::clone(&self.top)));
        }
        if let Some((_, folder)) = self.last.as_ref().filter(|(last, _)| last == path) {
            return Ok(Some(Rc::clone(folder)));
        }
        let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        match rustix::fs::openat2(&self.top, path, HANDLE, Mode::empty(), beneath) {
            Ok(folder) => {
                let folder = Rc::new(folder);
                self.last = Some((path.to_owned(), Rc::clone(&folder)));
                Ok(Some(folder))
            }
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// A folder was removed: what was known may be in it.
    pub(super) fn forget(&mut self) {
        self.last = None;
    }
}

/// A name in a folder.
pub(super) struct Place {
    pub(super) folder: Rc<OwnedFd>,
    pub(super) name: OsString,
}

impl Place {
    pub(super) fn new(folder: Rc<OwnedFd>, name: &OsStr) -> Self {
        Self { folder, name: name.to_owned() }
    }

    pub(super) fn stands(&self) -> io::Result<Stands> {
        match rustix::fs::statat(&*self.folder, &self.name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => Ok(Stands::Nothing),
            Err(error) => Err(error.into()),
            Ok(data) => Ok(match FileType::from_raw_mode(data.st_mode) {
                FileType::Directory => Stands::Folder,
                FileType::CharacterDevice if data.st_rdev == 0 => Stands::Removed,
                _ => Stands::Other,
            }),
        }
    }

    /// A path that leads here by the handle, for calls that take none.
    pub(super) fn path(&self) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}", self.folder.as_fd().as_raw_fd())).join(&self.name)
    }

    /// Removes what stands here.
    pub(super) fn clear(&self, inside: &mut Beneath) -> io::Result<()> {
        match self.stands()? {
            Stands::Nothing => Ok(()),
            Stands::Folder => {
                inside.forget();
                pondrix_files::remove_at(self.folder.as_fd(), &self.name)
            }
            Stands::Removed | Stands::Other => self.unlink(),
        }
    }

    /// Removes what stands here, which is no folder.
    pub(super) fn unlink(&self) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&*self.folder, &self.name, AtFlags::empty())?)
    }

    pub(super) fn make_folder(&self) -> rustix::io::Result<()> {
        rustix::fs::mkdirat(&*self.folder, &self.name, Mode::RWXU)
    }

    /// The handle of the folder here, which is no link.
    pub(super) fn open_folder(&self) -> io::Result<Rc<OwnedFd>> {
        Ok(Rc::new(rustix::fs::openat(&*self.folder, &self.name, HANDLE, Mode::empty())?))
    }

    /// Gives it to ids inside ([`IdMap::give`]).
    pub(super) fn give(&self, ids: IdMap, user: u32, group: u32) -> io::Result<()> {
        if !ids.is_range() {
            return Ok(());
        }
        let (user, group) = ids.to_machine(user, group);
        let (user, group) = (Some(Uid::from_raw(user)), Some(Gid::from_raw(group)));
        Ok(rustix::fs::chownat(&*self.folder, &self.name, user, group, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    pub(super) fn set_time(&self, time: SystemTime) -> io::Result<()> {
        let times = times_of(time);
        Ok(rustix::fs::utimensat(&*self.folder, &self.name, &times, AtFlags::SYMLINK_NOFOLLOW)?)
    }
}
