//! What to run, where, and how it ended.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::IdMap;

/// Where [`Spec::script`] is seen.
pub const SCRIPT_AT: &str = "/dev/script";

/// A command and the place it runs in.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Spec {
    /// The file system.
    pub root: Rootfs,
    /// Files and folders of the machine to show inside.
    pub binds: Vec<Bind>,
    /// Files and folders of stacks of layers to show inside, after the binds.
    pub views: Vec<View>,
    /// Empty folders in memory.
    pub empty: Vec<EmptyFolder>,
    /// Files in memory, each at a place of its own.
    pub secrets: Vec<SecretFile>,
    /// The program and its arguments. The program is looked for in `PATH` of [`Spec::env`].
    pub argv: Vec<String>,
    /// Whether `argv[0]` names a function of this program instead of a command ([`crate::enter_if_asked`]). The function needs
    /// nothing in the root file system. It can read all files in it.
    pub is_function: bool,
    /// The whole environment.
    pub env: BTreeMap<String, String>,
    /// The folder to begin in. Made when it is not there.
    pub folder: String,
    /// Who runs it: `USER[:GROUP]`, names or numbers, looked up in the image's own `/etc/passwd` and
    /// `/etc/group`; empty for root.
    pub user: String,
    /// The host name inside.
    pub hostname: String,
    /// The network inside.
    pub network: Network,
    /// Whether `/tmp` is a fresh file system in memory. Otherwise it belongs to the root.
    pub fresh_tmp: bool,
    /// Whether it may make namespaces of its own, and mount in those (user_namespaces(7)).
    pub namespaces: bool,
    /// A read-only folder in memory.
    pub memory: Option<MemoryFolder>,
    /// A file of the machine to show at [`SCRIPT_AT`], where no image decides what is there.
    pub script: Option<PathBuf>,
    /// How much of the machine the command and all that it starts may use.
    pub limits: Limits,
}

/// How much of the machine may be used; as much as there is, where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// Memory, in bytes. What would need more is ended.
    pub memory: Option<u64>,
    /// Processes and threads at once. No more can be started.
    pub processes: Option<u32>,
    /// Processors, in thousandths. What would use more waits.
    pub cpu: Option<u32>,
    /// The share of busy CPUs and disks, relative to other groups: 1 to 100. Only for several sandboxes together
    /// ([`crate::Launcher::limited`]). CPUs are shared if the machine has the controller, disks with
    /// [`crate::Launcher::with_disk_shares`].
    pub weight: Option<u32>,
}

/// Files that exist in memory only, for the command alone.
#[derive(Clone, Serialize, Deserialize)]
pub struct MemoryFolder {
    /// Where they are seen; made when it is not there.
    pub at: String,
    /// Names, without folders, and contents. Only root inside can read them.
    pub files: BTreeMap<String, Vec<u8>>,
}

impl std::fmt::Debug for MemoryFolder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // What is in them is nobody's business.
        f.debug_struct("MemoryFolder").field("at", &self.at).field("files", &self.files.keys()).finish()
    }
}

/// A root file system: read-only layers, and a writable folder over them.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Rootfs {
    /// Unpacked layers, the lowest first.
    pub layers: Vec<PathBuf>,
    /// The folder of this root: `upper` in it holds what the command changes and may be there
    /// already. The rest is made where it is not there.
    pub folder: PathBuf,
    /// Folders, and files, for other things to be shown at. They are below every layer, so that they are
    /// not among the command's changes; normal paths.
    pub mount_points: Vec<MountPoint>,
}

/// A place for something to be shown at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MountPoint {
    /// Where.
    pub path: PathBuf,
    /// Whether a folder will be shown, or a file.
    pub is_folder: bool,
}

/// A file or folder of the machine shown inside.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Bind {
    /// Where it is.
    pub from: PathBuf,
    /// Where it shall be seen; made when it is not there.
    pub to: String,
    /// Whether it can only be read.
    pub read_only: bool,
}

/// A file or folder of a stack of layers shown inside.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct View {
    /// Unpacked layers, the lowest first.
    pub layers: Vec<PathBuf>,
    /// Its path in them; no part of it is a link.
    pub path: String,
    /// Where it shall be seen.
    pub to: String,
    /// A folder, on the layers' file system, for what is changed in it; it can only be read where there is
    /// none.
    pub changes: Option<PathBuf>,
}

/// An empty folder in memory.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct EmptyFolder {
    /// Where it shall be seen.
    pub at: String,
    /// How many bytes fit in; half of the machine's memory where nothing is said.
    pub size: Option<u64>,
}

/// A file in memory that can only be read.
#[derive(Clone, Serialize, Deserialize)]
pub struct SecretFile {
    /// Where it shall be seen.
    pub at: String,
    /// What is in it.
    pub bytes: Vec<u8>,
    /// Its permissions.
    pub mode: u32,
    /// The user and the group inside that it belongs to.
    pub owner: (u32, u32),
}

impl std::fmt::Debug for SecretFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // What is in it is nobody's business.
        f.debug_struct("SecretFile").field("at", &self.at).finish_non_exhaustive()
    }
}

/// The network inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Network {
    /// A loopback interface and nothing else.
    Loopback,
    /// The machine's own.
    Host,
}

/// How a command ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Exit {
    /// By itself, with this status.
    Status(i32),
    /// By this signal.
    Signal(i32),
    /// It was never begun, or its surroundings failed; in words.
    Failed(String),
    /// Everything was killed because the caller asked for it.
    Killed,
}

impl Spec {
    /// Nothing in particular, in a root file system: no command, an empty environment, root, `/`, a
    /// loopback interface, the root's own `/tmp`.
    #[must_use]
    pub fn new(root: Rootfs) -> Self {
        Self {
            root,
            binds: Vec::new(),
            views: Vec::new(),
            empty: Vec::new(),
            secrets: Vec::new(),
            argv: Vec::new(),
            is_function: false,
            env: BTreeMap::new(),
            folder: "/".to_owned(),
            user: String::new(),
            hostname: "inside".to_owned(),
            network: Network::Loopback,
            fresh_tmp: false,
            namespaces: false,
            memory: None,
            script: None,
            limits: Limits::default(),
        }
    }
}

impl Rootfs {
    /// Makes the folders for what the command changes, owned by root inside.
    ///
    /// # Errors
    /// What the system says.
    pub fn prepare_changes(&self, ids: IdMap) -> std::io::Result<()> {
        make_folders(&self.folder, &["", "upper", "work"], ids)
    }

    /// Makes all folders of a root that shares none.
    pub(crate) fn prepare(&self, ids: IdMap) -> std::io::Result<()> {
        self.prepare_changes(ids)?;
        make_frame(&self.folder, ids)?;
        for point in &self.mount_points {
            let mut path = self.folder.join("skeleton");
            let mut parts =
                point.path.components().filter(|part| matches!(part, std::path::Component::Normal(_))).peekable();
            while let Some(part) = parts.next() {
                path.push(part);
                if path.exists() {
                    continue;
                }
                if parts.peek().is_some() || point.is_folder {
                    std::fs::create_dir(&path)?;
                } else {
                    std::fs::File::create(&path)?;
                }
                ids.give(&path, 0, 0)?;
            }
        }
        Ok(())
    }

    /// A root of these layers, with its folder.
    #[must_use]
    pub const fn new(layers: Vec<PathBuf>, folder: PathBuf) -> Self {
        Self { layers, folder, mount_points: Vec::new() }
    }
}

/// Makes folders in a folder, owned by root inside; the name of the folder itself is empty.
fn make_folders(folder: &Path, parts: &[&str], ids: IdMap) -> std::io::Result<()> {
    for part in parts {
        let made = if part.is_empty() { folder.to_owned() } else { folder.join(part) };
        std::fs::create_dir_all(&made)?;
        ids.give(&made, 0, 0)?;
    }
    Ok(())
}

/// Makes what every root needs and no command changes: `merged`, where the root is mounted, and `skeleton`. Mount points
/// must exist before the overlay is read-only to us, and must not show up among the command's changes: they live in a
/// layer below all others.
pub(crate) fn make_frame(folder: &Path, ids: IdMap) -> std::io::Result<()> {
    let skeleton = ["skeleton", "skeleton/proc", "skeleton/sys", "skeleton/dev", "skeleton/tmp"];
    make_folders(folder, &["", "merged"], ids)?;
    make_folders(folder, &skeleton, ids)?;
    let tmp = std::os::unix::fs::PermissionsExt::from_mode(0o1777);
    std::fs::set_permissions(folder.join("skeleton/tmp"), tmp)
}
