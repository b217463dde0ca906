//! The file systems through which the kernel shows itself: `/proc`, `/sys` and `/dev`.

use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{FileType, Mode, OFlags, mkdirat, openat, symlinkat};
use rustix::mount::MountAttrFlags;

use crate::Network;
use crate::error::{SetupError, at, context};
use crate::inside::{Root, beneath, path_only};
use crate::trees::{Tree, facts};

/// Devices of the machine that are shown inside. Making new ones is not allowed to us. `/dev/tty` is not among them: no
/// command has a terminal.
const DEVICES: [&str; 5] = ["null", "zero", "full", "random", "urandom"];
/// The name in `/dev` of a script that the caller shows: [`crate::SCRIPT_AT`].
const SCRIPT: &str = "script";
const LINKS: [(&str, &str); 5] = [
    ("fd", "/proc/self/fd"),
    ("stdin", "/proc/self/fd/0"),
    ("stdout", "/proc/self/fd/1"),
    ("stderr", "/proc/self/fd/2"),
    ("ptmx", "pts/ptmx"),
];

/// What the kernel shows of the whole machine, and nothing inside needs: its memory, its keys, what its other processes are
/// about, its hardware.
const MASKED_OF_PROC: [&str; 11] = [
    "acpi",
    "asound",
    "kallsyms",
    "kcore",
    "key-users",
    "keys",
    "kmsg",
    "latency_stats",
    "sched_debug",
    "scsi",
    "timer_list",
];
const MASKED_OF_SYS: [&str; 1] = ["firmware"];
/// What is read inside and changed by nobody there, whatever rights its user has by some error.
const READ_ONLY_OF_PROC: [&str; 5] = ["bus", "fs", "irq", "sys", "sysrq-trigger"];

const NO_PROGRAMS: MountAttrFlags =
    MountAttrFlags::MOUNT_ATTR_NOSUID.union(MountAttrFlags::MOUNT_ATTR_NODEV).union(MountAttrFlags::MOUNT_ATTR_NOEXEC);
const NO_CHANGES: MountAttrFlags = NO_PROGRAMS.union(MountAttrFlags::MOUNT_ATTR_RDONLY);

/// The machine's devices, taken while this process still has the machine's identity.
#[derive(Debug)]
pub(crate) struct Devices(Vec<(&'static str, Tree)>);

impl Devices {
    pub(crate) fn take() -> Result<Self, SetupError> {
        let take = |name: &'static str| {
            let path = Path::new("/dev").join(name);
            Ok((name, at(path_only(&path).and_then(Tree::of), &path)?))
        };
        DEVICES.into_iter().map(take).collect::<Result<_, _>>().map(Self)
    }
}

/// File systems of this process's own namespaces. They are made while the machine's `/proc` and `/sys` are mounted: to a
/// user namespace that sees none of its own kind whole, the kernel refuses them (mount_namespaces(7)).
#[derive(Debug)]
pub(crate) struct KernelTrees {
    devices: Devices,
    processes: Tree,
    system: Option<Tree>,
    dev: Tree,
    script: Option<Tree>,
    terminals: Tree,
    memory: Tree,
}

impl KernelTrees {
    pub(crate) fn new(devices: Devices, script: Option<Tree>, network: Network) -> Result<Self, SetupError> {
        let new = |kind: &str, options: &[(&str, &str)], attributes| {
            context(Tree::new(kind, options, attributes), format!("make a file system of the kind {kind}"))
        };
        // sysfs shows the network's devices and may only be mounted by whoever owns the network.
        let has_system = network == Network::Loopback;
        let system = has_system.then(|| new("sysfs", &[], NO_CHANGES)).transpose()?;
        let no_devices = MountAttrFlags::MOUNT_ATTR_NOSUID | MountAttrFlags::MOUNT_ATTR_NOEXEC;
        let dev = new("tmpfs", &[("mode", "0755"), ("size", "65536k")], no_devices)?;
        let files = devices.0.iter().map(|(name, _)| *name).chain(script.as_ref().map(|_| SCRIPT));
        context(fill(&dev, files), "fill /dev")?;
        if let Some(script) = &script {
            context(script.set(MountAttrFlags::MOUNT_ATTR_RDONLY), "show a script")?;
        }
        Ok(Self {
            devices,
            script,
            processes: new("proc", &[], NO_PROGRAMS)?,
            system,
            dev,
            terminals: new("devpts", &[("ptmxmode", "0666"), ("mode", "0620")], no_devices)?,
            memory: new("tmpfs", &[("mode", "1777"), ("size", "262144k")], NO_PROGRAMS)?,
        })
    }

    /// Mounts all of them, and hides what shows the machine.
    pub(crate) fn mount(self, root: &mut Root) -> Result<(), SetupError> {
        root.mount_own("proc", &self.processes)?;
        if let Some(system) = &self.system {
            root.mount_own("sys", system)?;
        }
        root.mount_own("dev", &self.dev)?;
        for (name, file) in
            self.devices.0.iter().map(|(name, tree)| (*name, tree)).chain(self.script.iter().map(|tree| (SCRIPT, tree)))
        {
            root.mount_beneath(&self.dev, name, file)?;
        }
        root.mount_beneath(&self.dev, "pts", &self.terminals)?;
        root.mount_beneath(&self.dev, "shm", &self.memory)?;
        self.mask(root)
    }

    /// Shows nothing where the kernel shows the machine. Only what a kernel does not have is passed over.
    fn mask(&self, root: &mut Root) -> Result<(), SetupError> {
        let null = self.devices.0.iter().find(|(name, _)| *name == "null").map(|(_, tree)| tree);
        let null = null.ok_or("there is no /dev/null to hide things with")?;
        let of_proc = MASKED_OF_PROC.iter().map(|name| (&self.processes, *name));
        let of_sys = self.system.iter().flat_map(|system| MASKED_OF_SYS.iter().map(move |name| (system, *name)));
        let mut empty: Option<Tree> = None;
        for (top, name) in of_proc.chain(of_sys) {
            let Some(found) = known(top, name)? else { continue };
            let facts = context(facts(&found), format!("look at {name}"))?;
            let is_folder = FileType::from_raw_mode(facts.stx_mode.into()) == FileType::Directory;
            let cover = match (is_folder, &empty) {
                (true, None) => Tree::new("tmpfs", &[("mode", "0555"), ("size", "4k")], NO_CHANGES),
                (true, Some(empty)) => Tree::of(empty),
                (false, _) => Tree::of(null),
            };
            let cover = context(cover, format!("hide {name}"))?;
            root.attach(&cover, &found, name)?;
            if is_folder {
                empty.get_or_insert(cover);
            }
        }
        for name in READ_ONLY_OF_PROC {
            let Some(found) = known(&self.processes, name)? else { continue };
            let same = Tree::of(&found).and_then(|tree| tree.set(NO_CHANGES).map(|()| tree));
            root.attach(&context(same, format!("make {name} read-only"))?, &found, name)?;
        }
        Ok(())
    }
}

/// What a file system of the kernel has under a name; nothing where this kernel has no such thing.
fn known(top: &Tree, name: &str) -> Result<Option<OwnedFd>, SetupError> {
    match beneath(top, name) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        found => context(found, format!("look at {name}")).map(Some),
    }
}

/// Makes the places in `/dev` for what is mounted there.
fn fill<'a>(dev: &Tree, files: impl Iterator<Item = &'a str>) -> io::Result<()> {
    for name in files {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        openat(dev, name, flags, Mode::from_raw_mode(0o644))?;
    }
    for name in ["pts", "shm"] {
        mkdirat(dev, name, Mode::from_raw_mode(0o755))?;
    }
    LINKS.into_iter().try_for_each(|(name, target)| Ok(symlinkat(target, dev, name)?))
}
