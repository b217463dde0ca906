//! When each file of a commit was changed last.
//!
//! A file has the time of the last commit that changed it, on the way back from its commit by first parents: what a
//! branch was merged into is the way, and the merge changed what it brought. Programs that build only what is newer
//! than what they built before need that: a checkout has no times of its own.

mod log;
mod retimed;

use std::collections::{BTreeMap, BTreeSet};

pub use log::Log;
pub use retimed::Retimed;

/// The time of each file of a commit, in seconds since 1970.
///
/// They stand in order of their paths: commits have a hundred thousand files, and mostly those of the commit before.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileTimes(Vec<(Vec<u8>, u64)>);

impl FileTimes {
    /// When a file was changed last.
    #[must_use]
    pub fn get(&self, path: &[u8]) -> Option<u64> {
        let place = self.0.binary_search_by(|(other, _)| other.as_slice().cmp(path)).ok()?;
        Some(self.0[place].1)
    }

    /// Whether a file of this name is in some folder.
    #[must_use]
    pub fn has_name(&self, name: &str) -> bool {
        let is_it = |path: &[u8]| path.rsplit(|byte| *byte == b'/').next() == Some(name.as_bytes());
        self.0.iter().any(|(path, _)| is_it(path))
    }

    /// The files, by path.
    pub fn iter(&self) -> impl Iterator<Item = (&[u8], u64)> {
        self.0.iter().map(|(path, time)| (path.as_slice(), *time))
    }

    /// The files that have another time than they have in `before`, or are not there, by path.
    pub fn other_than<'a>(&'a self, before: &'a Self) -> impl Iterator<Item = (&'a [u8], u64)> {
        let mut before = before.iter().peekable();
        self.iter().filter(move |(path, time)| {
            while before.next_if(|(other, _)| other < path).is_some() {}
            before.next_if(|(other, _)| other == path).is_none_or(|(_, other)| other != *time)
        })
    }

    /// How they are written down: of each file its time, a space, its path and a zero byte.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.0.iter().map(|(path, _)| path.len() + 12).sum());
        for (path, time) in self.iter() {
            bytes.extend(time.to_string().into_bytes());
            bytes.push(b' ');
            bytes.extend(path);
            bytes.push(0);
        }
        bytes
    }

    /// Reads what [`FileTimes::to_bytes`] wrote; nothing when it is damaged.
    #[must_use]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let lines = match bytes.strip_suffix(&[0]) {
            Some(lines) => lines.split(|byte| *byte == 0),
            None if bytes.is_empty() => return Some(Self::default()),
            None => return None,
        };
        let times = lines.map(|line| {
            let space = line.iter().position(|byte| *byte == b' ')?;
            let time = std::str::from_utf8(&line[..space]).ok()?.parse().ok()?;
            Some((line[space + 1..].to_vec(), time))
        });
        let times = times.collect::<Option<Vec<_>>>()?;
        times.is_sorted_by(|(one, _), (next, _)| one < next).then_some(Self(times))
    }
}

/// Finding the times of a commit's files.
#[derive(Clone, Debug)]
pub struct Search {
    found: BTreeMap<Vec<u8>, u64>,
    missing: BTreeSet<Vec<u8>>,
}

impl Search {
    /// Of these files nothing is known yet.
    pub fn new(files: impl IntoIterator<Item = Vec<u8>>) -> Self {
        Self { found: BTreeMap::new(), missing: files.into_iter().collect() }
    }

    /// A commit of this time changed a file. Later commits are told before earlier ones.
    pub fn changed(&mut self, path: &[u8], time: u64) {
        if let Some(path) = self.missing.take(path) {
            self.found.insert(path, time);
        }
    }

    /// Takes what is known of another commit, for the files that were changed neither on the way from where the two
    /// ways part to this commit, which has been told, nor on that to the other, which are these.
    pub fn take(&mut self, known: &FileTimes, changed_there: &BTreeSet<Vec<u8>>) {
        let mut known = known.iter().peekable();
        let (mut found, mut missing) = (Vec::new(), Vec::new());
        for path in std::mem::take(&mut self.missing) {
            while known.next_if(|(other, _)| *other < path.as_slice()).is_some() {}
            let same = known.next_if(|(other, _)| *other == path);
            match same.filter(|_| !changed_there.contains(&path)) {
                Some((_, time)) => found.push((path, time)),
                None => missing.push(path),
            }
        }
        self.missing = missing.into_iter().collect();
        self.found.append(&mut found.into_iter().collect());
    }

    /// The files whose times are not known.
    #[must_use]
    pub const fn missing(&self) -> &BTreeSet<Vec<u8>> {
        &self.missing
    }

    /// The times. What no commit was told of has that of the commit itself.
    #[must_use]
    pub fn finish(mut self, of_commit: u64) -> FileTimes {
        self.found.extend(self.missing.into_iter().map(|path| (path, of_commit)));
        FileTimes(self.found.into_iter().collect())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// What a commit did to files: gave one another content, or removed it.
    type Change = BTreeMap<&'static str, Option<u8>>;

    fn any_commits(most: usize) -> impl Strategy<Value = Vec<Change>> {
        let path = prop::sample::select(vec!["a", "b", "c/d", "c/e", "f g"]);
        prop::collection::vec(prop::collection::btree_map(path, prop::option::of(0_u8..3), 0..3), 0..most)
    }

    /// What each commit really changed, with its time, the last first.
    type Changes = Vec<(u64, Vec<&'static str>)>;

    /// The files at the end of a way, and the changes on it.
    fn told(commits: &[Change], from: usize) -> (BTreeMap<&'static str, u8>, Changes) {
        let (mut files, mut log) = (BTreeMap::new(), Vec::new());
        for (number, change) in commits.iter().enumerate() {
            let before = files.clone();
            for (path, content) in change {
                match content {
                    Some(content) => drop(files.insert(*path, *content)),
                    None => drop(files.remove(path)),
                }
            }
            let changed = change.keys().filter(|path| before.get(*path) != files.get(*path)).copied().collect();
            log.push((1000 + 10 * (from + number) as u64, changed));
        }
        log.reverse();
        (files, log)
    }

    /// Time by the definition: of the last commit on the way that changed the file.
    fn defined(commits: &[(u64, Change)]) -> BTreeMap<&'static str, u64> {
        let (mut files, mut times) = (BTreeMap::new(), BTreeMap::new());
        for (time, change) in commits {
            for (path, content) in change {
                match content {
                    Some(content) if files.insert(*path, *content) != Some(*content) => {
                        times.insert(*path, *time);
                    }
                    Some(_) => {}
                    None => {
                        files.remove(path);
                        times.remove(path);
                    }
                }
            }
        }
        times
    }

    proptest! {
        #[test]
        fn what_is_known_of_another_commit_gives_the_times_that_the_whole_way_back_would(
            common in any_commits(5),
            here in any_commits(4),
            there in any_commits(4),
        ) {
            let number = |commits: &[Change], from: usize| -> Vec<(u64, Change)> {
                commits.iter().cloned().enumerate().map(|(at, change)| (1000 + 10 * (from + at) as u64, change)).collect()
            };
            let (way, way_there) = ([common.clone(), here.clone()].concat(), [common.clone(), there.clone()].concat());
            // The other way's commits have times of their own.
            let mut numbered_there = number(&common, 0);
            numbered_there.extend(number(&there, 50));
            let times_there = defined(&numbered_there);
            let expected = defined(&number(&way, 0));
            let (files, log) = told(&way, 0);
            let (_, log_there) = told(&way_there, 0);

            let mut search = Search::new(files.keys().map(|path| path.as_bytes().to_vec()));
            for (time, changed) in &log[..here.len()] {
                changed.iter().for_each(|path| search.changed(path.as_bytes(), *time));
            }
            let changed_there = log_there[..there.len()].iter().flat_map(|(_, changed)| changed);
            let changed_there = changed_there.map(|path| path.as_bytes().to_vec()).collect();
            let known = FileTimes(times_there.iter().map(|(path, time)| (path.as_bytes().to_vec(), *time)).collect());
            prop_assert_eq!(FileTimes::read(&known.to_bytes()), Some(known.clone()));
            let of_way = FileTimes(expected.iter().map(|(path, time)| (path.as_bytes().to_vec(), *time)).collect());
            let other: Vec<_> = of_way.other_than(&known).collect();
            prop_assert_eq!(other, of_way.iter().filter(|(path, time)| known.get(path) != Some(*time)).collect::<Vec<_>>());
            search.take(&known, &changed_there);
            // What stays unknown is looked for on the whole way.
            for (time, changed) in &log {
                changed.iter().for_each(|path| search.changed(path.as_bytes(), *time));
            }
            prop_assert!(search.missing().is_empty());
            let found = search.finish(0);
            let found: BTreeMap<&str, u64> =
                found.iter().map(|(path, time)| (std::str::from_utf8(path).unwrap(), time)).collect();
            prop_assert_eq!(found, expected);
        }

        #[test]
        fn what_is_damaged_is_not_read_and_nothing_panics(bytes in prop::collection::vec(prop::sample::select(b"12 a\0".to_vec()), 0..12)) {
            if let Some(times) = FileTimes::read(&bytes) {
                prop_assert_eq!(FileTimes::read(&times.to_bytes()), Some(times));
            }
        }
    }
}
