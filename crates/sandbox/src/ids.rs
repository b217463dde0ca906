//! Which ids of the machine stand for the ids inside.

use std::io;
use std::os::unix::fs::lchown;
use std::path::Path;

use serde::{Deserialize, Serialize};

/// A map from ids inside a sandbox to ids of the machine (user_namespaces(7)).
///
/// Files that a sandbox shall own are stored under the machine's ids, so that no mount needs
/// translating.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct IdMap {
    base_user: u32,
    base_group: u32,
    count: u32,
}

/// The first of the machine's ids that sandboxes use when root starts them.
const RANGE_BASE: u32 = 100_000;
/// How many: every id that 16 bits hold.
pub(crate) const RANGE_COUNT: u32 = 65_536;

/// Whether a map of this process's own namespace (user_namespaces(7): first id, first id outside,
/// count) has the whole range.
fn has_range(map: &str) -> bool {
    reaches(map, RANGE_BASE)
}

/// Whether such a map has the whole range that begins with an id.
pub(crate) fn reaches(map: &str, base: u32) -> bool {
    map.lines().any(|line| {
        let numbers: Vec<u64> = line.split_whitespace().filter_map(|number| number.parse().ok()).collect();
        let (first, last) = (u64::from(base), u64::from(base) + u64::from(RANGE_COUNT));
        matches!(numbers[..], [from, _, count] if from <= first && last <= from + count)
    })
}

impl IdMap {
    /// The map that this process may use: a range for root, its own id for anybody else, and for a root
    /// that is itself in a namespace where the range does not exist.
    #[must_use]
    pub fn for_this_process() -> Self {
        let (user, group) = (rustix::process::geteuid(), rustix::process::getegid());
        let exists = |map: &str| has_range(&std::fs::read_to_string(map).unwrap_or_default());
        if user.is_root() && exists("/proc/self/uid_map") && exists("/proc/self/gid_map") {
            Self::range_of_files()
        } else {
            Self { base_user: user.as_raw(), base_group: group.as_raw(), count: 1 }
        }
    }

    /// The range that files are stored under.
    pub(crate) const fn range_of_files() -> Self {
        Self::range(RANGE_BASE, RANGE_BASE)
    }

    /// A range that begins with these.
    pub(crate) const fn range(base_user: u32, base_group: u32) -> Self {
        Self { base_user, base_group, count: RANGE_COUNT }
    }

    /// Whether more than root exists inside.
    #[must_use]
    pub const fn is_range(self) -> bool {
        self.count > 1
    }

    /// The machine's ids for a user and group inside; those of root inside where there are none.
    #[must_use]
    pub fn to_machine(self, user: u32, group: u32) -> (u32, u32) {
        let map = |base: u32, id: u32| if id < self.count { base + id } else { base };
        (map(self.base_user, user), map(self.base_group, group))
    }

    /// The ids inside for a user and group of the machine; root where there are none.
    #[must_use]
    pub fn to_inside(self, user: u32, group: u32) -> (u32, u32) {
        let map = |base: u32, id: u32| id.checked_sub(base).filter(|inside| *inside < self.count).unwrap_or(0);
        (map(self.base_user, user), map(self.base_group, group))
    }

    /// Gives a file, not followed when it is a link, to ids inside. Where only one id is mapped
    /// every file belongs to it already, and there is nothing to do.
    ///
    /// # Errors
    /// What the system says.
    pub fn give(self, path: &Path, user: u32, group: u32) -> io::Result<()> {
        if !self.is_range() {
            return Ok(());
        }
        let (user, group) = self.to_machine(user, group);
        lchown(path, Some(user), Some(group))
    }

    pub(crate) fn user_line(self) -> String {
        format!("0 {} {}\n", self.base_user, self.count)
    }

    pub(crate) fn group_line(self) -> String {
        format!("0 {} {}\n", self.base_group, self.count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_used_only_where_it_exists() {
        assert!(has_range("         0          0 4294967295\n"));
        assert!(has_range("0 500000 65536\n65536 900000 200000\n"));
        assert!(!has_range("0 0 1\n"), "root of a namespace with one id");
        assert!(!has_range("0 100000 65536\n"), "the range of a sandbox itself");
        assert!(!has_range(""));
    }

    #[test]
    fn ids_go_in_and_out_unchanged_and_strangers_become_root() {
        let map = IdMap { base_user: 100_000, base_group: 100_000, count: 65_536 };
        assert_eq!(map.to_machine(33, 0), (100_033, 100_000));
        assert_eq!(map.to_inside(100_033, 100_000), (33, 0));
        assert_eq!(map.to_inside(5, 200_000), (0, 0));
        assert_eq!(map.to_machine(70_000, 70_000), (100_000, 100_000));
    }
}
