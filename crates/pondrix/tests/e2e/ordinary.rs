//! Attacks from inside a job of a runner that an ordinary user of the machine has started.

use std::os::unix::fs::chown;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use pondrix_standin::garden::REGISTRY;
use rustix::process::{Pid, Signal, kill_process};

use crate::attacks::{SNOOP, SOCKETS, fills_no_disk, leaves_nothing, neighbour, said, tries, world_with};
use crate::outside::{lists_of_each_are_as_meant, recipes_find_no_way_out, steps_find_no_way_out};
use crate::support::{PONDRIX, World, one_job, until};

/// The number of a user whom nobody else is.
const ORDINARY_USER: u32 = 54_321;
/// The pool of its runner.
const HERE: &str = "runner pool=\"plain\"\n";

/// Control groups that are the user's to divide, of version 1: one for each controller. Removed when dropped.
struct Groups(Vec<PathBuf>);

impl Groups {
    /// Makes them below this process's own; nothing where the machine's controllers are in version 2.
    fn new() -> Option<Self> {
        let own = std::fs::read_to_string("/proc/self/cgroup").unwrap();
        let folders = ["memory", "pids", "cpu"].map(|controller| {
            let path = own.lines().find_map(|line| {
                let (names, path) = line.split_once(':')?.1.split_once(':')?;
                names.split(',').any(|name| name == controller).then_some(path)
            })?;
            let folder = Path::new("/sys/fs/cgroup").join(controller).join(path.trim_start_matches('/'));
            Some(folder.join(format!("ordinary-{}", std::process::id())))
        });
        let groups = Self(folders.into_iter().collect::<Option<_>>()?);
        for folder in &groups.0 {
            std::fs::create_dir(folder).unwrap();
            chown(folder, Some(ORDINARY_USER), Some(ORDINARY_USER)).unwrap();
        }
        Some(groups)
    }
}

impl Drop for Groups {
    fn drop(&mut self) {
        for folder in &self.0 {
            let below = std::fs::read_dir(folder).into_iter().flatten().flatten();
            below.filter(|entry| entry.path().is_dir()).for_each(|entry| drop(std::fs::remove_dir(entry.path())));
            let _ = std::fs::remove_dir(folder);
        }
    }
}

/// A runner of the user's, in a pool of its own. Dropped, it is ended before its groups are removed.
struct OrdinaryRunner {
    child: Child,
    folder: tempfile::TempDir,
    _groups: Option<Groups>,
}

impl Drop for OrdinaryRunner {
    fn drop(&mut self) {
        let _ = kill_process(Pid::from_child(&self.child), Signal::TERM);
        let _ = self.child.wait();
    }
}

impl OrdinaryRunner {
    async fn start(world: &World, options: &[&str], groups: Option<Groups>) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let token = folder.path().join("token");
        std::fs::copy(world.runner_token("plain-1", &["--pool", "plain"]), &token).unwrap();
        // The build's own folder may be closed to others. By another process: a file that this one writes may be held open
        // by a neighbour's fork, and then cannot be started.
        let program = folder.path().join("pondrix");
        assert!(Command::new("cp").arg(PONDRIX).arg(&program).status().unwrap().success());
        for path in [folder.path(), &token] {
            chown(path, Some(ORDINARY_USER), Some(ORDINARY_USER)).unwrap();
        }
        // Into its groups as root, and then as the user.
        let enter = "groups=$1; shift; for one in $groups; do echo $$ > $one/cgroup.procs || exit 1; done; \
                     exec setpriv --reuid $0 --regid $0 --clear-groups \"$@\"";
        let places = groups.iter().flat_map(|groups| &groups.0).map(|folder| folder.display().to_string());
        let child = Command::new("sh")
            .args(["-c", enter, &ORDINARY_USER.to_string(), &places.collect::<Vec<_>>().join(" ")])
            .arg(&program)
            .args(["runner", "join", "--slots", "1", "--keep-free", "1B", "--server", world.url()])
            .args(options)
            .arg("--token-file")
            .arg(&token)
            .arg("--data")
            .arg(folder.path().join("data"))
            .current_dir("/")
            .env("HOME", folder.path())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        let runner = Self { child: child.unwrap(), folder, _groups: groups };
        until("the ordinary user's runner", async || {
            let runners = world.client.runners().await.ok()?.runners;
            runners.iter().any(|one| one.name == "plain-1" && one.here).then_some(())
        })
        .await;
        runner
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_of_an_ordinary_users_runner_has_no_more_than_one_of_roots() {
    if !rustix::process::geteuid().is_root() {
        eprintln!("all of these tests are an ordinary user's already");
        return;
    }
    let world = World::new().await;
    let runner = OrdinaryRunner::start(&world, &["--without-limits"], None).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for (name, script) in [("tries.sh", tries()), ("snoop.sh", SNOOP.to_owned()), ("sockets.pl", SOCKETS.to_owned())] {
        repository.write(name, &script).unwrap();
    }
    let (run, log) = said(&world, &repository, &format!("{HERE}step \"sh tries.sh\"\nstep \"sh snoop.sh\"")).await;
    assert_eq!(world.end_of(&run).await.stages[0].jobs[0].runner.as_deref(), Some("plain-1"));
    assert!(log.contains("tried\n") && log.contains("looked\n") && !log.contains("done: "), "{log}");
    let token = std::fs::read_to_string(runner.folder.path().join("token")).unwrap();
    let own = runner.folder.path().display().to_string();
    for secret in [token.trim(), &world.token, "records.db", "secrets.key", "runner join", &own] {
        assert!(!log.contains(secret), "`{secret}` was found: {log}");
    }
    // What the machine's programs can say, too: perl.
    let on_host = one_job(&format!("{HERE}step \"perl sockets.pl\""))
        .replace(&format!("container \"{REGISTRY}/base/shell:1\""), "on-host");
    repository.write("pondrix.kdl", &on_host).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Sockets").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let had: Vec<_> = log.lines().collect();
    assert_eq!(had, ["unix", "internet", "datagrams", "routes", "six", "tried"], "{log}");
    recipes_find_no_way_out(&world, &repository, HERE).await;
    steps_find_no_way_out(&world, &repository, HERE).await;
    lists_of_each_are_as_meant(&world, &repository, HERE).await;
    // What will not end ends with its job.
    let mark = format!("{}.5432", 100_000 + std::process::id());
    let stay = format!("{HERE}limit time=\"2s\"\nstep \"trap '' TERM; (setsid sleep {mark} &); sleep {mark}\"");
    said(&world, &repository, &stay).await;
    assert_eq!(crate::support::processes_with(&mark), 0);
    neighbour(&world).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_of_an_ordinary_users_runner_that_may_limit_takes_no_more_than_one_of_roots() {
    if !rustix::process::geteuid().is_root() {
        eprintln!("all of these tests are an ordinary user's already");
        return;
    }
    let Some(groups) = Groups::new() else {
        eprintln!("the machine's control groups are of version 2, which root does not give to a user by hand");
        return;
    };
    let world = world_with(&["--log-limit", "1MiB"]).await;
    let limits = ["--job-memory", "96MiB", "--job-processes", "40", "--job-disk", "64MiB"];
    let _runner = OrdinaryRunner::start(&world, &limits, Some(groups)).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for (greedy, words) in [
        ("x=$(head -c 200000000 /dev/zero | tr '\\\\0' a)", "it would have needed more than the job's limit of memory"),
        ("bomb() { bomb | bomb & }; bomb; sleep 3", "it would have been more than the job's limit of processes"),
        ("head -c 100000000 /dev/zero > large; sleep 300", "the job has written more than its limit of 64MiB"),
        (
            "p=$(printf 'a/%.0s' $(seq 1900)); mkdir -p $p; cd -P $p; mkdir -p $p; cd -P $p; head -c 100000000 /dev/zero > large; sleep 300",
            "the job has written more than its limit of 64MiB",
        ),
    ] {
        let (run, log) = said(&world, &repository, &format!("{HERE}step \"{greedy}\"")).await;
        assert_eq!(world.end_of(&run).await.stages[0].jobs[0].runner.as_deref(), Some("plain-1"));
        assert!(log.contains(words), "{greedy}: {log}");
    }
    neighbour(&world).await;
    leaves_nothing(&world, &repository, HERE).await;
    fills_no_disk(&world, &repository, HERE).await;
}
