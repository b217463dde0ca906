//! Folders that nobody makes by accident: 100,000 in each other, and as deep as a layer may be.

use std::os::fd::OwnedFd;
use std::time::SystemTime;

use pondrix_files::{DEEPEST, TemporaryFolder};
use rustix::fs::{Mode, OFlags, mkdirat, openat};

use super::*;
use crate::inventory::{Listing, NoInspector};
use crate::layer::tree::Tree;
use crate::{Room, Store};

/// A folder in memory, if this machine has one: a disk needs a minute for 100,000 folders.
fn place() -> TemporaryFolder {
    let memory = Path::new("/dev/shm");
    TemporaryFolder::new_in(if memory.is_dir() { memory } else { Path::new("/tmp") }).unwrap()
}

/// Creates nested folders with a file `lily` of 2 MiB in the innermost one. Returns that folder.
pub(crate) fn nest(top: &Path, depth: usize) -> OwnedFd {
    let handle = OFlags::PATH | OFlags::DIRECTORY;
    let mut current: OwnedFd = rustix::fs::open(top, handle, Mode::empty()).unwrap();
    for _ in 0..depth {
        mkdirat(&current, "bed", Mode::RWXU).unwrap();
        current = openat(&current, "bed", handle, Mode::empty()).unwrap();
    }
    let file = openat(&current, "lily", OFlags::CREATE | OFlags::WRONLY, Mode::RUSR).unwrap();
    fs::File::from(file).write_all(&[7; 2 << 20]).unwrap();
    current
}

fn packed_of(root: &Path) -> io::Result<Packed> {
    let contents = Contents::whole(Times::from_now(MOMENT, Of::All));
    pack(root, io::sink(), ids(), &contents, Compression::Zstd, &pondrix_files::Watch::none())
}

fn listed(root: &Path) -> io::Result<Listing> {
    Listing::of_folder(root, ids(), &pondrix_files::Watch::none(), &NoInspector)
}

#[test]
fn what_is_too_deep_for_a_layer_is_told_and_removed() {
    let place = place();
    let deep = place.path().join("deep");
    fs::create_dir(&deep).unwrap();
    drop(nest(&deep, 100_000));
    let told = "more than 512 nested folders, at bed/bed/";
    assert!(packed_of(&deep).unwrap_err().to_string().starts_with(told));
    assert!(listed(&deep).err().unwrap().to_string().starts_with(told));
    // As a cache that a build mounts, it counts, and goes when there is too much.
    let store = Store::open(&place.path().join("store"), ids()).unwrap();
    let caches = place.path().join("caches");
    fs::create_dir(&caches).unwrap();
    fs::rename(&deep, caches.join("moss")).unwrap();
    let freed = store.limit_caches(std::slice::from_ref(&caches), 1 << 20).unwrap();
    assert!(freed.count == 1 && freed.bytes >= 2 << 20, "{freed:?}");
    assert!(!caches.join("moss").exists());
    // What an earlier process left in the store.
    drop(nest(&place.path().join("store/unfinished"), 100_000));
    store.free_space(Room { limit: u64::MAX, keep_free: Some(0) }, Path::new("/nowhere")).unwrap();
    store.forget_unfinished().unwrap();
    assert_eq!(fs::read_dir(place.path().join("store/unfinished")).unwrap().count(), 0);
}

#[test]
fn a_million_files_in_one_folder_are_packed_and_listed() {
    let place = place();
    let root = place.path().join("root");
    fs::create_dir(&root).unwrap();
    let mut of = PathBuf::new();
    for number in 0..1_000_000_u32 {
        let path = root.join(number.to_string());
        // No file may have more than some 65,000 names.
        if number % 60_000 == 0 {
            fs::write(&path, "lily").unwrap();
            of = path;
        } else {
            fs::hard_link(&of, &path).unwrap();
        }
    }
    assert_eq!(packed_of(&root).unwrap().entries, 1_000_000);
    let listing = listed(&root).unwrap();
    assert!(listing.entries.len() == 1_000_000 && listing.entries.iter().all(|entry| entry.size == 4));
}

#[test]
fn folders_that_a_layer_leaves_out_may_be_as_deep_as_a_layer() {
    let place = place();
    let at = |name: &str| place.path().join(name);
    for name in ["lower/usr", "layer/bin", "into"] {
        fs::create_dir_all(at(name)).unwrap();
    }
    // What the layer has in `/bin` goes to `/usr`, where the link of the lower layer leads.
    symlink("usr", at("lower/bin")).unwrap();
    drop(nest(&at("layer/bin"), DEEPEST - 2));
    let layers = [at("lower"), at("layer")];
    let left_out = [PathBuf::new(), PathBuf::from("bin")];
    assert!(crate::layer::left_out::restore(&layers, &left_out, &at("into"), ids()).unwrap());
    assert_eq!(listed(&at("into/usr")).unwrap().entries.len(), DEEPEST - 1);
}

#[test]
fn what_is_just_not_too_deep_is_packed_unpacked_listed_and_written() {
    let place = place();
    let at = |name: &str| place.path().join(name);
    for name in ["from", "again", "tree"] {
        fs::create_dir(at(name)).unwrap();
    }
    drop(nest(&at("from"), DEEPEST - 1));
    let mut bytes = Vec::new();
    let contents = Contents::whole(Times { since: SystemTime::now(), moment: MOMENT, of: Of::Folders });
    let watch = pondrix_files::Watch::none();
    pack(&at("from"), &mut bytes, ids(), &contents, Compression::Zstd, &watch).unwrap();
    unpack(decompressed(Cursor::new(bytes)).unwrap(), &at("again"), ids()).unwrap();
    assert_eq!(listed(&at("again")).unwrap().entries.len(), DEEPEST);
    let tree: Tree = super::trees::tree_of(&at("from"));
    tree.write(&at("tree"), ids(), &watch).unwrap();
    assert_eq!(listed(&at("tree")).unwrap().entries.len(), DEEPEST);
}
