//! Limits of memory, processes and processors, by control groups (cgroups(7)): of version 2 where the
//! machine has its controllers there, else of version 1.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::error::{SetupError, at, context};
use crate::spec::Limits;

/// How many processes and threads of our own are in a group: the helper, the first process inside and
/// the thread that takes orders there; and one while the command is started.
const OWN_PROCESSES: u32 = 4;
/// The same in a group of several sandboxes: of so many at once.
const OWN_PROCESSES_OF_MANY: u32 = 16 * OWN_PROCESSES;
/// The length of time in which a share of the processors is used up, in microseconds.
const PERIOD: u64 = 100_000;
/// How often a group that still ends is tried to be removed.
const REMOVE_TRIES: usize = 50;

/// A control group, of one sandbox or of several; removed when dropped.
#[derive(Debug)]
pub(crate) struct Group(Place);

/// A group, as folders.
#[derive(Clone, Debug)]
enum Place {
    /// One folder of version 2, in which these controllers can be used.
    Unified(PathBuf, Vec<&'static str>),
    /// The folder of each controller of version 1.
    Split(Vec<(&'static str, PathBuf)>),
}

/// The groups of this process (proc(5), `/proc/pid/cgroup`): controllers, which are nothing in version 2,
/// and the path.
fn own_groups() -> io::Result<Vec<(String, String)>> {
    let text = fs::read_to_string("/proc/self/cgroup")?;
    let parts = text.lines().filter_map(|line| line.split_once(':')?.1.split_once(':'));
    Ok(parts.map(|(controllers, path)| (controllers.to_owned(), path.trim_start_matches('/').to_owned())).collect())
}

/// Where a file system of this kind is mounted that has this option.
fn mount_point(kind: &str, option: Option<&str>) -> Option<PathBuf> {
    let mounts = fs::read_to_string("/proc/self/mounts").ok()?;
    mounts.lines().find_map(|line| {
        let mut fields = line.split(' ').skip(1);
        let (at, found, options) = (fields.next()?, fields.next()?, fields.next()?);
        let has = option.is_none_or(|option| options.split(',').any(|one| one == option));
        (found == kind && has).then(|| PathBuf::from(at))
    })
}

fn words(file: &Path) -> Vec<String> {
    fs::read_to_string(file).unwrap_or_default().split_whitespace().map(str::to_owned).collect()
}

impl Place {
    fn find(controllers: &[&'static str]) -> Result<Self, SetupError> {
        let groups = at(own_groups(), Path::new("/proc/self/cgroup"))?;
        let unified = groups.iter().find(|(controllers, _)| controllers.is_empty());
        if let (Some(at), Some((_, path))) = (mount_point("cgroup2", None), unified) {
            let folder = at.join(path);
            let there = words(&folder.join("cgroup.controllers"));
            if controllers.iter().all(|controller| there.iter().any(|one| one == controller)) {
                enable(&folder, controllers)?;
                return Ok(Self::Unified(folder, controllers.to_vec()));
            }
        }
        let mut split = Vec::new();
        for controller in controllers {
            let has = |names: &str| names.split(',').any(|name| name == *controller);
            let group = groups.iter().find(|(names, _)| has(names));
            let at = mount_point("cgroup", Some(controller));
            let (Some((_, path)), Some(at)) = (group, at) else {
                return Err(SetupError::Asked(format!(
                    "this machine has no control group that limits {controller}; have one delegated to the runner (systemd: Delegate=yes)"
                )));
            };
            split.push((*controller, at.join(path)));
        }
        Ok(Self::Split(split))
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
}

impl Limits {
    fn controllers(&self) -> Vec<&'static str> {
        let wanted =
            [("memory", self.memory.is_some()), ("pids", self.processes.is_some()), ("cpu", self.cpu.is_some())];
        wanted.into_iter().filter(|(_, wanted)| *wanted).map(|(name, _)| name).collect()
    }
}

/// Lets groups below a folder of version 2 use controllers. A group with processes of its own may not do
/// so (cgroups(7), "no internal processes"): ours then move into one below.
fn enable(folder: &Path, controllers: &[&'static str]) -> Result<(), SetupError> {
    let control = folder.join("cgroup.subtree_control");
    let enabled = words(&control);
    for controller in controllers.iter().filter(|one| !enabled.iter().any(|name| name == *one)) {
        let doing = format!("have {} limit {controller}", folder.display());
        let order = format!("+{controller}");
        if let Err(error) = fs::write(&control, &order) {
            if error.raw_os_error() != Some(libc::EBUSY) {
                return context(Err(error), doing);
            }
            let own = folder.join("pondrix");
            context(fs::create_dir_all(&own), &doing)?;
            for process in words(&folder.join("cgroup.procs")) {
                // One that has ended meanwhile need not move.
                let _ = fs::write(own.join("cgroup.procs"), process);
            }
            context(fs::write(&control, &order), &doing)?;
        }
    }
    Ok(())
}

impl Group {
    /// A group of one sandbox with these limits, in a group of several or beside the groups of this process; nothing where
    /// there is nothing to limit.
    pub(crate) fn new(limits: &Limits, within: Option<&Self>) -> Result<Option<Self>, SetupError> {
        let wanted = limits.controllers();
        let place = match within {
            None if wanted.is_empty() => return Ok(None),
            None => Place::find(&wanted)?,
            Some(Self(place)) => match wanted.into_iter().find(|controller| !place.has(controller)) {
                Some(missing) => {
                    return Err(SetupError::Asked(format!("this machine does not let a runner limit {missing}")));
                }
                None => place.clone(),
            },
        };
        Self::make(&place, limits, OWN_PROCESSES).map(Some)
    }

    /// A group of several sandboxes, which have no more than this together. Memory and processes can be limited for each
    /// of them, too, and processors where that can be.
    pub(crate) fn of_several(limits: &Limits) -> Result<Self, SetupError> {
        let place = match Place::find(&["memory", "pids", "cpu"]) {
            Err(_) if limits.cpu.is_none() => Place::find(&["memory", "pids"])?,
            found => found?,
        };
        let group = Self::make(&place, limits, OWN_PROCESSES_OF_MANY)?;
        if let Place::Unified(folder, controllers) = &group.0 {
            enable(folder, controllers)?;
        }
        Ok(group)
    }

    fn make(within: &Place, limits: &Limits, own_processes: u32) -> Result<Self, SetupError> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let name = format!("pondrix-{}-{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed));
        let limits = Limits { processes: limits.processes.map(|count| count.saturating_add(own_processes)), ..*limits };
        // Dropped, it removes what was made of it.
        let group = Self(within.below(&name));
        let limited = |result: io::Result<()>, what: &Path| context(at(result, what), "limit the command");
        for (controller, folder) in group.0.folders() {
            limited(fs::create_dir(folder), folder)?;
            let settings = match controller {
                None => unified(&limits),
                Some(controller) => split(&limits, controller),
            };
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

    /// The files that a process writes its number into to belong to the group.
    pub(crate) fn doors(&self) -> Vec<PathBuf> {
        self.0.folders().iter().map(|(_, folder)| folder.join("cgroup.procs")).collect()
    }

    /// How often the kernel started no further process, since this group or one below it had all that it may.
    pub(crate) fn processes_refused(&self) -> u64 {
        let folders = self.0.folders();
        let of_processes = folders.iter().filter(|(controller, _)| controller.is_none_or(|one| one == "pids"));
        let count = |folder: &Path| words(&folder.join("pids.events")).get(1).and_then(|count| count.parse().ok());
        of_processes.filter_map(|(_, folder)| count(folder)).max().unwrap_or(0)
    }

    /// Whether the kernel ended something in it for want of memory.
    pub(crate) fn was_out_of_memory(&self) -> bool {
        let folders = self.0.folders();
        let of_memory = folders.iter().filter(|(controller, _)| controller.is_none_or(|one| one == "memory"));
        let files = |folder: &Path| ["memory.events", "memory.oom_control"].map(|name| folder.join(name));
        of_memory.flat_map(|(_, folder)| files(folder)).any(|file| {
            let words = words(&file);
            words.windows(2).any(|pair| pair[0] == "oom_kill" && pair[1] != "0")
        })
    }
}

/// What is written where in version 2 (kernel documentation, "Control Group v2").
fn unified(limits: &Limits) -> Vec<(&'static str, String)> {
    let mut settings = Vec::new();
    if let Some(bytes) = limits.memory {
        settings.extend([("memory.max", bytes.to_string()), ("memory.swap.max", "0".to_owned())]);
        settings.push(("memory.oom.group", "1".to_owned()));
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

fn quota(thousandths: u32) -> u64 {
    (u64::from(thousandths) * PERIOD / 1000).max(1000)
}

impl Drop for Group {
    fn drop(&mut self) {
        for (_, folder) in self.0.folders() {
            // The last process may not be quite gone yet.
            for _ in 0..REMOVE_TRIES {
                if !matches!(fs::remove_dir(folder), Err(error) if error.kind() != io::ErrorKind::NotFound) {
                    break;
                }
                std::thread::sleep(Duration::from_millis(10));
            }
        }
    }
}
