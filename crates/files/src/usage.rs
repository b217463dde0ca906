//! Disk usage of a folder.

use std::collections::HashSet;
use std::io;
use std::path::Path;

use crate::walk::{Bounds, Order, walk};
use crate::watch::Watch;

/// The unit of `st_blocks` (stat(2)), in bytes.
const BLOCK: u64 = 512;

/// Returns the disk usage of all entries below a folder, at any depth, in bytes. A file with several names counts once.
/// Entries that vanish during the walk count as zero.
///
/// # Errors
/// An error if a folder cannot be read, or [`crate::GivenUp`].
pub fn usage(folder: &Path, watch: &Watch) -> io::Result<u64> {
    let (mut total, mut seen) = (0_u64, HashSet::new());
    walk(folder, Order::Any, &Bounds::COUNTED, watch, |found| {
        let stat = &found.stat;
        let is_further_name = stat.st_nlink > 1
            && found.kind() != rustix::fs::FileType::Directory
            && !seen.insert((stat.st_dev, stat.st_ino));
        if !is_further_name {
            total = total.saturating_add(u64::try_from(stat.st_blocks).unwrap_or(0) * BLOCK);
        }
        Ok(())
    })?;
    Ok(total)
}
