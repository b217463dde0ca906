//! Files that only their owner may read.

use std::fs::File;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Makes a file, or empties it, that only its owner can read.
pub(crate) fn create_private(path: &Path) -> std::io::Result<File> {
    File::options().create(true).truncate(true).write(true).mode(0o600).open(path)
}

/// Writes a file that only its owner can read, whole or not at all.
pub(crate) fn write_private(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let unfinished = path.with_extension("new");
    create_private(&unfinished)?.write_all(bytes)?;
    std::fs::rename(&unfinished, path)
}
