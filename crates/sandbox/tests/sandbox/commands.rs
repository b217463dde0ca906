//! What a command sees and leaves behind, and how it ends.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::time::{Duration, Instant};

use pondrix_sandbox::{Bind, Exit, MemoryFolder, Rootfs, Spec, check_machine};

use crate::place::{Place, as_root_and_as_user, walk};

/// Whether a process with this word in its command line is alive on the machine.
fn alive(word: &str) -> bool {
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let state = fs::read_to_string(entry.path().join("stat")).unwrap_or_default();
        let numeric = entry.file_name().to_string_lossy().parse::<u32>().is_ok();
        numeric && !state.contains(") Z ") && String::from_utf8_lossy(&line).contains(word)
    })
}

/// A number of seconds to sleep that no other process sleeps, to know a process by.
fn mark(test: u32) -> String {
    format!("{}.{test}", 100_000 + std::process::id())
}

#[test]
fn what_sandboxes_share_is_changed_by_none_of_them() {
    as_root_and_as_user("commands::what_sandboxes_share_is_changed_by_none_of_them", |place| {
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
    as_root_and_as_user("commands::a_command_sees_its_own_root_ids_host_name_and_processes_only", |place| {
        let (exit, text) = place.sh("id -u; hostname; echo $$; ls /; ls -d /proc/[0-9]*");
        assert_eq!(exit, Exit::Status(0), "{text}");
        let lines: Vec<_> = text.lines().collect();
        assert_eq!(&lines[..3], ["0", "pond", "3"], "{text}");
        assert_eq!(&lines[3..], ["bin", "dev", "etc", "proc", "sys", "tmp", "/proc/1", "/proc/3"], "{text}");
    });
}

#[test]
fn the_machine_can_run_sandboxes() {
    as_root_and_as_user("commands::the_machine_can_run_sandboxes", |place| {
        check_machine(&place.launcher, &place.path("check")).unwrap();
    });
}

#[test]
fn the_exit_status_and_the_signal_of_a_command_are_told() {
    as_root_and_as_user("commands::the_exit_status_and_the_signal_of_a_command_are_told", |place| {
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
    as_root_and_as_user("commands::changes_stay_in_the_upper_folder_and_mount_points_leave_no_trace_in_it", |place| {
        let (exit, text) = place.sh("echo new > /etc/new; touch /tmp/gone && mkdir -p /srv/a");
        assert_eq!((exit, text.as_str()), (Exit::Status(0), ""));
        let upper: Vec<_> = walk(&place.path("root/upper"));
        assert_eq!(upper, ["etc", "etc/new", "srv", "srv/a"]);
        assert!(!place.path("layer/etc/new").exists());
        // A second command over the same folder goes on where the first ended.
        assert_eq!(place.sh("cat /etc/new").1, "new\n");
    });
}

#[test]
fn nothing_of_the_machine_is_reachable_and_mounting_is_refused() {
    as_root_and_as_user("commands::nothing_of_the_machine_is_reachable_and_mounting_is_refused", |place| {
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
    as_root_and_as_user("commands::who_may_make_namespaces_mounts_in_those_and_gets_no_more_of_the_machine", |place| {
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
    as_root_and_as_user("commands::a_link_in_the_image_cannot_lead_a_bind_out_of_the_root", |place| {
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
    as_root_and_as_user("commands::a_read_only_bind_cannot_be_written", |place| {
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
    as_root_and_as_user("commands::nothing_of_a_command_is_alive_after_its_end_or_its_kill_or_its_drop", |place| {
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
    as_root_and_as_user("commands::nothing_of_a_command_is_alive_after_the_helper_was_killed", |place| {
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
    as_root_and_as_user("commands::a_command_has_no_part_in_the_conversation_about_it", |place| {
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
    as_root_and_as_user("commands::a_signal_reaches_the_command_and_its_answer_is_heard", |place| {
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
    as_root_and_as_user("commands::a_port_inside_is_reached_through_the_connector_and_no_other_way", |place| {
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
    as_root_and_as_user("commands::a_folder_that_only_its_owner_may_enter_serves_as_a_layer", |place| {
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
