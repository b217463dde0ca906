//! How much an archive may hold: it comes from strangers, and a small one may unpack to anything. What is packed has the
//! same bounds, so that it can be unpacked.

use std::io;
use std::path::Path;

use pondrix_files::{DEEPEST, FreeSpace, LONGEST_PATH, beginning};

/// The most that the files of one archive may hold together, in bytes, holes as well.
const MOST_BYTES: u64 = 64 << 30;
/// How many files, folders and links an archive may have.
const MOST_ENTRIES: u64 = 2_000_000;

/// What an archive has so far.
#[derive(Debug, Default)]
pub(crate) struct Bounds {
    bytes: u64,
    entries: u64,
    space: FreeSpace,
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

    /// Checks the free space of the disk while files are written ([`FreeSpace`]).
    pub(super) const fn space(&mut self) -> &mut FreeSpace {
        &mut self.space
    }
}

#[cfg(test)]
mod tests {
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
}
