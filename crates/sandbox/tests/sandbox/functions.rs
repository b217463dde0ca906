//! Functions of this program in place of commands.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use pondrix_sandbox::{Bind, Exit, Rootfs, Spec};

use crate::place::{Place, as_root_and_as_user};

/// A function, with nothing in its root file system but the files that it may read.
fn spec(place: &Place, words: &[&str]) -> Spec {
    let files = Bind { from: place.path("files"), to: "/files".to_owned(), read_only: true };
    Spec {
        argv: words.iter().map(|word| (*word).to_owned()).collect(),
        is_function: true,
        binds: vec![files],
        ..Spec::new(Rootfs::new(Vec::new(), place.path("root")))
    }
}

#[test]
fn a_function_reads_what_it_is_shown_and_does_nothing_else() {
    as_root_and_as_user("functions::a_function_reads_what_it_is_shown_and_does_nothing_else", |place| {
        let files = place.path("files");
        fs::create_dir(&files).unwrap();
        fs::write(files.join("closed"), "water lily\n").unwrap();
        fs::set_permissions(files.join("closed"), PermissionsExt::from_mode(0o000)).unwrap();
        symlink("/etc/hostname", files.join("link")).unwrap();
        place.launcher.ids().give(&files.join("closed"), 0, 0).unwrap();
        place.launcher.ids().give(&files, 0, 0).unwrap();
        let words = ["look", "/files/closed", "/files/link", "/proc/self/status"];
        let (exit, said) = place.run(&spec(place, &words));
        let (capability, filter) = ("CapEff:\t0000000000000002", "Seccomp:\t2");
        let status = format!("/proc/self/status: {capability} {filter}\n");
        let expected = format!(
            "/files/closed: water lily\n/files/link: No such file or directory (os error 2)\n{status}3 open, write: false\n"
        );
        assert_eq!((exit, said), (Exit::Status(0), expected));
        let (exit, _) = place.run(&spec(place, &["look"]));
        assert_eq!(exit, Exit::Status(1), "its answer is its status");
        let (exit, said) = place.run(&spec(place, &["break"]));
        assert!(exit == Exit::Status(101) && said.contains("it broke"), "{exit:?} {said}");
        let (exit, said) = place.run(&spec(place, &["take"]));
        assert!(exit == Exit::Signal(6) && said.contains("memory allocation of "), "{exit:?} {said}");
        let (exit, _) = place.run(&spec(place, &["never"]));
        assert!(matches!(&exit, Exit::Failed(words) if words == "this program has no such function"), "{exit:?}");
    });
}
