//! When the files of a commit were changed last.
//!
//! The first time, that is found by walking back through all of history; it is written down beside the repository's
//! copy. From then on only the way from the nearest commit that is known is walked.

use std::collections::BTreeSet;
use std::io;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::SystemTime;

use pondrix_core::file_times::{FileTimes, Log, Search};
use tokio::io::AsyncReadExt;
use tokio::process::Command;
use tracing::warn;

use super::command::{Running, output};
use super::repository::{GitRepository, MOST_NAMES};
use super::{CommitFacts, Difference, GitError};
use crate::off_thread::off_thread;

/// Where they are written down, in the copy.
const FOLDER: &str = "file-times";
/// Of how many commits: those that were asked for last. Branches come from several of them.
const KEPT: usize = 8;
/// How much of what git writes is read at once.
const PIECE: usize = 64 * 1024;

impl GitRepository {
    /// When each file of a commit was changed last.
    pub(super) async fn file_times(&self, commit: &str) -> Result<FileTimes, GitError> {
        let folder = self.copy().join(FOLDER);
        let known = KnownTimes(folder.clone());
        let wanted = commit.to_owned();
        let asked = known.clone();
        if let Some(times) = off_thread(move || asked.get(&wanted)).await {
            return Ok(times);
        }
        let mut others = known.names().into_iter();
        let mut next = async || {
            for name in others.by_ref() {
                let (asked, other) = (known.clone(), name.clone());
                if let Some(times) = off_thread(move || asked.read(&other)).await {
                    return Some((name, times));
                }
            }
            None
        };
        let mut other = next().await;
        let mut search = Search::new(self.names(commit, other.as_ref()).await?);
        while let Some((name, times)) = other {
            // A commit that nothing names any more may be gone.
            if self.begin_with(&mut search, commit, &name, &times).await.is_ok() {
                break;
            }
            other = next().await;
        }
        if !search.missing().is_empty() {
            self.walk(commit, None, Some(&mut search)).await?;
        }
        let CommitFacts { time, .. } = self.facts(commit).await?;
        let times = search.finish(u64::try_from(time.millis() / 1000).unwrap_or(0));
        let (bytes, wanted) = (times.to_bytes(), commit.to_owned());
        // What is not written down is found anew.
        if let Err(error) = off_thread(move || known.keep(&wanted, &bytes)).await {
            warn!(%error, folder = %folder.display(), "the times of a commit's files could not be written down");
        }
        Ok(times)
    }

    /// The names of a commit's files: those of another one but for the difference, or as git lists them.
    async fn names(&self, commit: &str, other: Option<&(String, FileTimes)>) -> Result<Vec<Vec<u8>>, GitError> {
        if let Some((other, known)) = other
            && let Some(Difference { changed, removed }) = self.difference(other, commit).await
        {
            let removed: BTreeSet<&[u8]> = removed.iter().map(String::as_bytes).collect();
            let stay = known.iter().map(|(path, _)| path).filter(|path| !removed.contains(path)).map(<[u8]>::to_vec);
            return Ok(stay.chain(changed.into_iter().map(String::into_bytes)).collect());
        }
        let listed = ["ls-tree", "-r", "-z", "--full-tree", "--name-only", commit];
        let names = output(self.reading_copy().args(listed)).await?;
        Ok(names.split(|byte| *byte == 0).filter(|name| !name.is_empty()).map(<[u8]>::to_vec).collect())
    }

    /// Takes what is known of another commit, as far as it is true of this one.
    async fn begin_with(
        &self,
        search: &mut Search,
        commit: &str,
        other: &str,
        known: &FileTimes,
    ) -> Result<(), GitError> {
        let changed_there = self.walk(other, Some(commit), None).await?;
        let mut begun = search.clone();
        self.walk(commit, Some(other), Some(&mut begun)).await?;
        begun.take(known, &changed_there);
        *search = begun;
        Ok(())
    }

    /// Walks back from a commit by first parents, to where the way of another one is met; tells the search which commit
    /// changed what, until it knows all. Answers what was changed on the way, where nothing is searched for.
    async fn walk(
        &self,
        from: &str,
        besides: Option<&str>,
        mut search: Option<&mut Search>,
    ) -> Result<BTreeSet<Vec<u8>>, GitError> {
        let mut git = self.reading_copy();
        git.args(["log", "--first-parent", "--diff-merges=first-parent", "--name-only", "--no-renames", "-z"]);
        git.args([Log::FORMAT, from]);
        if let Some(besides) = besides {
            git.args(["--exclude-first-parent-only", &format!("^{besides}")]);
        }
        git.arg("--");
        if let Some(search) = search.as_deref().filter(|_| besides.is_none()) {
            name_few(&mut git, search.missing());
        }
        let mut running = Running::start(git.stdout(Stdio::piped()).stderr(Stdio::null()))?;
        let mut bytes = running.stdout()?;
        let (mut log, mut changed, mut piece) = (Log::default(), BTreeSet::new(), vec![0; PIECE]);
        loop {
            let count = bytes.read(&mut piece).await.map_err(|error| GitError::NotStarted(error.to_string()))?;
            if count == 0 {
                break;
            }
            log.push(&piece[..count], |path, time| match &mut search {
                Some(search) => search.changed(path, time),
                None => drop(changed.insert(path.to_vec())),
            });
            // What is left of history tells nothing new. Git ends with what is dropped here.
            if search.as_ref().is_some_and(|search| search.missing().is_empty()) {
                return Ok(changed);
            }
        }
        match running.wait().await?.success() {
            true => Ok(changed),
            false => Err(GitError::Failed(format!("the history of {from} cannot be read"))),
        }
    }
}

/// Names the files, where they are few enough to be arguments: git need not look at others then.
fn name_few(git: &mut Command, files: &BTreeSet<Vec<u8>>) {
    if files.iter().map(|path| path.len() + 1).sum::<usize>() <= MOST_NAMES {
        git.env("GIT_LITERAL_PATHSPECS", "1");
        git.args(files.iter().map(|path| <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(path)));
    }
}

/// What was found of commits, in a folder: a file for each, whose time is that of its last use.
#[derive(Clone, Debug)]
struct KnownTimes(PathBuf);

impl KnownTimes {
    fn get(&self, commit: &str) -> Option<FileTimes> {
        let times = self.read(commit)?;
        let file = std::fs::File::options().append(true).open(self.0.join(commit));
        // That it cannot be noted does not make it untrue.
        drop(file.and_then(|file| file.set_modified(SystemTime::now())));
        Some(times)
    }

    /// The names, the one that was used last first.
    fn names(&self) -> Vec<String> {
        let entries = std::fs::read_dir(&self.0).into_iter().flatten().flatten();
        let used = |entry: &std::fs::DirEntry| entry.metadata().and_then(|data| data.modified()).ok();
        let mut all: Vec<_> = entries.map(|entry| (used(&entry), entry.file_name())).collect();
        all.sort();
        let names = all.into_iter().rev().map(|(_, name)| name.to_string_lossy().into_owned());
        names.filter(|name| name.bytes().all(|byte| byte.is_ascii_hexdigit())).collect()
    }

    fn read(&self, commit: &str) -> Option<FileTimes> {
        FileTimes::read(&zstd::decode_all(std::fs::File::open(self.0.join(commit)).ok()?).ok()?)
    }

    fn keep(&self, commit: &str, times: &[u8]) -> io::Result<()> {
        std::fs::create_dir_all(&self.0)?;
        let file = tempfile::NamedTempFile::new_in(&self.0)?;
        std::fs::write(file.path(), zstd::encode_all(times, 1)?)?;
        file.persist(self.0.join(commit)).map_err(|error| error.error)?;
        for name in self.names().into_iter().skip(KEPT) {
            std::fs::remove_file(self.0.join(name))?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::place::Place;
    use super::*;

    /// The times as one question of git for each file gives them.
    async fn asked_one_by_one(place: &Place, commit: &str) -> Vec<(String, u64)> {
        let listed = place.git(&["ls-tree", "-r", "--name-only", commit]).await;
        let mut all = Vec::new();
        for path in listed.lines() {
            let log = ["log", "-1", "-s", "--first-parent", "--format=%ct", commit, "--", path];
            all.push((path.to_owned(), place.git(&log).await.parse().unwrap()));
        }
        all
    }

    async fn found(place: &Place, commit: &str) -> Vec<(String, u64)> {
        let times = place.repository.file_times(commit).await.unwrap();
        times.iter().map(|(path, time)| (String::from_utf8(path.to_vec()).unwrap(), time)).collect()
    }

    #[tokio::test]
    async fn a_file_has_the_time_of_the_last_commit_on_the_way_that_changed_it_whatever_is_known_already() {
        let place = Place::new().await;
        let mut commits = Vec::new();
        let mut time = 1_700_000_000;
        let mut commit = async |changes: &[(&str, Option<&str>)]| {
            for (path, text) in changes {
                match text {
                    Some(text) => place.write(path, text),
                    None => std::fs::remove_file(place.checkout().join(path)).unwrap(),
                }
            }
            time += 100;
            let commit = place.commit_at(time).await;
            commits.push(commit.clone());
            commit
        };
        commit(&[("LICENSE", Some("free")), ("src/lily.c", Some("1")), ("src/fern.c", Some("1"))]).await;
        let first = commit(&[("src/lily.c", Some("2")), ("a name with spaces", Some("x"))]).await;
        commit(&[]).await;
        commit(&[("src/fern.c", Some("2")), ("src/lily.c", None)]).await;
        // There again, with what it was: it was changed now.
        let main = commit(&[("src/lily.c", Some("2")), ("new/deep/rose.c", Some("1"))]).await;
        place.git(&["checkout", "--quiet", "-b", "side", &first]).await;
        commit(&[("src/fern.c", Some("side"))]).await;
        let side = commit(&[("moss.c", Some("1"))]).await;
        place.git(&["checkout", "--quiet", &main]).await;
        place.git(&["merge", "--quiet", "--strategy-option", "theirs", "--no-edit", &side]).await;
        commit(&[]).await;
        // A revert gives back what was there before, and is a change.
        place.git(&["revert", "--no-edit", &main]).await;
        commit(&[("LICENSE", Some("free"))]).await;
        // And a branch that has nothing in common with anything.
        place.git(&["checkout", "--quiet", "--orphan", "alone"]).await;
        commit(&[("alone.c", Some("1"))]).await;

        let mut expected = Vec::new();
        for one in &commits {
            expected.push(asked_one_by_one(&place, one).await);
        }
        let count = commits.len();
        // In several orders, each from nothing: forwards, backwards, and to and fro.
        let orders: [Vec<usize>; 4] = [
            (0..count).collect(),
            (0..count).rev().collect(),
            (0..count).map(|at| if at % 2 == 0 { at / 2 } else { count - 1 - at / 2 }).collect(),
            (0..count).map(|at| (at * 7 + 3) % count).collect(),
        ];
        for order in orders {
            drop(std::fs::remove_dir_all(place.repository.copy().join(FOLDER)));
            for at in order.iter().chain(&order) {
                assert_eq!(found(&place, &commits[*at]).await, expected[*at], "commit {at} of {order:?}");
            }
            let kept = std::fs::read_dir(place.repository.copy().join(FOLDER)).unwrap().count();
            assert_eq!(kept, KEPT.min(count));
        }
    }

    #[tokio::test]
    async fn what_is_written_down_and_damaged_or_of_a_commit_that_is_gone_is_found_anew() {
        let place = Place::new().await;
        place.write("lily.c", "1");
        let first = place.commit_at(1_700_000_000).await;
        let folder = place.repository.copy().join(FOLDER);
        std::fs::create_dir_all(&folder).unwrap();
        let gone = "12".repeat(20);
        KnownTimes(folder.clone()).keep(&gone, b"5 lily.c\0").unwrap();
        assert_eq!(found(&place, &first).await, [("lily.c".to_owned(), 1_700_000_000)]);
        std::fs::write(folder.join(&first), "nonsense").unwrap();
        assert_eq!(found(&place, &first).await, [("lily.c".to_owned(), 1_700_000_000)]);
        assert!(place.repository.file_times(&"34".repeat(20)).await.is_err());
    }
}
