//! What a machine needs to run jobs, and what jobs used of it.

use std::path::Path;
use std::process::{Command, Output};

use crate::support::{PONDRIX, World, one_job};

/// `pondrix runner check` with a folder in which `prepare` was run, in a mount namespace of its own.
fn checked(folder: &Path, prepare: &str) -> Output {
    let script = format!("{prepare} && exec \"$0\" runner check --json --data \"$1\"");
    let is_root = rustix::process::geteuid().is_root();
    let mut command = Command::new("unshare");
    command.args((!is_root).then_some("--map-root-user")).args(["--mount", "sh", "-c", &script, PONDRIX]);
    command.arg(folder).output().unwrap()
}

#[test]
fn the_check_of_a_machine_names_each_test_and_what_to_change_where_one_fails() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().display();
    let mounted = format!("mount -t tmpfs -o noexec none {at}");
    let said = checked(folder.path(), &mounted);
    assert_eq!(said.status.code(), Some(1), "{said:?}");
    let checks: Vec<serde_json::Value> = serde_json::from_slice(&said.stdout).unwrap();
    let names: Vec<_> = checks.iter().map(|check| check["check"].as_str().unwrap()).collect();
    let of_all = ["kernel", "data folder", "sandbox", "control groups"];
    let of_some = ["separate users", "outbound network", "disk limits", "disk weights"];
    assert_eq!(names, [of_all, of_some].concat());
    assert_eq!(checks[1]["outcome"], "failed");
    assert_eq!(
        checks[1]["found"],
        format!("{at} is mounted with `noexec`: no program of a job's workspace can be started")
    );
    assert_eq!(checks[1]["fix"], "mount it with `exec`, or choose another folder: --data FOLDER");
    // The server does not start there either, and says the same.
    let serve = format!("{mounted} && exec \"$0\" serve --listen 127.0.0.1:0 --data \"$1\" ; true");
    let mut command = Command::new("unshare");
    command.args((!rustix::process::geteuid().is_root()).then_some("--map-root-user"));
    let said = command.args(["--mount", "sh", "-c", &serve, PONDRIX]).arg(folder.path()).output().unwrap();
    let errors = String::from_utf8_lossy(&said.stderr);
    assert!(
        errors.contains("this machine cannot run jobs: data folder: ") && errors.contains("runner check"),
        "{errors}"
    );
    // On an overlay, as in most containers, no further overlay can have its changes.
    let overlay =
        "mkdir $1/l $1/u $1/w && mount -t overlay none -o lowerdir=$1/l,upperdir=$1/u,workdir=$1/w,userxattr $1";
    let said = checked(folder.path(), overlay);
    let checks: Vec<serde_json::Value> = serde_json::from_slice(&said.stdout).unwrap();
    assert_eq!((&checks[2]["check"], &checks[2]["outcome"]), (&"sandbox".into(), &"failed".into()));
    assert_eq!(checks[2]["fix"], "choose a folder on ext4, xfs or btrfs: --data FOLDER");
    if rustix::process::geteuid().is_root() {
        // Of this machine itself: an ordinary user may lack a control group.
        let said = checked(folder.path(), "true");
        assert_eq!(said.status.code(), Some(0), "{said:?}");
    }
}

/// `setarch` has the kernel report another version.
#[test]
fn an_old_kernel_and_an_old_git_are_refused_with_the_version_to_use() {
    let folder = tempfile::tempdir().unwrap();
    let mut old = Command::new("setarch");
    old.args(["--uname-2.6", PONDRIX, "runner", "check", "--json", "--data"]).arg(folder.path());
    let said = old.output().unwrap();
    let checks: Vec<serde_json::Value> = serde_json::from_slice(&said.stdout).unwrap();
    assert_eq!((said.status.code(), checks[0]["outcome"].as_str()), (Some(1), Some("failed")), "{said:?}");
    assert_eq!(checks[0]["fix"], "use Linux 5.12 or newer (Debian 12, Ubuntu 22.04)");
    let serve = |before: &[&str], path: &str| {
        let mut command = Command::new("env");
        command
            .args(before)
            .args([PONDRIX, "serve", "--listen", "127.0.0.1:0", "--data"])
            .arg(folder.path().join("data"));
        let said = command.env("PATH", path).output().unwrap();
        assert_eq!(said.status.code(), Some(1), "{said:?}");
        String::from_utf8_lossy(&said.stderr).into_owned()
    };
    let path = std::env::var("PATH").unwrap();
    let said = serve(&["setarch", "--uname-2.6"], &path);
    assert!(said.contains("this machine cannot run jobs: kernel: Linux 2.6"), "{said}");
    let git = folder.path().join("git");
    std::fs::write(&git, "#!/bin/sh\necho git version 2.30.2\n").unwrap();
    std::fs::set_permissions(&git, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let said = serve(&[], &format!("{}:{path}", folder.path().display()));
    let words =
        "this machine has an old git (`git version 2.30.2`); the server needs 2.39\n  fix: install git 2.39 or newer";
    assert!(said.contains(words), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_shows_what_it_used_of_its_runner() {
    let world = World::new().await;
    let lines = "step \"head -c 60000000 /dev/zero > /tmp/held; sleep 0.1 & wait\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    world.passes(&run).await;
    let detail = world.client.run(&run).await.unwrap();
    let usage = detail.stages[0].jobs[0].usage.expect("what it used");
    assert!(usage.memory.is_some_and(|bytes| bytes > 60_000_000), "{usage:?}");
    assert!(usage.cpu_millis.is_some(), "{usage:?}");
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    assert!(shown.out.contains(" MB of memory, ") && shown.out.contains(" of CPU time, "), "{}", shown.out);
}
