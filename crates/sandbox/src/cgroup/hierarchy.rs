//! Where the machine has its control groups, and in which of them this process is.

use std::fs;
use std::path::{Path, PathBuf};

use super::error::NoControlGroups;

/// Controllers of version 1 that groups of jobs are made for.
pub(super) const CONTROLLERS: [&str; 5] = ["memory", "pids", "cpu", "cpuacct", "blkio"];

/// The version of control groups whose controllers are used.
pub(super) enum Hierarchy {
    /// Version 2.
    Unified {
        /// The folder of this process's group.
        own: PathBuf,
    },
    /// Version 1: a hierarchy for each controller.
    Split,
}

impl Hierarchy {
    /// Finds the version that has these controllers on this machine.
    pub(super) fn find(controllers: &[&'static str]) -> Result<Self, NoControlGroups> {
        let groups = own_groups()?;
        let unified = groups.iter().find(|(controllers, _)| controllers.is_empty());
        if let (Some(at), Some((_, path))) = (mount_point("cgroup2", None), unified) {
            let there = words(&at.join("cgroup.controllers"));
            if controllers.iter().all(|controller| there.iter().any(|one| one == controller)) {
                return Ok(Self::Unified { own: at.join(path) });
            }
        }
        match controllers.iter().find(|controller| split_folder(&groups, controller).is_none()) {
            Some(missing) => Err(NoControlGroups::NoController { missing }),
            None => Ok(Self::Split),
        }
    }
}

/// The groups of this process (proc(5), `/proc/pid/cgroup`): controllers, which are nothing in version 2, and the path.
fn own_groups() -> Result<Vec<(String, String)>, NoControlGroups> {
    let file = Path::new("/proc/self/cgroup");
    let text = fs::read_to_string(file).map_err(|error| NoControlGroups::Refused {
        path: file.to_owned(),
        reason: error.to_string(),
        folder: PathBuf::from("/"),
    })?;
    let parts = text.lines().filter_map(|line| line.split_once(':')?.1.split_once(':'));
    Ok(parts.map(|(controllers, path)| (controllers.to_owned(), path.trim_start_matches('/').to_owned())).collect())
}

/// Where a file system of this kind is mounted that has this option.
pub(super) fn mount_point(kind: &str, option: Option<&str>) -> Option<PathBuf> {
    let mounts = fs::read_to_string("/proc/self/mounts").ok()?;
    mounts.lines().find_map(|line| {
        let mut fields = line.split(' ').skip(1);
        let (at, found, options) = (fields.next()?, fields.next()?, fields.next()?);
        let has = option.is_none_or(|option| options.split(',').any(|one| one == option));
        (found == kind && has).then(|| PathBuf::from(at))
    })
}

/// The folder of this process's group of a controller of version 1.
pub(super) fn of_controller(controller: &str) -> Option<PathBuf> {
    split_folder(&own_groups().ok()?, controller)
}

/// The folders of this process's groups of version 1 in which groups of jobs are made.
pub(super) fn split_folders() -> Vec<PathBuf> {
    let groups = own_groups().unwrap_or_default();
    CONTROLLERS.iter().filter_map(|controller| split_folder(&groups, controller)).collect()
}

fn split_folder(groups: &[(String, String)], controller: &str) -> Option<PathBuf> {
    let has = |names: &str| names.split(',').any(|name| name == controller);
    let (_, path) = groups.iter().find(|(names, _)| has(names))?;
    Some(mount_point("cgroup", Some(controller))?.join(path))
}

/// The words of a file; none of a file that cannot be read.
pub(super) fn words(file: &Path) -> Vec<String> {
    fs::read_to_string(file).unwrap_or_default().split_whitespace().map(str::to_owned).collect()
}
