//! Names of groups, and the removal of groups that processes left which are gone.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

/// What the names of leaves begin with.
const LEAF: &str = "pondrix-leaf-";
/// What the names of groups of jobs begin with.
const JOB: &str = "pondrix-job-";
/// The leaf of processes that were in the group before this program.
pub(super) const LEAF_OF_OTHERS: &str = "pondrix-leaf-others";

/// This process among all of the machine: the namespace of its number, and its number.
fn process() -> String {
    format!("{}-{}", namespace(), std::process::id())
}

/// The namespace that process numbers are of (pid_namespaces(7)).
fn namespace() -> u64 {
    fs::metadata("/proc/self/ns/pid").map_or(0, |namespace| namespace.ino())
}

/// The name of this process's leaf.
pub(super) fn leaf() -> String {
    format!("{LEAF}{}", process())
}

/// Whether a group is a leaf of a process of this program.
pub(super) fn is_leaf(folder: &Path) -> bool {
    folder.file_name().and_then(|name| name.to_str()).is_some_and(|name| name.starts_with(LEAF))
}

/// The name of a further group of this process.
pub(super) fn next() -> String {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    format!("{JOB}{}-{}", process(), NUMBER.fetch_add(1, Ordering::Relaxed))
}

/// Removes the empty groups that killed processes of this program left in these folders.
pub(super) fn remove_left_groups(folders: &[PathBuf]) {
    for folder in folders {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            if entry.file_name().to_str().is_some_and(is_left) {
                remove(&entry.path());
            }
        }
    }
}

/// Whether the process that made a group of this name has ended.
fn is_left(name: &str) -> bool {
    let Some(process) = name.strip_prefix(LEAF).or_else(|| name.strip_prefix(JOB)) else { return false };
    let mut parts = process.split('-').map(|part| part.parse::<u64>().ok());
    match (parts.next().flatten(), parts.next().flatten()) {
        (Some(of), Some(id)) => of == namespace() && !Path::new(&format!("/proc/{id}")).exists(),
        _ => false,
    }
}

/// Removes a group and those below it, as far as no process is in them.
pub(super) fn remove(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            let _ = fs::remove_dir(entry.path());
        }
    }
    let _ = fs::remove_dir(folder);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_of_gone_processes_are_known_and_no_others() {
        let gone = i32::MAX;
        let here = namespace();
        for left in [format!("{LEAF}{here}-{gone}"), format!("{JOB}{here}-{gone}-7")] {
            assert!(is_left(&left), "{left}");
        }
        let elsewhere = format!("{JOB}{}-{gone}-7", here + 1);
        for kept in [leaf().as_str(), &next(), LEAF_OF_OTHERS, &elsewhere, "pondrix-job-", "user.slice"] {
            assert!(!is_left(kept), "{kept}");
        }
    }
}
