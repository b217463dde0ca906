//! From folder to archive, the same bytes for the same tree.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::ffi::{CString, OsStr};
use std::fs::Metadata;
use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;
use pondrix_files::{Found, Order, Watch, walk};
use pondrix_sandbox::IdMap;
use rustix::fs::{AtFlags, FileType, Stat, utimensat};
use tar::{Builder, EntryType, Header};

use super::beneath::times_of;
use super::bounds::Bounds;
use super::compress::{Blocks, Compression, compressed};
use super::{ATTRIBUTE, OPAQUE, WHITEOUT, WHITEOUT_OPAQUE, attributes};
use crate::hash::Hashing;

/// How much of a file is read at once.
const PIECE: usize = 256 * 1024;
/// What is in a file is filled up to whole blocks of an archive (POSIX.1-2017, pax, "ustar Interchange Format").
const BLOCK: u64 = 512;

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
    fn of(&self, stat: &Stat) -> (u64, bool) {
        let seconds = u64::try_from(stat.st_mtime).unwrap_or(0);
        let time = SystemTime::UNIX_EPOCH + Duration::new(seconds, u32::try_from(stat.st_mtime_nsec).unwrap_or(0));
        let is_new = time > self.since;
        let is_of_machine = match &self.of {
            Of::All => is_new,
            Of::AllAndEarlier(known) => is_new || stat.st_mtime_nsec != 0 || known.contains(&stat.st_mtime),
            Of::Folders => is_new && FileType::from_raw_mode(stat.st_mode) == FileType::Directory,
        };
        if is_of_machine { (self.moment, true) } else { (seconds, false) }
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
/// What the system says; what there is too much of; [`pondrix_files::GivenUp`].
pub fn pack(
    root: &Path,
    to: impl Write + Send,
    ids: IdMap,
    contents: &Contents,
    compression: Compression,
    watch: &Watch,
) -> io::Result<Packed> {
    let (packed, ()) = packed(to, compression, watch, |writer| {
        let (times, without) = (&contents.times, &contents.without);
        if is_opaque(root) {
            writer.marker(Path::new(OsStr::from_bytes(WHITEOUT_OPAQUE)), times.moment)?;
        }
        let mut packer = Packer { root, ids, times, without, links: HashMap::new(), writer };
        walk(root, Order::Sorted, &pondrix_files::Bounds::KEPT, watch, |found| packer.take(found))
    })?;
    Ok(packed)
}

/// Packs what `fill` writes. Answers what `fill` answers, too.
pub(super) fn packed<T>(
    to: impl Write + Send,
    compression: Compression,
    watch: &Watch,
    fill: impl FnOnce(&mut Writer<'_, Hashing<&mut Blocks>>) -> io::Result<T>,
) -> io::Result<(Packed, T)> {
    let fill = |blocks: &mut Blocks| {
        let mut archive = Builder::new(Hashing::new(blocks));
        archive.sparse(false);
        let mut writer = Writer { archive, entries: 0, buffer: vec![0; PIECE], bounds: Bounds::default(), watch };
        let answer = fill(&mut writer)?;
        let entries = writer.entries;
        let (diff_id, _, _) = writer.archive.into_inner()?.finish();
        Ok((diff_id, entries, answer))
    };
    let ((diff_id, entries, answer), digest, size) = compressed(to, compression, fill)?;
    Ok((Packed { digest, size, diff_id, entries }, answer))
}

/// What an archive says of something, beside its name and what is in it.
pub(super) struct Looks<'a> {
    pub(super) mode: u32,
    /// Inside.
    pub(super) owner: (u32, u32),
    /// In seconds since 1970.
    pub(super) time: u64,
    pub(super) attributes: &'a [(CString, Vec<u8>)],
}

/// Writes an archive, the same bytes for the same entries.
pub(super) struct Writer<'a, W: Write> {
    archive: Builder<W>,
    entries: u64,
    buffer: Vec<u8>,
    bounds: Bounds,
    watch: &'a Watch,
}

impl<W: Write> Writer<'_, W> {
    /// The header of something of that length, if there may be so much.
    fn header(&mut self, kind: EntryType, path: &Path, looks: &Looks<'_>, length: u64) -> io::Result<Header> {
        self.watch.check()?;
        self.bounds.admit(path, length)?;
        self.entries += 1;
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(looks.mode & 0o7777);
        header.set_uid(looks.owner.0.into());
        header.set_gid(looks.owner.1.into());
        header.set_mtime(looks.time);
        header.set_size(length);
        Ok(header)
    }

    /// Something that has no content.
    fn empty(&mut self, kind: EntryType, path: &Path, looks: &Looks<'_>) -> io::Result<()> {
        let mut header = self.header(kind, path, looks, 0)?;
        self.attributes(looks)?;
        self.archive.append_data(&mut header, path, io::empty())
    }

    pub(super) fn folder(&mut self, path: &Path, looks: &Looks<'_>) -> io::Result<()> {
        self.empty(EntryType::Directory, path, looks)
    }

    /// A name that says something of lower layers.
    fn marker(&mut self, path: &Path, time: u64) -> io::Result<()> {
        self.empty(EntryType::Regular, path, &Looks { mode: 0o644, owner: (0, 0), time, attributes: &[] })
    }

    /// A file of a known length; `see` is shown what is in it.
    pub(super) fn file(
        &mut self,
        path: &Path,
        looks: &Looks<'_>,
        length: u64,
        from: &mut impl Read,
        mut see: impl FnMut(&[u8]),
    ) -> io::Result<()> {
        let mut header = self.header(EntryType::Regular, path, looks, length)?;
        self.attributes(looks)?;
        // What is in it follows by larger pieces than the library would read.
        self.archive.append_data(&mut header, path, io::empty())?;
        let to = self.archive.get_mut();
        let mut left = length;
        while left > 0 {
            self.watch.check()?;
            let wanted = usize::try_from(left).unwrap_or(PIECE).min(PIECE);
            let count = from.read(&mut self.buffer[..wanted])?;
            if count == 0 {
                return Err(io::Error::other(format!("{} became shorter while it was read", path.display())));
            }
            see(&self.buffer[..count]);
            to.write_all(&self.buffer[..count])?;
            left -= count as u64;
        }
        let past = usize::try_from(length % BLOCK).unwrap_or(0);
        if past > 0 { to.write_all(&[0; BLOCK as usize][past..]) } else { Ok(()) }
    }

    /// A link with its target letter for letter: a target is not a path of the archive, and is not tidied as one. One
    /// too long for the header goes before it (POSIX.1-2017, pax, `linkpath`).
    pub(super) fn symlink(&mut self, path: &Path, looks: &Looks<'_>, target: &[u8]) -> io::Result<()> {
        let mut header = self.header(EntryType::Symlink, path, &Looks { mode: 0o777, ..*looks }, 0)?;
        if header.set_link_name_literal(target).is_err() {
            self.archive.append_pax_extensions([("linkpath", target)])?;
        }
        self.archive.append_data(&mut header, path, io::empty())
    }

    /// A further name of a file.
    pub(super) fn link(&mut self, path: &Path, looks: &Looks<'_>, first: &Path) -> io::Result<()> {
        let mut header = self.header(EntryType::Link, path, looks, 0)?;
        self.archive.append_link(&mut header, path, first)
    }

    /// Adds the extended attributes of the entry that comes next.
    fn attributes(&mut self, looks: &Looks<'_>) -> io::Result<()> {
        if looks.attributes.is_empty() {
            return Ok(());
        }
        let named =
            looks.attributes.iter().map(|(name, value)| (format!("{ATTRIBUTE}{}", name.to_string_lossy()), value));
        let named: Vec<_> = named.collect();
        self.archive.append_pax_extensions(named.iter().map(|(name, value)| (name.as_str(), value.as_slice())))
    }
}

struct Packer<'a, 'w, W: Write> {
    root: &'a Path,
    ids: IdMap,
    times: &'a Times,
    without: &'a BTreeSet<PathBuf>,
    /// The first name of each file that has several.
    links: HashMap<(u64, u64), PathBuf>,
    writer: &'a mut Writer<'w, W>,
}

impl<W: Write> Packer<'_, '_, W> {
    /// Adds something, which is in the archive before all that is in it.
    fn take(&mut self, found: &Found<'_>) -> io::Result<()> {
        let (path, kind) = (found.path, found.kind());
        let parent = path.parent().unwrap_or(Path::new(""));
        if kind == FileType::CharacterDevice && found.stat.st_rdev == 0 {
            let name = [WHITEOUT, found.name.to_bytes()].concat();
            return self.writer.marker(&parent.join(OsStr::from_bytes(&name)), self.times.moment);
        }
        let on_disk = self.root.join(path);
        if !self.without.contains(path) {
            self.entry(found, &on_disk)?;
        }
        if kind == FileType::Directory && is_opaque(&on_disk) {
            self.writer.marker(&path.join(OsStr::from_bytes(WHITEOUT_OPAQUE)), self.times.moment)?;
        }
        if self.times.of(&found.stat).1 {
            let moment = times_of(SystemTime::UNIX_EPOCH + Duration::from_secs(self.times.moment));
            utimensat(found.folder, found.name, &moment, AtFlags::SYMLINK_NOFOLLOW)?;
        }
        Ok(())
    }

    fn entry(&mut self, found: &Found<'_>, on_disk: &Path) -> io::Result<()> {
        let (path, stat, kind) = (found.path, &found.stat, found.kind());
        let (time, _) = self.times.of(stat);
        let has_attributes = matches!(kind, FileType::Directory | FileType::RegularFile);
        let attributes = if has_attributes { attributes::read(on_disk)? } else { Vec::new() };
        let owner = self.ids.to_inside(stat.st_uid, stat.st_gid);
        let looks = Looks { mode: stat.st_mode, owner, time, attributes: &attributes };
        if kind != FileType::Directory && stat.st_nlink > 1 {
            let first = self.links.entry((stat.st_dev, stat.st_ino)).or_insert_with(|| path.to_owned());
            if first != path {
                return self.writer.link(path, &looks, first);
            }
        }
        match kind {
            FileType::Directory => self.writer.folder(path, &looks),
            FileType::Symlink => self.writer.symlink(path, &looks, found.target()?.as_bytes()),
            FileType::RegularFile => self.writer.file(path, &looks, found.length(), &mut found.open()?, |_| ()),
            FileType::Fifo => self.writer.empty(EntryType::Fifo, path, &looks),
            // Sockets live only while somebody listens; other devices cannot have been made inside.
            _ => Ok(()),
        }
    }
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
