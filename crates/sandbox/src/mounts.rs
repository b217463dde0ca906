//! The file systems inside, made by the first process in its own mount namespace.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{CWD, Mode, OFlags, open, openat};
use rustix::mount::{
    MountFlags, MountPropagationFlags, UnmountFlags, mount, mount_bind, mount_change, mount_remount, unmount,
};
use rustix::process::{fchdir, pivot_root};

use crate::error::{SetupError, at, told};
use crate::spec::{Bind, EmptyFolder, MemoryFolder, SecretFile, Spec, View};

/// Devices of the machine that are shown inside. Making new ones is not allowed to us.
const DEVICES: [&str; 6] = ["null", "zero", "full", "random", "urandom", "tty"];

/// What the kernel shows of the whole machine, and nothing inside needs: its memory, its keys, what its other processes are
/// about, its hardware.
const MASKED: [&str; 12] = [
    "/proc/acpi",
    "/proc/asound",
    "/proc/kallsyms",
    "/proc/kcore",
    "/proc/key-users",
    "/proc/keys",
    "/proc/kmsg",
    "/proc/latency_stats",
    "/proc/sched_debug",
    "/proc/scsi",
    "/proc/timer_list",
    "/sys/firmware",
];
/// What is read inside and changed by nobody there, whatever rights its user has by some fault.
const READ_ONLY: [&str; 5] = ["/proc/bus", "/proc/fs", "/proc/irq", "/proc/sys", "/proc/sysrq-trigger"];

/// Shows nothing where the kernel shows the machine. What a kernel does not have is passed over.
fn mask() -> Result<(), SetupError> {
    for path in MASKED.map(Path::new) {
        let Ok(found) = fs::metadata(path) else { continue };
        let words = || format!("hide {}", path.display());
        if found.is_dir() {
            let flags = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC | MountFlags::RDONLY;
            told(mount("tmpfs", path, "tmpfs", flags, c"mode=0555,size=4k"), words())?;
        } else {
            told(mount_bind("/dev/null", path), words())?;
        }
    }
    for path in READ_ONLY.map(Path::new).into_iter().filter(|path| path.exists()) {
        let words = || format!("make {} read-only", path.display());
        told(mount_bind(path, path), words())?;
        let flags = MountFlags::BIND | MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
        told(mount_remount(path, flags, c""), words())?;
    }
    Ok(())
}

/// What must be opened while this process still has the machine's identity: the folders may be
/// closed to everybody else.
pub(crate) struct Opened {
    folder: OwnedFd,
    frame: OwnedFd,
    layers: Vec<OwnedFd>,
    binds: Vec<OwnedFd>,
    views: Vec<Seen>,
    devices: Vec<(&'static str, OwnedFd)>,
}

/// The layers of a view, and the folder for its changes.
struct Seen {
    layers: Vec<OwnedFd>,
    changes: Option<OwnedFd>,
}

impl Seen {
    fn new(view: &View) -> Result<Self, SetupError> {
        Ok(Self {
            layers: view.layers.iter().map(|layer| path_only(layer)).collect::<Result<_, _>>()?,
            changes: view.changes.as_deref().map(path_only).transpose()?,
        })
    }
}

/// Where a view's layers are mounted until the view itself is shown; nothing else is there.
const VIEW_AT: &str = "/dev/view";
/// Where secret files are made before each is shown at its place.
const SECRETS_AT: &str = "/dev/secrets";

fn path_only(path: &Path) -> Result<OwnedFd, SetupError> {
    at(open(path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty()), path)
}

impl Opened {
    pub(crate) fn new(spec: &Spec, frame: &Path) -> Result<Self, SetupError> {
        Ok(Self {
            folder: path_only(&spec.root.folder)?,
            frame: path_only(frame)?,
            layers: spec.root.layers.iter().map(|layer| path_only(layer)).collect::<Result<_, _>>()?,
            binds: spec.binds.iter().map(|bind| path_only(&bind.from)).collect::<Result<_, _>>()?,
            views: spec.views.iter().map(Seen::new).collect::<Result<_, _>>()?,
            devices: DEVICES
                .iter()
                .map(|name| Ok((*name, path_only(&Path::new("/dev").join(name))?)))
                .collect::<Result<_, SetupError>>()?,
        })
    }

    /// Makes the new root and goes into it. Must run as root inside.
    pub(crate) fn enter(self, spec: &Spec) -> Result<(), SetupError> {
        told(
            mount_change("/", MountPropagationFlags::REC | MountPropagationFlags::PRIVATE),
            "separate the mounts from the machine's",
        )?;
        let machine_root = told(path_only(Path::new("/")), "open the machine's root")?;
        told(fchdir(&self.folder), "enter the folder of the root file system")?;
        let merged = format!("/proc/self/fd/{}/merged", self.frame.as_raw_fd());
        self.mount_overlay(&merged)?;
        told(rustix::process::chdir(&merged), "enter the root file system")?;
        told(pivot_root(".", "."), "change the root file system")?;
        // From here on, absolute paths and links in them mean the new root. The machine's root is
        // still reachable under this process's descriptors until it is unmounted below.
        told(rustix::process::chdir("/"), "enter the root file system")?;
        self.mount_kernel_file_systems(spec)?;
        for (bind, from) in spec.binds.iter().zip(&self.binds) {
            show(bind, from)?;
        }
        for (view, seen) in spec.views.iter().zip(&self.views) {
            look_through(view, seen)?;
        }
        for empty in &spec.empty {
            clear(empty)?;
        }
        if let Some(memory) = &spec.memory {
            fill(memory)?;
        }
        hide(&spec.secrets)?;
        told(fchdir(&machine_root), "leave the machine's root")?;
        told(unmount(".", UnmountFlags::DETACH), "unmount the machine's root")?;
        told(rustix::process::chdir("/"), "enter the root file system")
    }

    /// Layers under the skeleton's mount points and over them the folder that takes the changes.
    /// `userxattr` lets an ordinary user's overlay mark opaque folders (overlayfs, "User xattr").
    fn mount_overlay(&self, merged: &str) -> Result<(), SetupError> {
        // The highest layer stands first in the option, the skeleton below all.
        let lowers: Vec<String> =
            self.layers.iter().rev().map(|layer| format!("/proc/self/fd/{}", layer.as_raw_fd())).collect();
        let colon = if lowers.is_empty() { "" } else { ":" };
        let skeleton = format!("/proc/self/fd/{}/skeleton", self.frame.as_raw_fd());
        let options = format!("lowerdir={}{colon}{skeleton},upperdir=upper,workdir=work,userxattr", lowers.join(":"));
        let options = told(std::ffi::CString::new(options), "name the layers")?;
        told(mount("overlay", merged, "overlay", MountFlags::empty(), options.as_c_str()), "mount the layers")
    }

    fn mount_kernel_file_systems(&self, spec: &Spec) -> Result<(), SetupError> {
        let quiet = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
        let mounted = |kind: &str, at: &str, flags: MountFlags, options: &std::ffi::CStr| {
            folder_inside(Path::new(at))?;
            told(mount(kind, at, kind, flags, options), format!("mount {at}"))
        };
        mounted("proc", "/proc", quiet, c"")?;
        if spec.network == crate::Network::Loopback {
            // sysfs shows the network's devices and may only be mounted by whoever owns the network.
            mounted("sysfs", "/sys", quiet | MountFlags::RDONLY, c"")?;
        }
        mounted("tmpfs", "/dev", MountFlags::NOSUID | MountFlags::NOEXEC, c"mode=0755,size=65536k")?;
        for (name, device) in &self.devices {
            let at = format!("/dev/{name}");
            told(File::create(&at), format!("make {at}"))?;
            told(mount_bind(format!("/proc/self/fd/{}", device.as_raw_fd()), &at), format!("show {at}"))?;
        }
        mask()?;
        mounted("devpts", "/dev/pts", MountFlags::NOSUID | MountFlags::NOEXEC, c"newinstance,ptmxmode=0666,mode=0620")?;
        mounted("tmpfs", "/dev/shm", quiet, c"mode=1777,size=262144k")?;
        for (target, link) in [
            ("/proc/self/fd", "fd"),
            ("/proc/self/fd/0", "stdin"),
            ("/proc/self/fd/1", "stdout"),
            ("/proc/self/fd/2", "stderr"),
            ("pts/ptmx", "ptmx"),
        ] {
            told(std::os::unix::fs::symlink(target, format!("/dev/{link}")), format!("make /dev/{link}"))?;
        }
        if spec.fresh_tmp {
            mounted("tmpfs", "/tmp", MountFlags::NOSUID | MountFlags::NODEV, c"mode=1777")?;
        }
        Ok(())
    }
}

/// As many as the kernel follows (path_resolution(7)).
const LINKS_FOLLOWED: usize = 40;

/// Makes a folder and those above it. A link on the way is followed in the new root.
pub(crate) fn folder_inside(path: &Path) -> Result<(), SetupError> {
    let mut path = path.to_owned();
    // A link to a folder that is not there yet is a link into the new root, like any other.
    for _ in 0..LINKS_FOLLOWED {
        match fs::read_link(&path) {
            Ok(target) if !path.exists() => path = path.parent().unwrap_or(Path::new("/")).join(target),
            _ => break,
        }
    }
    told(fs::create_dir_all(&path), format!("make {}", path.display()))
}

fn show(bind: &Bind, from: &OwnedFd) -> Result<(), SetupError> {
    let to = normal(&bind.to);
    let source = format!("/proc/self/fd/{}", from.as_raw_fd());
    let is_folder = told(fs::metadata(&source), format!("look at {}", bind.from.display()))?.is_dir();
    if is_folder {
        folder_inside(&to)?;
    } else if !to.exists() {
        // What is there already may stand where nothing can be written.
        folder_inside(to.parent().unwrap_or(Path::new("/")))?;
        told(OpenOptions::new().create(true).append(true).open(&to), format!("make {}", to.display()))?;
    }
    told(mount_bind(&source, &to), format!("show {} at {}", bind.from.display(), bind.to))?;
    if bind.read_only {
        let flags = MountFlags::BIND | MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV;
        told(mount_remount(&to, flags, c""), format!("make {} read-only", bind.to))?;
    }
    Ok(())
}

/// Makes a folder in memory with these files, which then cannot be changed.
fn fill(memory: &MemoryFolder) -> Result<(), SetupError> {
    let at = normal(&memory.at);
    folder_inside(&at)?;
    let flags = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    told(mount("tmpfs", &at, "tmpfs", flags, c"mode=0700"), format!("mount {}", memory.at))?;
    for (name, bytes) in &memory.files {
        let file = OpenOptions::new().write(true).create_new(true).mode(0o400).open(at.join(name));
        told(file.and_then(|mut file| file.write_all(bytes)), format!("write {}/{name}", memory.at))?;
    }
    told(mount_remount(&at, flags | MountFlags::RDONLY, c"mode=0700"), format!("make {} read-only", memory.at))
}

/// Shows a file or folder of a stack of layers.
fn look_through(view: &View, seen: &Seen) -> Result<(), SetupError> {
    folder_inside(Path::new(VIEW_AT))?;
    let layer = |fd: &OwnedFd| format!("/proc/self/fd/{}", fd.as_raw_fd());
    let lowers: Vec<String> = seen.layers.iter().rev().map(layer).collect();
    let options = match &seen.changes {
        Some(changes) => {
            let folder = layer(changes);
            format!("lowerdir={},upperdir={folder}/upper,workdir={folder}/work,userxattr", lowers.join(":"))
        }
        // An overlay that can only be read takes two layers at least.
        None if lowers.len() > 1 => format!("lowerdir={},userxattr", lowers.join(":")),
        None => String::new(),
    };
    if options.is_empty() {
        let lower = lowers.first().ok_or("a view has no layers")?;
        told(mount_bind(lower, VIEW_AT), "show a folder")?;
    } else {
        let options = told(std::ffi::CString::new(options), "name the layers")?;
        told(mount("overlay", VIEW_AT, "overlay", MountFlags::empty(), options.as_c_str()), "mount the layers")?;
    }
    let from = Path::new(VIEW_AT).join(normal(&view.path).strip_prefix("/").unwrap_or(Path::new("")));
    let bind = Bind { from: from.clone(), to: view.to.clone(), read_only: view.changes.is_none() };
    let opened = told(open(&from, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty()), "open a view")?;
    show(&bind, &opened)?;
    drop(opened);
    told(unmount(VIEW_AT, UnmountFlags::DETACH), "take the layers away again")
}

/// Mounts an empty folder in memory.
fn clear(empty: &EmptyFolder) -> Result<(), SetupError> {
    let at = normal(&empty.at);
    folder_inside(&at)?;
    let size = empty.size.map(|bytes| format!(",size={bytes}")).unwrap_or_default();
    let options = told(std::ffi::CString::new(format!("mode=0755{size}")), "say how large a folder is")?;
    let flags = MountFlags::NOSUID | MountFlags::NODEV;
    told(mount("tmpfs", &at, "tmpfs", flags, options.as_c_str()), format!("mount {}", empty.at))
}

/// Shows secret files at their places.
fn hide(secrets: &[SecretFile]) -> Result<(), SetupError> {
    if secrets.is_empty() {
        return Ok(());
    }
    folder_inside(Path::new(SECRETS_AT))?;
    let flags = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    told(mount("tmpfs", SECRETS_AT, "tmpfs", flags, c"mode=0700"), "mount a place for secrets")?;
    for (number, secret) in secrets.iter().enumerate() {
        let path = Path::new(SECRETS_AT).join(number.to_string());
        let file = OpenOptions::new().write(true).create_new(true).mode(secret.mode).open(&path);
        told(file.and_then(|mut file| file.write_all(&secret.bytes)), format!("write {}", secret.at))?;
        let owned = std::os::unix::fs::chown(&path, Some(secret.owner.0), Some(secret.owner.1));
        told(owned, format!("give {} to user {}", secret.at, secret.owner.0))?;
        let opened = told(path_only(&path), "open a secret")?;
        show(&Bind { from: path, to: secret.at.clone(), read_only: true }, &opened)?;
    }
    told(unmount(SECRETS_AT, UnmountFlags::DETACH), "take the place for secrets away again")
}

/// An absolute path without `.` and `..`.
fn normal(path: &str) -> PathBuf {
    let mut normal = PathBuf::from("/");
    for part in Path::new(path).components() {
        match part {
            Component::Normal(name) => normal.push(name),
            Component::ParentDir => {
                normal.pop();
            }
            _ => {}
        }
    }
    normal
}

/// Reads a file of the new root, at most 1 MiB of it; empty where it is not there.
pub(crate) fn read_inside(path: &str) -> String {
    use std::io::Read as _;
    let mut text = Vec::new();
    if let Ok(fd) = openat(CWD, path, OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC, Mode::empty()) {
        let _ = File::from(fd).take(1 << 20).read_to_end(&mut text);
    }
    String::from_utf8_lossy(&text).into_owned()
}
