//! How much an archive may hold: it comes from strangers, and a small one may unpack to anything. What is packed has the
//! same bounds, so that it can be unpacked.

use std::io;
use std::os::fd::BorrowedFd;
use std::path::Path;

use pondrix_files::{DEEPEST, LONGEST_PATH, beginning};

/// The most that the files of one archive may hold together, in bytes, holes as well.
const MOST_BYTES: u64 = 64 << 30;
/// How many files, folders and links an archive may have.
const MOST_ENTRIES: u64 = 2_000_000;
/// After how many bytes it is looked how much room the disk has.
const LOOK_EVERY: u64 = 64 << 20;
/// What others need of a disk: so much of it stays free at the least, in bytes.
const STAYS_FREE: u64 = 256 << 20;

/// What an archive has so far.
#[derive(Debug, Default)]
pub(crate) struct Bounds {
    bytes: u64,
    entries: u64,
    looked: u64,
}

impl Bounds {
    /// Whether something may be made that says of itself that it is so long.
    ///
    /// # Errors
    /// What there is too much of.
    pub(crate) fn admit(&mut self, path: &Path, size: u64) -> io::Result<()> {
        self.entries += 1;
        self.bytes = self.bytes.saturating_add(size);
        let over = |words: String| Err(io::Error::other(words));
        if self.entries > MOST_ENTRIES {
            return over(format!("the archive has more than {MOST_ENTRIES} files"));
        }
        if self.bytes > MOST_BYTES {
            return over(format!("the files of the archive are larger than {} GiB together", MOST_BYTES >> 30));
        }
        if path.components().count() > DEEPEST {
            return over(format!("more than {DEEPEST} nested folders, at {}", beginning(path)));
        }
        if path.as_os_str().len() > LONGEST_PATH {
            return over(format!("a path is longer than {LONGEST_PATH} bytes, at {}", beginning(path)));
        }
        Ok(())
    }

    /// Looks now and then whether the disk has room left for others.
    ///
    /// # Errors
    /// When it has not.
    pub(super) fn leave_room(&mut self, on: BorrowedFd<'_>, written: u64) -> io::Result<()> {
        self.looked += written;
        if self.looked < LOOK_EVERY {
            return Ok(());
        }
        self.looked = 0;
        let disk = rustix::fs::fstatvfs(on)?;
        if disk.f_bavail.saturating_mul(disk.f_frsize) < STAYS_FREE {
            let words = format!("the disk would have less than {} MiB left for others", STAYS_FREE >> 20);
            return Err(io::Error::new(io::ErrorKind::StorageFull, words));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::os::fd::AsFd;

    use super::*;

    #[test]
    fn an_archive_makes_no_more_than_it_may() {
        let told = |bounds: &mut Bounds, path: &str, size| bounds.admit(Path::new(path), size).unwrap_err().to_string();
        let mut bounds = Bounds::default();
        bounds.admit(Path::new("a"), MOST_BYTES).unwrap();
        assert_eq!(told(&mut bounds, "b", 1), "the files of the archive are larger than 64 GiB together");
        assert_eq!(told(&mut bounds, "c", u64::MAX), "the files of the archive are larger than 64 GiB together");
        let mut bounds = Bounds { entries: MOST_ENTRIES, ..Bounds::default() };
        assert_eq!(told(&mut bounds, "a", 0), "the archive has more than 2000000 files");
        let mut bounds = Bounds::default();
        bounds.admit(Path::new(&"a/".repeat(DEEPEST)), 0).unwrap();
        let words = told(&mut bounds, &"a/".repeat(DEEPEST + 1), 0);
        assert_eq!(words, format!("more than 512 nested folders, at {}…", "a/".repeat(30)));
        let words = told(&mut bounds, &"a".repeat(LONGEST_PATH + 1), 0);
        assert_eq!(words, format!("a path is longer than 3072 bytes, at {}…", "a".repeat(60)));
    }

    #[test]
    fn a_disk_with_room_is_looked_at_now_and_then_and_let_be() {
        let folder = tempfile::tempdir().unwrap();
        let disk = std::fs::File::open(folder.path()).unwrap();
        let mut bounds = Bounds::default();
        bounds.leave_room(disk.as_fd(), LOOK_EVERY - 1).unwrap();
        assert_eq!(bounds.looked, LOOK_EVERY - 1);
        // Whether there is room or not, it begins to count anew.
        let _ = bounds.leave_room(disk.as_fd(), 1);
        assert_eq!(bounds.looked, 0);
    }
}
