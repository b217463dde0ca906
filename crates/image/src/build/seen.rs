//! What was in the files of a folder when a build last read them, so that the next one need not read them again.
//!
//! A file is believed to hold what it held while device, inode, length and the moment of its last change are the same:
//! that moment (`st_ctim`, inode(7)) is the kernel's to set, whatever time a program gives a file.

use std::collections::HashMap;
use std::fs;
use std::hash::{BuildHasherDefault, Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use crate::layer::tree::Content;
use crate::rootfs::Facts;

/// What such a file begins with. It changes with the form of what follows.
const HEAD: &[u8; 16] = b"pondrix seen 1\n\n";
/// How old a change must be to be the last: clocks of file systems tick, and a file may change twice in one tick.
const SETTLED: Duration = Duration::from_secs(1);
/// An entry: four numbers of 8 bytes, one of 4, and the digest.
const ENTRY: usize = 4 * 8 + 4 + 32;
/// How many entries that a build did not ask for may stay for each that it did.
const OTHERS: usize = 4;

/// Which file, and in which state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Sight {
    device: u64,
    inode: u64,
    length: u64,
    changed: i64,
    nanoseconds: u32,
}

impl Hash for Sight {
    /// Hardly two of one folder are of the same inode.
    fn hash<H: Hasher>(&self, state: &mut H) {
        state.write_u64(self.inode);
    }
}

/// Spreads inodes, which are the file system's own and nobody's choice.
type ByInode = BuildHasherDefault<InodeHasher>;

#[derive(Default)]
struct InodeHasher(u64);

impl Hasher for InodeHasher {
    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.write_u64(u64::from(*byte)));
    }

    /// Multiplies by 2 to the power of 64 over the golden ratio, which is odd (Knuth, The Art of Computer Programming,
    /// volume 3, section 6.4).
    fn write_u64(&mut self, number: u64) {
        self.0 = (self.0.rotate_left(5) ^ number).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    }

    fn finish(&self) -> u64 {
        self.0
    }
}

impl Sight {
    fn of(data: &Facts) -> Self {
        let ((device, inode), (changed, nanoseconds)) = (data.inode(), data.ctime());
        Self { device, inode, length: data.len(), changed, nanoseconds }
    }

    /// Whether the file may have changed once more since, without its moment telling so.
    fn is_settled(&self, before: Duration) -> bool {
        let changed = Duration::new(self.changed.try_into().unwrap_or(u64::MAX), self.nanoseconds);
        changed.checked_add(SETTLED).is_some_and(|settled| settled < before)
    }
}

/// The contents that are known, and which of them this build asked for.
#[derive(Debug)]
pub(super) struct Seen {
    file: PathBuf,
    known: HashMap<Sight, Known, ByInode>,
    /// What was not known.
    new: Mutex<HashMap<Sight, Content>>,
    /// When the build began, since 1970.
    begun: Duration,
}

#[derive(Debug)]
struct Known {
    content: Content,
    is_asked_for: AtomicBool,
}

impl Seen {
    /// What a file says. One that is not there, or damaged, says nothing.
    pub(super) fn read(file: &Path) -> Self {
        let known = fs::read(file).ok().and_then(|bytes| entries(&bytes)).unwrap_or_default();
        let begun = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        Self { file: file.to_owned(), known, new: Mutex::default(), begun }
    }

    /// What is in a file, if that is known.
    pub(super) fn content(&self, data: &Facts) -> Option<Content> {
        let sight = Sight::of(data);
        match self.known.get(&sight) {
            Some(known) => {
                known.is_asked_for.store(true, Ordering::Relaxed);
                Some(known.content)
            }
            None => self.noted().get(&sight).copied(),
        }
    }

    /// Remembers what was read from a file that was in this state before it was read.
    pub(super) fn note(&self, data: &Facts, content: Content) {
        let sight = Sight::of(data);
        if sight.is_settled(self.begun) {
            self.noted().insert(sight, content);
        }
    }

    fn noted(&self) -> std::sync::MutexGuard<'_, HashMap<Sight, Content>> {
        self.new.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Writes it for the next build, if there is anything new. What nobody asked for goes when it is most of it.
    pub(super) fn keep(&self) -> io::Result<()> {
        let new = self.noted();
        if new.is_empty() {
            return Ok(());
        }
        let is_asked_for = |known: &Known| known.is_asked_for.load(Ordering::Relaxed);
        let asked = new.len() + self.known.values().filter(|known| is_asked_for(known)).count();
        let keeps_others = self.known.len() <= OTHERS * asked;
        let known = self.known.iter().filter(|(_, known)| keeps_others || is_asked_for(known));
        let mut bytes = HEAD.to_vec();
        for (sight, content) in known.map(|(sight, known)| (sight, &known.content)).chain(new.iter()) {
            for number in [sight.device, sight.inode, sight.length, sight.changed.cast_unsigned()] {
                bytes.extend(number.to_le_bytes());
            }
            bytes.extend(sight.nanoseconds.to_le_bytes());
            bytes.extend(content);
        }
        bytes.extend(blake3::hash(&bytes).as_bytes());
        let folder = self.file.parent().unwrap_or(Path::new("."));
        let file = tempfile::NamedTempFile::new_in(folder)?;
        fs::write(file.path(), bytes)?;
        file.persist(&self.file).map_err(|error| error.error)?;
        Ok(())
    }
}

fn entries(bytes: &[u8]) -> Option<HashMap<Sight, Known, ByInode>> {
    let (bytes, sum) = bytes.split_last_chunk::<32>()?;
    let body = bytes.strip_prefix(HEAD)?;
    if blake3::hash(bytes).as_bytes() != sum {
        return None;
    }
    let mut all = HashMap::with_capacity_and_hasher(body.len() / ENTRY, ByInode::default());
    for mut entry in body.chunks_exact(ENTRY) {
        let mut number = || entry.split_off(..8).and_then(|bytes| Some(u64::from_le_bytes(bytes.try_into().ok()?)));
        let (device, inode, length, changed) = (number()?, number()?, number()?, number()?.cast_signed());
        let (nanoseconds, content) = entry.split_first_chunk::<4>()?;
        let nanoseconds = u32::from_le_bytes(*nanoseconds);
        let known = Known { content: content.try_into().ok()?, is_asked_for: AtomicBool::new(false) };
        all.insert(Sight { device, inode, length, changed, nanoseconds }, known);
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Notes what is in these files, as if the build had begun an hour from now, and keeps it.
    fn noted(memory: &Path, files: &[&Path]) {
        let mut seen = Seen::read(memory);
        seen.begun += Duration::from_hours(1);
        for file in files {
            let content = blake3::hash(&fs::read(file).unwrap());
            seen.note(&Facts::of(file).unwrap(), *content.as_bytes());
        }
        seen.keep().unwrap();
    }

    fn knows(memory: &Path, file: &Path) -> bool {
        let content = Seen::read(memory).content(&Facts::of(file).unwrap());
        content.is_some_and(|content| content == *blake3::hash(&fs::read(file).unwrap()).as_bytes())
    }

    #[test]
    fn a_file_is_known_until_it_changes_even_when_its_length_and_time_are_set_back() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, file) = (folder.path().join("seen"), folder.path().join("file"));
        fs::write(&file, "one").unwrap();
        assert!(!knows(&memory, &file));
        noted(&memory, &[&file]);
        assert!(knows(&memory, &file));
        let time = fs::metadata(&file).unwrap().modified().unwrap();
        fs::write(&file, "two").unwrap();
        fs::File::options().write(true).open(&file).unwrap().set_modified(time).unwrap();
        assert_eq!(Seen::read(&memory).content(&Facts::of(&file).unwrap()), None);
    }

    #[test]
    fn a_file_that_changed_a_moment_ago_is_not_believed_to_have_changed_for_the_last_time() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, file) = (folder.path().join("seen"), folder.path().join("file"));
        fs::write(&file, "one").unwrap();
        let mut seen = Seen::read(&memory);
        // The build began when the file had just changed, however long that is ago on this machine.
        let (changed, _) = Facts::of(&file).unwrap().ctime();
        seen.begun = Duration::from_secs(changed.cast_unsigned()) + SETTLED;
        seen.note(&Facts::of(&file).unwrap(), [7; 32]);
        seen.keep().unwrap();
        assert_eq!(Seen::read(&memory).content(&Facts::of(&file).unwrap()), None);
    }

    #[test]
    fn what_is_damaged_says_nothing_wherever_it_is_damaged() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, file) = (folder.path().join("seen"), folder.path().join("file"));
        fs::write(&file, "one").unwrap();
        noted(&memory, &[&file]);
        let whole = fs::read(&memory).unwrap();
        for place in 0..whole.len() {
            let mut damaged = whole.clone();
            damaged[place] ^= 1;
            assert!(entries(&damaged).is_none(), "byte {place}");
            assert!(entries(&whole[..place]).is_none(), "cut at {place}");
        }
        fs::write(&memory, &whole[1..]).unwrap();
        assert!(!knows(&memory, &file));
        noted(&memory, &[&file]);
        assert!(knows(&memory, &file), "it is written anew");
    }

    #[test]
    fn what_no_build_asks_for_any_more_goes_when_it_is_most_of_what_is_known() {
        let folder = tempfile::tempdir().unwrap();
        let memory = folder.path().join("seen");
        let files: Vec<PathBuf> = (0..12).map(|number| folder.path().join(format!("file-{number}"))).collect();
        for file in &files {
            fs::write(file, file.as_os_str().as_encoded_bytes()).unwrap();
        }
        let all: Vec<&Path> = files.iter().map(PathBuf::as_path).collect();
        noted(&memory, &all[..6]);
        noted(&memory, &all[6..10]);
        assert!(all[..10].iter().all(|file| knows(&memory, file)), "two builds of one folder take turns");
        noted(&memory, &all[10..]);
        assert!(!knows(&memory, all[0]) && knows(&memory, all[11]));
    }
}
