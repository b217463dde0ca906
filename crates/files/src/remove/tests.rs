use std::fs::{self, Permissions};
use std::os::unix::fs::{PermissionsExt, symlink};

use super::*;
use crate::TemporaryFolder;

/// A temporary folder in memory, if possible: a disk needs half a minute for a million files.
pub(crate) fn place() -> TemporaryFolder {
    let memory = PathBuf::from("/dev/shm");
    TemporaryFolder::new_in(if memory.is_dir() { &memory } else { Path::new("/tmp") }).unwrap()
}

/// Creates nested folders. Each contains a file `lily` and the next folder.
pub(crate) fn nest(top: &Path, depth: usize) {
    let mut current = rustix::fs::open(top, OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
    for _ in 0..depth {
        rustix::fs::mkdirat(&current, "bed", Mode::RWXU).unwrap();
        let file = OFlags::CREATE | OFlags::WRONLY;
        drop(rustix::fs::openat(&current, "lily", file, Mode::RUSR).unwrap());
        current = rustix::fs::openat(&current, "bed", OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
    }
}

/// Runs something on a thread with little stack, as few descriptors as a whole process may have at the least.
fn on_small_stack(act: impl FnOnce() + Send + 'static) {
    std::thread::Builder::new().stack_size(96 << 10).spawn(act).unwrap().join().unwrap();
}

fn open_descriptors() -> usize {
    fs::read_dir("/proc/self/fd").unwrap().count()
}

#[test]
fn a_hundred_thousand_folders_in_each_other_go_with_little_stack() {
    let place = place();
    let top = place.path().join("top");
    fs::create_dir(&top).unwrap();
    nest(&top, 100_000);
    let (before, gone) = (open_descriptors(), top.clone());
    on_small_stack(move || remove(&gone).unwrap());
    assert!(!top.exists());
    assert!(open_descriptors() <= before + OPEN_AT_ONCE, "none stays open");
}

#[test]
fn a_million_files_in_one_folder_go() {
    let place = place();
    let top = place.path().join("top");
    fs::create_dir(&top).unwrap();
    // Names of one file: what counts is how many there are.
    let first = top.join("first");
    fs::write(&first, "").unwrap();
    let mut of = first.clone();
    for number in 0..1_000_000_u32 {
        // No file may have more names than some 65,000.
        if number % 60_000 == 0 {
            of = top.join(format!("next-{number}"));
            fs::write(&of, "").unwrap();
        }
        fs::hard_link(&of, top.join(number.to_string())).unwrap();
    }
    on_small_stack(move || remove(&top).unwrap());
    assert_eq!(fs::read_dir(place.path()).unwrap().count(), 0);
}

#[test]
fn links_go_and_not_what_they_lead_to() {
    let place = place();
    let (top, kept) = (place.path().join("top"), place.path().join("kept"));
    fs::create_dir_all(top.join("a")).unwrap();
    fs::create_dir(&kept).unwrap();
    fs::write(kept.join("file"), "").unwrap();
    symlink(&kept, top.join("a/way")).unwrap();
    symlink("..", top.join("a/up")).unwrap();
    let link = place.path().join("link");
    symlink(&kept, &link).unwrap();
    remove(&link).unwrap();
    remove(&top).unwrap();
    assert!(kept.join("file").exists() && !top.exists() && fs::symlink_metadata(&link).is_err());
    assert_eq!(remove(&top).unwrap_err().kind(), io::ErrorKind::NotFound);
}

#[test]
fn folders_that_their_owner_may_not_change_go_and_names_that_are_taken_are_no_obstacle() {
    let place = place();
    let top = place.path().join("top");
    fs::create_dir(&top).unwrap();
    nest(&top, 3 * OPEN_AT_ONCE);
    // The names of moved folders exist: as a file, a full folder and an empty folder.
    fs::write(top.join("moved-up-1"), "").unwrap();
    fs::create_dir_all(top.join("moved-up-2/full")).unwrap();
    fs::create_dir(top.join("moved-up-3")).unwrap();
    let mut folder = top.clone();
    for mode in [0o000, 0o555, 0o100].iter().cycle().take(2 * OPEN_AT_ONCE) {
        folder.push("bed");
        fs::set_permissions(&folder, Permissions::from_mode(0o700 | mode)).unwrap();
    }
    let all: Vec<PathBuf> = folder.ancestors().take(2 * OPEN_AT_ONCE).map(Path::to_owned).collect();
    for (folder, mode) in all.iter().zip([0o000, 0o555, 0o100].iter().cycle()) {
        fs::set_permissions(folder, Permissions::from_mode(*mode)).unwrap();
    }
    remove(&top).unwrap();
    assert!(!top.exists());
}

#[test]
fn what_is_moved_aside_leaves_its_place_free() {
    let place = place();
    let folder = place.path().join("jobs");
    fs::create_dir_all(folder.join("a/b")).unwrap();
    let aside = move_aside(&folder, place.path()).unwrap();
    assert!(!folder.exists() && aside.join("a/b").is_dir());
}
