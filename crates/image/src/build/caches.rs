//! Folders that builds of a project mount as caches, and what commands saw who filled them.
//!
//! Programs that build anew only what is newer than what they built before take times for the truth. In a cache that
//! is wrong where the next command sees other files that are not newer: after a branch, a commit that waited while
//! another one was built, a run of an older commit. So it is noted beside each cache what those saw who used it last.
//! Where a command sees something else of the same name that is not newer than all that the cache holds, everything in
//! the cache becomes older than that.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use pondrix_core::image::{Digest, Entry, EntryKind, merge};
use pondrix_files::{Bounds, Order, Watch, walk};
use rustix::fs::{AtFlags, Stat, utimensat};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::layer::beneath::times_of;
use crate::rootfs::Layers;
use crate::{Store, StoreError};

/// How many different things may have been seen by commands that used a cache at the same time; of more it is not known.
const MOST_SEEN: usize = 32;
/// And how many of these are kept when nobody uses it: those of the bases that were used last.
const MOST_KEPT: usize = 16;

/// What a command sees that mounts a cache.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Inputs {
    /// The layers of the image that its stage is built on.
    pub(super) base: Vec<Digest>,
    /// Those over it.
    pub(super) layers: Vec<Digest>,
    /// What mounts show besides: of each path a digest of what is there, and its time in seconds since 1970.
    pub(super) shown: BTreeMap<String, (String, u64)>,
}

/// What is noted beside a cache.
#[derive(Debug, Serialize, Deserialize)]
struct Record {
    /// What those saw who used it last, on each base; nothing where that is not known.
    seen: Vec<Inputs>,
    /// When they had ended, in seconds since 1970: nothing in it is newer. While one runs there is no such time.
    until: u64,
}

/// Who uses which cache now.
#[derive(Debug, Default)]
pub(crate) struct CacheUsers {
    all: Mutex<HashMap<PathBuf, Users>>,
    /// How many there have been, of all caches.
    count: AtomicU64,
}

/// The users of a cache.
#[derive(Debug, Default)]
struct Users {
    /// What each of them sees, by a number.
    now: Vec<(u64, Inputs)>,
    /// What they see and those saw who used it since it was nobody's.
    seen: Vec<Inputs>,
}

impl CacheUsers {
    fn all(&self) -> MutexGuard<'_, HashMap<PathBuf, Users>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits while somebody uses a cache who sees another content of something that is seen here: what he makes of that
    /// would be newer than it. Then takes a part in its use; answers the number of that, and what others see and saw who
    /// use it at the same time. Nothing where `goes_on` said that nobody waits any more.
    fn join(
        &self,
        store: &Store,
        folder: &Path,
        inputs: &Inputs,
        goes_on: &mut dyn FnMut() -> bool,
    ) -> Option<(u64, Vec<Inputs>)> {
        // Whether each of the others is in the way: that is looked at once, since it takes its time.
        let mut looked_at: HashMap<u64, bool> = HashMap::new();
        loop {
            let unknown: Vec<(u64, Inputs)> = {
                let mut all = self.all();
                let users = all.entry(folder.to_owned()).or_default();
                let is_unknown = |(number, _): &&(u64, Inputs)| !looked_at.contains_key(number);
                let unknown: Vec<_> = users.now.iter().filter(is_unknown).cloned().collect();
                let is_free = users.now.iter().all(|(number, _)| looked_at.get(number) == Some(&false));
                if is_free {
                    let (number, beside) = (self.count.fetch_add(1, Ordering::Relaxed), users.seen.clone());
                    users.now.push((number, inputs.clone()));
                    users.seen = with(beside.clone(), std::slice::from_ref(inputs));
                    return Some((number, beside));
                }
                unknown
            };
            if unknown.is_empty() && !goes_on() {
                return None;
            }
            looked_at.extend(unknown.into_iter().map(|(number, other)| (number, contradict(store, inputs, &other))));
        }
    }

    /// Somebody does not use a cache any more. Answers what was seen by those who did, where nobody does now.
    fn leave(&self, folder: &Path, number: u64) -> Option<Vec<Inputs>> {
        let mut all = self.all();
        let users = all.get_mut(folder)?;
        users.now.retain(|(other, _)| *other != number);
        if users.now.is_empty() { all.remove(folder).map(|users| users.seen) } else { None }
    }
}

/// How what a command sees differs from what was seen before, as far as times do not tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Change {
    /// It may be anything.
    Everything,
    /// The oldest file that differs is of this time, in seconds since 1970.
    From(u64),
    /// What differs is newer than all that the cache holds.
    Nothing,
}

/// Somebody uses a cache until this is dropped.
#[derive(Debug)]
pub(super) struct CacheUse {
    folder: PathBuf,
    users: Arc<CacheUsers>,
    number: u64,
    /// Whether what the cache holds was made older.
    pub(super) has_aged: bool,
    /// The seconds, since 1970, at which what it holds was made here: no archive gave those times.
    pub(super) seconds: HashSet<i64>,
}

/// Where the record of a cache is.
fn record_path(folder: &Path) -> PathBuf {
    folder.with_extension("inputs")
}

/// A cache is made, or removed: what is known of one that was there before is of no use.
pub(crate) fn forget(folder: &Path) {
    drop(fs::remove_file(record_path(folder)));
}

fn read(folder: &Path) -> Option<Record> {
    let bytes = zstd::decode_all(fs::File::open(record_path(folder)).ok()?).ok()?;
    serde_json::from_slice(&bytes).ok()
}

fn write(folder: &Path, record: &Record) -> io::Result<()> {
    let bytes = zstd::encode_all(&serde_json::to_vec(record)?[..], 1)?;
    let file = tempfile::NamedTempFile::new_in(folder.parent().unwrap_or(folder))?;
    fs::write(file.path(), bytes)?;
    file.persist(record_path(folder)).map(drop).map_err(|error| error.error)
}

fn with(mut seen: Vec<Inputs>, inputs: &[Inputs]) -> Vec<Inputs> {
    for one in inputs {
        if !seen.contains(one) {
            seen.push(one.clone());
        }
    }
    if seen.len() > MOST_SEEN { Vec::new() } else { seen }
}

impl CacheUse {
    /// Uses a cache for a command that sees this. Its own layers are at `layers`, the lowest first. Where somebody is in
    /// the way, `goes_on` is asked again and again, and has time to pass; nothing where it said no.
    pub(super) fn begin(
        store: &Store,
        folder: &Path,
        inputs: Inputs,
        layers: &[PathBuf],
        goes_on: &mut dyn FnMut() -> bool,
    ) -> Result<Option<Self>, StoreError> {
        let told = || crate::store::io_error("look what a cache is for");
        let users = Arc::clone(store.cache_users());
        let Some((number, beside)) = users.join(store, folder, &inputs, goes_on) else { return Ok(None) };
        let mut this = Self { folder: folder.to_owned(), users, number, has_aged: false, seconds: HashSet::new() };
        let is_new = fs::read_dir(folder).map_err(told())?.next().is_none();
        let record = read(folder).unwrap_or(Record { seen: Vec::new(), until: u64::MAX });
        let until = if beside.is_empty() { record.until } else { u64::MAX };
        let before = with(record.seen, &beside);
        let is_known = before.iter().any(|seen| seen.base == inputs.base);
        let changes = before.iter().map(|seen| change(store, seen, &inputs, layers, until));
        let change = match () {
            () if is_new => Change::Nothing,
            () if !is_known => Change::Everything,
            () => changes.min().unwrap_or(Change::Nothing),
        };
        // Whatever ends this process, what the command makes is known to be for what it saw.
        let during = Record { seen: with(before, &[inputs]), until: u64::MAX };
        write(folder, &during).map_err(told())?;
        let newest = match change {
            Change::Everything => Some(0),
            Change::From(time) => Some(time.saturating_sub(1)),
            Change::Nothing => None,
        };
        // With a fraction, as clocks give it.
        let newest =
            newest.map(|newest| SystemTime::UNIX_EPOCH + Duration::from_secs(newest) + Duration::from_millis(500));
        this.age(folder, newest, store.watch()).map_err(told())?;
        Ok(Some(this))
    }
}

impl CacheUse {
    /// Makes everything in a folder that was made here no newer than this, where that is said. What is older stays so,
    /// and nothing becomes older than what it was newer than. Other commands may use the cache meanwhile, and put a link
    /// in place of anything: everything is reached from the folder that it is in, and no link is followed.
    fn age(&mut self, folder: &Path, newest: Option<SystemTime>, watch: &Watch) -> io::Result<()> {
        walk(folder, Order::Any, &Bounds::COUNTED, watch, |found| {
            let data = &found.stat;
            if !was_made_here(data) {
                return Ok(());
            }
            let own = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(data.st_mtime).unwrap_or(0));
            let own = own + Duration::from_nanos(data.st_mtime_nsec);
            let Some(newest) = newest.filter(|newest| own > *newest) else {
                self.seconds.insert(data.st_mtime);
                return Ok(());
            };
            match utimensat(found.folder, found.name, &times_of(newest), AtFlags::SYMLINK_NOFOLLOW) {
                // The entry vanished.
                Err(Errno::NOENT) => {}
                other => other?,
            }
            self.has_aged = true;
            let seconds = newest.duration_since(SystemTime::UNIX_EPOCH);
            self.seconds.extend(seconds.map(|since| since.as_secs().cast_signed()));
            Ok(())
        })
    }
}

impl Drop for CacheUse {
    fn drop(&mut self) {
        let Some(seen) = self.users.leave(&self.folder, self.number) else { return };
        // What others saw on other bases is true as before.
        let before = read(&self.folder).map_or_else(Vec::new, |record| record.seen);
        let is_of_others = |one: &Inputs| seen.iter().all(|now| now.base != one.base);
        let mut seen: Vec<Inputs> = before.into_iter().filter(is_of_others).chain(seen.iter().cloned()).collect();
        seen.drain(..seen.len().saturating_sub(MOST_KEPT));
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        // Where it cannot be written, what was written at the beginning is true all the same.
        drop(write(&self.folder, &Record { seen, until: now.as_secs() + 1 }));
    }
}

/// How what is seen now differs from what was seen, in files that are not newer than `until`.
fn change(store: &Store, seen: &Inputs, now: &Inputs, layers: &[PathBuf], until: u64) -> Change {
    if seen == now {
        return Change::Nothing;
    }
    // What a stage on another base did not see, nothing in the cache is made of: both go on using it.
    let is_new_enough = seen.base != now.base;
    let mut oldest = Change::Nothing;
    let mut differs = |time: u64| {
        if time <= until {
            oldest = oldest.min(Change::From(time));
        }
    };
    for (path, what) in &now.shown {
        if !seen.shown.get(path).map_or(is_new_enough, |before| before.0 == what.0) {
            differs(what.1);
        }
    }
    let compared = compare(store, seen, now, |path, is_the_same| {
        if !is_the_same.unwrap_or(is_new_enough) {
            let on_disk = Layers(layers).find(Path::new(path));
            let time = on_disk.and_then(|on_disk| Some(fs::symlink_metadata(on_disk).ok()?.mtime()));
            differs(time.and_then(|time| u64::try_from(time).ok()).unwrap_or(0));
        }
    });
    // Where it is not known any more what was seen, it may have been anything.
    if compared.is_ok() { oldest } else { Change::Everything }
}

/// Tells of each file and link in the layers of `now` whether it is the same in those of `seen`; nothing where there is
/// none. Where the layers are the same, nothing is told.
fn compare(
    store: &Store,
    seen: &Inputs,
    now: &Inputs,
    mut tell: impl FnMut(&str, Option<bool>),
) -> Result<(), StoreError> {
    if seen.layers == now.layers {
        return Ok(());
    }
    let listed = |digests: &[Digest]| {
        digests.iter().map(|digest| store.listing_here(digest)).collect::<Result<Vec<Vec<Entry>>, _>>()
    };
    let (before, after) = (listed(&seen.layers)?, listed(&now.layers)?);
    let (before, after) = (merge(before.iter().map(Vec::as_slice)), merge(after.iter().map(Vec::as_slice)));
    for (path, entry) in after.iter().filter(|(_, entry)| matches!(entry.kind, EntryKind::File | EntryKind::Link)) {
        tell(path, before.get(path).map(|before| before.kind == entry.kind && before.content == entry.content));
    }
    Ok(())
}

/// Whether two commands see another content of the same thing.
fn contradict(store: &Store, one: &Inputs, other: &Inputs) -> bool {
    let mut contradict =
        one.shown.iter().any(|(path, what)| other.shown.get(path).is_some_and(|other| other.0 != what.0));
    let compared = compare(store, one, other, |_, is_the_same| contradict |= is_the_same == Some(false));
    contradict || compared.is_err()
}

/// How long after its own time a file may have been made that was given whole seconds by a clock.
const MADE: i64 = 2;

/// Whether the time of a file is that of its making here, and not one that an archive gave it, or a package.
fn was_made_here(data: &Stat) -> bool {
    data.st_mtime_nsec != 0 || data.st_ctime - data.st_mtime <= MADE
}

#[cfg(test)]
mod tests;
