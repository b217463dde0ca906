//! Limits, and ids of its own for each place.

use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::path::PathBuf;
use std::process::Command;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use pondrix_sandbox::{Bind, Exit, Limits, Places, Rootfs, Running, Spec, control_groups, settle};

use crate::place::Place;

/// Held by each test that looks for groups that are left: the others of this process would be found.
static GROUPS: Mutex<()> = Mutex::new(());

/// Several sandboxes have no more than they may have together, and each less where that is told.
fn limits_hold_together(place: &Place) {
    // What of our own is in sandboxes does not count: of 16 sandboxes.
    let limits = Limits { memory: Some(96 << 20), processes: Some(20), ..Limits::default() };
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
    // Which of them is ended is the kernel's choice. It may end both: the file of the first one is there for a moment longer
    // than its processes.
    let (_, said, out_of_memory) = end(start("second", none, hold));
    assert!(out_of_memory || first.0.was_out_of_memory(), "{said}");
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
    let _alone = GROUPS.lock().unwrap_or_else(PoisonError::into_inner);
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
    assert_eq!(groups_left(), Vec::<String>::new());
}

/// The groups that this process made for jobs and that are still there.
fn groups_left() -> Vec<String> {
    let find = ["-c", "find /sys/fs/cgroup -name 'pondrix-job-*' -type d 2>/dev/null"];
    let found = String::from_utf8(Command::new("sh").args(find).output().unwrap().stdout).unwrap();
    let own = format!("-{}-", std::process::id());
    found.lines().filter(|path| path.contains(&own)).map(str::to_owned).collect()
}

#[test]
fn many_jobs_at_once_move_no_process_and_what_each_used_is_measured() {
    let _alone = GROUPS.lock().unwrap_or_else(PoisonError::into_inner);
    settle().unwrap();
    let own_groups = || fs::read_to_string("/proc/self/cgroup").unwrap();
    let before = own_groups();
    let groups = control_groups().unwrap();
    // This process is in a leaf of its own below the delegated group, where groups of version 2 are used.
    assert_eq!(groups.version == 2, before.contains("/pondrix-leaf-"), "{groups} {before}");
    let place = Place::new();
    let limits = Limits { memory: Some(256 << 20), processes: Some(50), ..Limits::default() };
    let job = |number: usize| {
        let launcher = place.launcher.limited(&limits).unwrap();
        let root = Rootfs::new(vec![place.path("layer")], place.path(&format!("job-{number}")));
        let script = "busybox head -c 62914560 /dev/zero > /tmp/held; sleep 0.1 & wait; echo used";
        let (mut output, writer) = std::io::pipe().unwrap();
        let mut running = launcher.start(&Spec { root, ..place.spec(script) }, writer.into()).unwrap();
        let mut said = String::new();
        output.read_to_string(&mut said).unwrap();
        assert_eq!((running.wait(), said.as_str()), (Exit::Status(0), "used\n"));
        drop(running);
        let usage = launcher.usage().unwrap();
        let memory = usage.memory.unwrap();
        assert!((62_914_560..256 << 20).contains(&memory), "{usage:?}");
        assert!(usage.cpu.unwrap() > Duration::ZERO, "{usage:?}");
        // Kernels before 6.1 do not count.
        assert!(usage.processes.is_none_or(|peak| (3..50).contains(&peak)), "{usage:?}");
        if groups.version == 2 && groups.controllers.contains(&"io") {
            assert!(usage.read.is_some() && usage.written.is_some(), "{usage:?}");
        }
    };
    std::thread::scope(|scope| {
        for thread in 0..4 {
            let job = &job;
            scope.spawn(move || (0..3).for_each(|round| job(thread * 3 + round)));
        }
    });
    assert_eq!(own_groups(), before);
    assert_eq!(groups_left(), Vec::<String>::new());
}

#[test]
fn jobs_share_busy_cpus_by_the_weights_of_their_projects() {
    let _alone = GROUPS.lock().unwrap_or_else(PoisonError::into_inner);
    if !control_groups().unwrap().controllers.contains(&"cpu") {
        eprintln!("this machine has no controller for CPUs here: nothing to see");
        return;
    }
    let place = Place::new();
    let busy = "i=0; while [ $i -lt 32 ]; do sh -c 'while :; do :; done' & i=$((i+1)); done; echo busy; wait";
    let limits = Limits { memory: Some(256 << 20), processes: Some(100), ..Limits::default() };
    let start = |name: &str, weight: u32| {
        let launcher = place.launcher.limited(&Limits { weight: Some(weight), ..limits }).unwrap();
        let (running, reader) = place.busy(&launcher, name, busy);
        (launcher, running, reader)
    };
    let (light, mut heavy) = (start("light", 1), start("heavy", 16));
    let (light_group, heavy_group) = (light.0.clone(), heavy.0.clone());
    let used = || [&light_group, &heavy_group].map(|launcher| launcher.usage().unwrap().cpu.unwrap());
    let before = used();
    // As long as it takes, however busy the machine is.
    let [light_used, heavy_used] = loop {
        let now = used();
        let since = [now[0] - before[0], now[1] - before[1]];
        if since[0] + since[1] > Duration::from_secs(4) {
            break since;
        }
        assert!(heavy.1.wait_at_most(Duration::from_millis(50)).is_none());
    };
    drop((light, heavy));
    assert!(heavy_used > 3 * light_used, "{heavy_used:?} and {light_used:?}");
}
