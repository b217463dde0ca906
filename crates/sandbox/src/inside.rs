//! Places in the new root, found by handles.
//!
//! An image, or a job between two steps, decides what is at each path. Nothing here follows a path that leads out of the
//! new root, through a magic link (proc(5), `/proc/[pid]/fd`), or into a file system that the sandbox mounted for itself.

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{CWD, FileType, Mode, OFlags, ResolveFlags, Statx, mkdirat, open, openat, openat2, readlinkat};
use rustix::io::Errno;

use crate::error::{SetupError, context};
use crate::trees::{MountId, Tree, facts, mount_id};

/// Links inside lead where they lead inside; magic links lead nowhere (openat2(2)).
const IN_ROOT: ResolveFlags = ResolveFlags::IN_ROOT.union(ResolveFlags::NO_MAGICLINKS);
/// No link at all, and no further mount.
const BENEATH: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_MAGICLINKS)
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_XDEV);
/// As many links as the kernel follows (path_resolution(7)).
const MAX_LINKS: usize = 40;
/// How often a place is looked up again that somebody else changes meanwhile.
const MAX_TRIES: usize = 128;
/// How much of a file is read.
const MAX_READ: u64 = 1 << 20;

/// What has to be at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Folder,
    /// Anything but a folder.
    File,
}

/// The new root, and what was mounted in it so far.
#[derive(Debug)]
pub(crate) struct Root {
    folder: OwnedFd,
    facts: Statx,
    /// Every mount that was made.
    made: BTreeSet<MountId>,
    /// Those of them in which places are made and used: the root itself, and what a caller asked for. Never `/proc`,
    /// `/sys` and `/dev`.
    open: BTreeSet<MountId>,
}

impl Root {
    /// This process's root. Nothing is mounted in it yet.
    ///
    /// # Errors
    /// What the system says.
    pub(crate) fn new() -> io::Result<Self> {
        let folder = open("/", OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        let facts = facts(&folder)?;
        let only = BTreeSet::from([mount_id(&facts)?]);
        Ok(Self { folder, facts, made: only.clone(), open: only })
    }

    /// The numbers of all mounts that were made.
    pub(crate) const fn made(&self) -> &BTreeSet<MountId> {
        &self.made
    }

    /// Mounts one of the kernel's file systems at a folder of this name in the root, which is no link.
    ///
    /// # Errors
    /// When the image has a link or a file there.
    pub(crate) fn mount_own(&mut self, name: &str, tree: &Tree) -> Result<(), SetupError> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let find = || openat2(&self.folder, name, flags, Mode::empty(), BENEATH);
        let found = match find() {
            Err(Errno::NOENT) => context(mkdirat(&self.folder, name, FOLDER_MODE), format!("create /{name}"))
                .and_then(|()| context(find(), format!("open /{name}")))?,
            Err(Errno::LOOP | Errno::NOTDIR) => {
                let words = format!("the image has a link or a file at /{name}, where a folder must be");
                return Err(SetupError::Asked(words));
            }
            other => context(other, format!("open /{name}"))?,
        };
        self.attach(tree, &found, &format!("/{name}"))?;
        Ok(())
    }

    /// Mounts something below one of the sandbox's own mounts.
    pub(crate) fn mount_beneath(&mut self, top: impl AsFd, path: &str, tree: &Tree) -> Result<(), SetupError> {
        let place = context(beneath(top, path), format!("open {path}"))?;
        self.attach(tree, &place, path).map(|_| ())
    }

    /// Mounts what a caller asked for. The place is created if it is missing.
    ///
    /// # Errors
    /// When the place is the root itself, leads into a mount of the sandbox's own, or is of another kind than the tree.
    pub(crate) fn mount(&mut self, path: &Path, tree: &Tree) -> Result<(), SetupError> {
        let kind = match FileType::from_raw_mode(context(facts(tree), "look at a mount")?.stx_mode.into()) {
            FileType::Directory => Kind::Folder,
            _ => Kind::File,
        };
        let place = self.place(path, kind)?;
        let id = self.attach(tree, &place, &path.to_string_lossy())?;
        self.open.insert(id);
        Ok(())
    }

    /// Mounts something at a place that no image decides. Returns the number of its topmost mount.
    pub(crate) fn attach(&mut self, tree: &Tree, place: &OwnedFd, path: &str) -> Result<MountId, SetupError> {
        let ids = context(tree.attach(place), format!("mount {path}"))?;
        self.made.extend(&ids);
        Ok(ids[0])
    }

    /// The place at a path, for something to be mounted at. It is created if it is missing.
    fn place(&self, path: &Path, kind: Kind) -> Result<OwnedFd, SetupError> {
        let place = self.found_or_created(path, kind)?;
        let facts = context(facts(&place), format!("look at {}", path.display()))?;
        let id = context(mount_id(&facts), format!("look at {}", path.display()))?;
        if !self.open.contains(&id) {
            return Err(own_mount(path));
        }
        if (facts.stx_mnt_id, facts.stx_ino) == (self.facts.stx_mnt_id, self.facts.stx_ino) {
            let path = path.display();
            return Err(SetupError::Asked(format!("{path} is the root itself, over which nothing can be mounted")));
        }
        match (kind, FileType::from_raw_mode(facts.stx_mode.into())) {
            (Kind::Folder, FileType::Directory) => Ok(place),
            (Kind::File, found) if found != FileType::Directory => Ok(place),
            (Kind::Folder, _) => {
                Err(SetupError::Asked(format!("{} is a file, and a folder is to be mounted there", path.display())))
            }
            (Kind::File, _) => {
                Err(SetupError::Asked(format!("{} is a folder, and a file is to be mounted there", path.display())))
            }
        }
    }

    /// The folder at a path, wherever it is mounted. It is created, with the folders above it, if it is missing.
    ///
    /// # Errors
    /// When a magic link is on the way, something there is no folder, or it would have to be created in a mount of the
    /// sandbox's own.
    pub(crate) fn folder(&self, path: &Path) -> Result<OwnedFd, SetupError> {
        let found = self.found_or_created(path, Kind::Folder)?;
        let is_folder = context(facts(&found), format!("look at {}", path.display()))
            .map(|facts| FileType::from_raw_mode(facts.stx_mode.into()) == FileType::Directory)?;
        if is_folder { Ok(found) } else { Err(SetupError::Asked(format!("{} is no folder", path.display()))) }
    }

    /// Reads a file, at most 1 MiB of it; empty where there is none.
    pub(crate) fn read(&self, path: &str) -> String {
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let mut bytes = Vec::new();
        if let Ok(fd) = openat2(&self.folder, path, flags, Mode::empty(), IN_ROOT) {
            // What cannot be read counts as missing.
            let _ = File::from(fd).take(MAX_READ).read_to_end(&mut bytes);
        }
        String::from_utf8_lossy(&bytes).into_owned()
    }

    fn found_or_created(&self, path: &Path, kind: Kind) -> Result<OwnedFd, SetupError> {
        let failed = |errno: Errno| {
            let words = match errno {
                Errno::LOOP => "a link on the way leads round in a circle, or out of the root",
                Errno::NOTDIR => "something on the way is no folder",
                _ => return context::<OwnedFd, _>(Err(errno), format!("open {}", path.display())),
            };
            Err(SetupError::Asked(format!("{}: {words}", path.display())))
        };
        for _ in 0..MAX_TRIES {
            match openat2(&self.folder, path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty(), IN_ROOT) {
                Ok(found) => return Ok(found),
                Err(Errno::NOENT) => match self.create(path, kind) {
                    Err(Create::Refused(errno)) => return failed(errno),
                    Err(Create::OwnMount) => return Err(own_mount(path)),
                    // Its end, or what somebody else did meanwhile, is seen at the next look.
                    Ok(()) => {}
                },
                // Something was renamed or mounted on the way, so that `..` could not be trusted.
                Err(Errno::AGAIN) => {}
                Err(errno) => return failed(errno),
            }
        }
        Err(SetupError::Asked(format!("{} is changed again and again by something else", path.display())))
    }

    /// Creates what is missing of a path, one name after the other, each in a folder that is open. Links are followed by
    /// what they say, which is a path in this root.
    fn create(&self, path: &Path, kind: Kind) -> Result<(), Create> {
        let mut way: Vec<OwnedFd> = Vec::new();
        let mut rest = reversed(path);
        let mut links = 0;
        while let Some(part) = rest.pop() {
            if part == ".." {
                way.pop();
                continue;
            }
            let top = way.last().map_or_else(|| self.folder.as_fd(), AsFd::as_fd);
            let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let next = match openat(top, &part, flags, Mode::empty()) {
                Ok(next) => next,
                Err(Errno::NOENT) => {
                    let facts = facts(top).map_err(Create::io)?;
                    if !self.open.contains(&mount_id(&facts).map_err(Create::io)?) {
                        return Err(Create::OwnMount);
                    }
                    let created = match kind {
                        Kind::File if rest.is_empty() => {
                            let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW;
                            openat(top, &part, flags | OFlags::CLOEXEC, FILE_MODE).map(drop)
                        }
                        Kind::File | Kind::Folder => mkdirat(top, &part, FOLDER_MODE),
                    };
                    match created {
                        Ok(()) | Err(Errno::EXIST) => {}
                        Err(errno) => return Err(Create::Refused(errno)),
                    }
                    openat(top, &part, flags, Mode::empty()).map_err(Create::Refused)?
                }
                Err(errno) => return Err(Create::Refused(errno)),
            };
            match FileType::from_raw_mode(facts(&next).map_err(Create::io)?.stx_mode.into()) {
                FileType::Directory => way.push(next),
                FileType::Symlink => {
                    links += 1;
                    if links > MAX_LINKS {
                        return Err(Create::Refused(Errno::LOOP));
                    }
                    let target = readlinkat(&next, c"", Vec::new()).map_err(Create::Refused)?;
                    let target = Path::new(OsStr::from_bytes(target.as_bytes()));
                    if target.is_absolute() {
                        way.clear();
                    }
                    rest.extend(reversed(target));
                }
                _ if rest.is_empty() => {}
                _ => return Err(Create::Refused(Errno::NOTDIR)),
            }
        }
        Ok(())
    }
}

const FOLDER_MODE: Mode = Mode::from_raw_mode(0o755);
const FILE_MODE: Mode = Mode::from_raw_mode(0o644);

impl AsFd for Root {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.folder.as_fd()
    }
}

/// Why what is missing of a path is not created.
enum Create {
    Refused(Errno),
    OwnMount,
}

impl Create {
    fn io(error: io::Error) -> Self {
        Self::Refused(Errno::from_io_error(&error).unwrap_or(Errno::IO))
    }
}

fn own_mount(path: &Path) -> SetupError {
    SetupError::Asked(format!(
        "{} is in /proc, /sys or /dev, or a link leads there: nothing can be mounted or created in those",
        path.display()
    ))
}

/// What is at a path below a folder that no image decides about.
pub(crate) fn beneath(top: impl AsFd, path: &str) -> io::Result<OwnedFd> {
    Ok(openat2(top, path, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty(), BENEATH)?)
}

/// Opens what a path on the machine leads to, to be taken and not to be read.
pub(crate) fn path_only(path: &Path) -> io::Result<OwnedFd> {
    Ok(openat(CWD, path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty())?)
}

fn reversed(path: &Path) -> Vec<OsString> {
    let part = |part: Component<'_>| match part {
        Component::Normal(name) => Some(name.to_owned()),
        Component::ParentDir => Some(OsString::from("..")),
        Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
    };
    path.components().rev().filter_map(part).collect()
}

/// An absolute path without `.` and `..`.
pub(crate) fn normal(path: &str) -> PathBuf {
    let mut normal = PathBuf::from("/");
    for part in Path::new(path).components() {
        match part {
            Component::Normal(name) => normal.push(name),
            Component::ParentDir => {
                normal.pop();
            }
            _ => {}
        }
    }
    normal
}
