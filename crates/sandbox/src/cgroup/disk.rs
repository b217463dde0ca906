//! Shares of a busy disk by weight. The kernel has two parts that do this, and both are off on most machines: the I/O
//! scheduler BFQ (kernel documentation, "BFQ (Budget Fair Queueing)") and the cost model of version 2 (kernel
//! documentation, "Control Group v2", "IO Interface Files"). A weight without them has no effect.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::delegated;
use super::hierarchy::mount_point;

/// The part of the kernel that shares a disk among control groups by weight.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DiskShares {
    /// The I/O scheduler BFQ.
    Bfq,
    /// The cost model (`io.cost.qos`).
    Cost,
}

/// Why no part of the kernel shares a disk by weight.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoDiskShares {
    /// There is no controller to set weights with.
    #[error("there is no controller `io` of version 2 here")]
    NoController,
    /// The files are on no disk that the kernel shows.
    #[error("the disk of {} is not known", .0.display())]
    NoDisk(PathBuf),
    /// The disk serves requests without regard to weights.
    #[error("the disk {disk} has the I/O scheduler `{scheduler}`, which has no weights")]
    Scheduler {
        /// The name of the disk, as in `/sys/block`.
        disk: String,
        /// The scheduler in use.
        scheduler: String,
    },
    /// A weight could not be set.
    #[error("could not set {}: {reason}", .file.display())]
    Refused {
        /// The file of the kernel.
        file: PathBuf,
        /// The system's words.
        reason: String,
    },
}

/// Finds out how the disk with this folder can be shared among control groups by weight: looks for the part of the kernel
/// that does it, and sets a weight on a new group. Call it after [`settle`](super::settle).
///
/// # Errors
/// If weights would have no effect, with the reason.
pub fn disk_shares(folder: &Path) -> Result<DiskShares, NoDiskShares> {
    let delegated = delegated::delegated().ok().flatten().filter(|delegated| delegated.controllers.contains(&"io"));
    let Some(delegated) = delegated else { return Err(NoDiskShares::NoController) };
    let no_disk = || NoDiskShares::NoDisk(folder.to_owned());
    let (numbers, disk) = disk_of(folder).ok_or_else(no_disk)?;
    let scheduler = scheduler(&disk).ok_or_else(no_disk)?;
    let shares = if scheduler == "bfq" {
        DiskShares::Bfq
    } else if has_cost_model(&numbers) {
        DiskShares::Cost
    } else {
        let disk = disk.file_name().unwrap_or_default().to_string_lossy().into_owned();
        return Err(NoDiskShares::Scheduler { disk, scheduler });
    };
    try_weight(&delegated.folder.join(super::names::next()), shares)?;
    Ok(shares)
}

/// Sets a weight on a new group, and reads it back.
fn try_weight(group: &Path, shares: DiskShares) -> Result<(), NoDiskShares> {
    let (name, value) = shares.setting(2);
    let file = group.join(name);
    let tried = fs::create_dir(group).and_then(|()| fs::write(&file, &value)).and_then(|()| fs::read_to_string(&file));
    let _ = fs::remove_dir(group);
    match tried {
        Ok(text) if text.split_whitespace().any(|word| word == value) => Ok(()),
        Ok(text) => Err(NoDiskShares::Refused { file, reason: format!("it is still {}", text.trim()) }),
        Err(error) => Err(NoDiskShares::Refused { file, reason: error.to_string() }),
    }
}

impl DiskShares {
    /// The file and the value for a weight of 1 to 100. Without a setting, a group has 100 in both files.
    pub(super) fn setting(self, weight: u32) -> (&'static str, String) {
        let weight = weight.clamp(1, 100);
        match self {
            // At most 1000.
            Self::Bfq => ("io.bfq.weight", (weight * 10).to_string()),
            // At most 10,000.
            Self::Cost => ("io.weight", (weight * 100).to_string()),
        }
    }
}

/// The disk with a folder: its numbers (`254:0`), and its folder below `/sys`.
fn disk_of(folder: &Path) -> Option<(String, PathBuf)> {
    let device = fs::metadata(folder).ok()?.dev();
    let listed = PathBuf::from(format!("/sys/dev/block/{}:{}", rustix::fs::major(device), rustix::fs::minor(device)));
    let listed = if listed.exists() { listed } else { device_of_mount(device)? };
    let mut disk = fs::canonicalize(listed).ok()?;
    if disk.join("partition").exists() {
        disk.pop();
    }
    let numbers = fs::read_to_string(disk.join("dev")).ok()?;
    Some((numbers.trim().to_owned(), disk))
}

/// The device below `/sys` of a mounted file system whose numbers are not those of a disk, as with btrfs
/// (proc_pid_mountinfo(5)).
fn device_of_mount(device: u64) -> Option<PathBuf> {
    let numbers = format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device));
    let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
    let line = mounts.lines().find(|line| line.split(' ').nth(2) == Some(&numbers))?;
    let source = line.split_once(" - ")?.1.split(' ').nth(1)?;
    let device = fs::metadata(source).ok()?.rdev();
    let listed = PathBuf::from(format!("/sys/dev/block/{}:{}", rustix::fs::major(device), rustix::fs::minor(device)));
    listed.exists().then_some(listed)
}

/// The I/O scheduler of a disk: the name in brackets in `none mq-deadline [bfq]`.
fn scheduler(disk: &Path) -> Option<String> {
    let text = fs::read_to_string(disk.join("queue/scheduler")).ok()?;
    let used = |word: &str| word.strip_prefix('[')?.strip_suffix(']').map(str::to_owned);
    Some(text.split_whitespace().find_map(used).unwrap_or_else(|| text.trim().to_owned()))
}

/// Whether the cost model is on for a disk. Only the topmost group of the machine has the file.
fn has_cost_model(numbers: &str) -> bool {
    let read = |at: PathBuf| -> io::Result<String> { fs::read_to_string(at.join("io.cost.qos")) };
    let settings = mount_point("cgroup2", None).map(read).and_then(Result::ok).unwrap_or_default();
    is_on(&settings, numbers)
}

/// Whether `io.cost.qos` has the model on for a disk.
fn is_on(settings: &str, numbers: &str) -> bool {
    let mut lines = settings.lines().map(|line| line.split(' ').collect::<Vec<_>>());
    lines.any(|words| words.first() == Some(&numbers) && words.contains(&"enable=1"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weights_stay_within_what_the_kernel_takes() {
        for (shares, most) in [(DiskShares::Bfq, 1000), (DiskShares::Cost, 10_000)] {
            let values: Vec<u32> = (1..=100).map(|weight| shares.setting(weight).1.parse().unwrap()).collect();
            assert!(values.is_sorted_by(|a, b| a < b) && values[0] >= 1 && values[99] == most);
            assert_eq!(shares.setting(0), shares.setting(1));
            assert_eq!(shares.setting(u32::MAX), shares.setting(100));
        }
    }

    #[test]
    fn the_cost_model_counts_only_for_the_disk_that_has_it_on() {
        let settings = "8:0 enable=0 ctrl=auto rpct=0.00\n254:1 enable=1 ctrl=user rpct=95.00 rlat=75000\n";
        assert!(is_on(settings, "254:1"));
        assert!(!is_on(settings, "8:0") && !is_on(settings, "254:10") && !is_on("", "254:1"));
    }

    #[test]
    fn the_disk_of_each_mounted_file_system_is_found() {
        let mounts = fs::read_to_string("/proc/self/mounts").unwrap();
        let of_disks = mounts.lines().filter(|line| line.starts_with("/dev/"));
        for folder in of_disks.filter_map(|line| line.split(' ').nth(1)).map(Path::new).filter(|path| path.exists()) {
            let (numbers, disk) = disk_of(folder).unwrap_or_else(|| panic!("{}", folder.display()));
            assert!(numbers.contains(':') && disk.starts_with("/sys/devices"), "{numbers} {}", disk.display());
            assert!(!disk.join("partition").exists(), "{}", disk.display());
            assert!(scheduler(&disk).is_none_or(|name| !name.contains(['[', ' '])));
        }
        assert_eq!(disk_of(Path::new("/proc")), None);
    }
}
