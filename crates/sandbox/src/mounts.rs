//! The file systems inside, made by the first process in its own mount namespace.
//!
//! The order is what makes it safe. [`Sources::take`] takes everything of the machine that is shown, as detached mounts,
//! with the machine's identity. [`Sources::enter`] mounts the layers and changes the root, and the machine's root is
//! detached at once: from then on no path and no handle leads to the machine. Only then is anything looked up that the
//! image decides about.

use std::ffi::CString;
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::path::Path;

use rustix::fs::{Gid, Mode, OFlags, ResolveFlags, Uid, fchown, open, openat, openat2};
use rustix::mount::{MountAttrFlags, MountFlags, MountPropagationFlags, UnmountFlags, mount, mount_change, unmount};
use rustix::process::{chdir, fchdir, pivot_root};

use crate::error::{SetupError, at, context};
use crate::inside::{Root, normal, path_only};
use crate::kernel::{Devices, KernelTrees};
use crate::spec::{Bind, EmptyFolder, MemoryFolder, SecretFile, Spec, View};
use crate::trees::Tree;

const NO_DEVICES: MountAttrFlags = MountAttrFlags::MOUNT_ATTR_NOSUID.union(MountAttrFlags::MOUNT_ATTR_NODEV);
const NO_PROGRAMS: MountAttrFlags = NO_DEVICES.union(MountAttrFlags::MOUNT_ATTR_NOEXEC);
const READ_ONLY: MountAttrFlags = NO_DEVICES.union(MountAttrFlags::MOUNT_ATTR_RDONLY);

/// What is taken of the machine while this process still has the machine's identity: its folders may be closed to
/// everybody else.
pub(crate) struct Sources {
    folder: OwnedFd,
    frame: OwnedFd,
    layers: Vec<OwnedFd>,
    binds: Vec<Tree>,
    views: Vec<Stack>,
    script: Option<Tree>,
    devices: Devices,
}

/// The layers of a view, and the folder for its changes.
struct Stack {
    layers: Vec<OwnedFd>,
    changes: Option<OwnedFd>,
}

impl Stack {
    fn take(view: &View) -> Result<Self, SetupError> {
        Ok(Self {
            layers: view.layers.iter().map(|layer| take(layer)).collect::<Result<_, _>>()?,
            changes: view.changes.as_deref().map(take).transpose()?,
        })
    }
}

fn take(path: &Path) -> Result<OwnedFd, SetupError> {
    at(path_only(path), path)
}

impl Sources {
    /// Takes them. This process's mounts are no longer the machine's from here on.
    pub(crate) fn take(spec: &Spec, frame: &Path) -> Result<Self, SetupError> {
        // Before anything is taken: a mount that the machine makes later must not show up in what was taken.
        let apart = MountPropagationFlags::REC | MountPropagationFlags::PRIVATE;
        context(mount_change("/", apart), "separate the mounts from the machine's")?;
        let tree = |path: &Path| at(path_only(path).and_then(Tree::of), path);
        let whole = |path: &Path| at(path_only(path).and_then(Tree::whole), path);
        let shown = |bind: &Bind| if bind.read_only { whole(&bind.from) } else { tree(&bind.from) };
        Ok(Self {
            folder: take(&spec.root.folder)?,
            frame: take(frame)?,
            layers: spec.root.layers.iter().map(|layer| take(layer)).collect::<Result<_, _>>()?,
            binds: spec.binds.iter().map(shown).collect::<Result<_, _>>()?,
            views: spec.views.iter().map(Stack::take).collect::<Result<_, _>>()?,
            script: spec.script.as_deref().map(tree).transpose()?,
            devices: Devices::take()?,
        })
    }

    /// Makes the new root and goes into it. Must run as root inside.
    pub(crate) fn enter(self, spec: &Spec) -> Result<Root, SetupError> {
        let Self { folder, frame, layers, binds, views, script, devices } = self;
        let merged = Merged(format!("/proc/self/fd/{}/merged", frame.as_raw_fd()));
        let kernel = KernelTrees::new(devices, script, spec.network)?;
        let requested = Requested::make(spec, binds, &views, &merged)?;
        let machine = context(path_only(Path::new("/")), "open the machine's root")?;
        context(fchdir(&folder), "enter the folder of the root file system")?;
        merged.mount_layers(&layers, &format!("/proc/self/fd/{}/skeleton", frame.as_raw_fd()))?;
        context(chdir(&merged.0), "enter the root file system")?;
        context(pivot_root(".", "."), "change the root file system")?;
        context(fchdir(&machine), "leave the machine's root")?;
        context(unmount(".", UnmountFlags::DETACH), "detach the machine's root")?;
        context(chdir("/"), "enter the root file system")?;
        // Handles keep what was detached within reach.
        drop((machine, folder, frame, layers, views));
        let mut root = context(Root::new(), "open the root file system")?;
        kernel.mount(&mut root)?;
        requested.mount(&mut root)?;
        Ok(root)
    }
}

/// The one folder of the machine that something is mounted at, in this process's own mount namespace only.
struct Merged(String);

impl Merged {
    /// Layers under the skeleton's mount points and over them the folder that takes the changes. Both of its folders are in
    /// the current one. `userxattr` lets an ordinary user's overlay mark opaque folders (overlayfs, "User xattr").
    fn mount_layers(&self, layers: &[OwnedFd], skeleton: &str) -> Result<(), SetupError> {
        let lowers = lower_folders(layers);
        let colon = if lowers.is_empty() { "" } else { ":" };
        self.mount_overlay(format!("lowerdir={lowers}{colon}{skeleton},upperdir=upper,workdir=work,userxattr"))
    }

    fn mount_overlay(&self, options: String) -> Result<(), SetupError> {
        let options = context(CString::new(options), "name the layers")?;
        context(mount("overlay", &self.0, "overlay", MountFlags::empty(), options.as_c_str()), "mount the layers")
    }

    /// What is made of something while it is mounted.
    fn with<T>(&self, made: impl FnOnce(OwnedFd) -> io::Result<T>) -> Result<T, SetupError> {
        let opened = open(&self.0, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        let made = opened.map_err(io::Error::from).and_then(made);
        context(unmount(&self.0, UnmountFlags::DETACH), "unmount what was only taken from")?;
        context(made, "take what is shown")
    }

    /// A file or folder of a stack of layers.
    fn view(&self, view: &View, stack: &Stack) -> Result<Tree, SetupError> {
        let lowers = lower_folders(&stack.layers);
        let options = match (&stack.changes, &stack.layers[..]) {
            (Some(changes), _) => {
                let folder = format!("/proc/self/fd/{}", changes.as_raw_fd());
                format!("lowerdir={lowers},upperdir={folder}/upper,workdir={folder}/work,userxattr")
            }
            (None, []) => return Err("a view has no layers".into()),
            // An overlay that can only be read takes two layers at least.
            (None, [only]) => {
                let tree = part(only, &view.path).and_then(Tree::of);
                return context(tree.and_then(read_only), format!("show {}", view.path));
            }
            (None, _) => format!("lowerdir={lowers},userxattr"),
        };
        self.mount_overlay(options)?;
        let tree = self.with(|top| part(top, &view.path).and_then(Tree::of))?;
        let set = if view.changes.is_some() { NO_DEVICES } else { READ_ONLY };
        context(tree.set(set), format!("show {}", view.path)).map(|()| tree)
    }

    /// A file in memory for each secret.
    fn secrets(&self, secrets: &[SecretFile]) -> Result<Vec<Tree>, SetupError> {
        if secrets.is_empty() {
            return Ok(Vec::new());
        }
        let memory = context(Tree::new("tmpfs", &[("mode", "0700")], NO_PROGRAMS), "make a place for secrets")?;
        // Of what is not attached, nothing can be taken before Linux 6.13.
        let target = context(path_only(Path::new(&self.0)), "open the place for secrets")?;
        context(memory.attach(target), "mount a place for secrets")?;
        self.with(|top| {
            let file = |(number, secret): (usize, &SecretFile)| {
                let file = write(&top, &number.to_string(), &secret.bytes, secret.mode)?;
                let (user, group) = secret.owner;
                fchown(&file, Some(Uid::from_raw(user)), Some(Gid::from_raw(group)))?;
                read_only(Tree::of(&file)?)
            };
            secrets.iter().enumerate().map(file).collect()
        })
    }
}

/// The highest layer stands first in the option.
fn lower_folders(layers: &[OwnedFd]) -> String {
    let all: Vec<_> = layers.iter().rev().map(|layer| format!("/proc/self/fd/{}", layer.as_raw_fd())).collect();
    all.join(":")
}

/// A file or folder below a folder, no part of whose path is a link.
fn part(top: impl AsFd, path: &str) -> io::Result<OwnedFd> {
    let path = normal(path);
    let relative = path.strip_prefix("/").ok().filter(|rest| !rest.as_os_str().is_empty());
    let strict = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_XDEV;
    let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(openat2(top, relative.unwrap_or(Path::new(".")), flags, Mode::empty(), strict)?)
}

fn read_only(tree: Tree) -> io::Result<Tree> {
    tree.set(READ_ONLY).map(|()| tree)
}

/// Creates a file with these bytes.
fn write(folder: impl AsFd, name: &str, bytes: &[u8], mode: u32) -> io::Result<File> {
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut file = File::from(openat(folder, name, flags, Mode::from_raw_mode(mode))?);
    file.write_all(bytes)?;
    Ok(file)
}

/// What the caller asked to be mounted, in this order, each with its path.
struct Requested<'a>(Vec<(&'a str, Tree)>);

impl<'a> Requested<'a> {
    fn make(spec: &'a Spec, binds: Vec<Tree>, views: &[Stack], merged: &Merged) -> Result<Self, SetupError> {
        let mut all = Vec::new();
        if spec.fresh_tmp {
            let tmp = Tree::new("tmpfs", &[("mode", "1777")], NO_DEVICES);
            all.push(("/tmp", context(tmp, "make a file system for /tmp")?));
        }
        for (bind, tree) in spec.binds.iter().zip(binds) {
            let set = if bind.read_only { READ_ONLY } else { NO_DEVICES };
            context(tree.set(set), format!("show {} at {}", bind.from.display(), bind.to))?;
            all.push((&bind.to, tree));
        }
        for (view, stack) in spec.views.iter().zip(views) {
            all.push((&view.to, merged.view(view, stack)?));
        }
        for empty in &spec.empty {
            all.push((&empty.at, context(empty_folder(empty), format!("make a folder for {}", empty.at))?));
        }
        if let Some(memory) = &spec.memory {
            all.push((&memory.at, context(memory_folder(memory), format!("write the files of {}", memory.at))?));
        }
        let secrets = merged.secrets(&spec.secrets)?;
        all.extend(spec.secrets.iter().map(|secret| secret.at.as_str()).zip(secrets));
        Ok(Self(all))
    }

    fn mount(self, root: &mut Root) -> Result<(), SetupError> {
        self.0.iter().try_for_each(|(path, tree)| root.mount(&normal(path), tree))
    }
}

fn empty_folder(empty: &EmptyFolder) -> io::Result<Tree> {
    let size = empty.size.map(|bytes| bytes.to_string());
    let size = size.as_deref().map(|size| ("size", size));
    let options: Vec<_> = [("mode", "0755")].into_iter().chain(size).collect();
    Tree::new("tmpfs", &options, NO_DEVICES)
}

/// A folder in memory with these files, which then cannot be changed.
fn memory_folder(memory: &MemoryFolder) -> io::Result<Tree> {
    let tree = Tree::new("tmpfs", &[("mode", "0700")], NO_PROGRAMS)?;
    for (name, bytes) in &memory.files {
        write(&tree, name, bytes, 0o400)?;
    }
    tree.set(NO_PROGRAMS | MountAttrFlags::MOUNT_ATTR_RDONLY)?;
    Ok(tree)
}
