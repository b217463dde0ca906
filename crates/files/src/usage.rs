//! How much of the disk a folder takes.

use std::collections::HashSet;
use std::io;
use std::path::Path;

use crate::walk::{Bounds, Order, walk};
use crate::watch::Watch;

/// A file's blocks, as the system counts them (stat(2)), in bytes.
const BLOCK: u64 = 512;

/// How many bytes of the disk all that is below a folder takes, at any depth; a file with several names once. What
/// vanishes meanwhile takes nothing.
///
/// # Errors
/// What cannot be read, so that it cannot be told; [`crate::GivenUp`].
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
