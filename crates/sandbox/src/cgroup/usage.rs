//! What processes in a control group used.

use std::fs;
use std::path::Path;
use std::time::Duration;

use super::hierarchy::words;

/// What the processes of a sandbox, or of several, used together. A kernel that does not count something leaves it out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// The most memory at one time, in bytes, with the page cache of their files.
    pub memory: Option<u64>,
    /// Time of CPUs, of all together.
    pub cpu: Option<Duration>,
    /// The most processes and threads at one time, including four of each sandbox itself.
    pub processes: Option<u64>,
    /// Bytes that were read from disks.
    pub read: Option<u64>,
    /// Bytes that were written to disks. Version 1 does not count what the kernel writes later.
    pub written: Option<u64>,
}

impl Usage {
    /// Of a group of version 2 (kernel documentation, "Control Group v2").
    pub(super) fn of_unified(folder: &Path) -> Self {
        let io = fs::read_to_string(folder.join("io.stat")).ok();
        let sum = |key: &str| io.as_ref().map(|io| sum_of_devices(io, key));
        Self {
            // Since Linux 5.19.
            memory: number(&folder.join("memory.peak")),
            cpu: pair(&folder.join("cpu.stat"), "usage_usec").map(Duration::from_micros),
            // Since Linux 6.1.
            processes: number(&folder.join("pids.peak")),
            read: sum("rbytes"),
            written: sum("wbytes"),
        }
    }

    /// Of the groups of version 1 for each controller (kernel documentation, "Control Groups version 1").
    pub(super) fn of_split(
        memory: Option<&Path>,
        pids: Option<&Path>,
        cpuacct: Option<&Path>,
        blkio: Option<&Path>,
    ) -> Self {
        let file = |folder: Option<&Path>, name: &str| folder.and_then(|folder| number(&folder.join(name)));
        let name = "blkio.throttle.io_service_bytes_recursive";
        let io = blkio.and_then(|folder| fs::read_to_string(folder.join(name)).ok());
        let sum = |key: &str| io.as_ref().map(|io| sum_of_lines(io, key));
        Self {
            memory: file(memory, "memory.max_usage_in_bytes"),
            cpu: file(cpuacct, "cpuacct.usage").map(Duration::from_nanos),
            processes: file(pids, "pids.peak"),
            read: sum("Read"),
            written: sum("Write"),
        }
    }
}

/// The only number of a file.
fn number(file: &Path) -> Option<u64> {
    fs::read_to_string(file).ok()?.trim().parse().ok()
}

/// The number after a word.
fn pair(file: &Path, key: &str) -> Option<u64> {
    words(file).windows(2).find(|pair| pair[0] == key)?[1].parse().ok()
}

/// Whether a device passes all on to others, which count it too (a volume of several disks, an encrypted one).
fn is_stacked(device: &str) -> bool {
    fs::read_dir(format!("/sys/dev/block/{device}/slaves")).is_ok_and(|mut others| others.next().is_some())
}

/// The sum of a key in lines as `8:0 rbytes=1 wbytes=2`.
fn sum_of_devices(text: &str, key: &str) -> u64 {
    let value = |line: &str| {
        let mut words = line.split(' ');
        words.next().filter(|device| !is_stacked(device))?;
        words.find_map(|word| word.strip_prefix(key)?.strip_prefix('=')?.parse::<u64>().ok())
    };
    text.lines().filter_map(value).sum()
}

/// The sum of a key in lines as `8:0 Read 1`.
fn sum_of_lines(text: &str, key: &str) -> u64 {
    let value = |line: &str| match line.split(' ').collect::<Vec<_>>()[..] {
        [device, name, bytes] if name == key && !is_stacked(device) => bytes.parse::<u64>().ok(),
        _ => None,
    };
    text.lines().filter_map(value).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_of_all_disks_are_added_in_the_form_of_both_versions() {
        let second =
            "900:0 rbytes=100 wbytes=20 rios=3 wios=4 dbytes=7 dios=1\n900:16 rbytes=5 wbytes=0 rios=1 wios=0\n";
        assert_eq!((sum_of_devices(second, "rbytes"), sum_of_devices(second, "wbytes")), (105, 20));
        let first = "900:0 Read 100\n900:0 Write 20\n900:0 Sync 1\n900:16 Read 5\nTotal 126\n";
        assert_eq!((sum_of_lines(first, "Read"), sum_of_lines(first, "Write")), (105, 20));
    }
}
