//! A folder of limited size: an ext4 file system in a sparse file. The kernel enforces the limit, including for files with
//! very long paths and for open files without a name.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use pondrix_core::Size;
use pondrix_sandbox::{IdMap, WithoutTerminal as _};
use rustix::fs::{FallocateFlags, fallocate, statvfs};
use rustix::mount::{UnmountFlags, unmount};
use tracing::warn;

/// Overhead of the file system: a percentage, plus a number of bytes.
const OVERHEAD: u64 = 5;
const OVERHEAD_BYTES: u64 = 4 << 20;
/// One inode per this number of bytes.
const BYTES_FOR_FILE: &str = "8192";
/// The file system counts as full below this number of free bytes.
const FULL: u64 = 64 << 10;
/// Folders of the programs mkfs.ext4 and mount.
const PROGRAMS: &str = "/usr/sbin:/sbin:/usr/bin:/bin";

/// A mounted file system. Dropping it unmounts and deletes the file system.
#[derive(Debug)]
pub(crate) struct Bounded {
    path: PathBuf,
}

impl Bounded {
    /// Creates a file system of `size` bytes below `folder`. Returns `None` if this process is not root or the machine lacks
    /// mkfs.ext4 or loop devices.
    pub(crate) fn new(folder: &Path, size: Size, ids: IdMap) -> Option<Self> {
        if !rustix::process::geteuid().is_root() {
            return None;
        }
        Self::make(folder, size.bytes(), ids)
            .inspect_err(|error| warn!(%error, "could not make a file system for a job with a disk limit; what it writes is counted instead"))
            .ok()
    }

    fn make(folder: &Path, size: u64, ids: IdMap) -> io::Result<Self> {
        let (image, path) = (folder.join("bounded.image"), folder.join("bounded"));
        let length = size.saturating_add(size / 100 * OVERHEAD).saturating_add(OVERHEAD_BYTES);
        File::create_new(&image)?.set_len(length)?;
        fs::create_dir(&path)?;
        let mut make = Command::new("mkfs.ext4");
        make.args(["-q", "-F", "-m", "0", "-i", BYTES_FOR_FILE, "-O", "^has_journal,^resize_inode"]);
        make.args(["-E", "lazy_itable_init=1,nodiscard"]).arg(&image);
        run(&mut make)?;
        let mut mount = Command::new("mount");
        run(mount.args(["-t", "ext4", "-o", "loop,nosuid,nodev,noatime"]).arg(&image).arg(&path))?;
        let bounded = Self { path };
        // The loop device keeps the file open.
        fs::remove_file(&image)?;
        fs::remove_dir(bounded.path.join("lost+found"))?;
        bounded.fill_up_but(size)?;
        ids.give(&bounded.path, 0, 0)?;
        Ok(bounded)
    }

    /// Reserves the space above `size`: the actual overhead is a little smaller than estimated.
    fn fill_up_but(&self, size: u64) -> io::Result<()> {
        let free = self.free()?.0;
        if free > size {
            let file = File::create_new(self.path.join("taken"))?;
            fallocate(file, FallocateFlags::empty(), 0, free - size)?;
        }
        Ok(())
    }

    /// The number of free bytes and free inodes.
    fn free(&self) -> io::Result<(u64, u64)> {
        let disk = statvfs(&self.path)?;
        Ok((disk.f_bavail.saturating_mul(disk.f_frsize), disk.f_favail))
    }

    /// The mount point.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Returns true if the file system has no free space or no free inodes.
    pub(crate) fn is_full(&self) -> bool {
        self.free().is_ok_and(|(bytes, files)| bytes < FULL || files == 0)
    }
}

impl Drop for Bounded {
    fn drop(&mut self) {
        // A lazy unmount: the file system is freed when the last open file in it is closed.
        if let Err(error) = unmount(&self.path, UnmountFlags::DETACH) {
            warn!(path = %self.path.display(), %error, "could not unmount the file system of a job");
        }
    }
}

/// Unmounts all file systems below a folder, which an earlier process left.
pub(crate) fn unmount_all_below(folder: &Path) {
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    // In reverse order, because mounts may be nested.
    for line in mounts.lines().rev() {
        let Some(path) = line.split(' ').nth(4).map(unescaped).map(PathBuf::from) else { continue };
        if path.starts_with(folder)
            && let Err(error) = unmount(&path, UnmountFlags::DETACH)
        {
            warn!(path = %path.display(), %error, "could not unmount the file system of an earlier job");
        }
    }
}

/// Decodes the octal escapes of proc_pid_mountinfo(5).
fn unescaped(text: &str) -> String {
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((first, after)) = rest.split_first() {
        let code = after.get(..3).and_then(|digits| u8::from_str_radix(std::str::from_utf8(digits).ok()?, 8).ok());
        match code.filter(|_| *first == b'\\') {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[3..];
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn run(command: &mut Command) -> io::Result<()> {
    let path = std::env::var("PATH").map_or_else(|_| PROGRAMS.to_owned(), |path| format!("{path}:{PROGRAMS}"));
    let output = command.without_terminal().env("PATH", path).stdin(Stdio::null()).output();
    let program = command.get_program().to_string_lossy().into_owned();
    let output = output.map_err(|error| io::Error::new(error.kind(), format!("{program}: {error}")))?;
    if output.status.success() {
        return Ok(());
    }
    let words = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(io::Error::other(format!("{program}: {} ({words})", output.status)))
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn no_more_than_its_size_has_room_however_it_is_written_and_nothing_is_left_mounted() {
        let place = tempfile::tempdir().unwrap();
        let ids = IdMap::for_this_process();
        let Some(bounded) = Bounded::new(place.path(), Size::from_bytes(8 << 20), ids) else {
            assert!(!rustix::process::geteuid().is_root(), "root can, on a machine with mkfs.ext4 and loop devices");
            eprintln!("an ordinary user mounts nothing: what a job writes is counted");
            return;
        };
        assert!(!bounded.is_full() && !place.path().join("bounded.image").exists());
        // A file that has no name any more.
        let mut file = File::create(bounded.path().join("file")).unwrap();
        fs::remove_file(bounded.path().join("file")).unwrap();
        let mut written = 0;
        while let Ok(count) = file.write(&[7; 64 << 10]) {
            written += count;
        }
        assert!(written <= 8 << 20 && written > 7 << 20, "{written}");
        assert!(bounded.is_full());
        let path = bounded.path().to_owned();
        let of_runner = Bounded { path: path.clone() };
        std::mem::forget(bounded);
        drop(file);
        unmount_all_below(place.path());
        assert!(unmount(&path, UnmountFlags::DETACH).is_err(), "it is mounted no more");
        std::mem::forget(of_runner);
    }

    #[test]
    fn paths_are_read_as_the_kernel_writes_them() {
        assert_eq!(unescaped("/a\\040b\\134c"), "/a b\\c");
        assert_eq!(unescaped("/plain\\9"), "/plain\\9");
    }
}
