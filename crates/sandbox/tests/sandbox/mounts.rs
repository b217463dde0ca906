//! No mount, wherever an image, a recipe or a job has it placed, shows, creates or changes anything of the machine.
//!
//! Each kind of mount is tried at each kind of place: in an image that has links, magic links, files and folders where the
//! mount is to be, after a job has replaced what is there, and while another process replaces it. Beside the root file
//! system lies a folder of the machine with a word in it; nothing inside may read that word, and the folder stays as it is.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::io::Read;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::place::{Place, as_root_and_as_user, walk};
use pondrix_sandbox::{Bind, EmptyFolder, Exit, MemoryFolder, Rootfs, SCRIPT_AT, SecretFile, Spec, View};
use proptest::prelude::{Just, ProptestConfig, Strategy, any};
use proptest::{collection, prop_oneof};

/// The word in the machine's folder.
const WORD: &str = "a word of the machine";
/// What is in what is mounted.
const SHOWN: &str = "a word that is shown";
/// The numbers of descriptors that a sandbox may have open while it is made.
const DESCRIPTORS: std::ops::Range<u32> = 3..48;

/// A kind of mount.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    ReadOnlyFolder,
    Folder,
    File,
    View,
    ViewOfSeveral,
    ChangedView,
    Empty,
    Memory,
    Secret,
}

const KINDS: [Kind; 9] = [
    Kind::ReadOnlyFolder,
    Kind::Folder,
    Kind::File,
    Kind::View,
    Kind::ViewOfSeveral,
    Kind::ChangedView,
    Kind::Empty,
    Kind::Memory,
    Kind::Secret,
];

impl Kind {
    /// Has a specification mount it.
    fn add(self, place: &Place, to: &str, spec: &mut Spec) {
        let to = to.to_owned();
        let view = |layers: &[&str], changes: Option<&str>| View {
            layers: layers.iter().map(|layer| place.path(layer)).collect(),
            path: "/shown".to_owned(),
            to: to.clone(),
            changes: changes.map(|name| place.path(name)),
        };
        match self {
            Self::ReadOnlyFolder => spec.binds.push(Bind { from: place.path("source/shown"), to, read_only: true }),
            Self::Folder => spec.binds.push(Bind { from: place.path("source/shown"), to, read_only: false }),
            Self::File => spec.binds.push(Bind { from: place.path("source/shown/file"), to, read_only: true }),
            Self::View => spec.views.push(view(&["source"], None)),
            Self::ViewOfSeveral => spec.views.push(view(&["other", "source"], None)),
            Self::ChangedView => spec.views.push(view(&["source"], Some("changes"))),
            Self::Empty => spec.empty.push(EmptyFolder { at: to, size: Some(1 << 20) }),
            Self::Memory => {
                let files = BTreeMap::from([("file".to_owned(), SHOWN.as_bytes().to_vec())]);
                spec.memory = Some(MemoryFolder { at: to, files });
            }
            Self::Secret => {
                spec.secrets.push(SecretFile { at: to, bytes: SHOWN.into(), mode: 0o400, owner: (0, 0) });
            }
        }
    }

    const fn is_file(self) -> bool {
        matches!(self, Self::File | Self::Secret)
    }
}

/// What the image has where something is to be mounted.
#[derive(Clone, Debug)]
enum There {
    Nothing,
    Folder,
    File,
    Link(String),
}

/// Puts something into a layer, at a path below its top.
fn put(place: &Place, layer: &str, at: &str, there: &There) {
    let path = place.path(layer).join(at);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    match there {
        There::Nothing => {}
        There::Folder => drop(fs::create_dir(&path)),
        There::File => drop(fs::write(&path, "of the image")),
        There::Link(target) => drop(symlink(target, &path)),
    }
}

/// Gives what was made to root inside.
fn give(place: &Place, top: &str) {
    let top = place.path(top);
    for path in walk(&top).iter().map(|path| top.join(path)).chain([top.clone()]) {
        place.launcher.ids().give(&path, 0, 0).unwrap();
    }
}

/// Makes what is mounted, and the machine's folder.
fn sources(place: &Place) {
    for folder in ["source/shown", "other/shown", "changes/upper", "changes/work", "outside/folder"] {
        fs::create_dir_all(place.path(folder)).unwrap();
    }
    fs::write(place.path("source/shown/file"), SHOWN).unwrap();
    fs::write(place.path("other/shown/lower"), SHOWN).unwrap();
    for top in ["source", "other", "changes"] {
        give(place, top);
    }
    // Everybody may read and write it, so that only the root file system keeps anybody from it.
    fs::write(place.path("outside/word"), WORD).unwrap();
    for path in ["outside", "outside/folder", "outside/word"] {
        let mode = if path.ends_with("word") { 0o666 } else { 0o777 };
        fs::set_permissions(place.path(path), std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    }
}

/// Everything that can be seen of a folder, with what is in its files and when they changed.
fn state(top: &Path) -> String {
    let mut text = String::new();
    for name in walk(top).into_iter().chain([String::new()]) {
        let path = top.join(&name);
        let data = fs::symlink_metadata(&path).unwrap();
        let bytes = if data.is_file() { fs::read(&path).unwrap() } else { Vec::new() };
        let facts = (data.mode(), data.uid(), data.mtime(), data.mtime_nsec(), data.ctime(), data.ctime_nsec());
        writeln!(text, "{name} {facts:?} {bytes:?}").unwrap();
    }
    text
}

/// Looks for the machine from inside, by every way that led there once, and changes what it finds.
fn look_around(place: &Place) -> String {
    let word = place.path("outside/word");
    let word = word.display();
    let ways = "/.. /../.. /proc/1/root /proc/1/cwd /proc/self/root/.. /proc/self/cwd /mnt /mnt/.. /sys /dev /tmp /run";
    format!(
        "for way in {ways} /proc/self/fd/* /proc/1/fd/*; do cat $way{word} $way/outside/word $way/word; \
         for name in {word} /outside/word /word; do test -w $way$name && echo changed > $way$name; done; done 2>/dev/null; \
         ls -d /../*; cat /proc/self/mountinfo; ls -l /proc/self/fd /proc/1/exe; echo looked; true"
    )
}

/// Whether a run was as it must be: refused in words that help, or run without anything of the machine.
fn verify(place: &Place, what: &str, before: &str, (exit, text): (Exit, String)) -> bool {
    assert!(!text.contains(WORD), "{what}: reads the machine's folder: {text}");
    assert_eq!(state(&place.path("outside")), before, "{what}: changed the machine's folder");
    match exit {
        Exit::Status(0) => {
            assert!(text.contains("looked"), "{what}: {text}");
            for line in text.lines().filter(|line| line.contains(" - ")) {
                assert_eq!(
                    line.split(' ').nth(4).map(|at| at.starts_with("/proc/self/fd")),
                    Some(false),
                    "{what}: {line}"
                );
            }
            let open = text.lines().filter(|line| line.contains(" -> ")).filter(|line| {
                !["0 -> ", "1 -> ", "2 -> "].iter().any(|known| line.contains(known)) && !line.contains("/proc")
            });
            assert_eq!(open.count(), 0, "{what}: {text}");
            true
        }
        Exit::Failed(words) => {
            assert!(words.len() > 10 && !words.contains("isolate"), "{what}: {words}");
            false
        }
        other => panic!("{what}: {other:?}: {text}"),
    }
}

/// Where a link may lead, of those that an image would try.
fn links(place: &Place) -> Vec<String> {
    let outside = place.path("outside").display().to_string();
    let mut all: Vec<String> =
        ["/", "..", "../../../../../..", "/proc", "/proc/1", "/sys", "/dev", "/dev/null", "at", "/at", "/new/below"]
            .map(str::to_owned)
            .into();
    all.extend(["/proc/self/root", "/proc/1/root", "/proc/self/cwd", "/proc/thread-self/cwd"].map(str::to_owned));
    all.extend([outside.clone(), format!("/../../..{outside}"), format!("..{outside}")]);
    all.extend(DESCRIPTORS.map(|number| format!("/proc/self/fd/{number}")));
    all
}

#[test]
fn no_place_in_an_image_leads_a_mount_to_the_machine() {
    as_root_and_as_user("mounts::no_place_in_an_image_leads_a_mount_to_the_machine", |place| {
        sources(place);
        let before = state(&place.path("outside"));
        let mut there: Vec<There> = links(place).into_iter().map(There::Link).collect();
        there.extend([There::Nothing, There::Folder, There::File]);
        let (count, ran) = (AtomicUsize::new(0), AtomicUsize::new(0));
        // Cases are apart from each other, and there are several processors.
        let next = AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for worker in 0..4 {
                let (there, before, next, count, ran) = (&there, &before, &next, &count, &ran);
                scope.spawn(move || {
                    while let Some(there) = there.get(next.fetch_add(1, Ordering::Relaxed)) {
                        let number = next.fetch_add(0, Ordering::Relaxed);
                        let layer = format!("layer-{worker}-{number}");
                        put(place, &layer, "at", there);
                        give(place, &layer);
                        for kind in KINDS {
                            for target in ["/at", "/at/below"] {
                                let root = format!("root-{worker}");
                                let layers = vec![place.path("layer"), place.path(&layer)];
                                let rootfs = Rootfs::new(layers, place.path(&root));
                                let mut spec = Spec { root: rootfs, ..place.spec(&look_around(place)) };
                                // One that is changed belongs to one sandbox at a time.
                                let kind = if worker > 0 && kind == Kind::ChangedView { Kind::View } else { kind };
                                kind.add(place, target, &mut spec);
                                let what = format!("{kind:?} at {target}, where the image has {there:?}");
                                let is_run = verify(place, &what, before, place.run(&spec));
                                let is_plain = matches!((there, target), (There::Nothing | There::Folder, _));
                                assert!(is_run || !is_plain || kind.is_file(), "{what}: refused");
                                count.fetch_add(1, Ordering::Relaxed);
                                ran.fetch_add(is_run.into(), Ordering::Relaxed);
                                place.forget(&root);
                            }
                        }
                    }
                });
            }
        });
        let (count, ran) = (count.into_inner(), ran.into_inner());
        assert!(count > 900 && ran > 100 && ran < count, "{count} cases, of which {ran} ran");
        eprintln!("{count} cases, of which {ran} ran and the others were refused");
    });
}

#[test]
fn no_target_that_a_recipe_writes_leads_to_the_machine() {
    as_root_and_as_user("mounts::no_target_that_a_recipe_writes_leads_to_the_machine", |place| {
        sources(place);
        let before = state(&place.path("outside"));
        let mut targets: Vec<String> =
            ["/", "/..", "/../..", "/proc", "/sys", "/sys/kernel", "/dev", "/dev/null", "/dev/new", "/proc/new", "."]
                .map(str::to_owned)
                .into();
        targets.extend(["/proc/self/root", "/proc/self/cwd", "/proc/1/root/x", "/proc/self/exe"].map(str::to_owned));
        targets.extend(DESCRIPTORS.map(|number| format!("/proc/self/fd/{number}")));
        for target in targets {
            for kind in [Kind::ReadOnlyFolder, Kind::File, Kind::Empty, Kind::Memory, Kind::Secret] {
                let mut spec = place.spec(&look_around(place));
                kind.add(place, &target, &mut spec);
                let what = format!("{kind:?} at {target}");
                assert!(!verify(place, &what, &before, place.run(&spec)), "{what}: was not refused");
            }
        }
    });
}

#[test]
fn no_image_leads_the_kernels_file_systems_the_working_folder_or_the_users_to_the_machine() {
    let name = "mounts::no_image_leads_the_kernels_file_systems_the_working_folder_or_the_users_to_the_machine";
    as_root_and_as_user(name, |place| {
        sources(place);
        let before = state(&place.path("outside"));
        for (number, link) in links(place).into_iter().enumerate() {
            for at in ["proc", "sys", "dev", "tmp", "work", "etc/passwd"] {
                let layer = format!("layer-{number}-{}", at.replace('/', "-"));
                put(place, &layer, at, &There::Link(link.clone()));
                give(place, &layer);
                let root = Rootfs::new(vec![place.path("layer"), place.path(&layer)], place.path("root"));
                let spec = Spec { root, folder: "/work".to_owned(), ..place.spec(&look_around(place)) };
                let what = format!("/{at} -> {link}");
                let is_run = verify(place, &what, &before, place.run(&spec));
                assert!(!is_run || !matches!(at, "proc" | "sys" | "dev"), "{what}: was not refused");
                place.forget("root");
            }
        }
    });
}

#[test]
fn what_a_job_puts_in_the_place_of_a_mount_before_its_next_step_leads_nowhere() {
    as_root_and_as_user(
        "mounts::what_a_job_puts_in_the_place_of_a_mount_before_its_next_step_leads_nowhere",
        |place| {
            sources(place);
            let before = state(&place.path("outside"));
            for link in links(place) {
                for (moved, link_at) in [("/run", "/run"), ("/run/pondrix", "/run/pondrix")] {
                    let step = format!("mkdir -p {moved}; busybox mv {moved} /gone; busybox ln -s {link} {link_at}");
                    assert_eq!(place.sh(&step).0, Exit::Status(0));
                    let mut spec = place.spec(&look_around(place));
                    Kind::Memory.add(place, "/run/pondrix", &mut spec);
                    Kind::Secret.add(place, "/run/secrets/key", &mut spec);
                    let what = format!("{link_at} -> {link}");
                    verify(place, &what, &before, place.run(&spec));
                    place.forget("root");
                }
            }
        },
    );
}

#[test]
fn what_another_process_replaces_while_a_mount_is_placed_leads_nowhere() {
    as_root_and_as_user("mounts::what_another_process_replaces_while_a_mount_is_placed_leads_nowhere", |place| {
        sources(place);
        let before = state(&place.path("outside"));
        let shared = place.path("shared");
        fs::create_dir_all(shared.join("a/b")).unwrap();
        give(place, "shared");
        let bind = Bind { from: shared, to: "/shared".to_owned(), read_only: false };
        // Folders, links and nothing come and go at the same names for as long as it runs.
        let swaps = "cd /shared; echo begun; while :; do \
            busybox mv a c; busybox ln -s ../../../../.. a; busybox rm a; busybox ln -s /proc/self/fd/9 a; busybox rm a; \
            busybox mv c a; busybox mv a/b a/d; busybox ln -s /proc/1/root a/b; busybox rm -r a/b; busybox mv a/d a/b; done";
        let root = Rootfs::new(vec![place.path("layer")], place.path("other-root"));
        let (mut swapping, mut output) = place.start(&Spec { root, binds: vec![bind.clone()], ..place.spec(swaps) });
        output.read_exact(&mut [0; 6]).unwrap();
        std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
        for number in 0..60 {
            let mut spec = Spec { binds: vec![bind.clone()], ..place.spec(&look_around(place)) };
            let kind = KINDS[number % KINDS.len()];
            kind.add(place, "/shared/a/b", &mut spec);
            Kind::Secret.add(place, "/shared/a/b/key", &mut spec);
            verify(place, &format!("{kind:?}, {number}"), &before, place.run(&spec));
            place.forget("root");
        }
        swapping.kill();
    });
}

#[test]
fn namespaces_of_its_own_show_a_command_nothing_of_the_machine() {
    as_root_and_as_user("mounts::namespaces_of_its_own_show_a_command_nothing_of_the_machine", |place| {
        sources(place);
        let before = state(&place.path("outside"));
        let look = look_around(place);
        for tries in [
            "busybox mkdir /mnt; mount -o rbind / /mnt",
            "busybox umount -l /; busybox umount -l /proc; busybox umount -l /proc/kcore; busybox umount -l /dev",
            "busybox mkdir /new; mount -t tmpfs x /new; busybox mkdir /new/old; busybox pivot_root /new /new/old; cd /",
            "for number in 3 4 5 6 7 8 9 18 19; do mount -t tmpfs x /proc/self/fd/$number; done",
            "for kind in U:user m:mnt p:pid n:net; do busybox nsenter -${kind%:*}/proc/1/ns/${kind#*:} true && echo went in; done",
        ] {
            let script = format!(
                "{look}; unshare -U -r -m -p -f sh -c '{tries}' 2>/dev/null; unshare -U -r -m sh -c '{tries}; {look}'"
            );
            let mut spec = Spec { namespaces: true, ..place.spec(&script) };
            Kind::ReadOnlyFolder.add(place, "/shown", &mut spec);
            Kind::Memory.add(place, "/run/pondrix", &mut spec);
            let (exit, text) = place.run(&spec);
            assert!(!text.contains("went in"), "{tries}: {text}");
            // What it mounts itself, it may list.
            let own: String =
                text.lines().filter(|line| !line.contains(" - ")).map(|line| format!("{line}\n")).collect();
            verify(place, tries, &before, (exit, own));
            assert_eq!(fs::read_to_string(place.path("source/shown/file")).unwrap(), SHOWN);
            place.forget("root");
        }
    });
}

#[test]
fn what_is_mounted_is_seen_where_links_lead_inside() {
    as_root_and_as_user("mounts::what_is_mounted_is_seen_where_links_lead_inside", |place| {
        sources(place);
        for (at, link, seen) in [
            ("etc/resolv.conf", "../run/resolve/stub.conf", "/run/resolve/stub.conf"),
            ("one", "/two/three", "/two/three"),
            ("up", "../../../four", "/four"),
            ("self", "/proc/../five", "/five"),
        ] {
            put(place, "links", at, &There::Link(link.to_owned()));
            give(place, "links");
            for kind in [Kind::File, Kind::Folder] {
                let file = if kind == Kind::File { String::new() } else { "/file".to_owned() };
                let script = format!("cat {seen}{file} /{at}{file}");
                let root = Rootfs::new(vec![place.path("layer"), place.path("links")], place.path("root"));
                let mut spec = Spec { root, ..place.spec(&script) };
                kind.add(place, &format!("/{at}"), &mut spec);
                assert_eq!(place.run(&spec), (Exit::Status(0), SHOWN.repeat(2)), "{kind:?} at {at} -> {link}");
                place.forget("root");
            }
        }
        // One mount below another, and a script where no image has a say.
        let script = place.path("script");
        fs::write(&script, "#!/bin/sh\ncat /below/inner/file; ls /below; cat /below/inner/new\n").unwrap();
        fs::set_permissions(&script, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        place.launcher.ids().give(&script, 0, 0).unwrap();
        let mut spec = Spec { argv: vec![SCRIPT_AT.to_owned()], script: Some(script), ..place.spec("") };
        Kind::Empty.add(place, "/below", &mut spec);
        Kind::ReadOnlyFolder.add(place, "/outer", &mut spec);
        spec.memory = Some(MemoryFolder {
            at: "/below/inner".to_owned(),
            files: BTreeMap::from([("file".to_owned(), SHOWN.into())]),
        });
        let (_, text) = place.run(&spec);
        assert!(text.starts_with(&format!("{SHOWN}inner\n")), "{text}");
        // Where nothing can be created, that is said.
        let mut spec = place.spec("true");
        Kind::ReadOnlyFolder.add(place, "/outer", &mut spec);
        Kind::Secret.add(place, "/outer/missing/key", &mut spec);
        let (exit, _) = place.run(&spec);
        assert!(matches!(&exit, Exit::Failed(words) if words.contains("Read-only file system")), "{exit:?}");
    });
}

#[test]
fn a_place_where_nothing_can_be_mounted_is_refused_in_words() {
    let place = Place::new();
    sources(&place);
    for (target, words) in [
        ("/proc/new", "is in /proc, /sys or /dev"),
        ("/sys", "is in /proc, /sys or /dev"),
        ("/dev/new", "is in /proc, /sys or /dev"),
        ("/proc/self/fd/0", "leads round in a circle, or out of the root"),
        ("/", "is the root itself"),
        ("/bin/sh", "is a file, and a folder is to be mounted there"),
        ("/bin/sh/below", "something on the way is no folder"),
    ] {
        let mut spec = place.spec("true");
        Kind::Folder.add(&place, target, &mut spec);
        let (exit, _) = place.run(&spec);
        assert!(matches!(&exit, Exit::Failed(said) if said.contains(words)), "{target}: {exit:?}");
    }
    let mut spec = place.spec("true");
    Kind::File.add(&place, "/bin", &mut spec);
    let (exit, _) = place.run(&spec);
    assert!(matches!(&exit, Exit::Failed(said) if said.contains("is a folder, and a file")), "{exit:?}");
    put(&place, "linked", "proc", &There::Link("/at".to_owned()));
    let root = Rootfs::new(vec![place.path("layer"), place.path("linked")], place.path("root"));
    let (exit, _) = place.run(&Spec { root, ..place.spec("true") });
    assert!(matches!(&exit, Exit::Failed(said) if said.contains("a link or a file at /proc")), "{exit:?}");
}

/// A path of a few names, that is followed or made.
fn path() -> impl Strategy<Value = String> {
    let part = prop_oneof![
        4 => prop_oneof![Just("a"), Just("b"), Just("c")].prop_map(str::to_owned),
        2 => Just("..".to_owned()),
        1 => prop_oneof![Just("proc"), Just("proc/self"), Just("proc/1/root"), Just("sys"), Just("dev"), Just("tmp")]
            .prop_map(str::to_owned),
        1 => DESCRIPTORS.prop_map(|number| format!("proc/self/fd/{number}")),
    ];
    (any::<bool>(), collection::vec(part, 1..5))
        .prop_map(|(is_absolute, parts)| if is_absolute { format!("/{}", parts.join("/")) } else { parts.join("/") })
}

#[test]
fn no_image_and_no_targets_made_at_random_lead_to_the_machine() {
    as_root_and_as_user("mounts::no_image_and_no_targets_made_at_random_lead_to_the_machine", |place| {
        sources(place);
        let before = state(&place.path("outside"));
        let there = prop_oneof![Just(There::Folder), Just(There::File), path().prop_map(There::Link)];
        let entry =
            (prop_oneof![Just("a"), Just("b"), Just("c"), Just("a/b"), Just("a/c"), Just("b/c"), Just("tmp")], there);
        let kind = (0..KINDS.len()).prop_map(|number| KINDS[number]);
        let case = (collection::vec(entry, 1..5), collection::vec((kind, path()), 1..4));
        let cases = if std::env::var_os("PONDRIX_SEEDS").is_some() { 400 } else { 60 };
        let config = ProptestConfig { cases, failure_persistence: None, ..ProptestConfig::default() };
        proptest::test_runner::TestRunner::new(config)
            .run(&case, |(entries, mounts)| {
                for (at, there) in &entries {
                    // A name below what is a file or a link by now is left out.
                    if can_be_put(place, at) {
                        put(place, "random", at, there);
                    }
                }
                fs::create_dir_all(place.path("random")).unwrap();
                give(place, "random");
                let root = Rootfs::new(vec![place.path("layer"), place.path("random")], place.path("root"));
                let mut spec = Spec { root, ..place.spec(&look_around(place)) };
                for (kind, target) in &mounts {
                    kind.add(place, &format!("/{target}"), &mut spec);
                }
                verify(place, &format!("{mounts:?} in {entries:?}"), &before, place.run(&spec));
                ["root", "random"].into_iter().for_each(|folder| place.forget(folder));
                Ok(())
            })
            .unwrap();
    });
}

/// Whether a name of the random layer is free, and every folder above it is one or is free too.
fn can_be_put(place: &Place, at: &str) -> bool {
    let above = Path::new(at).ancestors().skip(1).filter(|above| !above.as_os_str().is_empty());
    let data = above.filter_map(|above| fs::symlink_metadata(place.path("random").join(above)).ok());
    data.into_iter().all(|data| data.is_dir()) && fs::symlink_metadata(place.path("random").join(at)).is_err()
}
