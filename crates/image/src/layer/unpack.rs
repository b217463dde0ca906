//! From archive to folder.
//!
//! An archive comes from a registry and is not trusted: a name may climb with `..`, and a folder in
//! it may be a link to somewhere else. Everything therefore happens beneath handles of folders
//! ([`super::beneath`]).

use std::collections::BTreeMap;
use std::ffi::{CString, OsStr, OsString};
use std::fs::{self, File};
use std::io::{self, Read};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, fchown};
use std::path::{Component, Path, PathBuf};
use std::rc::Rc;
use std::time::{Duration, SystemTime};

use pondrix_files::copy_with_holes;
use pondrix_sandbox::IdMap;
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags, XattrFlags};
use rustix::io::Errno;
use tar::{Archive, EntryType};

use super::beneath::{Beneath, Place, Stands, times_of};
use super::bounds::Bounds;
use super::pack::is_opaque;
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
    let inside = Beneath::open(root).map_err(told(root))?;
    let mut unpacker =
        Unpacker { inside, folders: Folders::default(), ids, buffer: vec![0; HOLE], bounds: Bounds::default() };
    unpacker.folders.leave_out(Path::new(""));
    for entry in archive.entries().map_err(told(root))? {
        let mut entry = entry.map_err(told(Path::new("the archive")))?;
        let name = entry.path().map_err(told(Path::new("a name in the archive")))?.into_owned();
        let records_of_entry = records.all();
        let mut sparse = Sparse::read(&records_of_entry).map_err(told(&name))?;
        let name = sparse.as_mut().and_then(|sparse| sparse.name.take()).unwrap_or(name);
        let Some(relative) = inside_of(&name)? else {
            unpacker.folders.remember(Path::new(""), &entry);
            continue;
        };
        let length = sparse.as_ref().map_or(entry.size(), |sparse| sparse.length().max(entry.size()));
        unpacker.bounds.admit(&relative, length).map_err(told(&name))?;
        let base = relative.file_name().unwrap_or_default().as_bytes();
        let done = if is_layer && base == WHITEOUT_OPAQUE {
            unpacker.hide(&relative)
        } else if let Some(removed) = base.strip_prefix(WHITEOUT).filter(|_| is_layer) {
            unpacker.remove(&relative.with_file_name(OsStr::from_bytes(removed)))
        } else {
            unpacker.put(&mut entry, &records_of_entry, sparse, &relative)
        };
        done.map_err(told(&name))?;
    }
    unpacker.folders.settle(root)
}

/// Makes a folder hide what lower layers have in it.
fn hide_lower(folder: &Path) -> io::Result<()> {
    Ok(rustix::fs::setxattr(folder, OPAQUE.0, OPAQUE.1, XattrFlags::empty())?)
}

/// Puts what an archive has into a folder.
struct Unpacker {
    inside: Beneath,
    folders: Folders,
    ids: IdMap,
    /// For what is in files.
    buffer: Vec<u8>,
    bounds: Bounds,
}

impl Unpacker {
    /// Where a path is, whose parents are made where they are not there.
    fn place(&mut self, relative: &Path) -> io::Result<Place> {
        let parent = relative.parent().unwrap_or(Path::new(""));
        let folder = match self.inside.folder(parent)? {
            Some(folder) => folder,
            None => self.make_folders(parent)?,
        };
        Ok(Place::new(folder, relative.file_name().unwrap_or_default()))
    }

    /// Makes sure that this and every parent is a folder of the layer, and no link.
    fn make_folders(&mut self, path: &Path) -> io::Result<Rc<OwnedFd>> {
        let nonsense = || io::Error::other("a parent is not a folder");
        let mut folder = self.inside.folder(Path::new(""))?.ok_or_else(nonsense)?;
        let mut relative = PathBuf::new();
        for part in path.components() {
            relative.push(part);
            let place = Place::new(folder, part.as_os_str());
            let stands = place.stands()?;
            match stands {
                Stands::Folder => {}
                Stands::Other => return Err(nonsense()),
                Stands::Nothing | Stands::Removed => {
                    if stands == Stands::Removed {
                        place.unlink()?;
                    }
                    place.make_folder()?;
                    place.give(self.ids, 0, 0)?;
                    self.folders.leave_out(&relative);
                    if stands == Stands::Removed {
                        self.folders.is_new(&relative);
                        hide_lower(&place.path())?;
                    }
                }
            }
            folder = place.open_folder()?;
        }
        Ok(folder)
    }

    /// The folder around this hides what lower layers have in it.
    fn hide(&mut self, relative: &Path) -> io::Result<()> {
        let name_in_it = self.place(relative)?;
        hide_lower(&name_in_it.path().with_file_name("."))
    }

    /// Removes a name of lower layers. What this layer itself has there stays, whichever comes first (OCI Image
    /// specification, "Whiteouts").
    fn remove(&mut self, relative: &Path) -> io::Result<()> {
        let place = self.place(relative)?;
        match place.stands()? {
            Stands::Folder => {
                self.folders.is_new(relative);
                hide_lower(&place.path())
            }
            Stands::Removed | Stands::Other => Ok(()),
            Stands::Nothing => {
                Ok(rustix::fs::mknodat(&*place.folder, &place.name, FileType::CharacterDevice, Mode::empty(), 0)?)
            }
        }
    }

    /// Makes something where maybe something else stands, which goes.
    fn make<T>(&mut self, place: &Place, relative: &Path, make: impl Fn() -> rustix::io::Result<T>) -> io::Result<T> {
        match make() {
            Err(Errno::EXIST) => {
                place.clear(&mut self.inside)?;
                self.folders.forget(relative);
                Ok(make()?)
            }
            made => Ok(made?),
        }
    }

    fn put(
        &mut self,
        entry: &mut tar::Entry<'_, impl Read>,
        records: &[(Vec<u8>, Vec<u8>)],
        sparse: Option<Sparse>,
        relative: &Path,
    ) -> io::Result<()> {
        let place = self.place(relative)?;
        let (kind, ids) = (entry.header().entry_type(), self.ids);
        let mode = entry.header().mode()? & 0o7777;
        // Some archives leave these fields empty, which means root.
        let id = |field: io::Result<u64>| field.ok().and_then(|id| u32::try_from(id).ok()).unwrap_or(0);
        let (user, group) = (id(entry.header().uid()), id(entry.header().gid()));
        let (folder, name) = (&*place.folder, &place.name);
        match kind {
            EntryType::Directory => {
                Self::put_folder(&place)?;
                place.give(ids, user, group)?;
                set_attributes(records, &place, ids)?;
                self.folders.remember(relative, entry);
                Ok(())
            }
            EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
                let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                let open = || rustix::fs::openat(folder, name, flags, Mode::RUSR | Mode::WUSR);
                let mut file = File::from(self.make(&place, relative, open)?);
                let size = usize::try_from(entry.size()).unwrap_or(HOLE).clamp(1, HOLE);
                match sparse {
                    Some(sparse) => {
                        self.bounds.space().leave_room(file.as_fd(), entry.size())?;
                        sparse.write(entry, &mut file)?;
                    }
                    None => copy_with_holes(entry, &mut file, &mut self.buffer[..size], self.bounds.space())?,
                }
                if ids.is_range() {
                    let (user, group) = ids.to_machine(user, group);
                    fchown(&file, Some(user), Some(group))?;
                }
                // After the owner, whose change takes rights away.
                file.set_permissions(PermissionsExt::from_mode(mode))?;
                set_attributes(records, &place, ids)?;
                Ok(rustix::fs::futimens(&file, &times_of(time_of(entry)))?)
            }
            EntryType::Symlink => {
                let target = link_target(entry)?;
                self.make(&place, relative, || rustix::fs::symlinkat(&target, folder, name))?;
                place.give(ids, user, group)?;
                place.set_time(time_of(entry))
            }
            EntryType::Link => {
                let target = PathBuf::from(link_target(entry)?);
                let leaves = || io::Error::other("a link leads out of the layer");
                let target = inside_of(&target).ok().flatten().ok_or_else(leaves)?;
                let target = self.place(&target)?;
                // Not followed: a hard link to a link is a second name of the link.
                let link = || rustix::fs::linkat(&*target.folder, &target.name, folder, name, AtFlags::empty());
                self.make(&place, relative, link)
            }
            EntryType::Fifo => {
                let mode = Mode::from_raw_mode(mode);
                self.make(&place, relative, || rustix::fs::mknodat(folder, name, FileType::Fifo, mode, 0))?;
                place.give(ids, user, group)?;
                // It was made a moment ago, and is no link.
                rustix::fs::chmodat(folder, name, mode, AtFlags::empty())?;
                set_attributes(records, &place, ids)?;
                place.set_time(time_of(entry))
            }
            // Devices are refused to us, and a container gets its own from the machine that runs it. What else there is
            // tells of the archive and of no file.
            EntryType::Char | EntryType::Block => {
                place.clear(&mut self.inside)?;
                self.folders.forget(relative);
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn put_folder(place: &Place) -> io::Result<()> {
        if let Err(error) = place.make_folder() {
            let stands = place.stands()?;
            match stands {
                Stands::Nothing => return Err(error.into()),
                Stands::Folder => return Ok(()),
                Stands::Removed | Stands::Other => place.unlink()?,
            }
            place.make_folder()?;
            if stands == Stands::Removed {
                hide_lower(&place.path())?;
            }
        }
        Ok(())
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
        let of_it =
            self.0.range(relative.to_owned()..).map(|(path, _)| path).take_while(|path| path.starts_with(relative));
        for path in of_it.cloned().collect::<Vec<_>>() {
            self.0.remove(&path);
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
fn inside_of(name: &Path) -> Result<Option<PathBuf>, UnpackError> {
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

/// Sets the extended attributes that an entry's records name.
fn set_attributes(records: &[(Vec<u8>, Vec<u8>)], place: &Place, ids: IdMap) -> io::Result<()> {
    for (name, value) in records {
        let Some(name) = name.strip_prefix(ATTRIBUTE.as_bytes()) else { continue };
        attributes::write(&place.path(), &CString::new(name)?, value, ids)?;
    }
    Ok(())
}

/// How long a row of zeros must be to become a hole, but in a shorter file.
const HOLE: usize = 64 * 1024;

fn link_target(entry: &tar::Entry<'_, impl Read>) -> io::Result<OsString> {
    let bytes = entry.link_name_bytes().ok_or_else(|| io::Error::other("a link without a target"))?;
    Ok(OsStr::from_bytes(&bytes).to_owned())
}
