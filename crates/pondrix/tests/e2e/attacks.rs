//! What code of strangers tries from inside a job, and what becomes of it: each is refused or bounded, the run says which
//! limit it met, and neighbours do not notice.

use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository};

use crate::someone::Someone;
use crate::support::{PATIENCE, Server, World, one_job, until};

/// A world whose runner was started with these options.
pub(crate) async fn world_with(options: &[&str]) -> World {
    let mut world = World::new().await;
    let mut server = world.server.take().unwrap();
    let address = server.url.trim_start_matches("http://").to_owned();
    server.end();
    world.server = Some(Server::start_allowing(&world.folder.path().join("server"), &address, options));
    world
}

/// A run of one script.
pub(crate) async fn started(world: &World, repository: &Repository, lines: &str) -> RunId {
    repository.write("pondrix.kdl", &one_job(lines)).unwrap();
    world.run_of("plant-labels", &repository.push("An attack").unwrap()).await
}

/// The log of a job of one script, however it ended.
pub(crate) async fn said(world: &World, repository: &Repository, lines: &str) -> (RunId, String) {
    let run = started(world, repository, lines).await;
    world.end_of(&run).await;
    let log = world.log(&run, "verify/unit").await;
    (run, log)
}

/// A job of a neighbour, which is to go on as if nothing was.
pub(crate) async fn neighbour(world: &World) {
    let (_, run) = world.run_of_pipeline("seed-bank", &one_job("step \"echo sown\"")).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "sown\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_has_no_more_memory_and_processes_than_its_runners_owner_says_whatever_its_file_does() {
    let world = world_with(&["--job-memory", "96MiB", "--job-processes", "40", "--job-cpu", "1.5"]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    // A step, with nothing said in the file: in a file in memory, and in the process itself.
    for greedy in ["head -c 200000000 /dev/zero > /tmp/held", "x=$(head -c 200000000 /dev/zero | tr '\\0' a)"] {
        repository.write("greedy.sh", greedy).unwrap();
        let (run, log) = said(&world, &repository, "step \"sh greedy.sh\"").await;
        assert!(log.contains("it would have needed more than the job's limit of memory"), "{greedy}: {log}");
        assert_eq!(world.end_of(&run).await.summary.state, State::Failed);
    }
    // A service beside the step, whose file says nothing either.
    let service = format!(
        "service \"hog\" \"{REGISTRY}/base/shell:1\" {{\n\
         run \"head -c 200000000 /dev/zero > /dev/shm/held && sleep 600\"\nready tcp=8080 within=\"2m\"\n}}\n"
    );
    let (run, log) = said(&world, &repository, &(service + "step \"echo here\"")).await;
    let what = world.end_of(&run).await.failure.unwrap().what;
    assert!(what.contains("it needed more memory than the job may use"), "{what}: {log}");
    // A command that starts itself again and again.
    let bomb = "step \"bomb() { bomb | bomb & }; bomb; i=0; while [ $i -lt 500 ]; do sleep 600 & i=$((i+1)); done\"";
    let (_, log) = said(&world, &repository, bomb).await;
    let told = "something of this step was not started: it would have been more than the job's limit of processes";
    assert!(log.contains("can't fork") && log.contains(told), "{log}");
    neighbour(&world).await;
    // More than that cannot be asked for either.
    for (limit, words) in [
        ("memory=\"1GiB\"", "the job asks for 1GiB of memory, and jobs of this runner may use 96MiB"),
        ("processes=500", "the job asks for 500 processes, and jobs of this runner may use 40"),
        ("cpu=4", "the job asks for 4 processors, and jobs of this runner may use 1.5"),
    ] {
        let (run, _) = said(&world, &repository, &format!("limit {limit}\nstep \"true\"")).await;
        let what = world.end_of(&run).await.failure.unwrap().what;
        assert!(what.contains(words), "{what}");
    }
    // Nor by a command of a recipe.
    let image = format!(
        "start commit=\"main\"\nstage \"package\" {{ image \"labels\" {{ push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }} }} }}\n"
    );
    repository.write("pondrix.kdl", &image).unwrap();
    let recipe = "RUN x=$(head -c 200000000 /dev/zero | tr '\\0' a)";
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n{recipe}\n")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("A recipe").unwrap()).await;
    let what = world.end_of(&run).await.failure.unwrap().what;
    assert!(what.contains("it would have needed more memory than the job may use"), "{what}");
}

/// What a command of a job reads that is none of its own.
pub(crate) const SNOOP: &str = r#"
    for place in /proc/1/root/ /proc/1/cwd /proc/self/root/proc/1/environ; do ls $place >/dev/null 2>&1; done
    tr '\0' '\n' < /proc/1/environ
    cat /proc/*/cmdline 2>/dev/null | tr '\0' ' '
    grep -l -r pdx_ /proc/[0-9]*/environ 2>/dev/null
    ls /dev; ls -a / /root /home 2>/dev/null
    cat /proc/mounts
    find / -xdev \( -name 'records.db*' -o -name own-1.token -o -name secrets.key \) 2>/dev/null
    echo looked
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_job_finds_nothing_of_its_runner_the_server_or_other_jobs() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("snoop.sh", SNOOP).unwrap();
    let (_, log) = said(&world, &repository, "step \"sh snoop.sh\"").await;
    assert!(log.contains("looked\n"), "{log}");
    let token = std::fs::read_to_string(world.folder.path().join("server/own-1.token")).unwrap();
    for secret in
        [token.trim(), &world.token, "records.db", "secrets.key", "own-1.token", "pondrix serve", "runner join"]
    {
        assert!(!log.contains(secret), "`{secret}` was found: {log}");
    }
}

/// What a command of a job has no right to.
const TRIES: [&str; 16] = [
    "mknod /disk b 254 0",
    "mknod /memory c 1 1",
    "mount -t tmpfs x /mnt",
    "mount -o remount,rw /proc/sys",
    "umount /proc",
    "unshare -m true",
    "unshare -U true",
    "chroot /proc/1/root true",
    "hostname other",
    "dd if=/dev/mem bs=1 count=1",
    "echo 1 > /proc/sys/kernel/sysrq",
    "echo c > /proc/sysrq-trigger",
    "echo x > /sys/kernel/uevent_helper",
    "ping -c 1 127.0.0.1",
    "kill -9 1 && sleep 1 && ! kill -0 1",
    "nice -n -10 true",
];

/// A script that says of each whether it was done.
pub(crate) fn tries() -> String {
    let tries = TRIES.map(|one| format!("if {one} 2>/dev/null; then echo \"done: {one}\"; fi\n"));
    tries.concat() + "echo tried\n"
}

/// Links and programs with rights of their owner, for whoever takes what a job leaves: nobody gets them.
pub(crate) async fn leaves_nothing(world: &World, repository: &Repository, here: &str) {
    let plant = "step \"ln -s /etc/passwd left; mkdir out; ln -s / out/up; cp /bin/busybox out/own; chmod 4755 out/own\"\n\
                 artifact \"out\" \"out/**\" \"left\"";
    let (run, _) = said(world, repository, &format!("{here}{plant}")).await;
    let into = world.folder.path().join("fetched");
    let fetch = ["artifact", "fetch", &run.to_string(), "out", "--into", into.to_str().unwrap()];
    let fetched = world.pondrix(&fetch).await;
    assert_eq!(fetched.status, 0, "{fetched:?}");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(into.join("out/own")).unwrap().permissions());
    assert_eq!(mode & 0o7000, 0, "a program with its owner's rights is left");
    for link in ["left", "out/up"] {
        assert!(into.join(link).symlink_metadata().is_err(), "{link} leads out of what was fetched: {fetched:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_makes_no_devices_mounts_or_namespaces_and_what_it_leaves_is_nobodys_else() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("tries.sh", &tries()).unwrap();
    let (_, log) = said(&world, &repository, "step \"sh tries.sh\"").await;
    assert!(log.ends_with("tried\n"), "{log}");
    assert!(!log.contains("done: "), "{log}");
    leaves_nothing(&world, &repository, "").await;
    neighbour(&world).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_will_not_end_is_ended_with_its_job() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let mark = format!("{}.4711", 100_000 + std::process::id());
    let script =
        format!("trap '' TERM INT HUP\n(trap '' TERM; (trap '' TERM; setsid sleep {mark} &) &)\nsleep {mark}\n");
    repository.write("stay.sh", &script).unwrap();
    let (run, _) = said(&world, &repository, "limit time=\"2s\"\nstep \"sh stay.sh\"").await;
    assert!(world.end_of(&run).await.failure.unwrap().what.contains("2s"));
    let alive = std::fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let line = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&line).replace('\0', " ").contains(&format!("sleep {mark}"))
    });
    assert!(!alive, "something of the job is alive");
}

/// Perl, which every Debian has, as the numbers of socket(2) are for families and kinds: what may be had, and what not.
pub(crate) const SOCKETS: &str = r#"
    for (["unix", 1, 1], ["internet", 2, 1], ["datagrams", 2, 2], ["routes", 16, 3], ["six", 10, 1],
         ["hypervisor", 40, 1], ["ciphers", 38, 5], ["packets", 17, 3], ["raw", 2, 3], ["raw six", 10, 3],
         ["old packets", 2, 10], ["bluetooth", 31, 1], ["can", 29, 3], ["xdp", 44, 3]) {
        my ($name, $family, $kind) = @$_;
        print "$name\n" if socket(my $socket, $family, $kind, 0);
    }
    print "tried\n";
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_job_has_sockets_of_the_internet_and_of_its_own_and_no_others() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("sockets.pl", SOCKETS).unwrap();
    let pipeline = "start commit=\"main\"\nstage \"verify\" { job \"unit\" { on-host\n step \"perl sockets.pl\" } }\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Sockets").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let made: Vec<_> = log.lines().filter(|line| *line != "six").collect();
    assert_eq!(made, ["unix", "internet", "datagrams", "routes", "tried"], "{log}");
}

/// What becomes of system calls, by their numbers (x86-64): the result, or why there is none.
#[cfg(target_arch = "x86_64")]
const CALLS: &str = r#"
    use POSIX;
    my $child = fork();
    if (!$child) { sleep 60; exit }
    for (["own number", 39], ["another convention", 0x40000027], ["of a kernel to come", 999], ["segments", 154, 0, 0, 0],
         ["clone3", 435, 0, 0], ["ring", 425, 8, 0], ["program of the kernel", 321, 0, 0, 0], ["keys", 250, 0, 0, 0, 0, 0],
         ["own users", 272, 0x10000000], ["own users at birth", 56, 0x10000011, 0, 0, 0, 0],
         ["own mounts at birth", 56, 0x20011, 0, 0, 0, 0], ["kernel's log", 103, 10, 0, 0], ["counters", 298, 0, 0, 0, 0, 0],
         ["page faults", 323, 0], ["clock", 227, 0, 0], ["by handle", 304, 3, 0, 0], ["name", 170, 0, 0],
         ["into init", 101, 16, 1, 0, 0], ["into its child", 101, 0x4206, $child, 0, 0]) {
        my ($name, @call) = @$_;
        my $got = syscall($call[0], @call[1 .. $#call]);
        print "$name: ", ($got < 0 ? POSIX::strerror($! + 0) : "done"), "\n";
    }
    kill 9, $child;
"#;

#[cfg(target_arch = "x86_64")]
#[tokio::test(flavor = "multi_thread")]
async fn a_job_has_the_system_calls_of_a_list_and_looks_into_its_own_processes_only() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("calls.pl", CALLS).unwrap();
    let pipeline = "start commit=\"main\"\nstage \"verify\" { job \"unit\" { on-host\n step \"perl calls.pl\" } }\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Calls").unwrap()).await;
    world.passes(&run).await;
    let (refused, unknown) = ("Operation not permitted", "Function not implemented");
    let expected = [
        ("own number", "done"),
        ("another convention", unknown),
        ("of a kernel to come", unknown),
        ("segments", unknown),
        ("clone3", unknown),
        ("ring", refused),
        ("program of the kernel", refused),
        ("keys", refused),
        ("own users", refused),
        ("own users at birth", refused),
        ("own mounts at birth", refused),
        ("kernel's log", refused),
        ("counters", refused),
        ("page faults", refused),
        ("clock", refused),
        ("by handle", refused),
        ("name", refused),
        ("into init", refused),
        ("into its child", "done"),
    ];
    let expected: String = expected.iter().map(|(call, answer)| format!("{call}: {answer}\n")).collect();
    assert_eq!(world.log(&run, "verify/unit").await, expected);
}

/// Ten gigabytes in one line, beside a secret: the log has its beginning and its end, and says what is between.
pub(crate) async fn fills_no_disk(world: &World, repository: &Repository, here: &str) {
    let lines = "secret \"KEY\"\n step \"echo it begins\"\n \
                 step \"dd if=/dev/zero bs=1M count=50 2>&- | tr '\\\\0' x > part; \
                 for i in $(seq 200); do cat part; done; echo; echo the last of it: $KEY\"\n \
                 step \"echo the next step; false\"";
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "KEY"], "opens-every-gate").0);
    let run = started(world, repository, &format!("{here}{lines}")).await;
    let ended = world.until_within(&run, 10 * PATIENCE, |run| run.summary.state.is_over()).await;
    assert_eq!(ended.summary.state, State::Failed, "its last step fails on purpose");
    let log = world.log(&run, "verify/unit").await;
    assert!(log.len() < (1 << 20) + 100_000, "{} bytes", log.len());
    assert!(log.starts_with("it begins\nxxxx"), "{}", &log[..40]);
    assert!(log.contains("\n(here the log has reached 1MiB, the most that is kept of a job;"));
    let end = &log[log.len() - 120..];
    // 10,000 MiB and the ends of two lines, without the first MiB.
    assert!(end.ends_with("(10484711435B are left out here)\nthe last of it: (secret KEY)\nthe next step\n"), "{end}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_without_an_end_fills_nobodys_disk_and_what_came_last_is_kept() {
    let world = world_with(&["--log-limit", "1MiB"]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    fills_no_disk(&world, &repository, "").await;
    neighbour(&world).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn names_with_control_characters_move_nobodys_cursor() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let made = "step \"mkdir out; printf x > \\\"out/$(printf 'a\\\\033]0;owned\\\\007\\\\033[2Jb\\\\nc')\\\"\"\n artifact \"out\" \"out/**\"";
    let (run, log) = said(&world, &repository, made).await;
    let into = world.folder.path().join("fetched");
    let number = run.to_string();
    for command in [
        &["artifact", "list", &number][..],
        &["artifact", "fetch", &number, "out", "--into", into.to_str().unwrap()],
        &["show", &number],
        &["audit", "list"],
    ] {
        let said = world.pondrix(command).await;
        let all = format!("{}{}", said.out, said.err);
        assert!(said.status < 2 && !all.contains(['\u{1b}', '\u{7}']), "{command:?} {said:?} {log}");
    }
    // Whoever names a thing so in a question is answered without it too.
    let asked = Someone::with(&world, "admin", &world.token);
    let odd = asked.ask(&reqwest::Method::DELETE, "/api/v1/runners/a%1B%5B2Jb", serde_json::json!({})).await;
    assert_eq!(odd.status(), 422);
    let said = world.pondrix(&["runner", "remove", "a\u{1b}[2Jb"]).await;
    assert!(said.status != 0 && !said.err.contains('\u{1b}'), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_kernel_shows_a_job_nothing_of_the_machine_and_its_settings_are_not_to_be_changed() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let script = "for one in /proc/kcore /proc/keys /proc/kmsg /proc/kallsyms /proc/timer_list /proc/sched_debug; do\n\
                  if [ -e $one ] && [ -n \"$(head -c 100 $one 2>/dev/null | tr -d '\\0')\" ]; then echo \"read: $one\"; fi\ndone\n\
                  for one in /proc/acpi /proc/scsi /sys/firmware; do\n\
                  if [ -n \"$(ls -A $one 2>/dev/null)\" ]; then echo \"read: $one\"; fi\ndone\n\
                  for one in /proc/sys/kernel/core_pattern /proc/sys/vm/drop_caches /proc/sysrq-trigger /proc/sys/kernel/ns_last_pid; do\n\
                  if (echo 1 > $one) 2>/dev/null; then echo \"written: $one\"; fi\ndone\n\
                  ulimit -c\numount /proc/sys 2>/dev/null && echo unmounted\necho tried\n";
    repository.write("look.sh", script).unwrap();
    let (_, log) = said(&world, &repository, "step \"sh look.sh\"").await;
    assert_eq!(log, "0\ntried\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_on_the_machines_programs_reads_those_and_nothing_of_its_owner() {
    let world = World::new().await;
    let own = tempfile::tempdir_in("/opt").unwrap();
    std::fs::write(own.path().join("licence"), "of-the-owner").unwrap();
    let licence = own.path().join("licence").display().to_string();
    let (repository, _) = world.project("plant-labels", &[]).await;
    let script = format!(
        "cat {licence} /etc/shadow /etc/hostname /root/.bashrc 2>/dev/null\nls / /etc | tr '\\n' ' '\nid -un\n\
         awk 'BEGIN {{ print \"it works\" }}'\n"
    );
    repository.write("look.sh", &script).unwrap();
    let pipeline = "start commit=\"main\"\nstage \"verify\" { job \"unit\" { on-host\n step \"sh look.sh\" } }\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Look").unwrap()).await;
    let ended = world.end_of(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert_eq!(ended.summary.state, State::Passed, "{log}");
    assert!(!log.contains("of-the-owner") && !log.contains("shadow") && !log.contains(" opt "), "{log}");
    assert!(log.ends_with("root\nit works\n") && log.contains("alternatives"), "{log}");
    // A runner's own folder is never below what is shown.
    let token = world.runner_token("fern", &[]).display().to_string();
    let joined = ["runner", "join", "--server", world.url(), "--token-file", &token, "--without-limits"];
    for (data, more) in [("/usr/local/pondrix", &[][..]), ("/opt/pondrix/below", &["--readable", "/opt"])] {
        let said = world.pondrix(&[&joined[..], &["--data", data], more].concat()).await;
        assert!(said.status == 1 && said.err.contains("jobs with `on-host` read all of /"), "{said:?}");
        assert!(!std::path::Path::new(data).exists(), "{data} was made");
    }
}

/// How long the step of a neighbour's job took, in milliseconds: the shortest of three.
async fn neighbours_time(world: &World) -> u64 {
    let mut shortest = u64::MAX;
    for _ in 0..3 {
        let started = world.pondrix(&["start", "seed-bank", "--json"]).await;
        let started: serde_json::Value = serde_json::from_str(&started.out).unwrap();
        let run = started["run"].as_str().unwrap().parse().unwrap();
        let detail = world.passes(&run).await;
        let step = &detail.stages[0].jobs[0].steps[0];
        shortest = shortest.min(step.ended.unwrap().since(step.started.unwrap()));
    }
    shortest
}

#[tokio::test(flavor = "multi_thread")]
async fn neighbours_take_as_long_beside_a_job_that_wants_all_of_everything_as_without_it() {
    let limits = ["--job-memory", "96MiB", "--job-processes", "60", "--job-cpu", "1", "--job-disk", "64MiB"];
    let world = world_with(&limits).await;
    let count = "step \"i=0; while [ $i -lt 150000 ]; do i=$((i+1)); done\"";
    let (_, sown) = world.run_of_pipeline("seed-bank", &one_job(count)).await;
    world.passes(&sown).await;
    let alone = neighbours_time(&world).await;
    // Processors, processes, memory and the disk at once, for as long as it may.
    let (hog, _) = world.project("plant-labels", &[]).await;
    let greedy = "for i in 1 2 3 4; do (while :; do :; done) & done\n\
                  (while :; do for i in 1 2 3 4 5 6 7 8 9; do sleep 1 & done; wait; done) &\n\
                  (while :; do head -c 30000000 /dev/zero > written; done) &\n\
                  (while :; do x=$(head -c 200000000 /dev/zero | tr '\\0' a); done) &\n\
                  echo all; wait\n";
    hog.write("hog.sh", greedy).unwrap();
    hog.write("pondrix.kdl", &one_job("limit time=\"5m\"\nstep \"sh hog.sh || true; sh hog.sh || true; sh hog.sh\""))
        .unwrap();
    let run = world.run_of("plant-labels", &hog.push("All of it").unwrap()).await;
    until("the hog", async || world.log(&run, "verify/unit").await.contains("all").then_some(())).await;
    let beside = neighbours_time(&world).await;
    world.pondrix(&["stop", &run.to_string()]).await;
    world.end_of(&run).await;
    // One has half of the processors of a small machine; a run takes a while longer where others share them, too.
    assert!(beside < 4 * alone + 1000, "{beside} ms beside it, {alone} ms alone");
}
