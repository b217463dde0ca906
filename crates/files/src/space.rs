//! Free space of a disk, and copies that need little of it.

use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::Path;

use rustix::fs::{StatVfs, fstatvfs, statvfs};

/// The space of a disk that stays free for others, in bytes.
pub const STAYS_FREE: u64 = 256 << 20;
/// The number of written bytes between two checks of the free space.
const LOOK_EVERY: u64 = 64 << 20;
/// The size of the zero blocks that become holes, in bytes.
const HOLE: usize = 64 << 10;

/// Checks the free space of a disk while files are written.
#[derive(Debug, Default)]
pub struct FreeSpace {
    written: u64,
}

impl FreeSpace {
    /// Counts bytes that are about to be written to the file system of `on`. Checks its free space every 64 MiB.
    ///
    /// # Errors
    /// [`io::ErrorKind::StorageFull`] if less than [`STAYS_FREE`] is free.
    pub fn leave_room(&mut self, on: BorrowedFd<'_>, bytes: u64) -> io::Result<()> {
        self.written += bytes;
        if self.written < LOOK_EVERY {
            return Ok(());
        }
        self.written = 0;
        if free(&fstatvfs(on)?) < STAYS_FREE {
            let message = format!("the disk would have less than {} MiB left for others", STAYS_FREE >> 20);
            return Err(io::Error::new(io::ErrorKind::StorageFull, message));
        }
        Ok(())
    }
}

fn free(disk: &StatVfs) -> u64 {
    disk.f_bavail.saturating_mul(disk.f_frsize)
}

/// Returns true if the file system of `folder` has space for `bytes` and keeps [`STAYS_FREE`].
///
/// # Errors
/// Errors of the file system.
pub fn has_room(folder: &Path, bytes: u64) -> io::Result<bool> {
    Ok(free(&statvfs(folder)?) >= bytes.saturating_add(STAYS_FREE))
}

/// Copies to an empty file. Zero blocks of `buffer.len()` bytes become holes, which take no disk space.
///
/// # Errors
/// Errors of both files, and those of [`FreeSpace::leave_room`].
pub fn copy_with_holes(
    from: &mut impl Read,
    to: &mut File,
    buffer: &mut [u8],
    space: &mut FreeSpace,
) -> io::Result<()> {
    let piece = buffer.len();
    let (mut length, mut ends_with_hole) = (0, false);
    loop {
        let mut filled = 0;
        while filled < piece {
            match from.read(&mut buffer[filled..])? {
                0 => break,
                count => filled += count,
            }
        }
        length += filled as u64;
        if filled > 0 {
            ends_with_hole = filled == piece && buffer.iter().all(|byte| *byte == 0);
            if ends_with_hole {
                to.seek_relative(piece as i64)?;
            } else {
                space.leave_room(to.as_fd(), filled as u64)?;
                to.write_all(&buffer[..filled])?;
            }
        }
        if filled < piece {
            // A hole at the end needs the length to be set.
            return if ends_with_hole { to.set_len(length) } else { Ok(()) };
        }
    }
}

/// Copies to an empty file like [`copy_with_holes`], with a buffer of 64 KiB.
///
/// # Errors
/// As for [`copy_with_holes`].
pub fn copy(from: &mut impl Read, to: &mut File) -> io::Result<()> {
    copy_with_holes(from, to, &mut vec![0; HOLE], &mut FreeSpace::default())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::MetadataExt;

    use super::*;

    #[test]
    fn a_sparse_file_stays_sparse_in_a_copy() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let mut from = File::create(at("from")).unwrap();
        from.write_all(b"lily").unwrap();
        from.set_len(1 << 30).unwrap();
        let mut to = File::create(at("to")).unwrap();
        copy(&mut File::open(at("from")).unwrap(), &mut to).unwrap();
        let data = to.metadata().unwrap();
        assert!(data.len() == 1 << 30 && data.blocks() * 512 < 1 << 20, "{} {}", data.len(), data.blocks());
        assert_eq!(std::fs::read(at("to")).unwrap()[..4], *b"lily");
    }

    #[test]
    fn free_space_is_checked_every_64_mib() {
        let folder = tempfile::tempdir().unwrap();
        let disk = File::open(folder.path()).unwrap();
        let mut space = FreeSpace::default();
        space.leave_room(disk.as_fd(), LOOK_EVERY - 1).unwrap();
        assert_eq!(space.written, LOOK_EVERY - 1);
        // Whether there is room or not, the count starts again.
        let _ = space.leave_room(disk.as_fd(), 1);
        assert_eq!(space.written, 0);
        assert!(!has_room(folder.path(), u64::MAX).unwrap());
    }
}
