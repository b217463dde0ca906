//! What was in the files of a folder when a build last read them, so that the next one need not read them again.
//!
//! A file is believed to hold what it held while device, inode, length and the moment of its last change are the same:
//! that moment (`st_ctim`, inode(7)) is the kernel's to set, whatever time a program gives a file.

use std::collections::HashMap;
use std::fs::{self, Metadata};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use crate::layer::tree::Content;

/// What such a file begins with. It changes with the form of what follows.
const HEAD: &[u8; 16] = b"pondrix seen 1\n\n";
/// How old a change must be to be the last: clocks of file systems tick, and a file may change twice in one tick.
const SETTLED: Duration = Duration::from_secs(1);
/// An entry: four numbers of 8 bytes, one of 4, and the digest.
const ENTRY: usize = 4 * 8 + 4 + 32;
/// How many entries that a build did not ask for may stay for each that it did.
const OTHERS: usize = 4;

/// Which file, and in which state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Sight {
    device: u64,
    inode: u64,
    length: u64,
    changed: i64,
    nanoseconds: u32,
}

impl Sight {
    fn of(data: &Metadata) -> Self {
        Self {
            device: data.dev(),
            inode: data.ino(),
            length: data.len(),
            changed: data.ctime(),
            nanoseconds: u32::try_from(data.ctime_nsec()).unwrap_or(0),
        }
    }

    /// Whether the file may have changed once more since, without its moment telling so.
    fn is_settled(&self, before: Duration) -> bool {
        let changed = Duration::new(self.changed.try_into().unwrap_or(u64::MAX), self.nanoseconds);
        changed.checked_add(SETTLED).is_some_and(|settled| settled < before)
    }
}

/// The contents that are known, and those that this build asked for.
#[derive(Debug)]
pub(super) struct Seen {
    file: PathBuf,
    known: HashMap<Sight, Content>,
    asked: Mutex<HashMap<Sight, Content>>,
    /// When the build began, since 1970.
    begun: Duration,
}

impl Seen {
    /// What a file says. One that is not there, or damaged, says nothing.
    pub(super) fn read(file: &Path) -> Self {
        let known = fs::read(file).ok().and_then(|bytes| entries(&bytes)).unwrap_or_default();
        let begun = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        Self { file: file.to_owned(), known, asked: Mutex::default(), begun }
    }

    /// What is in a file, if that is known.
    pub(super) fn content(&self, data: &Metadata) -> Option<Content> {
        let sight = Sight::of(data);
        let mut asked = self.asked();
        if let Some(content) = asked.get(&sight) {
            return Some(*content);
        }
        let content = *self.known.get(&sight)?;
        asked.insert(sight, content);
        Some(content)
    }

    /// Remembers what was read from a file that was in this state before it was read.
    pub(super) fn note(&self, data: &Metadata, content: Content) {
        let sight = Sight::of(data);
        if sight.is_settled(self.begun) {
            self.asked().insert(sight, content);
        }
    }

    fn asked(&self) -> std::sync::MutexGuard<'_, HashMap<Sight, Content>> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Writes it for the next build, if there is anything new. What nobody asked for goes when it is most of it.
    pub(super) fn keep(&self) -> io::Result<()> {
        let asked = self.asked();
        if asked.keys().all(|sight| self.known.contains_key(sight)) {
            return Ok(());
        }
        let others = self.known.iter().filter(|(sight, _)| !asked.contains_key(sight));
        let keeps_others = self.known.len() <= OTHERS * asked.len();
        let all = asked.iter().chain(others.filter(|_| keeps_others));
        let mut bytes = HEAD.to_vec();
        for (sight, content) in all {
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

fn entries(bytes: &[u8]) -> Option<HashMap<Sight, Content>> {
    let (bytes, sum) = bytes.split_last_chunk::<32>()?;
    let body = bytes.strip_prefix(HEAD)?;
    if blake3::hash(bytes).as_bytes() != sum {
        return None;
    }
    let mut all = HashMap::with_capacity(body.len() / ENTRY);
    for mut entry in body.chunks_exact(ENTRY) {
        let mut number = || entry.split_off(..8).and_then(|bytes| Some(u64::from_le_bytes(bytes.try_into().ok()?)));
        let (device, inode, length, changed) = (number()?, number()?, number()?, number()?.cast_signed());
        let (nanoseconds, content) = entry.split_first_chunk::<4>()?;
        let nanoseconds = u32::from_le_bytes(*nanoseconds);
        all.insert(Sight { device, inode, length, changed, nanoseconds }, content.try_into().ok()?);
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
            seen.note(&fs::symlink_metadata(file).unwrap(), *content.as_bytes());
        }
        seen.keep().unwrap();
    }

    fn knows(memory: &Path, file: &Path) -> bool {
        let content = Seen::read(memory).content(&fs::symlink_metadata(file).unwrap());
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
        assert_eq!(Seen::read(&memory).content(&fs::symlink_metadata(&file).unwrap()), None);
    }

    #[test]
    fn a_file_that_changed_a_moment_ago_is_not_believed_to_have_changed_for_the_last_time() {
        let folder = tempfile::tempdir().unwrap();
        let (memory, file) = (folder.path().join("seen"), folder.path().join("file"));
        fs::write(&file, "one").unwrap();
        let mut seen = Seen::read(&memory);
        // The build began when the file had just changed, however long that is ago on this machine.
        let changed = fs::metadata(&file).unwrap();
        seen.begun = Duration::from_secs(changed.ctime().cast_unsigned()) + SETTLED;
        seen.note(&fs::symlink_metadata(&file).unwrap(), [7; 32]);
        seen.keep().unwrap();
        assert_eq!(Seen::read(&memory).content(&fs::symlink_metadata(&file).unwrap()), None);
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
            assert_eq!(entries(&damaged), None, "byte {place}");
            assert_eq!(entries(&whole[..place]), None, "cut at {place}");
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
