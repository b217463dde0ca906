//! Tests of what a machine needs to run jobs. Each test does what a job does, and names the fix if it fails.

use std::fs::{self, File};
use std::path::Path;

use pondrix_core::Size;
use pondrix_files::TemporaryFolder;
use pondrix_sandbox::{
    DiskShares, Launcher, NetworkError, NoDiskShares, Places, check_machine, control_groups, disk_shares,
};
use rustix::fs::{StatVfsMountFlags, XattrFlags, fsetxattr, statfs, statvfs};

use crate::bounded::Bounded;
use crate::config::limits_are_usable;

/// The oldest Linux that has all calls that sandboxes need (mount_setattr(2)), as major and minor version.
const OLDEST_KERNEL: (u32, u32) = (5, 12);
/// The fix if the file system of the data folder cannot hold the files of jobs.
const OTHER_FOLDER: &str = "choose a folder on ext4, xfs or btrfs: --data FOLDER";
/// The words of the error if an overlay could not be mounted.
const LAYERS_REFUSED: &str = "mount the layers";
/// The size of the file system that tests disk limits.
const SMALL_DISK: Size = Size::from_bytes(4 << 20);

/// The result of one test.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Check {
    /// The name of the test.
    pub name: &'static str,
    /// The result.
    pub outcome: CheckOutcome,
    /// The finding, or the reason of the failure.
    pub found: String,
    /// What to do if the test did not pass.
    pub fix: Option<String>,
}

/// How a test ended, the best first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum CheckOutcome {
    /// The machine has it.
    Passed,
    /// Jobs run without it, and something does not work.
    Limited,
    /// No job runs without it.
    Failed,
}

impl Check {
    fn passed(name: &'static str, found: impl Into<String>) -> Self {
        Self { name, outcome: CheckOutcome::Passed, found: found.into(), fix: None }
    }

    fn limited(name: &'static str, found: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { name, outcome: CheckOutcome::Limited, found: found.into(), fix: Some(fix.into()) }
    }

    fn failed(name: &'static str, found: impl Into<String>, fix: Option<String>) -> Self {
        Self { name, outcome: CheckOutcome::Failed, found: found.into(), fix }
    }
}

/// Runs all tests. `folder` is the runner's folder, or the nearest existing folder above it.
///
/// # Errors
/// If nothing can be written to `folder`.
pub fn check_all(folder: &Path) -> std::io::Result<Vec<Check>> {
    let mut all = check_required(folder, true)?;
    all.extend(check_optional(folder)?);
    // Few machines have it, so a runner does not mention it each time that it starts.
    all.push(disk_weights(folder));
    Ok(all)
}

/// Tests what no job runs without. Limits need not be usable if `limits` is false.
///
/// # Errors
/// As [`check_all`].
fn check_required(folder: &Path, limits: bool) -> std::io::Result<Vec<Check>> {
    let scratch = TemporaryFolder::new_in(folder)?;
    let mut all = vec![kernel(), data_folder(scratch.path()), namespaces(scratch.path())];
    all.extend(limits.then(groups));
    Ok(all)
}

/// Returns an error unless this machine has what no job runs without.
///
/// # Errors
/// The tests that failed, each with its fix.
pub fn require(folder: &Path, limits: bool) -> Result<(), UnfitMachine> {
    let failed = |check: &Check| check.outcome == CheckOutcome::Failed;
    let checks = check_required(folder, limits)
        .unwrap_or_else(|error| vec![Check::failed("data folder", format!("{}: {error}", folder.display()), None)]);
    let lacks: Vec<_> = checks.into_iter().filter(failed).collect();
    if lacks.is_empty() { Ok(()) } else { Err(UnfitMachine { lacks }) }
}

/// A machine that cannot run jobs.
#[derive(Debug, thiserror::Error)]
#[error("this machine cannot run jobs: {}", words(lacks))]
pub struct UnfitMachine {
    /// The tests that failed.
    pub lacks: Vec<Check>,
}

/// The tests that failed, for people.
fn words(lacks: &[Check]) -> String {
    let one = |check: &Check| {
        let fix = check.fix.as_ref().map(|fix| format!(" Fix: {fix}.")).unwrap_or_default();
        format!("{}: {}.{fix}", check.name, check.found.trim_end_matches('.'))
    };
    lacks.iter().map(one).collect::<Vec<_>>().join("\n")
}

/// Tests what some jobs need.
///
/// # Errors
/// As [`check_all`].
pub(crate) fn check_optional(folder: &Path) -> std::io::Result<Vec<Check>> {
    let scratch = TemporaryFolder::new_in(folder)?;
    Ok(vec![separate_users(scratch.path()), outbound_network(), disk_limits(scratch.path())])
}

fn kernel() -> Check {
    let name = "kernel";
    let release = rustix::system::uname().release().to_string_lossy().into_owned();
    let (major, minor) = OLDEST_KERNEL;
    match version(&release) {
        Some(version) if version < OLDEST_KERNEL => Check::failed(
            name,
            format!("Linux {release}: sandboxes need {major}.{minor}"),
            Some(format!("use Linux {major}.{minor} or newer (Debian 12, Ubuntu 22.04)")),
        ),
        _ => Check::passed(name, format!("Linux {release}")),
    }
}

/// The major and minor version of a release such as `6.1.0-57-cloud-amd64`.
fn version(release: &str) -> Option<(u32, u32)> {
    let mut numbers = release.split(|c: char| !c.is_ascii_digit()).map(str::parse);
    Some((numbers.next()?.ok()?, numbers.next()?.ok()?))
}

/// Tests that programs can be started from the folder, and that overlays can mark files in it (kernel documentation,
/// "Overlay Filesystem", `userxattr`).
fn data_folder(scratch: &Path) -> Check {
    let name = "data folder";
    let other = || Some(OTHER_FOLDER.to_owned());
    let place = scratch.parent().unwrap_or(scratch).display();
    match statvfs(scratch) {
        Err(error) => return Check::failed(name, format!("{place}: {error}"), other()),
        Ok(system) if system.f_flag.contains(StatVfsMountFlags::NOEXEC) => {
            return Check::failed(
                name,
                format!("{place} is mounted with `noexec`: no program of a job's workspace can be started"),
                Some("mount it with `exec`, or choose another folder: --data FOLDER".to_owned()),
            );
        }
        Ok(_) => {}
    }
    let marked = File::create(scratch.join("marked"))
        .and_then(|file| Ok(fsetxattr(file, "user.overlay.test", b"1", XattrFlags::empty())?));
    match marked {
        Err(error) => {
            let words = format!("the file system of {place} has no extended attributes of users ({error})");
            Check::failed(name, words, other())
        }
        Ok(()) => Check::passed(name, format!("{place} can hold the files of jobs")),
    }
}

fn namespaces(scratch: &Path) -> Check {
    let name = "sandbox";
    match check_machine(&Launcher::new(), scratch) {
        Ok(()) => Check::passed(name, "user namespaces, mounts and overlays work"),
        Err(error) => {
            let words = error.to_string();
            let fix = if words.contains(LAYERS_REFUSED) && !is_usual_file_system(scratch) {
                Some(OTHER_FOLDER.to_owned())
            } else {
                obstacle()
            };
            Check::failed(name, words, fix)
        }
    }
}

/// Whether a folder is on a file system on which overlays are known to work. On an overlay, as in most containers, they do
/// not (kernel documentation, "Overlay Filesystem", "Upper and Lower").
fn is_usual_file_system(folder: &Path) -> bool {
    // linux/magic.h: ext4, xfs, btrfs, tmpfs.
    const USUAL: [i64; 4] = [0xef53, 0x5846_5342, 0x9123_683e, 0x0102_1994];
    statfs(folder).is_ok_and(|system| USUAL.contains(&system.f_type))
}

/// A setting of this machine that forbids what sandboxes need, with the command that changes it.
fn obstacle() -> Option<String> {
    let is = |file: &str, value: &str| fs::read_to_string(file).is_ok_and(|text| text.trim() == value);
    let setting = |name: &str, value: &str| {
        format!("run `sysctl -w {name}={value}`, and write `{name} = {value}` into /etc/sysctl.d/60-pondrix.conf")
    };
    let is_root = rustix::process::geteuid().is_root();
    if is("/proc/sys/user/max_user_namespaces", "0") {
        return Some(setting("user.max_user_namespaces", "15000"));
    }
    if !is_root && is("/proc/sys/kernel/unprivileged_userns_clone", "0") {
        return Some(setting("kernel.unprivileged_userns_clone", "1"));
    }
    if !is_root && is("/proc/sys/kernel/apparmor_restrict_unprivileged_userns", "1") {
        return Some(setting("kernel.apparmor_restrict_unprivileged_userns", "0"));
    }
    if fs::read_to_string("/proc/self/status").is_ok_and(|text| text.contains("\nSeccomp:\t2")) {
        return Some(
            "this process is restricted by a seccomp profile, as in a container: start it without one".to_owned(),
        );
    }
    if is("/sys/fs/selinux/enforce", "1") {
        return Some("SELinux is enforcing: `ausearch -m avc -ts recent` shows what it refused".to_owned());
    }
    None
}

fn groups() -> Check {
    let name = "control groups";
    if let Err(error) = limits_are_usable() {
        return Check::failed(name, error.to_string(), None);
    }
    match control_groups() {
        Ok(groups) => Check::passed(name, groups.to_string()),
        Err(error) => Check::failed(name, error.to_string(), None),
    }
}

fn separate_users(scratch: &Path) -> Check {
    let name = "separate users";
    let launcher = Launcher::new();
    if !launcher.ids().is_range() {
        let words = "all jobs run as the runner's own user, since it is not root";
        return Check::limited(name, words, "start the runner as root to give each slot a range of user ids");
    }
    let taken = Places::take(1).map_err(|error| error.to_string());
    let checked = taken.and_then(|places| {
        let first = places.ids.first().copied().ok_or("no range of user ids is free")?;
        let folder = scratch.canonicalize().map_err(|error| error.to_string())?;
        check_machine(&launcher.apart(first, folder.clone()), &folder).map_err(|error| error.to_string())
    });
    match checked {
        Ok(()) => Check::passed(name, "each slot has a range of user ids"),
        Err(words) => Check::limited(
            name,
            format!("jobs that run at the same time share a range of user ids: {words}"),
            "use Linux 5.19 or newer, and a data folder on a file system with ID-mapped mounts (ext4, xfs, btrfs)",
        ),
    }
}

fn outbound_network() -> Check {
    let name = "outbound network";
    let fails = |words: &dyn std::fmt::Display| format!("jobs with `network \"outbound\"` fail: {words}");
    let mut network = match Launcher::new().share_network(Vec::new()) {
        Ok(network) => network,
        Err(error) => return Check::limited(name, fails(&error), "see the test `sandbox`"),
    };
    let error = match network.open_way_out() {
        Ok(()) => return Check::passed(name, "jobs with `network \"outbound\"` can connect to other machines"),
        Err(error) => error,
    };
    let fix = match &error {
        NetworkError::Missing => "install the package `passt`",
        NetworkError::Ended(words) if words.contains(" tun ") => "let the runner open /dev/net/tun (`modprobe tun`)",
        _ => "give this machine an IPv4 address and a default route",
    };
    Check::limited(name, fails(&error), fix)
}

fn disk_limits(scratch: &Path) -> Check {
    let name = "disk limits";
    if !rustix::process::geteuid().is_root() {
        let words =
            "the files of a job with a disk limit are counted several times a second, since the runner is not root";
        return Check::limited(name, words, "start the runner as root to let the kernel enforce disk limits");
    }
    match Bounded::new(scratch, SMALL_DISK, Launcher::new().ids()) {
        Some(_) => Check::passed(name, "the kernel enforces the disk limit of a job"),
        None => Check::limited(
            name,
            "the files of a job with a disk limit are counted several times a second: a file system of limited size cannot be made",
            "install the package `e2fsprogs`, and load the kernel module `loop`",
        ),
    }
}

fn disk_weights(folder: &Path) -> Check {
    let name = "disk weights";
    match disk_shares(folder) {
        Ok(shares) => {
            let by = match shares {
                DiskShares::Bfq => "the I/O scheduler BFQ",
                DiskShares::Cost => "io.cost",
            };
            Check::passed(name, format!("jobs share a busy disk by the weights of their projects, through {by}"))
        }
        Err(error) => {
            let found = format!("the weights of projects have no effect on disks: {error}");
            let fix = match &error {
                NoDiskShares::Scheduler { disk, .. } => {
                    format!(
                        "if jobs wait for the disk: run `echo bfq > /sys/block/{disk}/queue/scheduler` before the runner starts"
                    )
                }
                _ => "none is needed unless jobs wait for the disk".to_owned(),
            };
            Check::limited(name, found, fix)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn releases_of_kernels_are_compared_by_their_numbers() {
        assert_eq!(version("6.1.0-57-cloud-amd64"), Some((6, 1)));
        assert_eq!(version("5.10.0"), Some((5, 10)));
        assert!(version("5.11.22") < Some(OLDEST_KERNEL) && version("5.12-rc1") >= Some(OLDEST_KERNEL));
        assert_eq!(version("linux"), None);
    }

    #[test]
    fn a_folder_on_which_overlays_cannot_mark_files_is_refused_with_its_name() {
        // A file system of the kernel that takes neither files nor attributes.
        let check = data_folder(Path::new("/proc/self"));
        assert_eq!(check.outcome, CheckOutcome::Failed);
        assert!(check.found.contains("/proc") && check.fix.is_some(), "{check:?}");
    }
}
