use std::process::{Command, Stdio};

use super::*;

/// An empty group of version 2, where this process may make one; without controllers it needs no delegation.
struct Empty(PathBuf);

impl Empty {
    fn new() -> io::Result<Self> {
        let at = hierarchy::mount_point("cgroup2", None).ok_or(io::ErrorKind::NotFound)?;
        let own = fs::read_to_string("/proc/self/cgroup")?;
        let own = own.lines().find_map(|line| line.strip_prefix("0::/")).unwrap_or_default();
        let folder = at.join(own).join(names::next());
        fs::create_dir(&folder)?;
        Ok(Self(folder))
    }

    fn processes(&self) -> Vec<String> {
        words(&self.0.join("cgroup.procs"))
    }
}

impl Drop for Empty {
    fn drop(&mut self) {
        // If the test failed, its processes go on.
        let _ = fs::write(self.0.join("cgroup.kill"), "1");
        for _ in 0..REMOVE_TRIES {
            if fs::remove_dir(&self.0).is_ok() {
                break;
            }
            std::thread::sleep(REMOVE_PAUSE);
        }
    }
}

/// Linux before 5.14 has no `cgroup.kill`. These processes are new ones by the time that a list of them is read.
#[test]
fn a_group_of_processes_that_replace_themselves_is_ended_without_the_kernels_help() {
    let group = match Empty::new() {
        Ok(group) => group,
        Err(error) => return eprintln!("this machine lets this process make no group of version 2: {error}"),
    };
    // Each process starts the next one and ends.
    let next = "sh -c \"$0\" \"$0\" &";
    let first = format!("echo 0 > {}/cgroup.procs || exit 1; for i in $(seq 30); do {next} done", group.0.display());
    let status = Command::new("sh").args(["-c", &first, next]).stdin(Stdio::null()).status().unwrap();
    assert!(status.success());
    assert_ne!(words(&group.0.join("cgroup.events"))[..2], ["populated", "0"], "nothing runs in the group");
    kill_frozen(&group.0);
    let place = Place::Unified(group.0.clone(), Vec::new());
    let ended = Group { place, counts: Vec::new(), is_of_several: false };
    ended.wait_until_empty();
    let events = words(&group.0.join("cgroup.events"));
    assert_eq!((events[..2].join(" "), group.processes()), ("populated 0".to_owned(), Vec::new()));
}
