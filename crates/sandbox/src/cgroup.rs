//! Limits of memory, processes and processors, by control groups (cgroups(7)): of version 2 where the
//! machine has its controllers there, else of version 1.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::error::{SetupError, at, told};
use crate::spec::Limits;

/// How many processes and threads of our own are in a group: the helper, the first process inside and
/// the thread that takes orders there; and one while the command is started.
const OWN_PROCESSES: u32 = 4;
/// The length of time in which a share of the processors is used up, in microseconds.
const PERIOD: u64 = 100_000;
/// How often a group that still ends is tried to be removed.
const REMOVE_TRIES: usize = 50;

/// A control group of one sandbox, removed when dropped.
#[derive(Debug)]
pub(crate) struct Group {
    folders: Vec<PathBuf>,
    memory: Option<PathBuf>,
}

/// Where groups can be made.
enum Place {
    /// The folder of version 2, with all that is needed.
    Unified(PathBuf),
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
                return Ok(Self::Unified(folder));
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
                return told(Err(error), doing);
            }
            let own = folder.join("pondrix");
            told(fs::create_dir_all(&own), &doing)?;
            for process in words(&folder.join("cgroup.procs")) {
                // One that has ended meanwhile need not move.
                let _ = fs::write(own.join("cgroup.procs"), process);
            }
            told(fs::write(&control, &order), &doing)?;
        }
    }
    Ok(())
}

impl Group {
    /// A group with these limits; nothing where there is nothing to limit.
    pub(crate) fn new(limits: &Limits) -> Result<Option<Self>, SetupError> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let wanted =
            [("memory", limits.memory.is_some()), ("pids", limits.processes.is_some()), ("cpu", limits.cpu.is_some())];
        let controllers: Vec<_> = wanted.iter().filter(|(_, wanted)| *wanted).map(|(name, _)| *name).collect();
        if controllers.is_empty() {
            return Ok(None);
        }
        let name = format!("pondrix-{}-{}", std::process::id(), NUMBER.fetch_add(1, Ordering::Relaxed));
        let mut group = Self { folders: Vec::new(), memory: None };
        match Place::find(&controllers)? {
            Place::Unified(folder) => group.make(&folder.join(name), limits, &unified(limits))?,
            Place::Split(places) => {
                for (controller, folder) in places {
                    let settings: Vec<_> = split(limits).into_iter().filter(|one| one.0 == controller).collect();
                    let settings: Vec<_> = settings.into_iter().map(|(_, file, value)| (file, value)).collect();
                    let of_memory = Limits { memory: limits.memory.filter(|_| controller == "memory"), ..*limits };
                    group.make(&folder.join(&name), &of_memory, &settings)?;
                }
            }
        }
        Ok(Some(group))
    }

    fn make(&mut self, folder: &Path, limits: &Limits, settings: &[(&str, String)]) -> Result<(), SetupError> {
        let limited = |result: io::Result<()>, what: &Path| told(at(result, what), "limit the command");
        limited(fs::create_dir(folder), folder)?;
        self.folders.push(folder.to_owned());
        if limits.memory.is_some() {
            self.memory = Some(folder.to_owned());
        }
        for (file, value) in settings {
            let path = folder.join(file);
            match fs::write(&path, value) {
                // A machine without swap need not know of limits of it.
                Err(error) if file.contains("sw") && error.kind() == io::ErrorKind::NotFound => {}
                other => limited(other, &path)?,
            }
        }
        Ok(())
    }

    /// The files that a process writes its number into to belong to the group.
    pub(crate) fn doors(&self) -> Vec<PathBuf> {
        self.folders.iter().map(|folder| folder.join("cgroup.procs")).collect()
    }

    /// Whether the kernel ended something in it for want of memory.
    pub(crate) fn was_out_of_memory(&self) -> bool {
        let Some(folder) = &self.memory else { return false };
        let files = ["memory.events", "memory.oom_control"].map(|name| folder.join(name));
        files.iter().any(|file| {
            let words = words(file);
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
    settings.extend(limits.processes.map(|count| ("pids.max", (count + OWN_PROCESSES).to_string())));
    settings.extend(limits.cpu.map(|thousandths| ("cpu.max", format!("{} {PERIOD}", quota(thousandths)))));
    settings
}

/// The same in version 1, with the controller in front.
fn split(limits: &Limits) -> Vec<(&'static str, &'static str, String)> {
    let mut settings = Vec::new();
    if let Some(bytes) = limits.memory {
        settings.push(("memory", "memory.limit_in_bytes", bytes.to_string()));
        settings.push(("memory", "memory.memsw.limit_in_bytes", bytes.to_string()));
    }
    settings.extend(limits.processes.map(|count| ("pids", "pids.max", (count + OWN_PROCESSES).to_string())));
    if let Some(thousandths) = limits.cpu {
        settings.push(("cpu", "cpu.cfs_period_us", PERIOD.to_string()));
        settings.push(("cpu", "cpu.cfs_quota_us", quota(thousandths).to_string()));
    }
    settings
}

fn quota(thousandths: u32) -> u64 {
    (u64::from(thousandths) * PERIOD / 1000).max(1000)
}

impl Drop for Group {
    fn drop(&mut self) {
        for folder in &self.folders {
            // The last process may not be quite gone yet.
            for _ in 0..REMOVE_TRIES {
                if fs::remove_dir(folder).is_ok() {
                    break;
                }
                std::thread::sleep(Duration::from_millis(10));
            }
        }
    }
}
