//! From archive to folder.
//!
//! An archive comes from a registry and is not trusted: a name may climb with `..`, and a folder in
//! it may be a link to somewhere else. Every parent is therefore walked from the layer's own folder,
//! and no link is followed.

use std::collections::BTreeMap;
use std::ffi::{CString, OsStr, OsString};
use std::fs::{self, File};
use std::io::{self, Read, Seek, Write};
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, symlink};
use std::path::{Component, Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_sandbox::IdMap;
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags, XattrFlags};
use tar::{Archive, EntryType};

use super::pack::{is_opaque, is_whiteout};
use super::records::Tap;
use super::sparse::Sparse;
use super::{ATTRIBUTE, FOLDER_MODE, OPAQUE, WHITEOUT, WHITEOUT_OPAQUE, attributes};
use crate::build::MOMENT;

/// Why an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// The archive or the disk.
    #[error("{name}: {source}")]
    Io {
        /// The name in the archive.
        name: String,
        /// What the system said.
        source: io::Error,
    },
    /// A name that leads out of the layer.
    #[error("`{0}` leads out of the layer")]
    Leaves(String),
}

impl From<io::Error> for UnpackError {
    fn from(source: io::Error) -> Self {
        Self::Io { name: "the archive".to_owned(), source }
    }
}

/// Unpacks an archive into a new folder. Answers the folders that it leaves out, above things that it has: they are
/// there, but what they look like is for the layers below to say ([`super::left_out`]).
///
/// # Errors
/// When the archive is damaged, a name leads out of it, or the disk refuses. The folder is then
/// of no use.
pub fn unpack(archive: impl Read, root: &Path, ids: IdMap) -> Result<Vec<PathBuf>, UnpackError> {
    unpack_inner(archive, root, ids, true)
}

/// Unpacks an archive of ordinary files into a new folder: a name that a layer would mean as a removal
/// is here a name like any other.
///
/// # Errors
/// As for [`unpack`].
pub fn unpack_files(archive: impl Read, root: &Path, ids: IdMap) -> Result<(), UnpackError> {
    unpack_inner(archive, root, ids, false).map(drop)
}

fn unpack_inner(archive: impl Read, root: &Path, ids: IdMap, is_layer: bool) -> Result<Vec<PathBuf>, UnpackError> {
    let told = |name: &Path| {
        let name = name.display().to_string();
        move |source| UnpackError::Io { name, source }
    };
    fs::create_dir_all(root).map_err(told(root))?;
    ids.give(root, 0, 0).map_err(told(root))?;
    let (archive, records) = Tap::new(archive);
    let mut archive = Archive::new(archive);
    let mut folders = Folders::default();
    folders.leave_out(Path::new(""));
    for entry in archive.entries().map_err(told(root))? {
        let mut entry = entry.map_err(told(Path::new("the archive")))?;
        let name = entry.path().map_err(told(Path::new("a name in the archive")))?.into_owned();
        let records_of_entry = records.all();
        let mut sparse = Sparse::read(&records_of_entry).map_err(told(&name))?;
        let name = sparse.as_mut().and_then(|sparse| sparse.name.take()).unwrap_or(name);
        let Some(relative) = inside(&name)? else {
            folders.remember(Path::new(""), &entry);
            continue;
        };
        let parent = relative.parent().unwrap_or(Path::new(""));
        let path = root.join(&relative);
        parents(root, parent, ids, &mut folders).map_err(told(&name))?;
        let base = path.file_name().unwrap_or_default().as_bytes();
        if is_layer && base == WHITEOUT_OPAQUE {
            hide_lower(path.parent().unwrap_or(root)).map_err(told(&name))?;
        } else if let Some(removed) = base.strip_prefix(WHITEOUT).filter(|_| is_layer) {
            let relative = relative.with_file_name(OsStr::from_bytes(removed));
            remove(&root.join(&relative), &relative, &mut folders).map_err(told(&name))?;
        } else {
            let is_folder = entry.header().entry_type().is_dir();
            if !is_folder {
                folders.forget(&relative);
            }
            put(&mut entry, &records_of_entry, sparse, root, &path, ids, &mut folders).map_err(told(&name))?;
            if is_folder {
                folders.remember(&relative, &entry);
            }
        }
    }
    folders.settle(root)
}

/// Makes a folder hide what lower layers have in it.
fn hide_lower(folder: &Path) -> io::Result<()> {
    Ok(rustix::fs::setxattr(folder, OPAQUE.0, OPAQUE.1, XattrFlags::empty())?)
}

/// Removes a name of lower layers. What this layer itself has there stays, whichever comes first (OCI Image
/// specification, "Whiteouts").
fn remove(path: &Path, relative: &Path, folders: &mut Folders) -> io::Result<()> {
    match fs::symlink_metadata(path) {
        Ok(data) if data.is_dir() => {
            folders.is_new(relative);
            hide_lower(path)
        }
        Ok(_) => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Ok(rustix::fs::mknodat(CWD, path, FileType::CharacterDevice, Mode::empty(), 0)?)
        }
        Err(error) => Err(error),
    }
}

/// What an archive says of a folder.
#[derive(Clone, Copy, Debug)]
enum Said {
    /// Its permissions and time.
    This(u32, SystemTime),
    /// Nothing: something below it is there. Whether lower layers may have it.
    Nothing { is_of_lower: bool },
}

/// The folders of a layer, by their paths in it. Their modes and times are set last: writing into one changes the one
/// and may need the other.
#[derive(Debug, Default)]
struct Folders(BTreeMap<PathBuf, Said>);

impl Folders {
    fn remember(&mut self, relative: &Path, entry: &tar::Entry<'_, impl Read>) {
        let mode = entry.header().mode().unwrap_or(0o755) & 0o7777;
        self.0.insert(relative.to_owned(), Said::This(mode, time_of(entry)));
    }

    /// It is made for what is below it.
    fn leave_out(&mut self, relative: &Path) {
        self.0.entry(relative.to_owned()).or_insert(Said::Nothing { is_of_lower: true });
    }

    /// What lower layers have there is removed.
    fn is_new(&mut self, relative: &Path) {
        for said in self.0.get_mut(relative).into_iter() {
            if let Said::Nothing { is_of_lower } = said {
                *is_of_lower = false;
            }
        }
    }

    /// Something else comes in place of what is there, and with it of all below.
    fn forget(&mut self, relative: &Path) {
        let below: Vec<_> = self.0.range(relative.to_owned()..).map(|(path, _)| path.clone()).collect();
        for path in below.iter().take_while(|path| path.starts_with(relative)) {
            self.0.remove(path);
        }
    }

    /// Sets what is remembered, of what is a folder of the layer still. No link is followed: whatever an archive says,
    /// nothing outside the layer is touched. Answers the folders that lower layers may have, and that nothing was said
    /// of.
    fn settle(self, root: &Path) -> Result<Vec<PathBuf>, UnpackError> {
        let told = |path: &Path| {
            let name = path.display().to_string();
            move |source: io::Error| UnpackError::Io { name, source }
        };
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let top = rustix::fs::open(root, flags, Mode::empty()).map_err(|error| told(root)(error.into()))?;
        let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        let (mut left_out, mut hiding) = (Vec::new(), Vec::new());
        for (path, said) in &self.0 {
            let is_hidden = hiding.iter().any(|above: &PathBuf| path.starts_with(above));
            if matches!(said, Said::Nothing { is_of_lower: true }) && !is_hidden {
                left_out.push(path.clone());
            }
            if !is_hidden && is_opaque(&root.join(path)) {
                hiding.push(path.clone());
            }
        }
        // What is inside first: the folder around it may be closed to us then.
        for (path, said) in self.0.into_iter().rev() {
            let (mode, time) = match said {
                Said::This(mode, time) => (mode, time),
                Said::Nothing { .. } => (FOLDER_MODE, SystemTime::UNIX_EPOCH + Duration::from_secs(MOMENT)),
            };
            let named = if path.as_os_str().is_empty() { Path::new(".") } else { &path };
            let folder = rustix::fs::openat2(&top, named, flags, Mode::empty(), beneath);
            let folder = folder.map_err(|error| told(&path)(error.into()))?;
            // By its handle, which needs no right to read it (open(2), `O_PATH`).
            let handle = PathBuf::from(format!("/proc/self/fd/{}", folder.as_raw_fd()));
            fs::set_permissions(&handle, PermissionsExt::from_mode(mode)).map_err(told(&path))?;
            let times = times_of(time);
            let set = rustix::fs::utimensat(CWD, &handle, &times, AtFlags::empty());
            set.map_err(|error| told(&path)(error.into()))?;
        }
        Ok(left_out)
    }
}

fn time_of(entry: &tar::Entry<'_, impl Read>) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(entry.header().mtime().unwrap_or(0))
}

/// The name as a path below the root; nothing for the root itself.
fn inside(name: &Path) -> Result<Option<PathBuf>, UnpackError> {
    let mut path = PathBuf::new();
    for part in name.components() {
        match part {
            Component::Normal(part) => path.push(part),
            Component::RootDir | Component::CurDir => {}
            Component::ParentDir | Component::Prefix(_) => return Err(UnpackError::Leaves(name.display().to_string())),
        }
    }
    Ok(Some(path).filter(|path| !path.as_os_str().is_empty()))
}

/// Makes sure that every parent is a folder of the layer, and no link.
fn parents(root: &Path, parent: &Path, ids: IdMap, folders: &mut Folders) -> io::Result<()> {
    let mut relative = PathBuf::new();
    for part in parent.components() {
        relative.push(part);
        let path = root.join(&relative);
        let (is_removed, is_folder) = match fs::symlink_metadata(&path) {
            Ok(data) => (is_whiteout(&data), data.is_dir()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => (false, false),
            Err(error) => return Err(error),
        };
        if is_folder {
            continue;
        }
        if is_removed {
            fs::remove_file(&path)?;
        } else if fs::symlink_metadata(&path).is_ok() {
            return Err(io::Error::other("a parent is not a folder"));
        }
        fs::create_dir(&path)?;
        ids.give(&path, 0, 0)?;
        folders.leave_out(&relative);
        if is_removed {
            folders.is_new(&relative);
            hide_lower(&path)?;
        }
    }
    Ok(())
}

/// Removes what an entry replaces.
fn clear(path: &Path) -> io::Result<()> {
    match fs::symlink_metadata(path) {
        Ok(data) if data.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    }
}

fn put(
    entry: &mut tar::Entry<'_, impl Read>,
    records: &[(Vec<u8>, Vec<u8>)],
    sparse: Option<Sparse>,
    root: &Path,
    path: &Path,
    ids: IdMap,
    folders: &mut Folders,
) -> io::Result<()> {
    let kind = entry.header().entry_type();
    let mode = entry.header().mode()? & 0o7777;
    let there = fs::symlink_metadata(path).ok();
    let is_folder = there.as_ref().is_some_and(fs::Metadata::is_dir);
    if !(kind.is_dir() && is_folder) {
        clear(path)?;
    }
    match kind {
        EntryType::Directory => {
            if !is_folder {
                fs::create_dir(path)?;
            }
            if there.is_some_and(|data| is_whiteout(&data)) {
                hide_lower(path)?;
            }
        }
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
            let mut file = File::options().write(true).create_new(true).mode(0o600).open(path)?;
            let size = usize::try_from(entry.size()).unwrap_or(HOLE).clamp(1, HOLE);
            match sparse {
                Some(sparse) => sparse.write(entry, &mut file)?,
                None => copy_with_holes(entry, &mut file, size)?,
            }
        }
        EntryType::Symlink => symlink(link_target(entry)?, path)?,
        EntryType::Link => {
            let target = PathBuf::from(link_target(entry)?);
            let target =
                inside(&target).ok().flatten().ok_or_else(|| io::Error::other("a link leads out of the layer"))?;
            let (parent, name) = (target.parent().unwrap_or(Path::new("")), target.file_name().unwrap_or_default());
            parents(root, parent, ids, folders)?;
            // Not followed: a hard link to a link is a second name of the link.
            return fs::hard_link(root.join(parent).join(name), path);
        }
        EntryType::Fifo => rustix::fs::mknodat(CWD, path, FileType::Fifo, Mode::from_raw_mode(mode), 0)?,
        // Devices are refused to us, and a container gets its own from the machine that runs it.
        EntryType::Char | EntryType::Block => return Ok(()),
        _ => return Ok(()),
    }
    // Some archives leave these fields empty, which means root.
    let id = |field: std::io::Result<u64>| field.ok().and_then(|id| u32::try_from(id).ok()).unwrap_or(0);
    ids.give(path, id(entry.header().uid()), id(entry.header().gid()))?;
    if kind != EntryType::Symlink && kind != EntryType::Directory {
        fs::set_permissions(path, PermissionsExt::from_mode(mode))?;
    }
    if kind != EntryType::Symlink {
        set_attributes(records, path, ids)?;
    }
    set_time(path, time_of(entry))
}

/// Sets the extended attributes that an entry's records name.
fn set_attributes(records: &[(Vec<u8>, Vec<u8>)], path: &Path, ids: IdMap) -> io::Result<()> {
    for (name, value) in records {
        let Some(name) = name.strip_prefix(ATTRIBUTE.as_bytes()) else { continue };
        attributes::write(path, &CString::new(name)?, value, ids)?;
    }
    Ok(())
}

/// How long a row of zeros must be to become a hole, but in a shorter file.
const HOLE: usize = 64 * 1024;

/// Writes a file, with holes where there are many zeros: they take no room on the disk.
fn copy_with_holes(from: &mut impl Read, to: &mut File, piece: usize) -> io::Result<()> {
    let mut buffer = vec![0; piece];
    let mut length = 0;
    loop {
        let mut filled = 0;
        while filled < piece {
            match from.read(&mut buffer[filled..])? {
                0 => break,
                count => filled += count,
            }
        }
        length += filled as u64;
        if filled == piece && buffer.iter().all(|byte| *byte == 0) {
            to.seek_relative(piece as i64)?;
            continue;
        }
        to.write_all(&buffer[..filled])?;
        if filled < piece {
            // A hole at the end is there only when the length says so.
            return to.set_len(length);
        }
    }
}

fn link_target(entry: &tar::Entry<'_, impl Read>) -> io::Result<OsString> {
    let bytes = entry.link_name_bytes().ok_or_else(|| io::Error::other("a link without a target"))?;
    Ok(OsStr::from_bytes(&bytes).to_owned())
}

/// Sets a file's times, of a link itself and not of what it points at.
///
/// # Errors
/// What the system says.
pub fn set_time(path: &Path, time: SystemTime) -> io::Result<()> {
    Ok(rustix::fs::utimensat(CWD, path, &times_of(time), AtFlags::SYMLINK_NOFOLLOW)?)
}

pub(crate) fn times_of(time: SystemTime) -> rustix::fs::Timestamps {
    let since = time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let stamp = rustix::fs::Timespec {
        tv_sec: i64::try_from(since.as_secs()).unwrap_or(i64::MAX),
        tv_nsec: since.subsec_nanos().into(),
    };
    rustix::fs::Timestamps { last_access: stamp, last_modification: stamp }
}
