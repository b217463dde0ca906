//! What stays in a store.
//!
//! Content is not flushed to the disk when it is written: that would cost more than fetching or building it
//! again. A machine that loses its power may therefore have content that is not whole; a store that is opened
//! on a machine which was started anew forgets what it was given last.
//!
//! Keeping a store, and the folders that builds mount as caches, below a size: what was used least recently goes, and nothing that somebody uses.
//!
//! Whoever uses a store says so for as long as that lasts ([`Store::in_use`]). Content that was used since the
//! oldest of those began stays; what is older than that none of them has.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;

use crate::{Store, build};

/// How far below its limit a store is brought, in hundredths, so that not every job has to make room.
const TARGET: u64 = 90;
/// A file's time may come from a clock that is behind by some milliseconds.
const MARGIN: Duration = Duration::from_secs(1);

/// What content is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Blob,
    Layer,
}

impl Kind {
    const ALL: [(Self, &'static str, &'static str); 2] =
        [(Self::Blob, "blob", "blobs"), (Self::Layer, "layer", "layers")];

    fn name(self) -> &'static str {
        Self::ALL.iter().find(|(kind, ..)| *kind == self).map_or("", |(_, name, _)| name)
    }
}

/// Since when each who uses the store does so.
#[derive(Debug, Default)]
pub(crate) struct Users(Mutex<(u64, BTreeMap<u64, SystemTime>)>);

/// Somebody uses the store until this is dropped.
#[derive(Debug)]
pub struct InUse {
    users: Arc<Users>,
    number: u64,
}

impl Drop for InUse {
    fn drop(&mut self) {
        self.users.0.lock().unwrap_or_else(PoisonError::into_inner).1.remove(&self.number);
    }
}

/// What was removed to make room.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Freed {
    /// How many blobs and unpacked layers.
    pub count: usize,
    /// How many bytes they took.
    pub bytes: u64,
}

/// Content, with when it was used last.
struct Content {
    used: SystemTime,
    bytes: u64,
    path: PathBuf,
    mark: PathBuf,
}

/// How long the kernel may take to write to the disk what it was given; twice what it does by itself.
const UNWRITTEN: Duration = Duration::from_secs(120);
/// A number that is another one each time that a machine is started (proc(5)).
const BOOT_ID: &str = "/proc/sys/kernel/random/boot_id";

impl Store {
    /// Forgets what may not be whole, where the machine was started anew since the store was used.
    pub(crate) fn doubt_what_is_new(&self) -> io::Result<()> {
        let boot = fs::read_to_string(BOOT_ID).unwrap_or_default();
        let known = self.folder().join("boot");
        if fs::read_to_string(&known).is_ok_and(|known| known == boot) {
            return Ok(());
        }
        let all = self.contents()?;
        let newest = all.iter().map(|content| content.used).max();
        let doubtful = newest.map(|newest| newest - UNWRITTEN);
        for content in all.iter().filter(|content| doubtful.is_some_and(|since| content.used >= since)) {
            self.remove(&content.path)?;
            drop(fs::remove_file(&content.mark));
        }
        fs::write(known, boot)
    }

    /// Says that somebody uses the store from now on.
    #[must_use]
    pub fn in_use(&self) -> InUse {
        let mut users = self.users().0.lock().unwrap_or_else(PoisonError::into_inner);
        users.0 += 1;
        let number = users.0;
        users.1.insert(number, SystemTime::now() - MARGIN);
        InUse { users: Arc::clone(self.users()), number }
    }

    fn mark_path(&self, kind: Kind, hex: &str) -> PathBuf {
        self.folder().join("used").join(format!("{}-{hex}", kind.name()))
    }

    /// Notes that content is used now, and how many bytes it takes where that is known. That it cannot be
    /// noted, on a full disk, does not make it unusable.
    pub(crate) fn note_use(&self, kind: Kind, digest: &Digest, bytes: Option<u64>) {
        let mark = self.mark_path(kind, digest.hex());
        let noted = match bytes {
            Some(bytes) => fs::write(&mark, bytes.to_string()),
            None => File::options()
                .create(true)
                .truncate(false)
                .write(true)
                .open(&mark)
                .and_then(|file| file.set_modified(SystemTime::now())),
        };
        drop(noted);
    }

    /// Brings the store, with the caches of all projects in `caches`, below so many bytes, where it is above, as far as
    /// nobody uses what is in it.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn free_space(&self, limit: u64, caches: &Path) -> io::Result<Freed> {
        let mut all = self.contents()?;
        all.extend(cached(caches)?);
        let mut total: u64 = all.iter().map(|content| content.bytes).sum();
        let mut freed = Freed::default();
        if total <= limit {
            return Ok(freed);
        }
        all.sort_by_key(|content| content.used);
        for content in all {
            if total <= limit / 100 * TARGET {
                break;
            }
            // Looked at once more: finding out how much there is takes its time, and jobs begin meanwhile.
            let since = self.users().0.lock().unwrap_or_else(PoisonError::into_inner).1.values().min().copied();
            let used = modified(&content.mark).unwrap_or(content.used);
            if since.is_some_and(|since| used >= since) {
                continue;
            }
            if self.remove(&content.path).is_err() {
                continue;
            }
            drop(fs::remove_file(&content.mark));
            build::forget_cache(&content.path);
            total -= content.bytes;
            freed.count += 1;
            freed.bytes += content.bytes;
        }
        Ok(freed)
    }

    fn contents(&self) -> io::Result<Vec<Content>> {
        let mut all = Vec::new();
        for (kind, _, folder) in Kind::ALL {
            for entry in fs::read_dir(self.folder().join(folder))? {
                let path = entry?.path();
                let Some(hex) = path.file_name().and_then(|name| name.to_str()).map(str::to_owned) else { continue };
                all.extend(self.content(kind, &hex, path));
            }
        }
        Ok(all)
    }

    fn content(&self, kind: Kind, hex: &str, path: PathBuf) -> Option<Content> {
        content(path, self.mark_path(kind, hex))
    }

    /// Removes content so that it is there whole or not at all.
    fn remove(&self, path: &Path) -> io::Result<()> {
        if !path.is_dir() {
            return fs::remove_file(path);
        }
        let place = tempfile::tempdir_in(self.folder().join("unfinished"))?;
        fs::rename(path, place.path().join("layer"))
    }
}

/// Notes that a build mounts a cache now, after which its size is another.
pub(crate) fn note_cache(cache: &Path) -> io::Result<()> {
    fs::write(cache_mark(cache), "")
}

fn cache_mark(cache: &Path) -> PathBuf {
    cache.with_extension("used")
}

/// The caches that builds mount, of all projects: a folder of folders for each.
fn cached(caches: &Path) -> io::Result<Vec<Content>> {
    let mut all = Vec::new();
    let projects = match fs::read_dir(caches) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(all),
        other => other?,
    };
    for project in projects {
        for cache in fs::read_dir(project?.path())? {
            let path = cache?.path();
            // One that begins with a dot is being made.
            let is_cache =
                path.is_dir() && path.file_name().is_none_or(|name| !name.as_encoded_bytes().starts_with(b"."));
            all.extend(is_cache.then(|| content(path.clone(), cache_mark(&path))).flatten());
        }
    }
    Ok(all)
}

fn modified(mark: &Path) -> io::Result<SystemTime> {
    fs::metadata(mark)?.modified()
}

/// Content whose mark says when it was used, and how many bytes it takes, where that is known.
fn content(path: PathBuf, mark: PathBuf) -> Option<Content> {
    let known: Option<u64> = fs::read_to_string(&mark).ok().and_then(|text| text.parse().ok());
    let data = fs::symlink_metadata(&path).ok()?;
    let used = modified(&mark).or_else(|_| data.modified()).ok()?;
    let bytes = match known {
        Some(bytes) => bytes,
        None => {
            let bytes = if data.is_dir() { taken_by(&path) } else { data.blocks() * 512 };
            // The time of the last use stays: looking is not using.
            if fs::write(&mark, bytes.to_string()).is_ok() {
                drop(File::options().write(true).open(&mark).and_then(|mark| mark.set_modified(used)));
            }
            bytes
        }
    };
    Some(Content { used, bytes, path, mark })
}

/// How many bytes of the disk a folder takes. A file with several names counts once for each: that is a
/// little more than there is, and never less.
fn taken_by(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let of = |entry: fs::DirEntry| match entry.metadata() {
        Ok(data) if data.is_dir() => data.blocks() * 512 + taken_by(&entry.path()),
        Ok(data) => data.blocks() * 512,
        Err(_) => 0,
    };
    entries.map(of).sum()
}

#[cfg(test)]
mod tests {
    use pondrix_sandbox::IdMap;

    use super::*;

    fn store() -> (tempfile::TempDir, Store) {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), IdMap::for_this_process()).unwrap();
        (folder, store)
    }

    /// Makes it so that content was used so many hours ago.
    fn used_hours_ago(store: &Store, digest: &Digest, hours: u64) {
        let mark = File::options().write(true).open(store.mark_path(Kind::Blob, digest.hex())).unwrap();
        mark.set_modified(SystemTime::now() - Duration::from_secs(3600 * hours)).unwrap();
    }

    #[test]
    fn what_was_used_least_recently_goes_first_and_only_as_much_as_is_needed() {
        let (_folder, store) = store();
        let add = |letter: u8| store.add_blob(&vec![letter; 100_000]).unwrap();
        let (old, older, new) = (add(1), add(2), add(3));
        used_hours_ago(&store, &old, 5);
        used_hours_ago(&store, &older, 9);
        assert_eq!(store.free_space(1 << 20, Path::new("/nowhere")).unwrap(), Freed::default(), "there is room");
        let freed = store.free_space(250_000, Path::new("/nowhere")).unwrap();
        assert_eq!((freed.count, freed.bytes), (1, 100_000));
        assert!(!store.has_blob(&older) && store.has_blob(&old) && store.has_blob(&new));
    }

    #[test]
    fn nothing_goes_that_was_used_since_the_oldest_user_began() {
        let (_folder, store) = store();
        let before = store.add_blob(&[1; 100_000]).unwrap();
        used_hours_ago(&store, &before, 5);
        let user = store.in_use();
        let again = store.add_blob(&[2; 100_000]).unwrap();
        used_hours_ago(&store, &again, 6);
        // A running job found it there, and goes on using it.
        assert!(store.has_blob(&again));
        assert_eq!(store.free_space(1, Path::new("/nowhere")).unwrap().count, 1);
        assert!(!store.has_blob(&before) && store.has_blob(&again));
        drop(user);
        assert_eq!(store.free_space(1, Path::new("/nowhere")).unwrap().count, 1);
    }

    #[test]
    fn a_machine_that_was_started_anew_doubts_what_was_written_last_and_nothing_else() {
        let (folder, store) = store();
        let (old, new) = (store.add_blob(b"old").unwrap(), store.add_blob(b"new").unwrap());
        used_hours_ago(&store, &old, 5);
        let open = || Store::open(folder.path(), IdMap::for_this_process()).unwrap();
        assert!(open().has_blob(&new), "the same start of the machine");
        fs::write(folder.path().join("boot"), "another").unwrap();
        let store = open();
        assert!(store.has_blob(&old) && !store.has_blob(&new));
        let again = store.add_blob(b"new").unwrap();
        assert!(open().has_blob(&again));
    }

    #[test]
    fn an_unpacked_layer_goes_whole_and_its_size_is_found_out_once() {
        let (folder, store) = store();
        let digest = crate::digest_of(b"a layer");
        fs::create_dir_all(store.layer_path(&digest).join("a/b")).unwrap();
        fs::write(store.layer_path(&digest).join("a/b/c"), vec![7; 50_000]).unwrap();
        assert_eq!(store.free_space(1 << 30, Path::new("/nowhere")).unwrap(), Freed::default());
        let mark = folder.path().join(format!("used/layer-{}", digest.hex()));
        assert!(fs::read_to_string(mark).unwrap().parse::<u64>().unwrap() > 50_000);
        assert_eq!(store.free_space(1, Path::new("/nowhere")).unwrap().count, 1);
        assert!(!store.layer_path(&digest).exists());
        assert_eq!(fs::read_dir(folder.path().join("unfinished")).unwrap().count(), 0);
    }

    #[test]
    fn caches_count_with_what_they_grew_to_and_go_when_no_build_used_them_for_longest() {
        let (folder, store) = store();
        let caches = folder.path().join("caches");
        let grown = |project: &str, name: &str, hours: u64| {
            let cache = caches.join(project).join(name);
            fs::create_dir_all(&cache).unwrap();
            note_cache(&cache).unwrap();
            fs::write(cache.join("grown"), vec![7; 100_000]).unwrap();
            let mark = File::options().write(true).open(cache_mark(&cache)).unwrap();
            mark.set_modified(SystemTime::now() - Duration::from_secs(3600 * hours)).unwrap();
            cache
        };
        let blob = store.add_blob(&[1; 100_000]).unwrap();
        used_hours_ago(&store, &blob, 2);
        let (old, new) = (grown("desk", "old", 3), grown("labels", "new", 1));
        assert_eq!(store.free_space(1 << 20, &caches).unwrap(), Freed::default());
        let freed = store.free_space(290_000, &caches).unwrap();
        assert_eq!((freed.count, old.exists(), new.exists(), store.has_blob(&blob)), (1, false, true, true));
        assert!(!cache_mark(&old).exists());
        // It grows: the size of a cache is found out anew after each use.
        note_cache(&new).unwrap();
        fs::write(new.join("more"), vec![7; 500_000]).unwrap();
        let user = store.in_use();
        note_cache(&new).unwrap();
        let freed = store.free_space(400_000, &caches).unwrap();
        assert!(new.exists() && freed.bytes < 150_000, "a build has it: {freed:?}");
        drop(user);
        store.free_space(400_000, &caches).unwrap();
        assert!(!new.exists());
    }
}
