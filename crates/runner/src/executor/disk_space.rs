//! How much a job has written, against what it may.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use pondrix_core::Size;
use pondrix_core::work::{ServiceWork, StepsWork};
use pondrix_files::{GivenUp, STAYS_FREE, Watch, usage};
use rustix::fs::statvfs;

use super::context::JobExecutor;
use super::surroundings::service_folder;

/// How often is looked at the least, and how much longer than the looking itself the pause is: looking
/// through many files must not become a job of its own.
const PAUSE: Duration = Duration::from_millis(200);
const PAUSE_FOR_LOOK: u32 = 20;
/// What a job may write, and where it does.
#[derive(Debug)]
pub(crate) struct DiskSpace {
    limit: Option<Size>,
    /// A folder of the machine's disk.
    disk: PathBuf,
    /// How much of the disk stays free.
    stays_free: u64,
    /// How much each folder took when it was looked at last. What is gone since still counts: a layer was made of it.
    folders: BTreeMap<PathBuf, u64>,
    next_look: Instant,
    /// Why the usage is unknown.
    uncounted: Option<String>,
}

impl DiskSpace {
    /// For what is in these folders, and in those that are named later.
    pub(crate) fn new(limit: Option<Size>, disk: &Path, folders: impl IntoIterator<Item = PathBuf>) -> Self {
        let folders = folders.into_iter().map(|folder| (folder, 0)).collect();
        Self {
            limit,
            disk: disk.to_owned(),
            stays_free: STAYS_FREE,
            folders,
            next_look: Instant::now() + PAUSE,
            uncounted: None,
        }
    }

    /// Counts the folders of a job's steps and services, including the commit's files.
    pub(crate) fn of_steps(executor: &JobExecutor, work: &StepsWork) -> Self {
        let of_service = |service: &ServiceWork| {
            ["root", "question"].map(|what| format!("{}/upper", service_folder(&service.name, what)))
        };
        let of_services = work.services.iter().flat_map(of_service);
        let names = ["source", "root/upper"].map(str::to_owned).into_iter().chain(of_services);
        let folders = names.map(|name| executor.room().join(name));
        Self::new(executor.most_written(), executor.scratch.path(), folders)
    }

    /// Counts what is in a folder as well.
    pub(crate) fn count(&mut self, folder: &Path) {
        if !self.folders.contains_key(folder) {
            self.folders.insert(folder.to_owned(), 0);
        }
    }

    /// Counts what is in a folder for the last time, before it is a layer.
    pub(crate) fn count_once_more(&mut self, folder: &Path, watch: &Watch) {
        if self.limit.is_some() {
            let counted = usage(folder, watch);
            self.uncounted = self.uncounted.take().or_else(|| why_uncounted(counted.as_ref()));
            self.folders.insert(folder.to_owned(), counted.unwrap_or(0));
        }
    }

    /// Why nothing more may be written, if that is so. Looks only now and then.
    pub(crate) fn too_much(&mut self, executor: &JobExecutor) -> Option<String> {
        // The usage need not be counted if a file system enforces the limit.
        executor.why_full().or_else(|| self.counted(executor.watch(), executor.bounded.is_none()))
    }

    /// Checks the counted usage and the free space of the machine's disk.
    pub(crate) fn counted(&mut self, watch: &Watch, counts: bool) -> Option<String> {
        let since = Instant::now();
        if since < self.next_look {
            return None;
        }
        if self.limit.is_some() && counts {
            for (folder, took) in self.folders.iter_mut().filter(|(folder, _)| folder.exists()) {
                let counted = usage(folder, watch);
                self.uncounted = self.uncounted.take().or_else(|| why_uncounted(counted.as_ref()));
                *took = counted.unwrap_or(*took);
            }
        }
        let is_nearly_full =
            statvfs(&self.disk).is_ok_and(|disk| disk.f_bavail.saturating_mul(disk.f_frsize) < self.stays_free);
        self.next_look = Instant::now() + PAUSE.max(since.elapsed() * PAUSE_FOR_LOOK);
        // Fail closed: the usage is unknown.
        if let Some(why) = self.uncounted.take() {
            return Some(why);
        }
        if let Some(limit) = self.limit.filter(|limit| self.folders.values().sum::<u64>() > limit.bytes()) {
            return Some(format!("the job has written more than its limit of {limit}"));
        }
        let left = Size::from_bytes(self.stays_free);
        is_nearly_full.then(|| format!("the disk of its runner has less than {left} left, which others need"))
    }
}

/// Returns why a folder could not be counted, unless the job was stopped or the folder vanished.
fn why_uncounted(counted: Result<&u64, &io::Error>) -> Option<String> {
    let error = counted.err()?;
    let is_given_up = error.get_ref().is_some_and(|inner| inner.is::<GivenUp>());
    let is_gone = error.kind() == io::ErrorKind::NotFound;
    (!is_given_up && !is_gone)
        .then(|| format!("the job has a disk limit, and what it wrote cannot be counted: {error}"))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    /// Looks now.
    fn look(space: &mut DiskSpace) -> Option<String> {
        space.next_look = Instant::now();
        space.counted(&Watch::none(), true)
    }

    #[test]
    fn what_is_in_all_folders_counts_and_what_became_a_layer_still_does() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let write = |name: &str| {
            fs::create_dir(at(name)).unwrap();
            fs::write(at(name).join("file"), vec![1; 48 << 10]).unwrap();
        };
        let mut space = DiskSpace::new(Some(Size::from_bytes(64 << 10)), folder.path(), []);
        space.stays_free = 0;
        write("first");
        space.count(&at("first"));
        assert_eq!(space.counted(&Watch::none(), true), None, "it is not yet looked at");
        space.count_once_more(&at("first"), &Watch::none());
        fs::remove_dir_all(at("first")).unwrap();
        space.count(&at("second"));
        assert_eq!(look(&mut space), None);
        write("second");
        space.count(&at("second"));
        assert_eq!(space.counted(&Watch::none(), true), None, "it was looked at a moment ago");
        assert_eq!(look(&mut space).unwrap(), "the job has written more than its limit of 64KiB");
        fs::remove_file(at("second").join("file")).unwrap();
        assert_eq!(look(&mut space), None, "what is removed is not written");
    }

    #[test]
    fn who_may_write_as_much_as_there_is_leaves_some_to_others() {
        let folder = tempfile::tempdir().unwrap();
        let mut space = DiskSpace::new(None, folder.path(), []);
        space.stays_free = 0;
        assert_eq!(look(&mut space), None);
        space.stays_free = u64::MAX;
        assert!(look(&mut space).unwrap().starts_with("the disk of its runner has less than "));
    }
}
