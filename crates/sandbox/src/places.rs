//! Which ids of the machine each place has.

use std::fs::{self, DirBuilder, File};
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::Path;

use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};

use crate::IdMap;
use crate::ids::{RANGE_COUNT, reaches};

/// Where it is locked which of them are taken.
const TAKEN: &str = "/run/pondrix/ids";
/// The first of the ids that are used where the machine's administrator set none apart for root (subuid(5)): behind all
/// that programs give to users, and before the half that older ones take for negative.
const UNSAID: u32 = 0x7000_0000;
/// How many places a machine has at most, where nothing is said.
const MOST: u32 = 4096;

/// The ids of the machine that processes of one place have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceIds {
    user: u32,
    group: u32,
}

impl PlaceIds {
    /// The map from ids inside.
    pub(crate) const fn map(self) -> IdMap {
        IdMap::range(self.user, self.group)
    }

    /// The lines of a map from how files are stored to how they are seen: root's stay root's.
    pub(crate) fn user_lines(self, stored: IdMap) -> String {
        format!("0 0 1\n{} {} {RANGE_COUNT}\n", stored.to_machine(0, 0).0, self.user)
    }

    pub(crate) fn group_lines(self, stored: IdMap) -> String {
        format!("0 0 1\n{} {} {RANGE_COUNT}\n", stored.to_machine(0, 0).1, self.group)
    }

    /// The machine's ids for root inside.
    #[must_use]
    pub const fn root(self) -> (u32, u32) {
        (self.user, self.group)
    }
}

/// Ids for several places, which no other process of the machine takes while this one lives.
#[derive(Debug)]
pub struct Places {
    /// Those of each place.
    pub ids: Vec<PlaceIds>,
    _locks: Vec<File>,
}

impl Places {
    /// Takes ids for so many places. They are of the ranges that are set apart for root (`/etc/subuid`, `/etc/subgid`),
    /// where there are such.
    ///
    /// # Errors
    /// When this process may not use ranges of ids, there are not enough, or it cannot be locked that they are taken.
    pub fn take(count: usize) -> io::Result<Self> {
        if !IdMap::for_this_process().is_range() {
            return Err(io::Error::other("only root has ranges of ids"));
        }
        let read = |file: &str| fs::read_to_string(file).unwrap_or_default();
        let all = candidates(&read("/etc/subuid"), &read("/etc/subgid"));
        let (users, groups) = (read("/proc/self/uid_map"), read("/proc/self/gid_map"));
        let all = all.into_iter().filter(|ids| reaches(&users, ids.user) && reaches(&groups, ids.group));
        DirBuilder::new().recursive(true).mode(0o700).create(TAKEN)?;
        let mut places = Self { ids: Vec::new(), _locks: Vec::new() };
        for ids in all {
            if places.ids.len() == count {
                break;
            }
            let name = format!("{}-{}", ids.user, ids.group);
            let lock = File::options().create(true).truncate(false).write(true).open(Path::new(TAKEN).join(name))?;
            if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_ok() {
                places.ids.push(ids);
                places._locks.push(lock);
            }
        }
        if places.ids.len() == count {
            return Ok(places);
        }
        let there = places.ids.len();
        Err(io::Error::other(format!(
            "{count} ranges of {RANGE_COUNT} ids are wanted, and {there} are free: set more apart for root in \
             /etc/subuid and /etc/subgid"
        )))
    }
}

/// The first ids of root's ranges, of whole ranges of [`RANGE_COUNT`].
fn of_root(text: &str) -> Vec<u32> {
    let mut all = Vec::new();
    for line in text.lines() {
        let mut parts = line.split(':');
        let (Some("root" | "0"), Some(first), Some(count)) = (parts.next(), parts.next(), parts.next()) else {
            continue;
        };
        let (Ok(first), Ok(count)) = (first.trim().parse::<u32>(), count.trim().parse::<u32>()) else { continue };
        let whole = (0..count / RANGE_COUNT).map_while(|number| first.checked_add(number.checked_mul(RANGE_COUNT)?));
        all.extend(whole.filter(|first| first.checked_add(RANGE_COUNT).is_some()));
    }
    all
}

/// The ids that places may have, in the order in which they are taken. The range that files are stored under is none.
fn candidates(subuid: &str, subgid: &str) -> Vec<PlaceIds> {
    let stored = IdMap::range_of_files().to_machine(0, 0);
    let (users, groups) = (of_root(subuid), of_root(subgid));
    if users.is_empty() || groups.is_empty() {
        let unsaid = (0..MOST).map(|number| UNSAID + number * RANGE_COUNT);
        return unsaid.map(|id| PlaceIds { user: id, group: id }).collect();
    }
    let is_free = |first: u32, of_files: u32| first.abs_diff(of_files) >= RANGE_COUNT;
    let users = users.into_iter().filter(|user| is_free(*user, stored.0));
    let groups = groups.into_iter().filter(|group| is_free(*group, stored.1));
    users.zip(groups).map(|(user, group)| PlaceIds { user, group }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_have_whole_ranges_of_what_is_set_apart_for_root_and_never_that_of_files() {
        let text = "wren:100000:65536\nroot:100000:196608\n0:900000:65535\nroot:x:1\nroot:4294900000:999999\n";
        let firsts: Vec<_> = candidates(text, text).into_iter().map(PlaceIds::root).collect();
        assert_eq!(firsts, [(165_536, 165_536), (231_072, 231_072), (4_294_900_000, 4_294_900_000)]);
        let unsaid = candidates("wren:100000:65536\n", "");
        assert_eq!(unsaid[1].root(), (UNSAID + RANGE_COUNT, UNSAID + RANGE_COUNT));
        assert!(unsaid.iter().all(|ids| ids.root().0.checked_add(RANGE_COUNT).unwrap() <= 1 << 31));
    }

    #[test]
    fn what_is_stored_is_seen_under_the_ids_of_the_place_and_roots_stays_roots() {
        let place = PlaceIds { user: 500_000, group: 600_000 };
        assert_eq!(place.user_lines(IdMap::range_of_files()), "0 0 1\n100000 500000 65536\n");
        assert_eq!(place.group_lines(IdMap::range_of_files()), "0 0 1\n100000 600000 65536\n");
        assert_eq!(place.map().to_machine(33, 0), (500_033, 600_000));
    }
}
