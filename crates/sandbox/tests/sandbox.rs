//! What a sandbox shows, hides, limits and leaves behind, as root and as an ordinary user.
//!
//! Each test runs its check as whoever runs the tests and, when that is root, once more in a process
//! that has become an ordinary user.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use pondrix_sandbox::{
    Bind, Exit, Launcher, Limits, MemoryFolder, NAMES_AT, Places, Rootfs, Running, SharedNetwork, Spec, check_machine,
};

const AS_USER: &str = "SANDBOX_TEST_AS_USER";
const ORDINARY_USER: u32 = 54_321;

/// A folder with the helper and a root file system of one static program with many names.
struct Place {
    folder: tempfile::TempDir,
    launcher: Launcher,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let bin = folder.path().join("layer/bin");
        fs::create_dir_all(&bin).unwrap();
        fs::copy("/bin/busybox", bin.join("busybox")).expect("install Debian's busybox-static");
        for name in
            ["sh", "cat", "ls", "sleep", "id", "mount", "ip", "touch", "hostname", "ps", "nc", "mkdir", "unshare"]
        {
            symlink("busybox", bin.join(name)).unwrap();
        }
        let etc = folder.path().join("layer/etc");
        fs::create_dir(&etc).unwrap();
        fs::write(etc.join("passwd"), "root:x:0:0::/root:/bin/sh\nweb:x:33:33::/srv:/bin/sh\n").unwrap();
        let launcher = Launcher::with_helper(env!("CARGO_BIN_EXE_pondrix-sandbox"));
        let layer = folder.path().join("layer");
        for path in walk(&layer).iter().map(|path| layer.join(path)).chain([layer.clone()]) {
            launcher.ids().give(&path, 0, 0).unwrap();
        }
        Self { folder, launcher }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn spec(&self, script: &str) -> Spec {
        Spec {
            argv: ["sh", "-c", script].map(str::to_owned).into(),
            env: BTreeMap::from([("PATH".to_owned(), "/bin".to_owned())]),
            hostname: "pond".to_owned(),
            fresh_tmp: true,
            ..Spec::new(Rootfs::new(vec![self.path("layer")], self.path("root")))
        }
    }

    fn start(&self, spec: &Spec) -> (Running, std::io::PipeReader) {
        let (reader, writer) = std::io::pipe().unwrap();
        (self.launcher.start(spec, writer.into()).unwrap(), reader)
    }

    /// Runs to the end: how it ended and all it printed.
    fn run(&self, spec: &Spec) -> (Exit, String) {
        let (mut running, mut output) = self.start(spec);
        let mut text = String::new();
        output.read_to_string(&mut text).unwrap();
        (running.wait(), text)
    }

    fn sh(&self, script: &str) -> (Exit, String) {
        self.run(&self.spec(script))
    }
}

/// Runs a check here, and as an ordinary user where this is root.
fn as_root_and_as_user(test: &str, check: impl Fn(&Place)) {
    check(&Place::new());
    if !rustix::process::geteuid().is_root() || std::env::var_os(AS_USER).is_some() {
        return;
    }
    // The build folder may be closed to others: give the ordinary user copies of its own.
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o755)).unwrap();
    let copy = folder.path().join("tests");
    // By another process: a file that this one writes may be held open by a neighbour's fork, and then
    // cannot be started.
    let copied = Command::new("cp").arg(std::env::current_exe().unwrap()).arg(&copy).status().unwrap();
    assert!(copied.success());
    let output = Command::new(&copy)
        .args(["--exact", test, "--nocapture"])
        .env(AS_USER, "1")
        .env("TMPDIR", "/tmp")
        .current_dir("/")
        .uid(ORDINARY_USER)
        .gid(ORDINARY_USER)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && said.contains("1 passed"), "as an ordinary user: {said}");
}

/// Whether a process with this word in its command line is alive on the machine.
fn alive(word: &str) -> bool {
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let state = fs::read_to_string(entry.path().join("stat")).unwrap_or_default();
        let numeric = entry.file_name().to_string_lossy().parse::<u32>().is_ok();
        numeric && !state.contains(") Z ") && String::from_utf8_lossy(&line).contains(word)
    })
}

/// Several sandboxes have no more than they may have together, and each less where that is told.
fn limits_hold_together(place: &Place) {
    // What of our own is in sandboxes does not count: of 16 sandboxes.
    let limits = Limits { memory: Some(96 << 20), processes: Some(20), cpu: None };
    let launcher = place.launcher.limited(&limits).unwrap();
    let start = |name: &str, limits: Limits, script: &str| {
        let (reader, writer) = std::io::pipe().unwrap();
        let root = Rootfs::new(vec![place.path("layer")], place.path(name));
        let spec = Spec { limits, root, ..place.spec(script) };
        (launcher.start(&spec, writer.into()).unwrap(), BufReader::new(reader))
    };
    let end = |(mut running, mut output): (Running, BufReader<std::io::PipeReader>)| {
        let mut said = String::new();
        output.read_to_string(&mut said).unwrap();
        (running.wait(), said, running.was_out_of_memory())
    };
    let first_line = |started: &mut (Running, BufReader<std::io::PipeReader>)| {
        let mut line = String::new();
        started.1.read_line(&mut line).unwrap();
        line
    };
    // Each holds more than half of the memory, in a file that is nowhere else.
    let hold = "busybox head -c 62914560 /dev/zero > /tmp/held && echo held";
    let none = Limits::default();
    let mut first = start("first", none, &format!("{hold}; sleep 600"));
    assert_eq!(first_line(&mut first), "held\n");
    // Which of them is ended is the kernel's choice.
    let (_, said, out_of_memory) = end(start("second", none, hold));
    assert!(out_of_memory != first.0.was_out_of_memory(), "{said}");
    assert_eq!(out_of_memory, !said.contains("held\n"), "{said}");
    let (exit, said) = place.sh(hold);
    assert_eq!((exit, said.as_str()), (Exit::Status(0), "held\n"), "others do not notice");
    drop(first);
    let (exit, said, _) = end(start("third", none, hold));
    assert_eq!((exit, said.as_str()), (Exit::Status(0), "held\n"), "what was held is free");
    let own = Limits { memory: Some(32 << 20), ..none };
    let (_, said, out_of_memory) = end(start("fourth", own, hold));
    assert!(out_of_memory && !said.contains("held\n"), "{said}");
    let crowd = "i=0; while [ $i -lt 60 ]; do sleep 600 & i=$((i+1)); done; echo all";
    let mut first = start("crowd", none, &format!("{crowd}; wait"));
    assert_eq!(first_line(&mut first), "all\n");
    let (_, said, _) = end(start("more", none, crowd));
    assert!(said.contains("can't fork") && !said.contains("all\n"), "{said}");
    drop((first, launcher));
}

/// Processes of each place have ids of their own, and what they leave is stored under those of all.
#[test]
fn each_place_has_ids_of_its_own_and_finds_the_files_of_the_others_as_its_own() {
    let place = Place::new();
    if !place.launcher.ids().is_range() {
        eprintln!("an ordinary user has one id for all places: nothing to see here");
        return;
    }
    let places = Places::take(2).unwrap();
    let others = Places::take(2).unwrap();
    assert!(places.ids.iter().all(|ids| !others.ids.contains(ids)), "nobody else takes them meanwhile");
    let stored = place.launcher.ids().to_machine(33, 0).0;
    let shared = place.path("shared");
    fs::create_dir(&shared).unwrap();
    place.launcher.ids().give(&shared, 0, 0).unwrap();
    let bind = Bind { from: shared.clone(), to: "/shared".to_owned(), read_only: false };
    for (number, ids) in places.ids.iter().enumerate() {
        let name = format!("root-{number}");
        let root = Rootfs::new(vec![place.path("layer")], place.path(&name));
        let script = "echo made > /shared/first || exit 1; busybox chown 33:0 /shared/first; busybox stat -c '%u:%g' /etc/passwd \
                      /shared/first; echo own > /etc/own; sleep 600";
        let spec = Spec { root, binds: vec![bind.clone()], ..place.spec(script) };
        let launcher = place.launcher.apart(*ids, place.folder.path().canonicalize().unwrap());
        let (reader, writer) = std::io::pipe().unwrap();
        let running = launcher.start(&spec, writer.into()).unwrap();
        let mut lines = BufReader::new(reader).lines().map(Result::unwrap);
        assert_eq!([lines.next(), lines.next()].map(Option::unwrap), ["0:0", "33:0"], "inside all is as it was stored");
        // Some process of the machine has the place's first id, and none that of the files.
        let users: Vec<u32> = fs::read_dir("/proc")
            .unwrap()
            .flatten()
            .filter_map(|entry| fs::read_to_string(entry.path().join("status")).ok())
            .filter_map(|status| {
                status.lines().find(|line| line.starts_with("Uid:"))?.split_whitespace().nth(1)?.parse().ok()
            })
            .collect();
        assert!(users.contains(&ids.root().0) && ids.root().0 != stored - 33);
        let owner = |path: PathBuf| std::os::unix::fs::MetadataExt::uid(&fs::metadata(path).unwrap());
        assert_eq!(owner(shared.join("first")), stored);
        drop(running);
        assert_eq!(owner(place.path(&name).join("upper/etc/own")), stored - 33);
    }
    drop(places);
    assert!(Places::take(2).unwrap().ids.iter().all(|ids| !others.ids.contains(ids)));
}

/// A number of seconds to sleep that no other process sleeps, to know a process by.
fn mark(test: u32) -> String {
    format!("{}.{test}", 100_000 + std::process::id())
}

#[test]
fn limits_of_memory_processes_and_processors_hold_for_a_command_for_all_it_starts_and_for_several_together() {
    let place = Place::new();
    let limited = |limits, script: &str| {
        let spec = Spec { limits, ..place.spec(script) };
        let (mut running, mut output) = place.start(&spec);
        let mut said = String::new();
        output.read_to_string(&mut said).unwrap();
        (running.wait(), said, (running.was_out_of_memory(), running.was_out_of_processes()))
    };
    // What a shell cannot hold: the whole of a file without end, as one word.
    let greedy = "sh -c 'x=$(busybox head -c 200000000 /dev/zero | busybox tr \\\\0 a); echo ${#x}'; echo went on";
    let memory = Limits { memory: Some(32 << 20), ..Limits::default() };
    let (_, said, out_of) = limited(memory, greedy);
    assert!(out_of == (true, false) && !said.contains("200000000"), "{said}");
    let enough = Limits { memory: Some(256 << 20), ..Limits::default() };
    let (exit, _, out_of) = limited(enough, "echo small");
    assert!(exit == Exit::Status(0) && out_of == (false, false));
    let crowd = "for i in 1 2 3 4 5 6 7 8 9 10 11 12; do sleep 0.5 & done; wait; echo ended";
    let (_, said, out_of) = limited(Limits { processes: Some(5), ..Limits::default() }, crowd);
    assert!(said.contains("can't fork") && out_of == (false, true), "{said}");
    let (_, said, out_of) = limited(Limits { processes: Some(50), ..Limits::default() }, crowd);
    assert_eq!((said.as_str(), out_of), ("ended\n", (false, false)));
    // A tenth of a processor gets at most a tenth of the time that passes.
    let busy = "i=0; while [ $i -lt 30000 ]; do i=$((i+1)); done; cat /proc/uptime; times";
    let since = std::time::Instant::now();
    let (exit, said, _) = limited(Limits { cpu: Some(100), ..Limits::default() }, busy);
    let passed = since.elapsed().as_secs_f64();
    assert_eq!(exit, Exit::Status(0));
    let used: f64 =
        said.lines().nth(1).and_then(|line| line.split_once('m')?.1.split_once('s')?.0.parse().ok()).unwrap();
    assert!(used < 0.35 * passed, "{used} s of {passed} s");
    limits_hold_together(&place);
    let groups = Command::new("sh").args(["-c", "find /sys/fs/cgroup -name 'pondrix-*' -type d 2>/dev/null"]).output();
    let mine = format!("pondrix-{}-", std::process::id());
    assert!(!String::from_utf8_lossy(&groups.unwrap().stdout).contains(&mine), "a group is left");
}

#[test]
fn what_sandboxes_share_is_changed_by_none_of_them() {
    as_root_and_as_user("what_sandboxes_share_is_changed_by_none_of_them", |place| {
        let launcher = place.launcher.clone().sharing(place.path("frame")).unwrap();
        let before = walk(&place.path("frame"));
        let script = "touch /mine /tmp/mine; mkdir /proc-like /merged; echo x > /sys/x || busybox chmod 700 /; \
                      busybox rmdir /tmp /dev /proc; ls /";
        let run = |root: &str| {
            let root = Rootfs::new(vec![place.path("layer")], place.path(root));
            let (mut reader, writer) = std::io::pipe().unwrap();
            let spec = Spec { root, fresh_tmp: false, ..place.spec(script) };
            let mut running = launcher.start(&spec, writer.into()).unwrap();
            let mut said = String::new();
            reader.read_to_string(&mut said).unwrap();
            assert_eq!(running.wait(), Exit::Status(0), "{said}");
            said
        };
        let first = run("one");
        assert!(first.contains("mine\n") && first.contains("tmp\n"), "{first}");
        assert!(place.path("one/upper/mine").exists() && !place.path("one/skeleton").exists());
        assert_eq!(run("two"), first, "the second saw what the first did");
        assert_eq!(walk(&place.path("frame")), before);
        let mode = fs::metadata(place.path("frame/skeleton/tmp")).unwrap().permissions().mode();
        assert_eq!(mode & 0o7777, 0o1777);
    });
}

#[test]
fn files_in_memory_are_read_by_root_inside_and_changed_by_nobody() {
    let place = Place::new();
    let script = "cat /run/pondrix/key; echo; ls -l /run/pondrix | busybox grep -c r--------; echo x > /run/pondrix/key || echo refused";
    let files = BTreeMap::from([("key".to_owned(), b"s3cret".to_vec())]);
    let memory = Some(MemoryFolder { at: "/run/pondrix".to_owned(), files });
    let (exit, said) = place.run(&Spec { memory, ..place.spec(script) });
    assert_eq!(exit, Exit::Status(0), "{said}");
    assert!(said.starts_with("s3cret\n1\n") && said.ends_with("refused\n"), "{said}");
    let upper = place.path("root/upper/run/pondrix");
    assert!(!upper.join("key").exists(), "it came to the disk");
}

#[test]
fn a_command_sees_its_own_root_ids_host_name_and_processes_only() {
    as_root_and_as_user("a_command_sees_its_own_root_ids_host_name_and_processes_only", |place| {
        let (exit, text) = place.sh("id -u; hostname; echo $$; ls /; ls -d /proc/[0-9]*");
        assert_eq!(exit, Exit::Status(0), "{text}");
        let lines: Vec<_> = text.lines().collect();
        assert_eq!(&lines[..3], ["0", "pond", "3"], "{text}");
        assert_eq!(&lines[3..], ["bin", "dev", "etc", "proc", "sys", "tmp", "/proc/1", "/proc/3"], "{text}");
    });
}

#[test]
fn the_machine_can_run_sandboxes() {
    as_root_and_as_user("the_machine_can_run_sandboxes", |place| {
        check_machine(&place.launcher, &place.path("check")).unwrap();
    });
}

#[test]
fn the_exit_status_and_the_signal_of_a_command_are_told() {
    as_root_and_as_user("the_exit_status_and_the_signal_of_a_command_are_told", |place| {
        assert_eq!(place.sh("exit 7").0, Exit::Status(7));
        assert_eq!(place.sh("kill -9 $$").0, Exit::Signal(9));
        let mut spec = place.spec("");
        spec.argv = vec!["no-such-program".to_owned()];
        let Exit::Failed(words) = place.run(&spec).0 else { panic!("it cannot have begun") };
        assert!(words.contains("could not start `no-such-program`"), "{words}");
    });
}

#[test]
fn changes_stay_in_the_upper_folder_and_mount_points_leave_no_trace_in_it() {
    as_root_and_as_user("changes_stay_in_the_upper_folder_and_mount_points_leave_no_trace_in_it", |place| {
        let (exit, text) = place.sh("echo new > /etc/new; touch /tmp/gone && mkdir -p /srv/a");
        assert_eq!((exit, text.as_str()), (Exit::Status(0), ""));
        let upper: Vec<_> = walk(&place.path("root/upper"));
        assert_eq!(upper, ["etc", "etc/new", "srv", "srv/a"]);
        assert!(!place.path("layer/etc/new").exists());
        // A second command over the same folder goes on where the first ended.
        assert_eq!(place.sh("cat /etc/new").1, "new\n");
    });
}

fn walk(top: &Path) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders = vec![top.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            found.push(entry.path().strip_prefix(top).unwrap().to_string_lossy().into_owned());
            if entry.file_type().unwrap().is_dir() {
                folders.push(entry.path());
            }
        }
    }
    found.sort();
    found
}

#[test]
fn nothing_of_the_machine_is_reachable_and_mounting_is_refused() {
    as_root_and_as_user("nothing_of_the_machine_is_reachable_and_mounting_is_refused", |place| {
        fs::write(place.path("secret"), "of the machine").unwrap();
        let inside = place.path("secret").display().to_string();
        // Each of these is there: what fails is refused, and not missing.
        let (_, there) =
            place.sh("for name in cat mount unshare ls ip; do command -v $name >/dev/null || echo no $name; done");
        assert_eq!(there, "");
        let script = format!(
            "cat {inside}; cat /proc/1/root{inside}; cat ../../../..{inside}; mount -t tmpfs x /etc; unshare -U true; \
             ls /proc/1/root/work; echo x > /proc/sys/kernel/hostname; ip link | grep -v lo:"
        );
        let (_, text) = place.sh(&script);
        assert!(!text.contains("of the machine"), "{text}");
        let refused = |what: &str| {
            let said = text.lines().any(|line| {
                line.starts_with(what)
                    && (line.contains("ermission denied") || line.contains("Operation not permitted"))
            });
            assert!(said, "{what} was not refused: {text}");
        };
        refused("mount: ");
        refused("unshare: ");
    });
}

#[test]
fn who_may_make_namespaces_mounts_in_those_and_gets_no_more_of_the_machine() {
    as_root_and_as_user("who_may_make_namespaces_mounts_in_those_and_gets_no_more_of_the_machine", |place| {
        let script = "mount -t tmpfs x /tmp && echo mounted outside; \
             unshare -U -r -m sh -c 'mount -t tmpfs x /tmp && touch /tmp/own && ls /tmp'; ls /tmp; \
             unshare -U -r -m -n -p -f sh -c 'ip link set lo up && echo network; \
                 for at in /proc /proc/sys /proc/kcore /sys; do umount $at && echo off $at; done; \
                 mount -t proc x /proc && echo fresh; echo x > /proc/sys/kernel/core_pattern && echo written; \
                 mount -o remount,rw /proc/sys && echo open; true'; echo ended";
        let (_, text) = place.run(&Spec { namespaces: true, ..place.spec(script) });
        let said: Vec<_> = text.lines().filter(|line| !line.contains(": ")).collect();
        assert_eq!(said, ["own", "network", "ended"], "{text}");
        let (_, text) = place.sh("unshare -U true && echo made");
        assert!(!text.contains("made"), "{text}");
    });
}

#[test]
fn a_link_in_the_image_cannot_lead_a_bind_out_of_the_root() {
    as_root_and_as_user("a_link_in_the_image_cannot_lead_a_bind_out_of_the_root", |place| {
        let outside = place.path("outside");
        fs::create_dir(&outside).unwrap();
        symlink(&outside, place.path("layer/work")).unwrap();
        fs::create_dir(place.path("source")).unwrap();
        fs::write(place.path("source/file"), "shown").unwrap();
        let mut spec = place.spec("cat /work/file");
        spec.binds = vec![Bind { from: place.path("source"), to: "/work".to_owned(), read_only: true }];
        let (exit, text) = place.run(&spec);
        assert_eq!((exit, text.as_str()), (Exit::Status(0), "shown"));
        assert!(fs::read_dir(&outside).unwrap().next().is_none(), "the link was followed outside");
    });
}

#[test]
fn a_read_only_bind_cannot_be_written() {
    as_root_and_as_user("a_read_only_bind_cannot_be_written", |place| {
        fs::create_dir(place.path("source")).unwrap();
        let mut spec = place.spec("touch /seen/x");
        spec.binds = vec![Bind { from: place.path("source"), to: "/seen".to_owned(), read_only: true }];
        let (exit, text) = place.run(&spec);
        assert_ne!(exit, Exit::Status(0));
        assert!(text.contains("Read-only file system"), "{text}");
    });
}

#[test]
fn nothing_of_a_command_is_alive_after_its_end_or_its_kill_or_its_drop() {
    as_root_and_as_user("nothing_of_a_command_is_alive_after_its_end_or_its_kill_or_its_drop", |place| {
        let (exit, text) = place.sh(&format!("sleep {} & (sleep {} &) ; echo begun", mark(1), mark(1)));
        assert_eq!((exit, text.as_str()), (Exit::Status(0), "begun\n"));
        assert!(!alive(&mark(1)), "left in the background");

        for (number, kill) in [(2, true), (3, false)] {
            let sleep = mark(number);
            let script = format!("trap '' TERM HUP; (trap '' TERM; sleep {sleep}) & echo begun; sleep {sleep}");
            let (mut running, mut output) = place.start(&place.spec(&script));
            let mut begun = [0; 6];
            output.read_exact(&mut begun).unwrap();
            assert!(alive(&sleep));
            if kill {
                assert_eq!(running.kill(), Exit::Killed);
            }
            drop(running);
            assert!(!alive(&sleep), "survived (kill: {kill})");
        }
    });
}

#[test]
fn nothing_of_a_command_is_alive_after_the_helper_was_killed() {
    as_root_and_as_user("nothing_of_a_command_is_alive_after_the_helper_was_killed", |place| {
        let sleep = mark(4);
        let (mut running, mut output) = place.start(&place.spec(&format!("echo begun; sleep {sleep}")));
        let mut begun = [0; 6];
        output.read_exact(&mut begun).unwrap();
        for child in
            fs::read_to_string(format!("/proc/self/task/{}/children", rustix::thread::gettid().as_raw_nonzero()))
                .unwrap()
                .split_whitespace()
        {
            let pid = rustix::process::Pid::from_raw(child.parse().unwrap()).unwrap();
            rustix::process::kill_process(pid, rustix::process::Signal::KILL).unwrap();
        }
        assert_eq!(running.wait(), Exit::Failed("the sandbox was killed from outside".to_owned()));
        // The end of the output is the end of the last process that could write to it.
        let mut rest = Vec::new();
        output.read_to_end(&mut rest).unwrap();
        assert!(!alive(&sleep));
    });
}

#[test]
fn a_command_has_no_part_in_the_conversation_about_it() {
    as_root_and_as_user("a_command_has_no_part_in_the_conversation_about_it", |place| {
        let (exit, open) = place.sh("ls -l /proc/self/fd");
        assert_eq!(exit, Exit::Status(0));
        // The standard ones, and maybe the folder that is being read.
        let is_expected = |line: &&str| ["0 -> ", "1 -> ", "2 -> ", "/proc"].iter().any(|known| line.contains(known));
        assert_eq!(open.lines().filter(|line| line.contains(" -> ") && !is_expected(line)).count(), 0, "{open}");
        assert!(open.contains("0 -> ") && !open.contains("socket:"), "{open}");
        // Whatever it writes wherever, its end is told as it was, and it ends when it is to.
        let says = |word: &str| format!("for fd in 3 4 5 6 7 8 9 10 11 12; do echo '{word}' >&$fd; done 2>/dev/null;");
        for word in [r#"{"Ended":{"Status":0}}"#, "nonsense", ""] {
            let (exit, _) = place.sh(&format!("{} exit 7", says(word)));
            assert_eq!(exit, Exit::Status(7), "{word}");
        }
        let (mut running, mut output) =
            place.start(&place.spec(&format!("{} echo ready; sleep 1000", says("nonsense"))));
        let mut ready = [0; 6];
        output.read_exact(&mut ready).unwrap();
        assert_eq!(running.kill(), Exit::Killed);
        output.read_to_end(&mut Vec::new()).unwrap();
    });
}

#[test]
fn a_signal_reaches_the_command_and_its_answer_is_heard() {
    as_root_and_as_user("a_signal_reaches_the_command_and_its_answer_is_heard", |place| {
        let script = "trap 'echo bye; exit 5' TERM; echo ready; while :; do sleep 0.05; done";
        let (mut running, mut output) = place.start(&place.spec(script));
        let mut ready = [0; 6];
        output.read_exact(&mut ready).unwrap();
        running.signal(15);
        let mut rest = String::new();
        output.read_to_string(&mut rest).unwrap();
        assert_eq!((rest.lines().last(), running.wait()), (Some("bye"), Exit::Status(5)));
    });
}

#[test]
fn a_port_inside_is_reached_through_the_connector_and_no_other_way() {
    as_root_and_as_user("a_port_inside_is_reached_through_the_connector_and_no_other_way", |place| {
        let (mut running, _output) = place.start(&place.spec("while :; do echo hello | nc -l -p 4711; done"));
        let connector = running.connector();
        let deadline = Instant::now() + Duration::from_secs(20);
        let mut stream = loop {
            match connector.connect(4711) {
                Ok(stream) => break stream,
                Err(error) => assert!(Instant::now() < deadline, "nobody listened: {error}"),
            }
        };
        assert!(std::net::TcpStream::connect("127.0.0.1:4711").is_err());
        stream.write_all(b"x").unwrap();
        let mut text = String::new();
        stream.read_to_string(&mut text).unwrap();
        assert_eq!(text, "hello\n");
        running.kill();
        assert!(connector.connect(4711).is_err());
    });
}

#[test]
fn another_user_is_looked_up_in_the_image() {
    let place = Place::new();
    let mut spec = place.spec("id -u; echo $HOME");
    spec.user = "web".to_owned();
    let (exit, text) = place.run(&spec);
    if rustix::process::geteuid().is_root() {
        assert_eq!((exit, text.as_str()), (Exit::Status(0), "33\n/srv\n"));
    } else {
        assert!(matches!(exit, Exit::Failed(words) if words.contains("start the runner as root")));
    }
    spec.user = "nobody-here".to_owned();
    assert!(matches!(place.run(&spec).0, Exit::Failed(words) if words.contains("no user `nobody-here`")));
}

#[test]
fn a_folder_that_only_its_owner_may_enter_serves_as_a_layer() {
    as_root_and_as_user("a_folder_that_only_its_owner_may_enter_serves_as_a_layer", |place| {
        fs::set_permissions(place.folder.path(), PermissionsExt::from_mode(0o700)).unwrap();
        assert_eq!(place.sh("echo fine").1, "fine\n");
    });
}

#[test]
fn output_of_any_length_arrives_whole() {
    let place = Place::new();
    let (exit, text) = place.sh("i=0; while [ $i -lt 20000 ]; do echo line-$i; i=$((i+1)); done");
    assert_eq!(exit, Exit::Status(0));
    assert_eq!(text.lines().count(), 20_000);
    assert!(File::open(place.path("root/upper")).is_ok());
}

/// Starts a command in a shared network, in a root of its own.
fn join(place: &Place, network: &SharedNetwork, root: &str, script: &str) -> (Running, std::io::PipeReader) {
    let layers = vec![place.path("layer")];
    let spec = Spec { root: Rootfs::new(layers, place.path(root)), ..place.spec(script) };
    let (reader, writer) = std::io::pipe().unwrap();
    (place.launcher.start_in(network, &spec, writer.into()).unwrap(), reader)
}

fn text_of(mut joined: (Running, std::io::PipeReader)) -> (Exit, String) {
    let mut text = String::new();
    joined.1.read_to_string(&mut text).unwrap();
    (joined.0.wait(), text)
}

#[test]
fn commands_that_share_a_network_reach_each_other_and_see_nothing_else_of_each_other() {
    as_root_and_as_user("commands_that_share_a_network_reach_each_other_and_see_nothing_else_of_each_other", |place| {
        let network = place.launcher.share_network(Vec::new()).unwrap();
        let (mut server, _output) =
            join(place, &network, "server", "touch /mine; while :; do echo hello | nc -l -p 4712; done");
        let connector = network.connector();
        let since = Instant::now();
        while connector.connect(4712).is_err() {
            assert!(since.elapsed() < Duration::from_secs(20), "nobody listens");
        }
        // Nobody listens between one caller and the next: the call is made until it is answered.
        let script = "until said=$(nc 127.0.0.1 4712) && test \"$said\"; do :; done; echo $said; ls -d /mine; ls -d /proc/[0-9]*; id -u; mount -t tmpfs x /tmp || echo refused";
        let (exit, text) = text_of(join(place, &network, "client", script));
        assert_eq!(exit, Exit::Status(0), "{text}");
        assert!(text.starts_with("hello\n") && text.contains("ls: /mine"), "{text}");
        let processes: Vec<_> = text.lines().filter(|line| line.starts_with("/proc/")).collect();
        assert_eq!(processes, ["/proc/1", "/proc/3"], "its own and none of the server's: {text}");
        assert!(text.ends_with("refused\n"), "{text}");
        let (_, text) = place.sh("nc 127.0.0.1 4712 </dev/null; ip addr");
        assert!(!text.contains("hello"), "another network reaches it: {text}");
        server.kill();
    });
}

#[test]
fn the_caller_answers_what_is_asked_inside_for_names() {
    as_root_and_as_user("the_caller_answers_what_is_asked_inside_for_names", |place| {
        let network = place.launcher.share_network(Vec::new()).unwrap();
        let (datagrams, streams) = network.listen_for_names().unwrap();
        std::thread::spawn(move || {
            let mut question = [0; 512];
            while let Ok((count, from)) = datagrams.recv_from(&mut question) {
                // The same, as an answer with one record: the name's address (RFC 1035, section 4.1).
                let mut answer = question[..count].to_vec();
                answer[2] |= 0x80;
                answer[7] = u8::from(answer[count - 3] == 1);
                if answer[7] == 1 {
                    answer.extend([0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 198, 51, 100, 7]);
                }
                let _ = datagrams.send_to(&answer, from);
            }
        });
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = streams.accept() {
                let _ = stream.write_all(b"over a stream\n");
            }
        });
        let script = format!(
            "nslookup pond.test {NAMES_AT}; nc -w 10 {NAMES_AT} 53 </dev/null; nc -w 10 127.0.0.1 53 </dev/null; true"
        );
        let (_, text) = text_of(join(place, &network, "client", &script));
        assert!(text.contains("198.51.100.7") && text.contains("over a stream\n"), "{text}");
        // It is taken now, and what comes after a refusal is answered as before.
        assert!(network.listen_for_names().is_err());
        assert_eq!(network.connector().connect(4712).unwrap_err().kind(), std::io::ErrorKind::ConnectionRefused);
    });
}

#[test]
fn a_way_out_reaches_the_machine_as_any_other_and_none_of_its_loopback() {
    as_root_and_as_user("a_way_out_reaches_the_machine_as_any_other_and_none_of_its_loopback", |place| {
        let mut network = place.launcher.share_network(Vec::new()).unwrap();
        // The address of this machine that others would reach it at: no packet is sent for this.
        let probe = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
        if probe.connect("192.0.2.200:9").is_err() {
            let words = network.open_way_out().unwrap_err().to_string();
            assert!(words.contains("`pasta` gives no way out"), "{words}");
            return;
        }
        if File::options().read(true).write(true).open("/dev/net/tun").is_err() {
            let words = network.open_way_out().unwrap_err().to_string();
            assert!(words.ends_with("must be allowed to open /dev/net/tun"), "{words}");
            return;
        }
        network.open_way_out().unwrap();
        let outside = std::net::TcpListener::bind((probe.local_addr().unwrap().ip(), 0)).unwrap();
        let loopback = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let at = outside.local_addr().unwrap();
        // It ends with the process: nobody waits for a caller that does not come.
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = outside.accept() {
                let _ = stream.read(&mut [0; 1024]);
                let _ = stream.write_all(b"HTTP/1.0 200 OK\r\n\r\nfrom outside\n");
            }
        });
        let (_, text) = text_of(join(place, &network, "client", &format!("wget -qO- http://{at}/")));
        assert_eq!(text, "from outside\n");
        loopback.set_nonblocking(true).unwrap();
        let port = loopback.local_addr().unwrap().port();
        let script = format!("for at in 127.0.0.1 198.18.0.1; do nc -w 10 $at {port} </dev/null; done; echo tried");
        let (_, text) = text_of(join(place, &network, "again", &script));
        assert!(text.ends_with("tried\n"), "{text}");
        assert!(loopback.accept().is_err(), "the machine's own loopback was reached");
        // Where it is closed there is no way, and nobody inside opens one.
        let std::net::IpAddr::V4(own) = at.ip() else { return };
        let mut network = place.launcher.share_network(vec![(own, 32), ([10, 0, 0, 0].into(), 8)]).unwrap();
        network.open_way_out().unwrap();
        let script = format!(
            "ip route del unreachable {own} || echo kept; ip route add {own}/32 via 198.18.0.1 || echo kept; \
             nc -w 10 {own} {} </dev/null; nc -w 10 10.1.2.3 80 </dev/null",
            at.port()
        );
        let (_, text) = text_of(join(place, &network, "closed", &script));
        assert_eq!(text.matches("kept\n").count(), 2, "{text}");
        assert_eq!(text.matches("No route to host").count(), 2, "{text}");
    });
}
