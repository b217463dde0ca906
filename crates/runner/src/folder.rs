//! The runner's folder: its store of images, and a place for each job.

use std::fs::{self, File, Permissions};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use pondrix_core::{ProjectName, Recent};
use pondrix_files::{TemporaryFolder, Watch, move_aside};
use pondrix_image::Store;
use pondrix_image::inventory::Inspector;
use pondrix_sandbox::IdMap;
use rustix::fs::{FlockOperation, flock};
use tokio::sync::Notify;
use tracing::warn;

use crate::bounded::unmount_all_below;
use crate::contents::Contents;
use crate::sources::Sources;

/// How long the build caches of a project are new.
const NEW_CACHE: Duration = Duration::from_secs(3600);

/// What the folders of a project's caches end with that builds mount which it trusts, and others. No project's name has a
/// dot; what has neither end is of an earlier version, in which anybody may have written to it.
const TRUSTED: &str = ".trusted";
const UNTRUSTED: &str = ".untrusted";

/// Where what earlier processes left waits to be removed.
const REMOVED: &str = "removed";

/// How many archives of commits' files are kept in memory.
const ARCHIVES_KEPT: usize = 8;

/// Another runner works in this folder.
#[derive(Debug, thiserror::Error)]
#[error("another runner works in {0}; give this one a folder of its own")]
pub struct FolderTaken(PathBuf);

/// A runner's folder, held by this process.
#[derive(Clone, Debug)]
pub(crate) struct Folder {
    path: PathBuf,
    pub(crate) store: Store,
    pub(crate) contents: Contents,
    pub(crate) sources: Sources,
    /// The files of commits that jobs asked for lately, as archives: the jobs of a run ask for the same one.
    pub(crate) archives: Arc<Recent<Arc<[u8]>>>,
    /// Told when a job has left something in the store.
    pub(crate) crowded: Arc<Notify>,
    /// Locked for as long as this process lives.
    _lock: Arc<File>,
}

impl Folder {
    /// Takes the folder. What jobs of an earlier process left in it is removed while others run: it may be any number of
    /// files, and none of them keeps a runner from its work.
    pub(crate) fn open(path: &Path, ids: IdMap) -> anyhow::Result<Self> {
        let told = || format!("{} cannot be the runner's folder", path.display());
        fs::create_dir_all(path).with_context(told)?;
        let path = path.canonicalize().with_context(told)?;
        // What jobs left is nobody's business on this machine.
        fs::set_permissions(&path, Permissions::from_mode(0o700)).with_context(told)?;
        let mut lock =
            File::options().create(true).truncate(false).write(true).open(path.join("lock")).with_context(told)?;
        if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Err(FolderTaken(path).into());
        }
        lock.set_len(0).and_then(|()| write!(lock, "{}", std::process::id())).with_context(told)?;
        let (removed, images) = (path.join(REMOVED), path.join("images"));
        // Each on the file system of what is moved there.
        let all_removed = [removed.clone(), images.join(REMOVED)];
        all_removed.iter().try_for_each(fs::create_dir_all).with_context(told)?;
        // Not below the whole folder: the owner may have mounted a disk for the images.
        [path.join("jobs"), removed.clone()].iter().for_each(|folder| unmount_all_below(folder));
        set_aside(&path.join("jobs"), &removed).with_context(told)?;
        set_aside(&images.join("unfinished"), &all_removed[1]).with_context(told)?;
        let store = Store::open(&images, ids)?;
        all_removed.into_iter().for_each(remove_in_background);
        let contents = Contents::open(path.join("files"), ids).with_context(told)?;
        let sources = Sources::open(path.join("sources")).with_context(told)?;
        let archives = Arc::new(Recent::new(ARCHIVES_KEPT));
        Ok(Self { path, store, contents, sources, archives, crowded: Arc::default(), _lock: Arc::new(lock) })
    }

    /// The same folder for a job: what takes long in it ends when the job does.
    pub(crate) fn for_job(&self, watch: &Watch, inspector: Arc<dyn Inspector>) -> Self {
        let store = self.store.watched(watch.clone()).inspected_by(inspector);
        Self { store, contents: self.contents.watched(watch), ..self.clone() }
    }

    /// Where it is; nothing of it is behind a link.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// The folder of the caches that builds of all images mount: a folder for each project.
    pub(crate) fn all_build_caches(&self) -> PathBuf {
        self.path.join("build-caches")
    }

    /// The folder of the caches that builds of a project's images mount: those that it trusts, or the others.
    pub(crate) fn build_caches(&self, project: &ProjectName, is_trusted: bool) -> PathBuf {
        self.all_build_caches().join(format!("{project}{}", if is_trusted { TRUSTED } else { UNTRUSTED }))
    }

    /// Removes the caches that builds mount of projects that are none of these any more: no job of theirs runs.
    pub(crate) fn keep_build_caches(&self, projects: &[ProjectName]) -> std::io::Result<()> {
        let entries = match fs::read_dir(self.all_build_caches()) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            other => other?,
        };
        for entry in entries {
            let entry = entry?;
            let path = entry.path();
            let age = entry.metadata()?.modified()?.elapsed().unwrap_or_default();
            let name = entry.file_name();
            let of = name.to_str().and_then(|name| name.strip_suffix(UNTRUSTED).or_else(|| name.strip_suffix(TRUSTED)));
            // One that is new is perhaps of a project that was added since the server was asked.
            if age > NEW_CACHE && !projects.iter().any(|project| of == Some(project.as_str())) {
                pondrix_files::remove(&path)?;
            }
        }
        Ok(())
    }

    /// The folder of what all sandboxes share.
    pub(crate) fn frame(&self) -> PathBuf {
        self.path.join("frame")
    }

    /// The folder of all jobs. The next start unmounts and removes whatever is left in it.
    pub(crate) fn jobs(&self) -> PathBuf {
        self.path.join("jobs")
    }

    /// A place for one job; removed when dropped.
    pub(crate) fn scratch(&self) -> std::io::Result<TemporaryFolder> {
        TemporaryFolder::new_in(&self.jobs())
    }
}

/// Makes a folder empty, by another in its place; the old one waits in `removed`. Where it cannot be moved, it stays: what
/// is made in it has names of its own.
fn set_aside(folder: &Path, removed: &Path) -> std::io::Result<()> {
    match move_aside(folder, removed) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            warn!(folder = %folder.display(), %error, "what earlier jobs left could not be moved away, and stays");
        }
        _ => {}
    }
    fs::create_dir_all(folder)
}

/// Removes what is in a folder. What cannot be removed is tried again at the next start.
fn remove_in_background(folder: PathBuf) {
    std::thread::spawn(move || {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            if let Err(error) = pondrix_files::remove(&entry.path()) {
                warn!(folder = %entry.path().display(), %error, "what earlier jobs left could not be removed");
            }
        }
    });
}
