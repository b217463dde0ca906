//! A place on the machine with a small root file system.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use pondrix_sandbox::{Exit, Launcher, Rootfs, Running, Spec};

/// Set in the process that is the ordinary user.
const AS_USER: &str = "SANDBOX_TEST_AS_USER";
const ORDINARY_USER: u32 = 54_321;

/// A folder with the helper and a root file system of one static program with many names.
pub(crate) struct Place {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) launcher: Launcher,
}

impl Place {
    /// Makes it.
    pub(crate) fn new() -> Self {
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

    /// What is under a name in its folder.
    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Removes a folder, of which overlayfs keeps a part closed (overlayfs, "Upper and Lower", `workdir`).
    pub(crate) fn forget(&self, name: &str) {
        let folder = self.path(name);
        let work = folder.join("work/work");
        if work.exists() {
            fs::set_permissions(&work, PermissionsExt::from_mode(0o700)).unwrap();
        }
        fs::remove_dir_all(folder).unwrap();
    }

    /// A script of the shell, in the root file system.
    pub(crate) fn spec(&self, script: &str) -> Spec {
        Spec {
            argv: ["sh", "-c", script].map(str::to_owned).into(),
            env: BTreeMap::from([("PATH".to_owned(), "/bin".to_owned())]),
            hostname: "pond".to_owned(),
            fresh_tmp: true,
            ..Spec::new(Rootfs::new(vec![self.path("layer")], self.path("root")))
        }
    }

    /// Starts it, with a way to read what it prints.
    pub(crate) fn start(&self, spec: &Spec) -> (Running, std::io::PipeReader) {
        let (reader, writer) = std::io::pipe().unwrap();
        (self.launcher.start(spec, writer.into()).unwrap(), reader)
    }

    /// Starts a script in a root of its own, and waits until it says that it is busy.
    pub(crate) fn busy(&self, launcher: &Launcher, name: &str, script: &str) -> (Running, std::io::PipeReader) {
        let (reader, writer) = std::io::pipe().unwrap();
        let root = Rootfs::new(vec![self.path("layer")], self.path(name));
        let running = launcher.start(&Spec { root, ..self.spec(script) }, writer.into()).unwrap();
        let mut line = String::new();
        BufReader::new(&reader).read_line(&mut line).unwrap();
        assert_eq!(line, "busy\n");
        (running, reader)
    }

    /// Runs to the end: how it ended and all it printed.
    pub(crate) fn run(&self, spec: &Spec) -> (Exit, String) {
        let (mut running, mut output) = self.start(spec);
        let mut text = String::new();
        output.read_to_string(&mut text).unwrap();
        (running.wait(), text)
    }

    /// Runs a script to the end.
    pub(crate) fn sh(&self, script: &str) -> (Exit, String) {
        self.run(&self.spec(script))
    }
}

/// Runs a check here, and as an ordinary user where this is root.
pub(crate) fn as_root_and_as_user(test: &str, check: impl Fn(&Place)) {
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

/// The paths of everything below a folder, sorted.
pub(crate) fn walk(top: &Path) -> Vec<String> {
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
