//! The files of projects, kept from one image job to the next: of the next commit only what changed is fetched, and
//! a build need not read again what did not.
//!
//! ```text
//! PROJECT/files/    the files of a commit
//! PROJECT/commit    which one, in which boot of the machine they were written, and which times they have; not there
//!                   while that changes
//! PROJECT/seen      what a build found in the files
//! ```
//!
//! Builds of one commit share the files, which nobody changes but who brings them to another commit. Who needs another
//! commit while they are in use fetches one for itself.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use pondrix_core::ProjectName;
use pondrix_image::build::plain_path;
use pondrix_image::layer;

/// How many projects' files are kept; those of the project that was built least recently go.
const PROJECTS: usize = 16;
/// Says which boot of the machine this is (random(4)): what was written before it may not all have reached the disk.
const BOOT_ID: &str = "/proc/sys/kernel/random/boot_id";
/// Says that each file has the time of its own last change.
const OWN_TIMES: &str = "own times\n";

/// All kept files.
#[derive(Clone, Debug)]
pub(crate) struct Sources {
    folder: PathBuf,
    lent: Arc<Mutex<HashMap<ProjectName, Lent>>>,
}

/// Files in use.
#[derive(Debug)]
struct Lent {
    commit: String,
    users: usize,
    /// Whether the files are those of the commit, and not about to be.
    is_ready: bool,
}

/// The right to use a project's files, until it is dropped.
#[derive(Debug)]
pub(crate) struct Claim {
    sources: Sources,
    project: ProjectName,
    folder: PathBuf,
    /// Whether the files are those of the commit; else whoever has this makes them so.
    pub(crate) is_ready: bool,
}

impl Sources {
    pub(crate) fn open(folder: PathBuf) -> io::Result<Self> {
        fs::create_dir_all(&folder)?;
        Ok(Self { folder, lent: Arc::default() })
    }

    fn lent(&self) -> MutexGuard<'_, HashMap<ProjectName, Lent>> {
        self.lent.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Asks for the files of a commit; nothing while they are in use for another.
    pub(crate) fn claim(&self, project: &ProjectName, commit: &str) -> Option<Claim> {
        let mut all = self.lent();
        let is_ready = match all.get_mut(project) {
            Some(lent) if lent.is_ready && lent.commit == commit => {
                lent.users += 1;
                true
            }
            Some(_) => return None,
            None => {
                all.insert(project.clone(), Lent { commit: commit.to_owned(), users: 1, is_ready: false });
                false
            }
        };
        let folder = self.folder.join(project.as_str());
        Some(Claim { sources: self.clone(), project: project.clone(), folder, is_ready })
    }

    /// Forgets the files that were not used for longest, where there are those of too many projects.
    pub(crate) fn free_space(&self) -> io::Result<()> {
        let all = self.lent();
        let mut kept: Vec<(SystemTime, PathBuf)> = Vec::new();
        for entry in fs::read_dir(&self.folder)? {
            let path = entry?.path();
            let is_lent = all.keys().any(|project| path.ends_with(project.as_str()));
            // What has no commit is of no use, and the oldest of all.
            let used = fs::metadata(path.join("commit")).and_then(|data| data.modified());
            if !is_lent {
                kept.push((used.unwrap_or(SystemTime::UNIX_EPOCH), path));
            }
        }
        kept.sort();
        let surplus = (kept.len() + all.len()).saturating_sub(PROJECTS);
        kept.iter().take(surplus).try_for_each(|(_, path)| pondrix_files::remove(path))
    }
}

impl Sources {
    /// Removes the files of projects that are none of these any more, where no job uses them.
    pub(crate) fn keep_only(&self, projects: &[ProjectName]) -> io::Result<()> {
        let all = self.lent();
        for entry in fs::read_dir(&self.folder)? {
            let path = entry?.path();
            let is = |project: &ProjectName| path.ends_with(project.as_str());
            if !projects.iter().any(is) && !all.keys().any(is) {
                pondrix_files::remove(&path)?;
            }
        }
        Ok(())
    }
}

impl Claim {
    /// The folder of the files.
    pub(crate) fn files(&self) -> PathBuf {
        self.folder.join("files")
    }

    /// Where a build remembers what is in them.
    pub(crate) fn seen(&self) -> PathBuf {
        self.folder.join("seen")
    }

    /// The commit whose files these are; nothing when they are of none.
    pub(crate) fn commit(&self) -> Option<String> {
        let text = fs::read_to_string(self.folder.join("commit")).ok()?;
        let (commit, rest) = text.split_once('\n')?;
        (rest == state()).then(|| commit.to_owned())
    }

    /// The files are about to change: if that breaks off, they are of no commit.
    pub(crate) fn begin(&self) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        match fs::remove_file(self.folder.join("commit")) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// Removes all files, for others in their place.
    pub(crate) fn clear(&self) -> io::Result<()> {
        match pondrix_files::remove(&self.files()) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// Removes a file, and the folders above it in which nothing is left: a commit has none of these.
    pub(crate) fn remove(&self, path: &str) -> io::Result<()> {
        let files = self.files();
        let nonsense = || io::Error::other(format!("{path} is not among the files"));
        let on_disk = plain_path(&files, Path::new(path)).filter(|found| *found != files).ok_or_else(nonsense)?;
        // The commit of another repository that this one points at is an empty folder.
        if fs::symlink_metadata(&on_disk)?.is_dir() {
            fs::remove_dir(&on_disk)?
        } else {
            fs::remove_file(&on_disk)?
        }
        let mut above = on_disk.parent();
        while let Some(folder) = above.filter(|folder| *folder != files) {
            match fs::remove_dir(folder) {
                Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => break,
                other => other?,
            }
            above = folder.parent();
        }
        Ok(())
    }

    /// Gives a file, or a link itself, a time, in seconds since 1970.
    pub(crate) fn retime(&self, path: &str, time: u64) -> io::Result<()> {
        let on_disk = plain_path(&self.files(), Path::new(path));
        let on_disk = on_disk.ok_or_else(|| io::Error::other(format!("{path} is not among the files")))?;
        layer::set_time(&on_disk, SystemTime::UNIX_EPOCH + Duration::from_secs(time))
    }

    /// The files are now those of the commit that was asked for, for others too.
    pub(crate) fn finish(&mut self) -> io::Result<()> {
        let mut all = self.sources.lent();
        let Some(lent) = all.get_mut(&self.project) else { return Ok(()) };
        let new = self.folder.join("commit.new");
        fs::write(&new, format!("{}\n{}", lent.commit, state()))?;
        fs::rename(new, self.folder.join("commit"))?;
        (lent.is_ready, self.is_ready) = (true, true);
        Ok(())
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        let mut all = self.sources.lent();
        let Some(lent) = all.get_mut(&self.project) else { return };
        lent.users -= 1;
        if lent.users == 0 {
            all.remove(&self.project);
        }
    }
}

/// In which boot of the machine files are written, and which times they have.
fn state() -> String {
    format!("{}{OWN_TIMES}", fs::read_to_string(BOOT_ID).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sources() -> (tempfile::TempDir, Sources) {
        let folder = tempfile::tempdir().unwrap();
        let sources = Sources::open(folder.path().join("sources")).unwrap();
        (folder, sources)
    }

    fn name(text: &str) -> ProjectName {
        text.parse().unwrap()
    }

    /// Brings a project's files to a commit.
    fn brought(sources: &Sources, project: &str, commit: &str) -> Claim {
        let mut claim = sources.claim(&name(project), commit).unwrap();
        claim.begin().unwrap();
        fs::create_dir_all(claim.files()).unwrap();
        claim.finish().unwrap();
        claim
    }

    #[test]
    fn files_of_a_project_that_is_gone_go_when_no_job_uses_them() {
        let (folder, sources) = sources();
        let used = brought(&sources, "plant-labels", "a1");
        for project in ["visitor-desk", "glasshouse"] {
            drop(brought(&sources, project, "a1"));
        }
        let there = || {
            let entries = fs::read_dir(folder.path().join("sources")).unwrap();
            let mut names: Vec<_> = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
            names.sort();
            names
        };
        sources.keep_only(&[name("visitor-desk")]).unwrap();
        assert_eq!(there(), ["plant-labels", "visitor-desk"]);
        drop(used);
        sources.keep_only(&[name("visitor-desk")]).unwrap();
        assert_eq!(there(), ["visitor-desk"]);
    }

    #[test]
    fn files_of_a_commit_go_however_deep_they_are() {
        let (_folder, sources) = sources();
        let claim = brought(&sources, "visitor-desk", "a1");
        let handle = rustix::fs::OFlags::PATH | rustix::fs::OFlags::DIRECTORY;
        let nest = || {
            let mut current = rustix::fs::open(claim.files(), handle, rustix::fs::Mode::empty()).unwrap();
            for _ in 0..20_000 {
                rustix::fs::mkdirat(&current, "bed", rustix::fs::Mode::RWXU).unwrap();
                current = rustix::fs::openat(&current, "bed", handle, rustix::fs::Mode::empty()).unwrap();
            }
        };
        nest();
        claim.clear().unwrap();
        assert!(!claim.files().exists());
        fs::create_dir(claim.files()).unwrap();
        nest();
        drop(claim);
        sources.keep_only(&[]).unwrap();
        assert_eq!(fs::read_dir(&sources.folder).unwrap().count(), 0);
    }

    #[test]
    fn builds_of_one_commit_share_its_files_and_nobody_changes_them_meanwhile() {
        let (_folder, sources) = sources();
        let desk = name("visitor-desk");
        let first = sources.claim(&desk, "a1").unwrap();
        assert!(!first.is_ready);
        assert!(sources.claim(&desk, "a1").is_none(), "they are not there yet");
        drop(first);
        let first = brought(&sources, "visitor-desk", "a1");
        let second = sources.claim(&desk, "a1").unwrap();
        assert!(second.is_ready && second.files() == first.files());
        assert!(sources.claim(&desk, "b2").is_none());
        assert!(sources.claim(&name("plant-labels"), "b2").is_some(), "another project has its own");
        drop(first);
        assert!(sources.claim(&desk, "b2").is_none(), "the second still has them");
        drop(second);
        let third = sources.claim(&desk, "b2").unwrap();
        assert_eq!((third.is_ready, third.commit()), (false, Some("a1".to_owned())));
    }

    #[test]
    fn files_whose_change_broke_off_or_that_are_from_before_the_machine_began_are_of_no_commit() {
        let (_folder, sources) = sources();
        drop(brought(&sources, "visitor-desk", "a1"));
        let claim = sources.claim(&name("visitor-desk"), "b2").unwrap();
        claim.begin().unwrap();
        drop(claim);
        assert_eq!(sources.claim(&name("visitor-desk"), "b2").unwrap().commit(), None);
        let claim = brought(&sources, "visitor-desk", "b2");
        assert_eq!(claim.commit().as_deref(), Some("b2"));
        fs::write(claim.folder.join("commit"), "b2\nanother boot").unwrap();
        assert_eq!(claim.commit(), None);
    }

    #[test]
    fn what_is_removed_takes_its_empty_folders_along_and_nothing_outside() {
        let (folder, sources) = sources();
        let claim = brought(&sources, "visitor-desk", "a1");
        let files = claim.files();
        fs::create_dir_all(files.join("a/b/c")).unwrap();
        fs::write(files.join("a/b/c/gone"), "").unwrap();
        fs::write(files.join("a/stays"), "").unwrap();
        claim.remove("a/b/c/gone").unwrap();
        assert!(!files.join("a/b").exists() && files.join("a/stays").exists());
        let outside = folder.path().join("outside");
        fs::write(&outside, "").unwrap();
        std::os::unix::fs::symlink(folder.path(), files.join("way")).unwrap();
        for path in ["way/outside", "../../../outside", "/outside", "", ".", "a/never"] {
            assert!(claim.remove(path).is_err(), "{path}");
        }
        assert!(outside.exists());
        claim.remove("way").unwrap();
        assert!(outside.exists() && fs::symlink_metadata(files.join("way")).is_err());
    }

    #[test]
    fn the_files_of_few_projects_are_kept_and_of_those_built_last() {
        let (_folder, sources) = sources();
        let used = brought(&sources, "used", "a1");
        for number in 0..PROJECTS + 3 {
            let claim = brought(&sources, &format!("project-{number}"), "a1");
            let time = SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1000 + number as u64);
            fs::File::options().write(true).open(claim.folder.join("commit")).unwrap().set_modified(time).unwrap();
        }
        fs::create_dir(sources.folder.join("broke-off")).unwrap();
        sources.free_space().unwrap();
        assert_eq!(fs::read_dir(&sources.folder).unwrap().count(), PROJECTS);
        assert!(used.files().exists() && !sources.folder.join("broke-off").exists());
        assert!(!sources.folder.join("project-0").exists() && sources.folder.join("project-18").exists());
    }
}
