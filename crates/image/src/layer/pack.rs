//! From folder to archive, the same bytes for the same tree.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, Metadata};
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;
use pondrix_sandbox::IdMap;
use tar::{Builder, EntryType, Header};

use super::compress::{Blocks, Compression, compressed};
use super::unpack::set_time;
use super::{ATTRIBUTE, OPAQUE, WHITEOUT, WHITEOUT_OPAQUE, attributes};
use crate::hash::Hashing;

/// A packed layer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Packed {
    /// The digest of the compressed bytes.
    pub digest: Digest,
    /// How many they are.
    pub size: u64,
    /// The digest of the plain bytes.
    pub diff_id: Digest,
    /// How many files, folders and links it holds.
    pub entries: u64,
}

/// Which times files have in a layer.
#[derive(Clone, Debug)]
pub struct Times {
    /// Times after this are of this machine, and not of the files.
    pub since: SystemTime,
    /// What they become, in seconds since 1970.
    pub moment: u64,
    /// Of which files that is to be believed.
    pub of: Of,
}

/// Which files may have a time that is of this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// All.
    All,
    /// All, and some may have been made by earlier commands, at these seconds since 1970. A time with a fraction of a
    /// second is of a machine, too, whenever that was: archives and packages give whole seconds, clocks do not.
    AllAndEarlier(HashSet<i64>),
    /// Folders alone: every file was given its time, which may be a moment ago.
    Folders,
}

impl Times {
    /// The times of files that are made from now on.
    #[must_use]
    pub fn from_now(moment: u64, of: Of) -> Self {
        // A file's time may come from a clock that is behind by some milliseconds.
        Self { since: SystemTime::now() - Duration::from_secs(1), moment, of }
    }

    /// The time of a file, in seconds since 1970, and whether it is another one than it has now.
    fn of(&self, data: &Metadata) -> io::Result<(u64, bool)> {
        let is_new = data.modified()? > self.since;
        let is_of_machine = match &self.of {
            Of::All => is_new,
            Of::AllAndEarlier(seconds) => is_new || data.mtime_nsec() != 0 || seconds.contains(&data.mtime()),
            Of::Folders => is_new && data.is_dir(),
        };
        Ok(if is_of_machine { (self.moment, true) } else { (u64::try_from(data.mtime()).unwrap_or(0), false) })
    }
}

/// What of a folder becomes a layer.
#[derive(Clone, Debug)]
pub struct Contents {
    /// Which times the files have.
    pub times: Times,
    /// Folders, by their paths in the layer, that are only there for what is in them: what they look like is for the
    /// layers below to say ([`super::left_out`]).
    pub without: BTreeSet<PathBuf>,
}

impl Contents {
    /// All that is in it.
    #[must_use]
    pub fn whole(times: Times) -> Self {
        Self { times, without: BTreeSet::new() }
    }

    /// The folders that the layer's archive leaves out, sorted. It never has the topmost.
    #[must_use]
    pub fn left_out(&self) -> Vec<PathBuf> {
        std::iter::once(PathBuf::new()).chain(self.without.iter().cloned()).collect()
    }
}

/// Packs a folder. Names are sorted; times are changed as `contents` says, in the archive and in the folder, which
/// will stand for the unpacked layer.
///
/// # Errors
/// What the system says.
pub fn pack(
    root: &Path,
    to: impl Write + Send,
    ids: IdMap,
    contents: &Contents,
    compression: Compression,
) -> io::Result<Packed> {
    let fill = |blocks: &mut Blocks| {
        let mut archive = Builder::new(Hashing::new(blocks));
        archive.sparse(false);
        let mut packer =
            Packer { root, ids, times: &contents.times, without: &contents.without, links: HashMap::new(), entries: 0 };
        packer.folder(&mut archive, Path::new(""))?;
        let (diff_id, _, _) = archive.into_inner()?.finish();
        Ok((diff_id, packer.entries))
    };
    let ((diff_id, entries), digest, size) = compressed(to, compression, fill)?;
    Ok(Packed { digest, size, diff_id, entries })
}

struct Packer<'a> {
    root: &'a Path,
    ids: IdMap,
    times: &'a Times,
    without: &'a BTreeSet<PathBuf>,
    /// The first name of each file that has several.
    links: HashMap<(u64, u64), PathBuf>,
    entries: u64,
}

impl Packer<'_> {
    fn folder(&mut self, archive: &mut Builder<impl Write>, relative: &Path) -> io::Result<()> {
        let folder = self.root.join(relative);
        let opaque = is_opaque(&folder);
        let mut names: Vec<OsString> =
            fs::read_dir(&folder)?.map(|e| e.map(|e| e.file_name())).collect::<Result<_, _>>()?;
        names.sort();
        if opaque {
            self.marker(archive, &relative.join(OsStr::from_bytes(WHITEOUT_OPAQUE)))?;
        }
        for name in names {
            let path = relative.join(&name);
            let on_disk = self.root.join(&path);
            let data = fs::symlink_metadata(&on_disk)?;
            if is_whiteout(&data) {
                let name = [WHITEOUT, name.as_bytes()].concat();
                self.marker(archive, &relative.join(OsStr::from_bytes(&name)))?;
                continue;
            }
            if !self.without.contains(&path) {
                self.entry(archive, &path, &on_disk, &data)?;
            }
            if data.is_dir() {
                self.folder(archive, &path)?;
            }
            if self.times.of(&data)?.1 {
                set_time(&on_disk, SystemTime::UNIX_EPOCH + Duration::from_secs(self.times.moment))?;
            }
        }
        Ok(())
    }

    fn header(&self, kind: EntryType, mode: u32, owner: (u32, u32), time: u64) -> Header {
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(mode & 0o7777);
        header.set_uid(owner.0.into());
        header.set_gid(owner.1.into());
        header.set_mtime(time);
        header.set_size(0);
        header
    }

    fn marker(&mut self, archive: &mut Builder<impl Write>, path: &Path) -> io::Result<()> {
        let mut header = self.header(EntryType::Regular, 0o644, (0, 0), self.times.moment);
        self.entries += 1;
        archive.append_data(&mut header, path, io::empty())
    }

    fn entry(
        &mut self,
        archive: &mut Builder<impl Write>,
        path: &Path,
        on_disk: &Path,
        data: &Metadata,
    ) -> io::Result<()> {
        let kind = data.file_type();
        let owner = self.ids.to_inside(data.uid(), data.gid());
        let (time, _) = self.times.of(data)?;
        self.entries += 1;
        if !kind.is_dir() && data.nlink() > 1 {
            let first = self.links.entry((data.dev(), data.ino())).or_insert_with(|| path.to_owned()).clone();
            if first != path {
                return archive.append_link(&mut self.header(EntryType::Link, data.mode(), owner, time), path, first);
            }
        }
        if kind.is_dir() || kind.is_file() {
            append_attributes(archive, on_disk)?;
        }
        let header = |kind| self.header(kind, data.mode(), owner, time);
        if kind.is_dir() {
            archive.append_data(&mut header(EntryType::Directory), path, io::empty())
        } else if kind.is_symlink() {
            let mut header = header(EntryType::Symlink);
            header.set_mode(0o777);
            append_symlink(archive, &mut header, path, fs::read_link(on_disk)?.as_os_str().as_bytes())
        } else if kind.is_file() {
            let mut header = header(EntryType::Regular);
            header.set_size(data.len());
            archive.append_data(&mut header, path, File::open(on_disk)?)
        } else if kind.is_fifo() {
            archive.append_data(&mut header(EntryType::Fifo), path, io::empty())
        } else {
            // Sockets live only while somebody listens; other devices cannot have been made inside.
            self.entries -= 1;
            Ok(())
        }
    }
}

/// Adds the extended attributes of the file that comes next.
fn append_attributes(archive: &mut Builder<impl Write>, path: &Path) -> io::Result<()> {
    let all = attributes::read(path)?;
    if all.is_empty() {
        return Ok(());
    }
    let named = all.iter().map(|(name, value)| (format!("{ATTRIBUTE}{}", name.to_string_lossy()), value));
    let named: Vec<_> = named.collect();
    archive.append_pax_extensions(named.iter().map(|(name, value)| (name.as_str(), value.as_slice())))
}

/// Adds a link with its target letter for letter: a target is not a path of the archive, and is not
/// tidied as one. One too long for the header goes before it (POSIX.1-2017, pax, `linkpath`).
fn append_symlink(
    archive: &mut Builder<impl Write>,
    header: &mut Header,
    path: &Path,
    target: &[u8],
) -> io::Result<()> {
    if header.set_link_name_literal(target).is_err() {
        archive.append_pax_extensions([("linkpath", target)])?;
    }
    archive.append_data(header, path, io::empty())
}

/// Whether this stands for a removed name.
pub(crate) fn is_whiteout(data: &Metadata) -> bool {
    data.file_type().is_char_device() && data.rdev() == 0
}

/// Whether a folder hides what is below it.
pub(crate) fn is_opaque(folder: &Path) -> bool {
    let mut value = [0; 8];
    matches!(rustix::fs::lgetxattr(folder, OPAQUE.0, &mut value), Ok(length) if &value[..length] == OPAQUE.1)
}
