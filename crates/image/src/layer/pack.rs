//! From folder to archive, the same bytes for the same tree.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::ffi::{CString, OsStr, OsString};
use std::fs::{self, File, Metadata};
use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;
use pondrix_sandbox::IdMap;
use tar::{Builder, EntryType, Header};

use super::beneath::set_time;
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
    let (packed, ()) = packed(to, compression, |writer| {
        let (times, without) = (&contents.times, &contents.without);
        let mut packer = Packer { root, ids, times, without, links: HashMap::new(), writer };
        packer.folder(Path::new(""))
    })?;
    Ok(packed)
}

/// Packs what `fill` writes. Answers what `fill` answers, too.
pub(super) fn packed<T>(
    to: impl Write + Send,
    compression: Compression,
    fill: impl FnOnce(&mut Writer<Hashing<&mut Blocks>>) -> io::Result<T>,
) -> io::Result<(Packed, T)> {
    let fill = |blocks: &mut Blocks| {
        let mut archive = Builder::new(Hashing::new(blocks));
        archive.sparse(false);
        let mut writer = Writer { archive, entries: 0, buffer: vec![0; PIECE] };
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
pub(super) struct Writer<W: Write> {
    archive: Builder<W>,
    entries: u64,
    buffer: Vec<u8>,
}

impl<W: Write> Writer<W> {
    fn header(&mut self, kind: EntryType, looks: &Looks<'_>) -> Header {
        self.entries += 1;
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(looks.mode & 0o7777);
        header.set_uid(looks.owner.0.into());
        header.set_gid(looks.owner.1.into());
        header.set_mtime(looks.time);
        header.set_size(0);
        header
    }

    /// Something that has no content.
    fn empty(&mut self, kind: EntryType, path: &Path, looks: &Looks<'_>) -> io::Result<()> {
        let mut header = self.header(kind, looks);
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
        let mut header = self.header(EntryType::Regular, looks);
        header.set_size(length);
        self.attributes(looks)?;
        // What is in it follows by larger pieces than the library would read.
        self.archive.append_data(&mut header, path, io::empty())?;
        let to = self.archive.get_mut();
        let mut left = length;
        while left > 0 {
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
        let mut header = self.header(EntryType::Symlink, &Looks { mode: 0o777, ..*looks });
        if header.set_link_name_literal(target).is_err() {
            self.archive.append_pax_extensions([("linkpath", target)])?;
        }
        self.archive.append_data(&mut header, path, io::empty())
    }

    /// A further name of a file.
    pub(super) fn link(&mut self, path: &Path, looks: &Looks<'_>, first: &Path) -> io::Result<()> {
        let mut header = self.header(EntryType::Link, looks);
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

struct Packer<'a, W: Write> {
    root: &'a Path,
    ids: IdMap,
    times: &'a Times,
    without: &'a BTreeSet<PathBuf>,
    /// The first name of each file that has several.
    links: HashMap<(u64, u64), PathBuf>,
    writer: &'a mut Writer<W>,
}

impl<W: Write> Packer<'_, W> {
    fn folder(&mut self, relative: &Path) -> io::Result<()> {
        let folder = self.root.join(relative);
        let opaque = is_opaque(&folder);
        let mut names: Vec<OsString> =
            fs::read_dir(&folder)?.map(|e| e.map(|e| e.file_name())).collect::<Result<_, _>>()?;
        names.sort();
        if opaque {
            self.writer.marker(&relative.join(OsStr::from_bytes(WHITEOUT_OPAQUE)), self.times.moment)?;
        }
        for name in names {
            let path = relative.join(&name);
            let on_disk = self.root.join(&path);
            let data = fs::symlink_metadata(&on_disk)?;
            if is_whiteout(&data) {
                let name = [WHITEOUT, name.as_bytes()].concat();
                self.writer.marker(&relative.join(OsStr::from_bytes(&name)), self.times.moment)?;
                continue;
            }
            if !self.without.contains(&path) {
                self.entry(&path, &on_disk, &data)?;
            }
            if data.is_dir() {
                self.folder(&path)?;
            }
            if self.times.of(&data)?.1 {
                set_time(&on_disk, SystemTime::UNIX_EPOCH + Duration::from_secs(self.times.moment))?;
            }
        }
        Ok(())
    }

    fn entry(&mut self, path: &Path, on_disk: &Path, data: &Metadata) -> io::Result<()> {
        let kind = data.file_type();
        let (time, _) = self.times.of(data)?;
        let attributes = if kind.is_dir() || kind.is_file() { attributes::read(on_disk)? } else { Vec::new() };
        let owner = self.ids.to_inside(data.uid(), data.gid());
        let looks = Looks { mode: data.mode(), owner, time, attributes: &attributes };
        if !kind.is_dir() && data.nlink() > 1 {
            let first = self.links.entry((data.dev(), data.ino())).or_insert_with(|| path.to_owned());
            if first != path {
                return self.writer.link(path, &looks, first);
            }
        }
        if kind.is_dir() {
            self.writer.folder(path, &looks)
        } else if kind.is_symlink() {
            self.writer.symlink(path, &looks, fs::read_link(on_disk)?.as_os_str().as_bytes())
        } else if kind.is_file() {
            self.writer.file(path, &looks, data.len(), &mut File::open(on_disk)?, |_| ())
        } else if kind.is_fifo() {
            self.writer.empty(EntryType::Fifo, path, &looks)
        } else {
            // Sockets live only while somebody listens; other devices cannot have been made inside.
            Ok(())
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
