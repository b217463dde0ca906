//! How much a job has written, against what it may.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use pondrix_core::Size;

/// How often is looked at the least, and how much longer than the looking itself the pause is: looking
/// through many files must not become a job of its own.
const PAUSE: Duration = Duration::from_millis(200);
const PAUSE_FOR_LOOK: u32 = 20;
/// A file's blocks, as the system counts them (stat(2)), in bytes.
const BLOCK: u64 = 512;

/// What a job may write, and where it does.
pub(crate) struct DiskSpace {
    pub(crate) limit: Size,
    folders: [PathBuf; 2],
    next_look: Instant,
}

impl DiskSpace {
    /// In a job's scratch folder. The commit's files count with what the job makes of them.
    pub(crate) fn new(scratch: &Path, limit: Size) -> Self {
        let folder = |name: &str| scratch.join(name);
        Self { limit, folders: [folder("source"), folder("root/upper")], next_look: Instant::now() + PAUSE }
    }

    /// Whether more was written than may be. Looks only now and then.
    pub(crate) fn is_full(&mut self) -> bool {
        let since = Instant::now();
        if since < self.next_look {
            return false;
        }
        let used: u64 = self.folders.iter().map(|folder| used(folder)).sum();
        self.next_look = Instant::now() + PAUSE.max(since.elapsed() * PAUSE_FOR_LOOK);
        used > self.limit.bytes()
    }
}

/// What the files of a folder take of the disk, in bytes. What vanishes meanwhile takes nothing.
fn used(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let of_entry = |entry: fs::DirEntry| {
        let Ok(data) = entry.metadata() else { return 0 };
        let below = if data.is_dir() { used(&entry.path()) } else { 0 };
        data.blocks() * BLOCK + below
    };
    entries.map(of_entry).sum()
}
