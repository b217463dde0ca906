//! Limits of memory, processes and CPUs, and the measurement of their use, by control groups (cgroups(7)): version 2 if
//! the machine has its controllers there, else version 1.

mod delegated;
mod disk;
mod error;
mod hierarchy;
mod names;
mod usage;

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

pub use delegated::settle;
pub use disk::{DiskShares, NoDiskShares, disk_shares};
pub use error::NoControlGroups;
pub use usage::Usage;

use crate::error::{SetupError, at, context};
use crate::spec::Limits;
use hierarchy::words;

/// How many processes and threads of our own are in a group: the helper, the first process inside and
/// the thread that takes orders there; and one while the command is started.
const OWN_PROCESSES: u32 = 4;
/// The same in a group of several sandboxes: of so many at once.
const OWN_PROCESSES_OF_MANY: u32 = 16 * OWN_PROCESSES;
/// The length of time in which a share of the CPUs is used up, in microseconds.
const PERIOD: u64 = 100_000;
/// How often a group that still ends is tried to be removed.
const REMOVE_TRIES: usize = 50;
const REMOVE_PAUSE: Duration = Duration::from_millis(10);
/// How often is looked whether a group is empty, and how much longer is waited each time: 30 s in all.
const EMPTY_TRIES: u32 = 245;
const EMPTY_PAUSE: Duration = Duration::from_millis(1);
/// The same for whether a group is frozen: 1 s in all.
const FREEZE_TRIES: u32 = 45;
/// Controllers of version 1 that only count.
const COUNTING: [&str; 2] = ["cpuacct", "blkio"];

/// The control groups in which this process limits commands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ControlGroups {
    /// The version, 1 or 2.
    pub version: u8,
    /// Controllers that limit or measure.
    pub controllers: Vec<&'static str>,
    /// The folder in which groups of jobs are made; nothing for version 1, which has one for each controller.
    pub folder: Option<PathBuf>,
}

impl std::fmt::Display for ControlGroups {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "version {}, controllers {}", self.version, self.controllers.join(", "))?;
        self.folder.as_ref().map_or(Ok(()), |folder| write!(f, ", below {}", folder.display()))
    }
}

/// Finds the control groups in which this process limits commands, after [`settle`].
///
/// # Errors
/// As [`settle`].
pub fn control_groups() -> Result<ControlGroups, NoControlGroups> {
    Ok(match delegated::delegated()? {
        Some(delegated) => ControlGroups {
            version: 2,
            controllers: delegated.controllers.clone(),
            folder: Some(delegated.folder.clone()),
        },
        None => {
            let is_there = |controller: &&&str| hierarchy::of_controller(controller).is_some();
            let controllers = hierarchy::CONTROLLERS.iter().filter(is_there).copied().collect();
            ControlGroups { version: 1, controllers, folder: None }
        }
    })
}

/// A control group, of one sandbox or of several; removed when dropped.
#[derive(Debug)]
pub(crate) struct Group {
    place: Place,
    /// Groups of version 1 that only count, and belong to the group of several.
    counts: Vec<(&'static str, PathBuf)>,
    /// Whether the group is one of several sandboxes.
    is_of_several: bool,
}

/// A group, as folders.
#[derive(Clone, Debug)]
enum Place {
    /// One folder of version 2, in which these controllers can be used.
    Unified(PathBuf, Vec<&'static str>),
    /// The folder of each controller of version 1.
    Split(Vec<(&'static str, PathBuf)>),
}

impl Place {
    /// The place for groups of this process that limit these.
    fn find(controllers: &[&'static str]) -> Result<Self, NoControlGroups> {
        if let Some(delegated) = delegated::delegated()? {
            if let Some(missing) = controllers.iter().find(|controller| !delegated.controllers.contains(controller)) {
                let file = delegated.folder.join("cgroup.controllers");
                let (found, folder) = (words(&file).join(" "), delegated.folder.clone());
                return Err(NoControlGroups::Missing { file, missing, found, folder });
            }
            return Ok(Self::Unified(delegated.folder.clone(), delegated.controllers.clone()));
        }
        let folder = |controller: &&'static str| {
            let folder = hierarchy::of_controller(controller);
            folder.map(|folder| (*controller, folder)).ok_or(NoControlGroups::NoController { missing: controller })
        };
        controllers.iter().map(folder).collect::<Result<_, _>>().map(Self::Split)
    }

    /// A group of this name in it.
    fn below(&self, name: &str) -> Self {
        match self {
            Self::Unified(folder, controllers) => Self::Unified(folder.join(name), controllers.clone()),
            Self::Split(places) => {
                Self::Split(places.iter().map(|(controller, folder)| (*controller, folder.join(name))).collect())
            }
        }
    }

    fn has(&self, controller: &str) -> bool {
        match self {
            Self::Unified(_, controllers) => controllers.contains(&controller),
            Self::Split(places) => places.iter().any(|(one, _)| *one == controller),
        }
    }

    /// The folders, with what each of them limits where it is one thing.
    fn folders(&self) -> Vec<(Option<&'static str>, &Path)> {
        match self {
            Self::Unified(folder, _) => vec![(None, folder.as_path())],
            Self::Split(places) => places.iter().map(|(one, folder)| (Some(*one), folder.as_path())).collect(),
        }
    }

    /// The folder with the files of a controller.
    fn folder_of(&self, controller: &str) -> Option<&Path> {
        self.folders().into_iter().find(|(one, _)| one.is_none_or(|one| one == controller)).map(|(_, folder)| folder)
    }
}

impl Limits {
    fn controllers(&self) -> Vec<&'static str> {
        let limits =
            [("memory", self.memory.is_some()), ("pids", self.processes.is_some()), ("cpu", self.cpu.is_some())];
        limits.into_iter().filter(|(_, is_limited)| *is_limited).map(|(name, _)| name).collect()
    }
}

impl Group {
    /// A group of one sandbox with these limits, below a group of several or next to the other groups of this process.
    /// Returns `None` if there is nothing to limit.
    pub(crate) fn new(limits: &Limits, within: Option<&Self>) -> Result<Option<Self>, SetupError> {
        let controllers = limits.controllers();
        let place = match within {
            None if controllers.is_empty() => return Ok(None),
            None => Place::find(&controllers)?,
            Some(Self { place, .. }) => match controllers.into_iter().find(|controller| !place.has(controller)) {
                Some(missing) => {
                    return Err(SetupError::Asked(format!("this machine does not let a runner limit {missing}")));
                }
                None => place.clone(),
            },
        };
        let mut group = Self::make(&place, limits, false)?;
        group.counts = within.map(|within| within.counts.clone()).unwrap_or_default();
        Ok(Some(group))
    }

    /// A group of several sandboxes, which have no more than this together. Memory and processes can be limited for each
    /// of them, too, and CPUs where that can be.
    pub(crate) fn of_several(limits: &Limits, disk: Option<DiskShares>) -> Result<Self, SetupError> {
        let place = match Place::find(&["memory", "pids", "cpu"]) {
            Err(_) if limits.cpu.is_none() => Place::find(&["memory", "pids"])?,
            found => found?,
        };
        let mut group = Self::make(&place, limits, true)?;
        match &group.place {
            Place::Unified(folder, _) => {
                delegated::enable_all(folder)?;
                if let Some((file, value)) = disk.zip(limits.weight).map(|(disk, weight)| disk.setting(weight)) {
                    // If the disk got another scheduler meanwhile, the file is gone, and the job has no share.
                    let _ = fs::write(folder.join(file), value);
                }
            }
            Place::Split(_) => group.count(),
        }
        Ok(group)
    }

    fn make(within: &Place, limits: &Limits, is_of_several: bool) -> Result<Self, SetupError> {
        let own_processes = if is_of_several { OWN_PROCESSES_OF_MANY } else { OWN_PROCESSES };
        let limits = Limits { processes: limits.processes.map(|count| count.saturating_add(own_processes)), ..*limits };
        // Dropping it removes the folders made so far.
        let group = Self { place: within.below(&names::next()), counts: Vec::new(), is_of_several };
        let limited = |result: io::Result<()>, what: &Path| context(at(result, what), "limit the command");
        for (controller, folder) in group.place.folders() {
            match fs::create_dir(folder) {
                Err(error) if controller.is_some() && error.kind() == io::ErrorKind::PermissionDenied => {
                    let (path, reason) = (folder.to_owned(), error.to_string());
                    return Err(NoControlGroups::RootOnly { path, reason }.into());
                }
                other => limited(other, folder)?,
            }
            let mut settings = match controller {
                None => unified(&limits),
                Some(controller) => split(&limits, controller),
            };
            if controller.is_none() && !is_of_several && group.place.has("memory") {
                // If one process of a sandbox is killed, the others are no use. Other sandboxes of the job continue.
                settings.push(("memory.oom.group", "1".to_owned()));
            }
            if controller.is_none_or(|controller| controller == "cpu") && group.place.has("cpu") {
                settings.extend(limits.weight.map(|weight| shares(weight, controller.is_none())));
            }
            for (file, value) in settings {
                let path = folder.join(file);
                match fs::write(&path, value) {
                    // A machine without swap need not know of limits of it.
                    Err(error) if file.contains("sw") && error.kind() == io::ErrorKind::NotFound => {}
                    other => limited(other, &path)?,
                }
            }
        }
        Ok(group)
    }

    /// Makes groups of version 1 that count what all sandboxes use together, as far as the machine has them.
    fn count(&mut self) {
        let name = names::next();
        let folders =
            COUNTING.iter().filter_map(|controller| Some((*controller, hierarchy::of_controller(controller)?)));
        let made = folders.map(|(controller, folder)| (controller, folder.join(&name)));
        self.counts = made.filter(|(_, folder)| fs::create_dir(folder).is_ok()).collect();
    }

    /// The files that a process writes its number into to belong to the group.
    pub(crate) fn doors(&self) -> Vec<PathBuf> {
        let counting = self.counts.iter().map(|(_, folder)| folder.as_path());
        let folders = self.place.folders();
        folders.iter().map(|(_, folder)| *folder).chain(counting).map(|folder| folder.join("cgroup.procs")).collect()
    }

    /// How often the kernel started no further process, since this group or one below it had all that it may.
    pub(crate) fn processes_refused(&self) -> u64 {
        let count = |folder: &Path| words(&folder.join("pids.events")).get(1).and_then(|count| count.parse().ok());
        self.place.folder_of("pids").and_then(count).unwrap_or(0)
    }

    /// Whether the kernel ended something in it for want of memory.
    pub(crate) fn was_out_of_memory(&self) -> bool {
        let files = |folder: &Path| ["memory.events", "memory.oom_control"].map(|name| folder.join(name));
        self.place.folder_of("memory").into_iter().flat_map(files).any(|file| {
            let words = words(&file);
            words.windows(2).any(|pair| pair[0] == "oom_kill" && pair[1] != "0")
        })
    }

    /// What all processes used that are in it and were in it.
    pub(crate) fn usage(&self) -> Usage {
        match &self.place {
            Place::Unified(folder, _) => Usage::of_unified(folder),
            Place::Split(_) => {
                let counting =
                    |name: &str| self.counts.iter().find(|(one, _)| *one == name).map(|(_, at)| at.as_path());
                let limiting = |name: &str| self.place.folder_of(name);
                Usage::of_split(limiting("memory"), limiting("pids"), counting("cpuacct"), counting("blkio"))
            }
        }
    }

    /// Waits until the group has no process, at most 30 s. A process that is ending still counts.
    pub(crate) fn wait_until_empty(&self) {
        let is_populated = |folder: &Path| match fs::read_to_string(folder.join("cgroup.events")) {
            Ok(events) => events.lines().any(|line| line == "populated 1"),
            // Version 1.
            Err(_) => !words(&folder.join("cgroup.procs")).is_empty(),
        };
        for pause in (0..EMPTY_TRIES).map(|number| EMPTY_PAUSE * number) {
            if !self.place.folders().iter().any(|(_, folder)| is_populated(folder)) {
                return;
            }
            std::thread::sleep(pause);
        }
    }

    /// Ends every process in it, where the machine can do that at once: version 2.
    pub(crate) fn kill(&self) {
        let Place::Unified(folder, _) = &self.place else { return };
        match fs::write(folder.join("cgroup.kill"), "1") {
            // Before Linux 5.14.
            Err(error) if error.kind() == io::ErrorKind::NotFound => kill_frozen(folder),
            // Without processes there is nothing to end; a refusal is seen when the group is not removed.
            _ => {}
        }
    }
}

/// Ends every process in a group and in those directly below: frozen first, so that none starts another meanwhile.
fn kill_frozen(folder: &Path) {
    let _ = fs::write(folder.join("cgroup.freeze"), "1");
    // A process that waits inside the kernel may not freeze; it is killed all the same.
    let is_frozen = || words(&folder.join("cgroup.events")).windows(2).any(|pair| pair == ["frozen", "1"]);
    for pause in (0..FREEZE_TRIES).map(|number| EMPTY_PAUSE * number) {
        if is_frozen() {
            break;
        }
        std::thread::sleep(pause);
    }
    let below = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let folders = below.filter(|path| path.is_dir()).chain([folder.to_owned()]);
    for process in folders.flat_map(|folder| words(&folder.join("cgroup.procs"))) {
        if let Some(process) = process.parse().ok().and_then(rustix::process::Pid::from_raw) {
            let _ = rustix::process::kill_process(process, rustix::process::Signal::KILL);
        }
    }
    // Frozen processes end when they are killed. Another one may be there that ends only when the group runs again.
    let _ = fs::write(folder.join("cgroup.freeze"), "0");
}

/// The files and values of version 2 (kernel documentation, "Control Group v2"). `memory.high` is not set: without swap it
/// slows a command down instead of reporting that it is out of memory.
fn unified(limits: &Limits) -> Vec<(&'static str, String)> {
    let mut settings = Vec::new();
    if let Some(bytes) = limits.memory {
        settings.extend([("memory.max", bytes.to_string()), ("memory.swap.max", "0".to_owned())]);
    }
    settings.extend(limits.processes.map(|count| ("pids.max", count.to_string())));
    settings.extend(limits.cpu.map(|thousandths| ("cpu.max", format!("{} {PERIOD}", quota(thousandths)))));
    settings
}

/// The same in version 1, of one controller.
fn split(limits: &Limits, controller: &str) -> Vec<(&'static str, String)> {
    match controller {
        "memory" => limits.memory.map_or_else(Vec::new, |bytes| {
            ["memory.limit_in_bytes", "memory.memsw.limit_in_bytes"].map(|file| (file, bytes.to_string())).into()
        }),
        "pids" => limits.processes.map(|count| ("pids.max", count.to_string())).into_iter().collect(),
        _ => limits.cpu.map_or_else(Vec::new, |thousandths| {
            let quota = quota(thousandths).to_string();
            vec![("cpu.cfs_period_us", PERIOD.to_string()), ("cpu.cfs_quota_us", quota)]
        }),
    }
}

/// The setting for a weight; a group without one has 100 in version 2, and 1024 in version 1.
fn shares(weight: u32, is_unified: bool) -> (&'static str, String) {
    let weight = weight.clamp(1, 100);
    if is_unified { ("cpu.weight", (weight * 100).to_string()) } else { ("cpu.shares", (weight * 1024).to_string()) }
}

fn quota(thousandths: u32) -> u64 {
    (u64::from(thousandths) * PERIOD / 1000).max(1000)
}

impl Drop for Group {
    fn drop(&mut self) {
        if self.is_of_several {
            self.kill();
            self.wait_until_empty();
        }
        let own_counts = self.counts.iter().filter(|_| self.is_of_several).map(|(_, folder)| folder.as_path());
        for folder in self.place.folders().iter().map(|(_, folder)| *folder).chain(own_counts) {
            // The last process may not be quite gone yet.
            for _ in 0..REMOVE_TRIES {
                if !matches!(fs::remove_dir(folder), Err(error) if error.kind() != io::ErrorKind::NotFound) {
                    break;
                }
                std::thread::sleep(REMOVE_PAUSE);
            }
        }
    }
}

#[cfg(test)]
mod tests;
