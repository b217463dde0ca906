//! Limits, and ids of its own for each place.

use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::path::PathBuf;
use std::process::Command;

use pondrix_sandbox::{Bind, Exit, Limits, Places, Rootfs, Running, Spec};

use crate::place::Place;

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
        let script = "echo made > /shared/first || exit 1; echo own > /etc/own; busybox chown 33:0 /shared/first; busybox \
                      stat -c '%u:%g' /etc/passwd /shared/first; sleep 600";
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
