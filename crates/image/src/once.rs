//! What several want at once is done once.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use pondrix_core::image::Digest;
use tokio::sync::watch;

/// Things that one does at a time, each by its digest.
#[derive(Debug, Default)]
pub(crate) struct InTurn {
    now: Mutex<HashSet<Digest>>,
    ended: Condvar,
}

/// The right to do one, until this is dropped.
#[derive(Debug)]
pub(crate) struct Mine<'a> {
    all: &'a InTurn,
    digest: Digest,
}

impl InTurn {
    /// Waits until nobody else does it.
    pub(crate) fn begin(&self, digest: &Digest) -> Mine<'_> {
        let now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        let free = self.ended.wait_while(now, |now| now.contains(digest));
        free.unwrap_or_else(PoisonError::into_inner).insert(digest.clone());
        Mine { all: self, digest: digest.clone() }
    }
}

impl Drop for Mine<'_> {
    fn drop(&mut self) {
        self.all.now.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.digest);
        self.all.ended.notify_all();
    }
}

/// The blobs that are being fetched, and how many bytes of each have come.
#[derive(Debug, Default)]
pub(crate) struct Fetches(Mutex<HashMap<Digest, watch::Receiver<u64>>>);

/// Whose turn it is to fetch a blob.
#[derive(Debug)]
pub(crate) enum Turn {
    /// Who asked.
    Mine(Fetch),
    /// Somebody fetches it. How many bytes have come; it closes when they are all there, or do not come any more.
    Theirs(watch::Receiver<u64>),
}

/// The fetching of a blob, until this is dropped.
#[derive(Debug)]
pub(crate) struct Fetch {
    all: Arc<Fetches>,
    digest: Digest,
    come: watch::Sender<u64>,
}

impl Fetches {
    fn all(&self) -> MutexGuard<'_, HashMap<Digest, watch::Receiver<u64>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn begin(this: &Arc<Self>, digest: &Digest) -> Turn {
        let mut all = this.all();
        if let Some(theirs) = all.get(digest) {
            return Turn::Theirs(theirs.clone());
        }
        let (come, theirs) = watch::channel(0);
        all.insert(digest.clone(), theirs);
        Turn::Mine(Fetch { all: Arc::clone(this), digest: digest.clone(), come })
    }
}

impl Fetch {
    /// So many bytes more have come.
    pub(crate) fn advance(&self, bytes: u64) {
        self.come.send_modify(|come| *come += bytes);
    }
}

impl Drop for Fetch {
    fn drop(&mut self) {
        self.all.all().remove(&self.digest);
    }
}
