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
fn a_read_only_folder_is_shown_with_what_is_mounted_below_it_and_all_of_it_stays_read_only() {
    let place = Place::new();
    if !place.launcher.ids().is_range() {
        eprintln!("an ordinary user mounts nothing on the machine: nothing to see here");
        return;
    }
    let folder = place.folder.path().canonicalize().unwrap();
    for name in ["shown/below/deeper", "one", "other"] {
        fs::create_dir_all(folder.join(name)).unwrap();
    }
    fs::create_dir(folder.join("one/deeper")).unwrap();
    fs::write(folder.join("one/lily"), "lily\n").unwrap();
    fs::write(folder.join("other/petal"), "petal\n").unwrap();
    let _one = Mounted::bind(&folder.join("one"), &folder.join("shown/below"));
    let _other = Mounted::bind(&folder.join("other"), &folder.join("shown/below/deeper"));
    let script = "cd /shown/below && cat lily deeper/petal
        for at in /shown /shown/below /shown/below/deeper; do touch $at/new 2>&1 || true; done
        mount | grep -c ' /shown.*(ro,'";
    let bind = |read_only| Bind { from: folder.join("shown"), to: "/shown".to_owned(), read_only };
    let (exit, said) =
        place.run(&Spec { binds: vec![bind(true)], ..place.spec(&script.replace("grep", "busybox grep")) });
    let refused = |at: &str| format!("touch: {at}/new: Read-only file system\n");
    let expected = ["/shown", "/shown/below", "/shown/below/deeper"].map(refused).concat();
    assert_eq!((exit, said), (pondrix_sandbox::Exit::Status(0), format!("lily\npetal\n{expected}3\n")));
    // A folder that can be written is the folder alone, and the kernel refuses to take it apart.
    let (exit, _) = place.run(&Spec { binds: vec![bind(false)], ..place.spec("true") });
    assert_ne!(exit, pondrix_sandbox::Exit::Status(0));
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
