//! What stays in a store.
//!
//! Content is not flushed to the disk when it is written: each time, that would cost more than fetching or building it
//! again. All of it is now and then ([`Store::settle`]), and when that was is noted. A machine that loses its power may
//! therefore have content that is not whole; a store that is opened on a machine which was started anew forgets what it
//! was given since.
//!
//! Keeping a store, and the folders that builds mount as caches, below a size, and some of the disk free: what was used
//! least recently goes, and nothing that somebody uses.
//!
//! Whoever uses a store says so for as long as that lasts ([`Store::in_use`]). Content that was used since the
//! oldest of those began stays; what is older than that none of them has. That something is used, and that nobody uses
//! it and it goes, is one question after the other.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
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

/// Since when each who uses the store does so; and who makes room.
#[derive(Debug, Default)]
pub(crate) struct Users(Mutex<(u64, BTreeMap<u64, SystemTime>)>, Mutex<()>);

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

/// How much room there is to be.
#[derive(Clone, Copy, Debug)]
pub struct Room {
    /// How many bytes of content are kept at the most.
    pub limit: u64,
    /// How many bytes of the disk are to stay free; a tenth of it where nothing is said.
    pub keep_free: Option<u64>,
}

impl Room {
    /// How many bytes have to go, of so many.
    fn excess(self, total: u64, disk: &rustix::fs::StatVfs) -> u64 {
        let keep_free = self.keep_free.unwrap_or_else(|| disk.f_blocks.saturating_mul(disk.f_frsize) / 10);
        let free = disk.f_bavail.saturating_mul(disk.f_frsize);
        // Once there is too much, a little more goes, so that not every job has to make room.
        let over = if total > self.limit { total - self.limit / 100 * TARGET } else { 0 };
        over.max(keep_free.saturating_sub(free))
    }
}

/// When all content was on the disk for certain.
const SETTLED: &str = "settled";
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
        let settled = fs::read_to_string(self.folder().join(SETTLED)).ok().and_then(|text| text.parse().ok());
        let settled = Duration::from_secs(settled.unwrap_or(0));
        for content in self.contents()? {
            let data = fs::symlink_metadata(&content.path)?;
            // Since it has its name, nobody changes it.
            let named = Duration::from_secs(u64::try_from(data.ctime()).unwrap_or(0)) + MARGIN;
            if named >= settled {
                self.remove(&content.path)?;
                drop(fs::remove_file(&content.mark));
            }
        }
        fs::write(known, boot)
    }

    /// Has all content written to the disk, and notes that it is there. It may take a while.
    ///
    /// # Errors
    /// What the system says.
    pub fn settle(&self) -> io::Result<()> {
        let begun = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        rustix::fs::syncfs(File::open(self.folder())?)?;
        let mut file = tempfile::NamedTempFile::new_in(self.folder().join("unfinished"))?;
        write!(file, "{}", begun.as_secs())?;
        file.as_file().sync_all()?;
        file.persist(self.folder().join(SETTLED)).map(drop).map_err(|error| error.error)
    }

    /// Removes what an earlier process was writing. Only for who is alone in the store.
    ///
    /// # Errors
    /// What the system says.
    pub fn forget_unfinished(&self) -> io::Result<()> {
        for entry in fs::read_dir(self.folder().join("unfinished"))? {
            remove_tree(&entry?.path())?;
        }
        Ok(())
    }

    /// Says that content is used now, where it is there; answers whether it is.
    pub(crate) fn claim(&self, kind: Kind, digest: &Digest, is_there: impl FnOnce() -> bool) -> bool {
        // Whoever removes something holds this, too: it is claimed, or gone.
        let _nothing_goes = self.users().0.lock().unwrap_or_else(PoisonError::into_inner);
        let is_there = is_there();
        if is_there {
            self.note_use(kind, digest, None);
        }
        is_there
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

    /// Makes room in the store, with the caches of all projects in `caches`, where there is too little, as far as nobody
    /// uses what is in it. Nothing where somebody else does that already.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn free_space(&self, room: Room, caches: &Path) -> io::Result<Freed> {
        let mut freed = Freed::default();
        let Ok(_alone) = self.users().1.try_lock() else { return Ok(freed) };
        let mut all = self.contents()?;
        all.extend(self.records()?);
        all.extend(cached(caches)?);
        let total = all.iter().map(|content| content.bytes).sum::<u64>() + taken_by(&self.folder().join("unfinished"));
        let excess = room.excess(total, &rustix::fs::statvfs(self.folder())?);
        all.sort_by_key(|content| content.used);
        for content in all {
            if freed.bytes >= excess {
                break;
            }
            let aside = {
                // Looked at once more: finding out how much there is takes its time, and jobs begin meanwhile.
                let users = self.users().0.lock().unwrap_or_else(PoisonError::into_inner);
                let since = users.1.values().min().copied();
                let used = modified(&content.mark).unwrap_or(content.used);
                if since.is_some_and(|since| used >= since) {
                    continue;
                }
                let Ok(aside) = self.set_aside(&content.path) else { continue };
                if content.mark != content.path {
                    drop(fs::remove_file(&content.mark));
                }
                aside
            };
            build::forget_cache(&content.path);
            drop(aside.map(|aside| remove_tree(&aside.keep())));
            freed.count += 1;
            freed.bytes += content.bytes;
        }
        Ok(freed)
    }

    /// What instructions made and which files layers have, as content of its own.
    fn records(&self) -> io::Result<Vec<Content>> {
        let mut all = Vec::new();
        for folder in ["steps", "listings"] {
            for entry in fs::read_dir(self.folder().join(folder))? {
                let entry = entry?;
                let Ok(data) = entry.metadata() else { continue };
                let (path, bytes) = (entry.path(), data.blocks() * 512);
                all.push(Content { used: data.modified()?, bytes, mark: path.clone(), path });
            }
        }
        Ok(all)
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
        self.set_aside(path)?.map_or(Ok(()), |aside| remove_tree(&aside.keep()))
    }

    /// The same, and leaves the removing of a folder, which takes its time, to who asked.
    fn set_aside(&self, path: &Path) -> io::Result<Option<tempfile::TempDir>> {
        if !path.is_dir() {
            return fs::remove_file(path).map(|()| None);
        }
        let place = tempfile::tempdir_in(self.folder().join("unfinished"))?;
        fs::rename(path, place.path().join("layer"))?;
        Ok(Some(place))
    }
}

/// Removes a folder with all that is in it, or a file. Folders that their owner may not write, as images have them, are
/// opened first where this is no root.
///
/// # Errors
/// What the system says.
pub fn remove_tree(path: &Path) -> io::Result<()> {
    if !fs::symlink_metadata(path)?.is_dir() {
        return fs::remove_file(path);
    }
    match fs::remove_dir_all(path) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            open_folders(path)?;
            fs::remove_dir_all(path)
        }
        other => other,
    }
}

fn open_folders(folder: &Path) -> io::Result<()> {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            open_folders(&entry.path())?;
        }
    }
    Ok(())
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

    /// As much of the disk as is left may be used.
    fn room(limit: u64) -> Room {
        Room { limit, keep_free: Some(0) }
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
        assert_eq!(store.free_space(room(1 << 20), Path::new("/nowhere")).unwrap(), Freed::default(), "there is room");
        let freed = store.free_space(room(250_000), Path::new("/nowhere")).unwrap();
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
        assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
        assert!(!store.has_blob(&before) && store.has_blob(&again));
        drop(user);
        assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
    }

    #[test]
    fn a_machine_that_was_started_anew_believes_what_was_on_the_disk_for_certain_and_nothing_else() {
        let (folder, store) = store();
        let old = store.add_blob(b"old").unwrap();
        let layer = crate::digest_of(b"a layer");
        fs::create_dir(store.layer_path(&layer)).unwrap();
        let open = || Store::open(folder.path(), IdMap::for_this_process()).unwrap();
        assert!(open().has_blob(&old), "the same start of the machine");
        store.settle().unwrap();
        // As if that had been some time after, and the next before now.
        let settled = fs::read_to_string(folder.path().join(SETTLED)).unwrap().parse::<u64>().unwrap();
        let restarted = |settled: u64| {
            fs::write(folder.path().join(SETTLED), settled.to_string()).unwrap();
            fs::write(folder.path().join("boot"), "another").unwrap();
            open()
        };
        let store = restarted(settled + 60);
        assert!(store.has_blob(&old) && store.layer_path(&layer).is_dir());
        let store = restarted(settled - 60);
        assert!(!store.has_blob(&old) && !store.layer_path(&layer).exists(), "written since");
        let again = store.add_blob(b"new").unwrap();
        assert!(open().has_blob(&again));
        fs::remove_file(folder.path().join(SETTLED)).unwrap();
        fs::write(folder.path().join("boot"), "another").unwrap();
        assert!(!open().has_blob(&again), "nothing was ever certain");
    }

    #[test]
    fn what_a_killed_process_was_writing_counts_and_goes_at_the_start_of_the_next() {
        let (folder, store) = store();
        let unfinished = folder.path().join("unfinished/broken-off/layer/closed");
        fs::create_dir_all(&unfinished).unwrap();
        fs::write(unfinished.join("file"), vec![7; 300_000]).unwrap();
        fs::set_permissions(&unfinished, fs::Permissions::from_mode(0o555)).unwrap();
        let blob = store.add_blob(&[1; 100_000]).unwrap();
        used_hours_ago(&store, &blob, 5);
        assert_eq!(store.free_space(room(350_000), Path::new("/nowhere")).unwrap().count, 1, "it counts");
        store.forget_unfinished().unwrap();
        assert_eq!(fs::read_dir(folder.path().join("unfinished")).unwrap().count(), 0);
        // A folder that is closed to its owner as well, which root does not mind.
        let closed = folder.path().join("closed");
        fs::create_dir_all(closed.join("in/here")).unwrap();
        for path in ["in/here", "in", ""] {
            fs::set_permissions(closed.join(path), fs::Permissions::from_mode(0o500)).unwrap();
        }
        open_folders(&closed).unwrap();
        assert_eq!(fs::metadata(closed.join("in/here")).unwrap().permissions().mode() & 0o777, 0o700);
        remove_tree(&closed).unwrap();
        assert!(!closed.exists());
    }

    #[test]
    fn room_is_made_where_the_disk_is_short_of_it_whatever_the_limit_is() {
        let (folder, store) = store();
        let blob = store.add_blob(&[1; 100_000]).unwrap();
        used_hours_ago(&store, &blob, 5);
        let disk = rustix::fs::statvfs(folder.path()).unwrap();
        let whole = disk.f_blocks * disk.f_frsize;
        let wants = |keep_free| Room { limit: u64::MAX, keep_free: Some(keep_free) };
        assert_eq!(store.free_space(wants(1), Path::new("/nowhere")).unwrap(), Freed::default());
        assert_eq!(store.free_space(wants(whole), Path::new("/nowhere")).unwrap().count, 1);
        // A tenth of it where nothing is said.
        let room = Room { limit: u64::MAX, keep_free: None };
        let free = disk.f_bavail * disk.f_frsize;
        assert_eq!(room.excess(0, &disk), (whole / 10).saturating_sub(free));
    }

    #[test]
    fn records_of_what_instructions_made_count_and_go_like_all_else() {
        let (folder, store) = store();
        for number in 0..100 {
            let key = crate::digest_of(format!("RUN {number}").as_bytes());
            store.remember(&key, &crate::store::Remembered { layer: None }).unwrap();
        }
        let left = || fs::read_dir(folder.path().join("steps")).unwrap().count();
        let freed = store.free_space(room(100_000), Path::new("/nowhere")).unwrap();
        assert!(freed.count > 50 && left() == 100 - freed.count, "{freed:?}");
    }

    #[test]
    fn what_a_job_was_told_is_there_stays_there_however_many_make_room_at_the_same_time() {
        let (_folder, store) = store();
        let digests: Vec<_> = (0..40_u8).map(|number| store.add_blob(&[number; 5000]).unwrap()).collect();
        for digest in &digests {
            used_hours_ago(&store, digest, 5);
        }
        let begin = std::sync::Barrier::new(6);
        std::thread::scope(|scope| {
            for _ in 0..2 {
                scope.spawn(|| {
                    begin.wait();
                    store.free_space(room(0), Path::new("/nowhere")).unwrap();
                });
            }
            for _ in 0..4 {
                scope.spawn(|| {
                    begin.wait();
                    for digest in &digests {
                        let user = store.in_use();
                        if store.has_blob(digest) {
                            store.read_blob(digest).unwrap();
                        }
                        drop(user);
                    }
                });
            }
        });
    }

    #[test]
    fn an_unpacked_layer_goes_whole_and_its_size_is_found_out_once() {
        let (folder, store) = store();
        let digest = crate::digest_of(b"a layer");
        fs::create_dir_all(store.layer_path(&digest).join("a/b")).unwrap();
        fs::write(store.layer_path(&digest).join("a/b/c"), vec![7; 50_000]).unwrap();
        assert_eq!(store.free_space(room(1 << 30), Path::new("/nowhere")).unwrap(), Freed::default());
        let mark = folder.path().join(format!("used/layer-{}", digest.hex()));
        assert!(fs::read_to_string(mark).unwrap().parse::<u64>().unwrap() > 50_000);
        assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
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
        assert_eq!(store.free_space(room(1 << 20), &caches).unwrap(), Freed::default());
        let freed = store.free_space(room(290_000), &caches).unwrap();
        assert_eq!((freed.count, old.exists(), new.exists(), store.has_blob(&blob)), (1, false, true, true));
        assert!(!cache_mark(&old).exists());
        // It grows: the size of a cache is found out anew after each use.
        note_cache(&new).unwrap();
        fs::write(new.join("more"), vec![7; 500_000]).unwrap();
        let user = store.in_use();
        note_cache(&new).unwrap();
        let freed = store.free_space(room(400_000), &caches).unwrap();
        assert!(new.exists() && freed.bytes < 150_000, "a build has it: {freed:?}");
        drop(user);
        store.free_space(room(400_000), &caches).unwrap();
        assert!(!new.exists());
    }
}
