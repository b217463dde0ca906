//! A layer that is on no disk yet: what is to be in it, and where what is in its files can be read.
//!
//! It is packed as it is. Most layers of copies are only sent on, and never looked into on this machine; who does need
//! the files has them written, or unpacked.

use std::collections::{BTreeMap, HashMap};
use std::ffi::{CString, OsString};
use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, fchown};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_core::image::{Entry, EntryKind};
use pondrix_files::Watch;
use pondrix_sandbox::IdMap;
use rustix::fs::{AtFlags, Mode, OFlags};

use super::attributes;
use super::beneath::{Beneath, Place, times_of};
use super::compress::Compression;
use super::pack::{Looks, Packed, packed};
use crate::inventory::short_hash;

/// A BLAKE3 digest.
pub(crate) type Content = [u8; 32];

/// Which file of the machine, so that several names of one stay that: its device and inode.
pub(crate) type Inode = (u64, u64);

/// What is to be in a layer, by path.
#[derive(Debug, Default)]
pub(crate) struct Tree {
    nodes: BTreeMap<InOrder, (PathBuf, Node)>,
}

/// What paths are sorted by: their bytes, with a zero for each slash, which no name has. That is their order by parts, a
/// folder in front of all that is in it, and comparing it takes a tenth of the time that comparing parts takes.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
struct InOrder(Box<[u8]>);

impl InOrder {
    fn of(path: &Path) -> Self {
        Self(path.as_os_str().as_bytes().iter().map(|byte| if *byte == b'/' { 0 } else { *byte }).collect())
    }
}

/// Something in a layer.
#[derive(Clone, Debug)]
pub(crate) struct Node {
    pub(crate) kind: NodeKind,
    /// Its permissions.
    pub(crate) mode: u32,
    /// Its user and group, inside.
    pub(crate) owner: (u32, u32),
    /// Its time, in seconds since 1970.
    pub(crate) time: u64,
    pub(crate) attributes: Vec<(CString, Vec<u8>)>,
}

/// What it is.
#[derive(Clone, Debug)]
pub(crate) enum NodeKind {
    Folder {
        /// Whether it is only there for what is in it: what it looks like is for the layers below to say
        /// ([`super::left_out`]).
        is_left_out: bool,
    },
    File {
        /// Where what is in it is.
        from: PathBuf,
        length: u64,
        /// What is in it, where that was looked at.
        content: Option<Content>,
        /// Of a file that has several names.
        inode: Option<Inode>,
    },
    Link(OsString),
}

impl Node {
    pub(crate) const fn is_folder(&self) -> bool {
        matches!(self.kind, NodeKind::Folder { .. })
    }

    const fn is_left_out(&self) -> bool {
        matches!(self.kind, NodeKind::Folder { is_left_out: true })
    }

    fn looks(&self) -> Looks<'_> {
        Looks { mode: self.mode, owner: self.owner, time: self.time, attributes: &self.attributes }
    }

    fn moment(&self) -> SystemTime {
        SystemTime::UNIX_EPOCH + Duration::from_secs(self.time)
    }
}

impl Tree {
    /// What is at a path without a slash in front.
    pub(crate) fn get(&self, path: &Path) -> Option<&Node> {
        self.nodes.get(&InOrder::of(path)).map(|(_, node)| node)
    }

    /// Puts something at a path, whose parents are folders of the tree or none.
    pub(crate) fn put(&mut self, path: PathBuf, node: Node) {
        self.nodes.insert(InOrder::of(&path), (path, node));
    }

    /// The folders that are only there for what is in them, sorted; the topmost is one always.
    pub(crate) fn left_out(&self) -> Vec<PathBuf> {
        let left_out = self.nodes().filter(|(_, node)| node.is_left_out()).map(|(path, _)| path.to_owned());
        std::iter::once(PathBuf::new()).chain(left_out).collect()
    }

    /// What is in it, by path.
    pub(crate) fn nodes(&self) -> impl DoubleEndedIterator<Item = (&Path, &Node)> {
        self.nodes.values().map(|(path, node)| (path.as_path(), node))
    }

    /// Packs it. Answers what an inventory says of it, too.
    pub(crate) fn pack(
        &self,
        to: impl Write + Send,
        compression: Compression,
        watch: &Watch,
    ) -> io::Result<(Packed, Vec<Entry>)> {
        packed(to, compression, watch, |writer| {
            let mut listing = Vec::with_capacity(self.nodes.len());
            let mut first_names: HashMap<Inode, &Path> = HashMap::new();
            let mut contents: HashMap<&Path, String> = HashMap::new();
            for (path, node) in self.nodes().filter(|(_, node)| !node.is_left_out()) {
                let looks = node.looks();
                let (kind, size, content) = match &node.kind {
                    NodeKind::Folder { .. } => {
                        writer.folder(path, &looks)?;
                        (EntryKind::Folder, 0, String::new())
                    }
                    NodeKind::Link(target) => {
                        writer.symlink(path, &looks, target.as_bytes())?;
                        (EntryKind::Link, 0, target.to_string_lossy().into_owned())
                    }
                    NodeKind::File { from, length, content, inode } => {
                        let first = inode.map(|inode| *first_names.entry(inode).or_insert(path));
                        let told = match first.filter(|first| *first != path) {
                            Some(first) => {
                                writer.link(path, &looks, first)?;
                                contents.get(first).cloned().unwrap_or_default()
                            }
                            None => {
                                let told = at(from)(pack_file(writer, path, &looks, from, *length, *content))?;
                                if inode.is_some() {
                                    contents.insert(path, told.clone());
                                }
                                told
                            }
                        };
                        (EntryKind::File, *length, told)
                    }
                };
                let path = path.to_string_lossy().into_owned();
                let mode = if kind == EntryKind::Link { 0o777 } else { node.mode & 0o7777 };
                listing.push(Entry { path, kind, mode, owner: node.owner, size, content });
            }
            listing.sort_by(|one, other| one.path.cmp(&other.path));
            Ok(listing)
        })
    }

    /// Writes it into a folder that is there, and holds nothing of it.
    pub(crate) fn write(&self, root: &Path, ids: IdMap, watch: &Watch) -> io::Result<()> {
        let mut inside = Beneath::open(root)?;
        let mut first_names: HashMap<Inode, &Path> = HashMap::new();
        let lost = || io::Error::other("a folder was removed while files were written into it");
        for (path, node) in self.nodes() {
            let folder = inside.folder(path.parent().unwrap_or(Path::new("")))?.ok_or_else(lost)?;
            let place = Place::new(folder, path.file_name().unwrap_or_default());
            let (folder, name) = (&*place.folder, &place.name);
            let (user, group) = node.owner;
            match &node.kind {
                NodeKind::Folder { .. } => {
                    place.make_folder()?;
                    place.give(ids, user, group)?;
                }
                NodeKind::Link(target) => {
                    rustix::fs::symlinkat(target, folder, name)?;
                    place.give(ids, user, group)?;
                    place.set_time(node.moment())?;
                }
                NodeKind::File { from, inode, .. } => {
                    let first = inode.map(|inode| *first_names.entry(inode).or_insert(path));
                    if let Some(first) = first.filter(|first| *first != path) {
                        let of_first = inside.folder(first.parent().unwrap_or(Path::new("")))?.ok_or_else(lost)?;
                        let first_name = first.file_name().unwrap_or_default();
                        rustix::fs::linkat(&*of_first, first_name, folder, name, AtFlags::empty())?;
                        continue;
                    }
                    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                    let mut file = File::from(rustix::fs::openat(folder, name, flags, Mode::RUSR | Mode::WUSR)?);
                    at(from)(File::open(from).and_then(|from| io::copy(&mut watch.reader(from), &mut file)))?;
                    if ids.is_range() {
                        let (user, group) = ids.to_machine(user, group);
                        fchown(&file, Some(user), Some(group))?;
                    }
                    // After the owner, whose change takes rights away.
                    file.set_permissions(PermissionsExt::from_mode(node.mode))?;
                    self.attribute(&place.path(), node, ids)?;
                    rustix::fs::futimens(&file, &times_of(node.moment()))?;
                }
            }
        }
        // What is inside first: the folder around it may be closed to us then, and has another time with each file.
        for (path, node) in self.nodes().rev().filter(|(_, node)| node.is_folder()) {
            let folder = inside.folder(path.parent().unwrap_or(Path::new("")))?.ok_or_else(lost)?;
            let place = Place::new(folder, path.file_name().unwrap_or_default());
            self.attribute(&place.path(), node, ids)?;
            fs::set_permissions(place.path(), PermissionsExt::from_mode(node.mode))?;
            place.set_time(node.moment())?;
        }
        Ok(())
    }

    fn attribute(&self, path: &Path, node: &Node, ids: IdMap) -> io::Result<()> {
        node.attributes.iter().try_for_each(|(name, value)| attributes::write(path, name, value, ids))
    }
}

/// Names the file in what the system said of it.
fn at<T>(path: &Path) -> impl FnOnce(io::Result<T>) -> io::Result<T> {
    move |done| done.map_err(|error| io::Error::new(error.kind(), format!("{}: {error}", path.display())))
}

/// Packs a file. Answers what an inventory says of what is in it.
fn pack_file<W: Write>(
    writer: &mut super::pack::Writer<'_, W>,
    path: &Path,
    looks: &Looks<'_>,
    from: &Path,
    length: u64,
    content: Option<Content>,
) -> io::Result<String> {
    let mut from = File::open(from)?;
    if let Some(content) = content {
        writer.file(path, looks, length, &mut from, |_| ())?;
        return Ok(short_hash(&blake3::Hash::from_bytes(content)));
    }
    let mut hash = blake3::Hasher::new();
    writer.file(path, looks, length, &mut from, |bytes| {
        hash.update(bytes);
    })?;
    Ok(short_hash(&hash.finalize()))
}
