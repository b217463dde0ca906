//! A command has nothing to do with the terminal of the person who started the runner, and leaves no core file.

use std::fs::{self, File};
use std::io::{self, Read};
use std::os::fd::AsRawFd;
use std::os::unix::fs::symlink;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};

use crate::place::{Place, as_root_and_as_user};
use pondrix_sandbox::{Bind, Exit, Rootfs, Spec, WithoutTerminal as _};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

/// Set in the process that has a terminal of its own.
const IN_TERMINAL: &str = "SANDBOX_TEST_IN_TERMINAL";

/// A script of Perl, with the machine's Perl and its libraries.
fn perl(place: &Place, script: &str) -> Spec {
    let layer = place.path("links");
    fs::create_dir_all(&layer).unwrap();
    for name in ["bin", "lib", "lib64"] {
        drop(symlink(format!("usr/{name}"), layer.join(name)));
    }
    let usr = Bind { from: "/usr".into(), to: "/usr".to_owned(), read_only: true };
    let root = Rootfs::new(vec![layer], place.path("perl"));
    Spec { argv: ["perl", "-e", script].map(str::to_owned).into(), root, binds: vec![usr], ..place.spec("") }
}

/// Tries to type into every terminal that can be had, and says what came of it.
const TYPES: &str = r#"
    $| = 1;
    my ($push, $console) = (0x5412, 0x541c);
    print "tty: ", (open(my $tty, "+<", "/dev/tty") ? "open" : "closed"), "\n";
    for my $number (0 .. 20) {
        my ($letter, $paste) = ("x", "\x03");
        open(my $file, "+<&=", $number) or next;
        print "typed into $number\n" if ioctl($file, $push, $letter) || ioctl($file, $console, $paste);
        print $file "\e[31mraw" if -t $file;
    }
    open(my $own, "+<", "/dev/ptmx") or die "no terminal of its own: $!";
    my ($unlock, $name) = (pack("i", 0), pack("i", 0));
    ioctl($own, 0x40045431, $unlock) or die "$!";
    ioctl($own, 0x80045430, $name) or die "$!";
    open(my $far, "+<", "/dev/pts/" . unpack("i", $name)) or die "$!";
    my $letter = "x";
    print "its own: ", (ioctl($far, $push, $letter) ? "typed" : "$!"), "\n";
"#;

/// Runs this test once more, as a process whose controlling terminal is a new one, and answers what it printed and what
/// came to that terminal: on its screen, and as typed.
fn in_a_terminal(test: &str) -> (String, Vec<u8>, i32) {
    let screen = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&screen).unwrap();
    unlockpt(&screen).unwrap();
    let name = ptsname(&screen, Vec::new()).unwrap();
    let keyboard = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", test, "--nocapture"]).env(IN_TERMINAL, "1").stdin(keyboard.try_clone().unwrap());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    // SAFETY: between fork and exec only setsid(2) and ioctl(2) are called, the latter on the child's standard input.
    unsafe {
        command.pre_exec(|| {
            rustix::process::setsid()?;
            match libc::ioctl(0, libc::TIOCSCTTY, 0) {
                -1 => Err(io::Error::last_os_error()),
                _ => Ok(()),
            }
        });
    }
    let output = command.output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{text}");
    let mut typed: i32 = 0;
    // SAFETY: FIONREAD writes an int, which `typed` is and which outlives the call.
    assert!(unsafe { libc::ioctl(keyboard.as_raw_fd(), libc::FIONREAD, &raw mut typed) } >= 0);
    let (mut shown, mut buffer) = (Vec::new(), [0; 4096]);
    rustix::io::ioctl_fionbio(&screen, true).unwrap();
    let mut screen = File::from(screen);
    while let Ok(count @ 1..) = screen.read(&mut buffer) {
        shown.extend_from_slice(&buffer[..count]);
    }
    (text, shown, typed)
}

#[test]
fn a_command_neither_types_into_the_terminal_of_the_runner_nor_writes_to_it() {
    let name = "terminal::a_command_neither_types_into_the_terminal_of_the_runner_nor_writes_to_it";
    if std::env::var_os(IN_TERMINAL).is_some() {
        assert!(File::open("/dev/tty").is_ok(), "this process has a terminal");
        let place = Place::new();
        let (exit, text) = place.run(&perl(&place, TYPES));
        eprintln!("{exit:?} {text}");
        // What is started beside sandboxes has none either.
        let mut other = Command::new("perl");
        other.args(["-e", TYPES]).stdin(Stdio::null()).without_terminal();
        eprintln!("beside: {}", String::from_utf8_lossy(&other.output().unwrap().stdout));
        return;
    }
    as_root_and_as_user(name, |_| {
        let (text, shown, typed) = in_a_terminal(name);
        assert!(text.contains("Status(0) tty: closed\nits own: Operation not permitted\n"), "{text}");
        assert!(text.contains("beside: tty: closed\n") && !text.contains("typed into"), "{text}");
        assert_eq!((String::from_utf8_lossy(&shown).as_ref(), typed), ("", 0));
    });
}

#[test]
fn no_core_file_is_left_and_no_command_changes_that() {
    as_root_and_as_user("terminal::no_core_file_is_left_and_no_command_changes_that", |place| {
        let limit = "busybox grep core /proc/self/limits";
        let script =
            format!("{limit}; ulimit -c 0 && {limit}; ulimit -c unlimited && {limit}; ulimit -n 64 && ulimit -n");
        let (exit, text) = place.sh(&script);
        let lines: Vec<_> = text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ")).collect();
        let one = "Max core file size 1 1 bytes";
        assert_eq!((exit, lines), (Exit::Status(0), [one, one, one, "64"].map(str::to_owned).into()), "{text}");
    });
}

#[test]
fn the_first_process_inside_shows_and_gives_nothing_of_itself() {
    as_root_and_as_user("terminal::the_first_process_inside_shows_and_gives_nothing_of_itself", |place| {
        let script = "for name in exe root cwd maps environ fd fd/0 fd/3 mem syscall; do \
            test -r /proc/1/$name && cat /proc/1/$name && echo read $name; busybox chmod 777 /proc/1/$name && echo changed $name; \
            done 2>/dev/null; ls /proc/1/fd /proc/1/root/ || echo closed";
        let (exit, text) = place.sh(script);
        assert_eq!(exit, Exit::Status(0), "{text}");
        assert!(text.ends_with("closed\n") && !text.contains("read ") && !text.contains("changed "), "{text}");
        // By the calls of debuggers: PTRACE_ATTACH, and pidfd_open and pidfd_getfd.
        let script = r#"
            print "attach: ", (syscall(101, 16, 1, 0, 0) == -1 ? $! : "attached"), "\n";
            my $first = syscall(434, 1, 0);
            print "first: ", ($first > 0 ? "found" : $!), "\n";
            for my $number (0 .. 20) { print "got $number\n" if syscall(438, $first, $number, 0) >= 0 }
        "#;
        if cfg!(target_arch = "x86_64") {
            let (exit, text) = place.run(&perl(place, script));
            let refused = "attach: Operation not permitted\nfirst: found\n";
            assert_eq!((exit, text.as_str()), (Exit::Status(0), refused));
        }
    });
}
