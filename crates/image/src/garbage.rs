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
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use pondrix_core::image::Digest;
use pondrix_files::{TemporaryFolder, Watch, usage};

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
    /// False for a cache that cannot be read: it is removed even if there is space.
    is_counted: bool,
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
            pondrix_files::remove(&entry?.path())?;
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
        let Ok(_alone) = self.users().1.try_lock() else { return Ok(Freed::default()) };
        let mut all = self.contents()?;
        all.extend(self.records()?);
        all.extend(cached(caches)?);
        let total = all.iter().map(|content| content.bytes).sum::<u64>()
            + taken_by(&self.folder().join("unfinished")).unwrap_or(0);
        let excess = room.excess(total, &rustix::fs::statvfs(self.folder())?);
        Ok(self.remove_oldest(all, excess))
    }

    /// Removes caches of one project, whose folders these are, that were not used for longest, as far as nobody uses them,
    /// until they take no more than so many bytes.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn limit_caches(&self, folders: &[PathBuf], limit: u64) -> io::Result<Freed> {
        let _alone = self.users().1.lock().unwrap_or_else(PoisonError::into_inner);
        let mut all = Vec::new();
        for folder in folders {
            all.extend(cached_of(folder)?);
        }
        let total = all.iter().map(|content| content.bytes).sum::<u64>();
        Ok(self.remove_oldest(all, total.saturating_sub(limit)))
    }

    /// Removes so many bytes of content that nobody uses, first what was not used for longest.
    fn remove_oldest(&self, mut all: Vec<Content>, excess: u64) -> Freed {
        let mut freed = Freed::default();
        all.sort_by_key(|content| content.used);
        for content in all {
            if content.is_counted && freed.bytes >= excess {
                continue;
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
            drop(aside);
            freed.count += 1;
            freed.bytes += content.bytes;
        }
        freed
    }

    /// What instructions made and which files layers have, as content of its own.
    fn records(&self) -> io::Result<Vec<Content>> {
        let mut all = Vec::new();
        for folder in ["steps", "listings"] {
            for entry in fs::read_dir(self.folder().join(folder))? {
                let entry = entry?;
                let Ok(data) = entry.metadata() else { continue };
                let (path, bytes) = (entry.path(), data.blocks() * 512);
                all.push(Content { used: data.modified()?, bytes, mark: path.clone(), path, is_counted: true });
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
        // A layer that cannot be read, of a runner that is not root, is in use like any other.
        content(path, self.mark_path(kind, hex)).map(|content| Content { is_counted: true, ..content })
    }

    /// Removes content so that it is there whole or not at all.
    fn remove(&self, path: &Path) -> io::Result<()> {
        self.set_aside(path)?.map_or(Ok(()), |aside| pondrix_files::remove(&aside.keep()))
    }

    /// The same, and leaves the removing of a folder, which takes its time, to who asked.
    fn set_aside(&self, path: &Path) -> io::Result<Option<TemporaryFolder>> {
        if !path.is_dir() {
            return fs::remove_file(path).map(|()| None);
        }
        let place = TemporaryFolder::new_in(&self.folder().join("unfinished"))?;
        fs::rename(path, place.path().join("layer"))?;
        Ok(Some(place))
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
        all.extend(cached_of(&project?.path())?);
    }
    Ok(all)
}

/// The caches in the folder of a project.
fn cached_of(folder: &Path) -> io::Result<Vec<Content>> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        other => other?,
    };
    let mut all = Vec::new();
    for cache in entries {
        let path = cache?.path();
        // One that begins with a dot is being made.
        let is_cache = path.is_dir() && path.file_name().is_none_or(|name| !name.as_encoded_bytes().starts_with(b"."));
        all.extend(is_cache.then(|| content(path.clone(), cache_mark(&path))).flatten());
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
            let bytes = if data.is_dir() { taken_by(&path) } else { Some(data.blocks() * 512) };
            let Some(bytes) = bytes else {
                return Some(Content { used, bytes: 0, path, mark, is_counted: false });
            };
            // The time of the last use stays: looking is not using.
            if fs::write(&mark, bytes.to_string()).is_ok() {
                drop(File::options().write(true).open(&mark).and_then(|mark| mark.set_modified(used)));
            }
            bytes
        }
    };
    Some(Content { used, bytes, path, mark, is_counted: true })
}

/// Returns the disk usage of a folder, or `None` if it cannot be read.
fn taken_by(folder: &Path) -> Option<u64> {
    usage(folder, &Watch::none()).ok()
}

#[cfg(test)]
mod tests;
