//! What is in an image: its layers with the instructions that made them, the files of each, the packages.

mod inspect;
mod rpm;
mod tells;

use std::collections::BTreeMap;
use std::ffi::CString;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use pondrix_core::image::{Digest, Entry, EntryKind, Package, merge};
use pondrix_files::{Found, Order, Watch, walk};
use pondrix_sandbox::IdMap;
use rustix::fs::FileType;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::hash::Sha256;
use crate::layer::bounds::Bounds;
use crate::layer::pack::is_opaque;
use crate::layer::tree::{NodeKind, Tree};
use crate::store::{io_error, mark_used};
use crate::{Image, Store, StoreError};

pub use inspect::{FUNCTIONS, Inspector, InspectorHere, NoInspector, Request, Told, read_told};

/// Changes when other packages would be found in the same files.
const PACKAGES: &[u8] = b"packages 1";

/// A layer of an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LayerFacts {
    /// The digest of its blob.
    pub digest: Digest,
    /// The digest of its uncompressed bytes.
    pub diff_id: Digest,
    /// How long its blob is.
    pub size: u64,
    /// The instruction that made it, where the image says.
    pub made_by: String,
}

/// The layers of an image, the lowest first.
#[must_use]
pub fn layers(image: &Image) -> Vec<LayerFacts> {
    let mut made_by = image.config.history.iter().filter(|made| !made.empty_layer);
    let pairs = image.manifest.layers.iter().zip(&image.config.rootfs.diff_ids);
    let facts = pairs.map(|(blob, diff_id)| LayerFacts {
        digest: blob.digest.clone(),
        diff_id: diff_id.clone(),
        size: blob.size,
        made_by: made_by.next().and_then(|made| made.created_by.clone()).unwrap_or_default(),
    });
    facts.collect()
}

/// What is known of a layer without looking at its files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Listing {
    /// Its files, by path.
    pub(crate) entries: Vec<Entry>,
    /// The packages of files, with the index of the file in `entries`. `None` if they could not be read.
    packages: Option<Vec<(usize, Vec<Package>)>>,
    /// What else folders look like, by their places; nothing where that is not known, or where the layer has something
    /// that a listing cannot say.
    folders: Option<BTreeMap<usize, FolderLooks>>,
}

/// What a folder looks like, beside its permissions and owner.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FolderLooks {
    /// Its time, in seconds since 1970.
    pub(crate) time: u64,
    pub(crate) attributes: Vec<(CString, Vec<u8>)>,
}

impl Listing {
    /// The listing of a tree with these entries. `folders` contain its files.
    pub(crate) fn of_tree(tree: &Tree, entries: Vec<Entry>, folders: &[PathBuf], inspector: &dyn Inspector) -> Self {
        let mut request = Request::new(folders);
        let mut looks = BTreeMap::new();
        // Names that are no text cannot be told; and what is in a folder that is left out may be shown elsewhere.
        let mut says_all = true;
        for (path, node) in tree.nodes() {
            let place =
                path.to_str().and_then(|path| entries.binary_search_by(|entry| entry.path.as_str().cmp(path)).ok());
            let Some(place) = place else {
                says_all = false;
                continue;
            };
            match &node.kind {
                NodeKind::Folder { .. } => {
                    looks.insert(place, FolderLooks { time: node.time, attributes: node.attributes.clone() });
                }
                NodeKind::Link(target) => says_all &= target.to_str().is_some(),
                NodeKind::File { from, .. } => request.add(place, &entries[place], from),
            }
        }
        let packages = request.told_by(inspector);
        Self { entries, packages, folders: says_all.then_some(looks) }
    }

    /// Of an unpacked layer.
    pub(crate) fn of_folder(root: &Path, ids: IdMap, watch: &Watch, inspector: &dyn Inspector) -> io::Result<Self> {
        let (mut entries, mut buffer) = (Vec::new(), vec![0; 256 * 1024]);
        let mut bounds = Bounds::default();
        walk(root, Order::Any, &pondrix_files::Bounds::KEPT, watch, |found| {
            // Said before any of it is read.
            bounds.admit(found.path, if found.kind() == FileType::RegularFile { found.length() } else { 0 })?;
            entries.push(entry(found, root, ids, watch, &mut buffer)?);
            Ok(())
        })?;
        entries.sort_by(|one, other| one.path.cmp(&other.path));
        let mut request = Request::new(&[root.to_owned()]);
        for (place, entry) in entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
            watch.check()?;
            request.add(place, entry, &root.join(&entry.path));
        }
        let packages = request.told_by(inspector);
        Ok(Self { entries, packages, folders: None })
    }

    /// Whether it says all that is to be known of its layer but what is in files.
    pub(crate) const fn says_all(&self) -> bool {
        self.folders.is_some()
    }

    /// What is at a path without a slash in front; with what else it looks like, of a folder.
    pub(crate) fn find(&self, path: &str) -> Option<(&Entry, Option<&FolderLooks>)> {
        let place = self.entries.binary_search_by(|entry| entry.path.as_str().cmp(path)).ok()?;
        Some((&self.entries[place], self.folders.as_ref().and_then(|folders| folders.get(&place))))
    }
}

impl Store {
    /// The files of a layer of an image, by path. They are remembered.
    ///
    /// # Errors
    /// When the image has no such layer, or it cannot be read.
    pub fn listing(&self, image: &Image, diff_id: &Digest) -> Result<Vec<Entry>, StoreError> {
        Ok(self.listing_of(image, diff_id)?.entries)
    }

    /// The files of a layer that is remembered, or unpacked.
    pub(crate) fn listing_here(&self, diff_id: &Digest) -> Result<Vec<Entry>, StoreError> {
        match self.known_listing(diff_id) {
            Some(known) => Ok(known.entries),
            None => self.list(diff_id).map(|listing| listing.entries),
        }
    }

    fn listing_of(&self, image: &Image, diff_id: &Digest) -> Result<Listing, StoreError> {
        // One whose packages could not be told is looked at once more.
        if let Some(known) = self.known_list::<Listing>(diff_id).filter(|known| known.packages.is_some()) {
            return Ok(known);
        }
        let mut pairs = image.manifest.layers.iter().zip(&image.config.rootfs.diff_ids);
        let layer = pairs.find(|(_, other)| *other == diff_id).map(|(blob, _)| blob);
        let missing = || io::Error::new(io::ErrorKind::NotFound, "the image has no such layer");
        let layer = layer.ok_or_else(missing).map_err(io_error(format!("list layer {}", diff_id.short())))?;
        self.unpack_layer(layer, diff_id)?;
        self.list(diff_id)
    }

    /// What is remembered of a layer.
    pub(crate) fn known_listing(&self, diff_id: &Digest) -> Option<Listing> {
        self.known_list(diff_id)
    }

    /// Remembers what is in a layer.
    pub(crate) fn keep_listing(&self, diff_id: &Digest, listing: &Listing) -> Result<(), StoreError> {
        self.keep_list(diff_id, listing)
    }

    fn known_list<T: DeserializeOwned>(&self, name: &Digest) -> Option<T> {
        let known = self.listing_path(name);
        let json = zstd::decode_all(&fs::read(&known).ok()?[..]).ok()?;
        let list = serde_json::from_slice(&json).ok()?;
        mark_used(&known);
        Some(list)
    }

    fn keep_list(&self, name: &Digest, list: &impl Serialize) -> Result<(), StoreError> {
        let told = || io_error(format!("list what is in {}", name.short()));
        let json = serde_json::to_vec(list).map_err(|error| told()(error.into()))?;
        let bytes = zstd::encode_all(&json[..], 1).map_err(told())?;
        let file = self.unfinished_file()?;
        fs::write(file.path(), bytes).map_err(told())?;
        file.persist(self.listing_path(name)).map_err(|error| told()(error.error))?;
        Ok(())
    }

    /// Looks at an unpacked layer.
    fn list(&self, diff_id: &Digest) -> Result<Listing, StoreError> {
        let told = io_error(format!("list layer {}", diff_id.short()));
        let listing =
            Listing::of_folder(&self.layer_path(diff_id), self.ids(), self.watch(), self.inspector()).map_err(told)?;
        self.keep_listing(diff_id, &listing)?;
        Ok(listing)
    }

    /// The packages of an image, each once, by kind, name and version. They are remembered, where all could be told.
    ///
    /// # Errors
    /// When its layers cannot be read.
    pub fn packages(&self, image: &Image) -> Result<Vec<Package>, StoreError> {
        let mut name = Sha256::new();
        name.update(PACKAGES);
        image.config.rootfs.diff_ids.iter().for_each(|diff_id| name.update(&diff_id.bytes()));
        let name = name.digest();
        if let Some(known) = self.known_list(&name) {
            return Ok(known);
        }
        let (found, are_all) = self.find_packages(image)?;
        if are_all {
            self.keep_list(&name, &found)?;
        }
        Ok(found)
    }

    /// The packages of an image, and whether they are all.
    fn find_packages(&self, image: &Image) -> Result<(Vec<Package>, bool), StoreError> {
        let listings = image.config.rootfs.diff_ids.iter().map(|diff_id| self.listing_of(image, diff_id));
        let listings = listings.collect::<Result<Vec<_>, StoreError>>()?;
        let files = merge(listings.iter().map(|listing| listing.entries.as_slice()));
        let mut found = Vec::new();
        for listing in &listings {
            for (place, packages) in listing.packages.iter().flatten() {
                // A layer above may have removed the file, or have another there.
                let entry = listing.entries.get(*place);
                let is_shown =
                    |entry: &Entry| files.get(entry.path.as_str()).is_some_and(|shown| std::ptr::eq(*shown, entry));
                if entry.is_some_and(is_shown) {
                    found.extend(packages.iter().cloned());
                }
            }
        }
        found.sort();
        found.dedup();
        Ok((found, listings.iter().all(|listing| listing.packages.is_some())))
    }
}

/// What a listing says of something in a layer.
fn entry(found: &Found<'_>, root: &Path, ids: IdMap, watch: &Watch, buffer: &mut [u8]) -> io::Result<Entry> {
    let stat = &found.stat;
    let entry = Entry {
        path: found.path.to_string_lossy().into_owned(),
        kind: EntryKind::Pipe,
        mode: stat.st_mode & 0o7777,
        owner: ids.to_inside(stat.st_uid, stat.st_gid),
        size: 0,
        content: String::new(),
    };
    Ok(match found.kind() {
        FileType::CharacterDevice if stat.st_rdev == 0 => {
            Entry { kind: EntryKind::Removed, mode: 0, owner: (0, 0), ..entry }
        }
        FileType::Directory if is_opaque(&root.join(found.path)) => Entry { kind: EntryKind::Cover, ..entry },
        FileType::Directory => Entry { kind: EntryKind::Folder, ..entry },
        FileType::Symlink => {
            Entry { kind: EntryKind::Link, content: found.target()?.to_string_lossy().into_owned(), ..entry }
        }
        FileType::RegularFile => {
            let content = short_hash(&hash_of(watch.reader(found.open()?), buffer)?);
            Entry { kind: EntryKind::File, size: found.length(), content, ..entry }
        }
        _ => entry,
    })
}

/// Half of a file's BLAKE3, in hexadecimal digits: enough to tell two files apart.
pub(crate) fn short_hash(hash: &blake3::Hash) -> String {
    hash.to_hex()[..32].to_owned()
}

fn hash_of(mut file: impl Read, buffer: &mut [u8]) -> io::Result<blake3::Hash> {
    let mut hash = blake3::Hasher::new();
    loop {
        match file.read(buffer)? {
            0 => return Ok(hash.finalize()),
            count => {
                hash.update(&buffer[..count]);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest_of;

    #[test]
    fn a_layer_is_listed_once_and_its_packages_are_found_where_installers_write_them() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), IdMap::for_this_process())
            .unwrap()
            .inspected_by(std::sync::Arc::new(InspectorHere));
        let diff_id = digest_of(b"a layer");
        let root = store.layer_path(&diff_id);
        let write = |path: &str, text: &str| {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write("var/lib/dpkg/status", "Package: libc6\nStatus: install ok installed\nVersion: 2\n");
        write("lib/apk/db/installed", "P:musl\nV:1\n");
        write("usr/lib/python3/site-packages/idna-3.dist-info/METADATA", "Name: idna\nVersion: 3\n");
        write("app/node_modules/lily/package.json", r#"{"name":"lily","version":"1"}"#);
        write("app/node_modules/@garden/bed/package.json", r#"{"name":"@garden/bed","version":"2"}"#);
        write("app/node_modules/lily/sub/package.json", r#"{"name":"not","version":"1"}"#);
        write("app/Cargo.lock", "[[package]]\nname = \"serde\"\nversion = \"1\"\nsource = \"r\"\n");
        write("etc/motd", "hello");
        fs::create_dir_all(root.join("var/lib/rpm")).unwrap();
        let rpm = rusqlite::Connection::open(root.join("var/lib/rpm/rpmdb.sqlite")).unwrap();
        rpm.execute_batch("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY, blob BLOB NOT NULL)").unwrap();
        let mut header: Vec<u8> = [3_u32, 12].iter().flat_map(|number| number.to_be_bytes()).collect();
        for (tag, offset) in [(1000_u32, 0_u32), (1001, 5), (1002, 9)] {
            header.extend([tag, 6, offset, 1].iter().flat_map(|number| number.to_be_bytes()));
        }
        header.extend(b"bash\x005.2\x003\x00");
        rpm.execute("INSERT INTO Packages (blob) VALUES (?1)", [header]).unwrap();
        drop(rpm);

        let listing = store.list(&diff_id).unwrap().entries;
        let motd = listing.iter().find(|entry| entry.path == "etc/motd").unwrap();
        assert_eq!((motd.kind, motd.size, motd.content.len()), (EntryKind::File, 5, 32));
        let packages = store.known_listing(&diff_id).unwrap().packages.unwrap();
        let mut found: Vec<_> = packages.into_iter().flat_map(|(_, packages)| packages).collect();
        found.sort();
        let told: Vec<_> = found.iter().map(|one| format!("{} {} {}", one.kind, one.name, one.version)).collect();
        assert_eq!(
            told,
            [
                "debian libc6 2",
                "alpine musl 1",
                "rpm bash 5.2-3",
                "python idna 3",
                "npm @garden/bed 2",
                "npm lily 1",
                "cargo serde 1"
            ]
        );
        // What was listed once is not read again.
        fs::remove_dir_all(&root).unwrap();
        assert_eq!(store.known_listing(&diff_id).unwrap().entries, listing);
    }
}
