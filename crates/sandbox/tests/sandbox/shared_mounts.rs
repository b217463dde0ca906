//! Mounts of a sandbox stay in it on a machine whose mounts are shared, as systemd makes them.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};

use pondrix_sandbox::{Bind, Places, Spec};
use rustix::mount::{MountPropagationFlags, UnmountFlags, mount_bind, mount_change, unmount};

use crate::place::Place;

/// A mount of this machine, until it is dropped.
struct Mounted(PathBuf);

impl Mounted {
    fn bind(from: &Path, at: &Path) -> Self {
        mount_bind(from, at).unwrap();
        Self(at.to_owned())
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // Also what the test is about: a second mount at the same place.
        while unmount(&self.0, UnmountFlags::DETACH).is_ok() {}
    }
}

#[test]
fn files_under_the_ids_of_a_place_are_shown_in_its_sandbox_only_on_a_machine_with_shared_mounts() {
    let place = Place::new();
    if !place.launcher.ids().is_range() {
        eprintln!("an ordinary user mounts nothing on the machine: nothing to see here");
        return;
    }
    let folder = place.folder.path().canonicalize().unwrap();
    let _whole = Mounted::bind(&folder, &folder);
    mount_change(&folder, MountPropagationFlags::SHARED).unwrap();
    for name in ["files", "bounded"] {
        fs::create_dir(folder.join(name)).unwrap();
        place.launcher.ids().give(&folder.join(name), 0, 0).unwrap();
    }
    let bounded = folder.join("bounded");
    let _inner = Mounted::bind(&folder.join("files"), &bounded);
    let mounts = || {
        let all = fs::read_to_string("/proc/self/mountinfo").unwrap();
        all.lines().filter(|line| line.contains(folder.to_str().unwrap())).map(str::to_owned).collect::<Vec<_>>()
    };
    let before = mounts();
    let places = Places::take(1).unwrap();
    let launcher = place.launcher.apart(places.ids[0], folder.clone()).with_mount(bounded.clone());
    let bind = Bind { from: bounded.clone(), to: "/bounded".to_owned(), read_only: false };
    let (reader, writer) = std::io::pipe().unwrap();
    let spec = Spec { binds: vec![bind], ..place.spec("echo made > /bounded/file && cat /bounded/file; sleep 600") };
    let running = launcher.start(&spec, writer.into()).unwrap();
    assert_eq!(BufReader::new(reader).lines().next().unwrap().unwrap(), "made");
    assert_eq!(mounts(), before, "while it runs");
    drop(running);
    assert_eq!(mounts(), before, "after it");
}
