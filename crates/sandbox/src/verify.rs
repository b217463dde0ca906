//! What must be true before a command begins. If anything of it is not, nothing is started.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};

use rustix::fs::{CWD, Dir, Mode, OFlags, openat};

use crate::inside::Root;
use crate::trees::{MountId, facts, mount_id};

/// Why a command would not be isolated.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotIsolated {
    #[error("something lies over the root: `/` is the mount {root}, and `/..` is {above}")]
    Covered { root: MountId, above: MountId },
    #[error("there are mounts that nobody asked for: {0}")]
    Mounts(String),
    #[error("a line of the list of mounts cannot be read: {0}")]
    Line(String),
    #[error("the descriptor {0} is open")]
    Open(i32),
    #[error("the mounts or descriptors cannot be listed: {0}")]
    System(#[from] io::Error),
}

/// Verifies that nothing of the machine is within reach: that the root is the top of everything, that there are the mounts
/// that were made and no other, and that only the standard descriptors and these are open.
///
/// # Errors
/// Whatever is not so.
pub(crate) fn isolated(root: &Root, open: &[BorrowedFd<'_>]) -> Result<(), NotIsolated> {
    let of = |path: &str| {
        let opened = openat(CWD, path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty())?;
        mount_id(&facts(opened)?)
    };
    let (top, above) = (of("/")?, of("/..")?);
    if top != above || !root.made().contains(&top) {
        return Err(NotIsolated::Covered { root: top, above });
    }
    let unknown = unknown_mounts(&fs::read_to_string("/proc/self/mountinfo")?, root.made())?;
    if !unknown.is_empty() {
        return Err(NotIsolated::Mounts(unknown.join("; ")));
    }
    let listing = openat(CWD, "/proc/self/fd", OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()).and_then(Dir::new);
    let listing = listing.map_err(io::Error::from)?;
    let own = listing.fd().map_err(io::Error::from)?.as_raw_fd();
    let expected: BTreeSet<i32> =
        (0..=libc::STDERR_FILENO).chain(open.iter().map(AsRawFd::as_raw_fd)).chain([own]).collect();
    for entry in listing {
        let entry = entry.map_err(io::Error::from)?;
        let number = entry.file_name().to_str().ok().and_then(|name| name.parse::<i32>().ok());
        if let Some(number) = number.filter(|number| !expected.contains(number)) {
            return Err(NotIsolated::Open(number));
        }
    }
    Ok(())
}

/// The lines of a list of mounts (proc(5), `/proc/[pid]/mountinfo`) whose mount is none of these.
fn unknown_mounts(list: &str, made: &BTreeSet<MountId>) -> Result<Vec<String>, NotIsolated> {
    let mut unknown = Vec::new();
    for line in list.lines() {
        let id = line.split(' ').next().and_then(|id| id.parse().ok());
        let id: MountId = id.ok_or_else(|| NotIsolated::Line(line.to_owned()))?;
        if !made.contains(&id) {
            unknown.push(line.to_owned());
        }
    }
    Ok(unknown)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mount_that_was_not_made_is_found_and_a_line_that_is_none_is_an_error() {
        let list = "21 20 0:30 / / rw - overlay overlay rw\n22 21 0:31 / /proc rw - proc proc rw\n";
        let made = |all: &[MountId]| all.iter().copied().collect::<BTreeSet<_>>();
        assert!(unknown_mounts(list, &made(&[21, 22])).unwrap().is_empty());
        let unknown = unknown_mounts(list, &made(&[21])).unwrap();
        assert_eq!(unknown, ["22 21 0:31 / /proc rw - proc proc rw"]);
        assert!(unknown_mounts("no number", &made(&[21])).is_err());
    }
}
