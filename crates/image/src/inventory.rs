//! What is in an image: its layers with the instructions that made them, the files of each, the packages.

mod rpm;

use std::collections::BTreeMap;
use std::ffi::CString;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::Path;

use pondrix_core::image::packages::{self, Package};
use pondrix_core::image::{Digest, Entry, EntryKind, merge};
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

/// Files that name packages and are longer are not read.
const LONGEST: u64 = 64 << 20;
/// The longest list of packages in a program, unpacked.
const LONGEST_LIST: u64 = 8 << 20;
/// The longest program that is looked into.
const LONGEST_PROGRAM: u64 = 512 << 20;

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
    /// The packages that files tell of, each with the file's place among `entries`.
    packages: Vec<(usize, Vec<Package>)>,
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
    /// Of a tree, which has these entries.
    pub(crate) fn of_tree(tree: &Tree, entries: Vec<Entry>) -> Self {
        let mut packages = Vec::new();
        let mut folders = BTreeMap::new();
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
                    folders.insert(place, FolderLooks { time: node.time, attributes: node.attributes.clone() });
                }
                NodeKind::Link(target) => says_all &= target.to_str().is_some(),
                NodeKind::File { from, .. } => {
                    let mut found = Vec::new();
                    find_packages(&entries[place], from, &mut found);
                    if !found.is_empty() {
                        packages.push((place, found));
                    }
                }
            }
        }
        Self { entries, packages, folders: says_all.then_some(folders) }
    }

    /// Of an unpacked layer.
    pub(crate) fn of_folder(root: &Path, ids: IdMap, watch: &Watch) -> io::Result<Self> {
        let (mut entries, mut buffer) = (Vec::new(), vec![0; 256 * 1024]);
        let mut bounds = Bounds::default();
        walk(root, Order::Any, &pondrix_files::Bounds::KEPT, watch, |found| {
            // Said before any of it is read.
            bounds.admit(found.path, if found.kind() == FileType::RegularFile { found.length() } else { 0 })?;
            entries.push(entry(found, root, ids, watch, &mut buffer)?);
            Ok(())
        })?;
        entries.sort_by(|one, other| one.path.cmp(&other.path));
        let mut packages = Vec::new();
        for (place, entry) in entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
            let mut found = Vec::new();
            find_packages(entry, &root.join(&entry.path), &mut found);
            if !found.is_empty() {
                packages.push((place, found));
            }
        }
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
        if let Some(known) = self.known_list(diff_id) {
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
        let listing = Listing::of_folder(&self.layer_path(diff_id), self.ids(), self.watch()).map_err(told)?;
        self.keep_listing(diff_id, &listing)?;
        Ok(listing)
    }

    /// The packages of an image, each once, by kind, name and version. They are remembered.
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
        let found = self.find_packages(image)?;
        self.keep_list(&name, &found)?;
        Ok(found)
    }

    fn find_packages(&self, image: &Image) -> Result<Vec<Package>, StoreError> {
        let listings = image.config.rootfs.diff_ids.iter().map(|diff_id| self.listing_of(image, diff_id));
        let listings = listings.collect::<Result<Vec<_>, StoreError>>()?;
        let files = merge(listings.iter().map(|listing| listing.entries.as_slice()));
        let mut found = Vec::new();
        for listing in &listings {
            for (place, packages) in &listing.packages {
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
        Ok(found)
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

/// Adds the packages that a file tells of, which is on the disk there.
fn find_packages(entry: &Entry, on_disk: &Path, found: &mut Vec<Package>) {
    let path = entry.path.as_str();
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let parent = folder.rsplit('/').next().unwrap_or_default();
    let text = || {
        let bytes = (entry.size < LONGEST).then(|| fs::read(on_disk).ok())??;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    };
    match name {
        "status" if folder == "var/lib/dpkg" => {
            found.extend(text().map(|text| packages::debian(&text)).unwrap_or_default())
        }
        _ if folder == "var/lib/dpkg/status.d" => {
            found.extend(text().map(|text| packages::debian(&text)).unwrap_or_default());
        }
        "installed" if folder.ends_with("lib/apk/db") => {
            found.extend(text().map(|text| packages::alpine(&text)).unwrap_or_default());
        }
        // rpm changed the form of its database twice, and its place.
        "rpmdb.sqlite" | "Packages" | "Packages.db" if parent == "rpm" => {
            found.extend(rpm::packages(on_disk).unwrap_or_default());
        }
        "METADATA" if parent.ends_with(".dist-info") => found.extend(text().and_then(|text| packages::python(&text))),
        "PKG-INFO" if parent.ends_with(".egg-info") => found.extend(text().and_then(|text| packages::python(&text))),
        "package.json" if is_node_package(folder) => found.extend(text().and_then(|text| packages::npm(&text))),
        "Cargo.lock" => found.extend(text().map(|text| packages::cargo_lock(&text)).unwrap_or_default()),
        _ if entry.mode & 0o111 != 0 && entry.size < LONGEST_PROGRAM => {
            found.extend(program(on_disk).unwrap_or_default());
        }
        _ => {}
    }
}

/// Whether this is the folder of a package in `node_modules`: `NAME`, or `@SCOPE/NAME`.
fn is_node_package(folder: &str) -> bool {
    let Some((_, name)) = folder.rsplit_once("node_modules/") else { return false };
    let slashes = name.matches('/').count();
    slashes == 0 || (slashes == 1 && name.starts_with('@'))
}

/// The packages that a program was built of, where it says so: the section `.dep-v0` of a 64-bit ELF file
/// (elf(5)), compressed (RFC 1950).
fn program(path: &Path) -> Option<Vec<Package>> {
    use std::os::unix::fs::FileExt;
    let file = File::open(path).ok()?;
    let read = |at: u64, length: usize| {
        let mut bytes = vec![0; length];
        file.read_exact_at(&mut bytes, at).ok().map(|()| bytes)
    };
    let header = read(0, 64)?;
    if !header.starts_with(b"\x7fELF\x02\x01") {
        return None;
    }
    let number = |bytes: &[u8], at: usize, length: usize| {
        let field = bytes.get(at..at + length)?;
        Some(field.iter().rev().fold(0_u64, |number, byte| number << 8 | u64::from(*byte)))
    };
    let (table, size, count, names) =
        (number(&header, 40, 8)?, number(&header, 58, 2)?, number(&header, 60, 2)?, number(&header, 62, 2)?);
    let section = |place: u64| read(table.checked_add(place * size)?, usize::try_from(size).ok()?);
    let names = section(names)?;
    let (names_at, names_length) = (number(&names, 24, 8)?, number(&names, 32, 8)?);
    let names = read(names_at, usize::try_from(names_length.min(1 << 20)).ok()?)?;
    for place in 0..count {
        let section = section(place)?;
        let name = names.get(usize::try_from(number(&section, 0, 4)?).ok()?..)?;
        if !name.starts_with(b".dep-v0\0") {
            continue;
        }
        let (at, length) = (number(&section, 24, 8)?, number(&section, 32, 8)?);
        let packed = read(at, usize::try_from(length.min(LONGEST_LIST)).ok()?)?;
        let mut json = Vec::new();
        flate2::read::ZlibDecoder::new(&packed[..]).take(LONGEST_LIST).read_to_end(&mut json).ok()?;
        return Some(packages::cargo_program(&json));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest_of;

    #[test]
    fn a_layer_is_listed_once_and_its_packages_are_found_where_installers_write_them() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), IdMap::for_this_process()).unwrap();
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
        let packages = store.known_listing(&diff_id).unwrap().packages;
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
