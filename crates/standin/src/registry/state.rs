//! What a registry keeps.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use pondrix_core::image::Digest;

use super::Trust;

/// How a registry behaves, to see how others take it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Behaviour {
    /// As the specification says.
    #[default]
    Good,
    /// It refuses every push with these words.
    RefusesPushes(String),
    /// It says that it keeps manifests under another digest than theirs.
    LiesAboutDigests,
    /// It gives other bytes than those of the blob asked for.
    GivesWrongBlobs,
    /// It has no time for those who want a blob.
    HasNoTimeForBlobs,
}

/// What goes wrong with one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trip {
    /// It is answered with this status, and not done.
    Status(u16),
    /// The connection ends, and it is not done.
    Reset,
    /// The connection ends, and it is done.
    ResetAfter,
    /// It is done, and the answer does not say where to go on.
    NoLocation,
}

/// Who may come in, and how it is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Guard {
    /// The name.
    pub user: String,
    /// The password.
    pub password: String,
    /// How many requests a token is good for, where tokens are asked for and not name and password.
    pub token_uses: Option<u32>,
    /// How the repositories begin that it is for; nothing for all.
    pub below: &'static str,
}

/// A registry.
#[derive(Debug)]
pub struct Registry {
    folder: PathBuf,
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
pub(super) struct Inner {
    pub(super) repositories: BTreeMap<String, Repository>,
    /// Uploads under way: how many bytes each has.
    pub(super) uploads: HashMap<String, u64>,
    pub(super) behaviour: Behaviour,
    pub(super) guards: Vec<Guard>,
    pub(super) trusts: Vec<Trust>,
    /// What the signed tokens said that were shown.
    pub(super) seen: Vec<serde_json::Value>,
    /// The tokens that were given: for what, and for how many requests more.
    pub(super) tokens: HashMap<String, (String, u32)>,
    /// How many requests more it has no time for.
    pub(super) busy: u32,
    /// After how many bytes the next upload or download breaks off.
    pub(super) breaks_after: Option<u64>,
    /// How many times an upload was asked how far it is.
    pub(super) asked_how_far: u64,
    /// Where blobs are fetched instead.
    pub(super) blobs_at: Option<String>,
    /// Whether it keeps lists of what is attached to images.
    pub(super) knows_referrers: bool,
    /// What goes wrong with the next request of a kind: `PUT manifest`.
    pub(super) trips: HashMap<String, Trip>,
    /// Whether it knows conditions of requests.
    pub(super) knows_conditions: bool,
    next_upload: u64,
    /// How many blobs were sent with their bytes, and how many were given.
    pub(super) blobs_received: u64,
    pub(super) blobs_given: u64,
}

#[derive(Debug, Default)]
pub(super) struct Repository {
    pub(super) blobs: HashSet<Digest>,
    /// The manifests and their media types.
    pub(super) manifests: HashMap<Digest, String>,
    pub(super) tags: BTreeMap<String, Digest>,
}

impl Registry {
    pub(super) fn in_folder(folder: &Path) -> std::io::Result<Self> {
        fs::create_dir_all(folder.join("blobs"))?;
        fs::create_dir_all(folder.join("uploads"))?;
        // As OCI Distribution 1.1 asks; older registries do not.
        let inner = Inner { knows_referrers: true, ..Inner::default() };
        Ok(Self { folder: folder.to_owned(), inner: Mutex::new(inner) })
    }

    pub(super) fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn blob_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join("blobs").join(digest.hex())
    }

    pub(super) fn upload_path(&self, id: &str) -> PathBuf {
        self.folder.join("uploads").join(id)
    }

    /// Changes how the registry behaves.
    pub fn behave(&self, behaviour: Behaviour) {
        self.inner().behaviour = behaviour;
    }

    /// Lets nobody in but who this is.
    pub fn guard(&self, guards: impl IntoIterator<Item = Guard>) {
        self.inner().guards = guards.into_iter().collect();
    }

    /// Lets nobody push into some repositories but whose tokens it believes.
    pub fn trust(&self, trusts: impl IntoIterator<Item = Trust>) {
        self.inner().trusts = trusts.into_iter().collect();
    }

    /// What the signed tokens said that were shown and believed, the oldest first.
    pub fn identities_seen(&self) -> Vec<serde_json::Value> {
        self.inner().seen.clone()
    }

    /// Has no time for so many requests.
    pub fn be_busy(&self, requests: u32) {
        self.inner().busy = requests;
    }

    /// Breaks the next upload or download off, once, after so many bytes.
    pub fn break_after(&self, bytes: u64) {
        self.inner().breaks_after = Some(bytes);
    }

    /// Sends whoever fetches a blob to another address.
    pub fn fetch_blobs_at(&self, address: Option<String>) {
        self.inner().blobs_at = address;
    }

    /// Keeps lists of what is attached to images from now on, or does not.
    pub fn know_referrers(&self, knows: bool) {
        self.inner().knows_referrers = knows;
    }

    /// Has something go wrong with the next request of a kind, once: a method, and `blob`, `uploads`, `upload`,
    /// `manifest`, `tags`, `referrers`, `base` or `token`.
    pub fn trip(&self, kind: &str, trip: Trip) {
        self.inner().trips.insert(kind.to_owned(), trip);
    }

    /// How many times a blob was given with its bytes.
    #[must_use]
    pub fn blobs_given(&self) -> u64 {
        self.inner().blobs_given
    }

    /// Whether something is still to go wrong.
    #[must_use]
    pub fn has_trips(&self) -> bool {
        !self.inner().trips.is_empty()
    }

    /// Knows conditions of requests from now on, or does not.
    pub fn know_conditions(&self, knows: bool) {
        self.inner().knows_conditions = knows;
    }

    /// How many times an upload was asked how far it is.
    #[must_use]
    pub fn asked_how_far(&self) -> u64 {
        self.inner().asked_how_far
    }

    /// How many tokens were given.
    #[must_use]
    pub fn tokens_given(&self) -> usize {
        self.inner().tokens.len()
    }

    /// The tags of a repository and what they name.
    #[must_use]
    pub fn tags(&self, repository: &str) -> BTreeMap<String, Digest> {
        self.inner().repositories.get(repository).map(|repository| repository.tags.clone()).unwrap_or_default()
    }

    /// How many blobs were sent with their bytes since the start.
    #[must_use]
    pub fn blobs_received(&self) -> u64 {
        self.inner().blobs_received
    }
}

impl Inner {
    pub(super) fn new_upload(&mut self) -> String {
        self.next_upload += 1;
        let id = format!("u{}", self.next_upload);
        self.uploads.insert(id.clone(), 0);
        id
    }

    pub(super) fn repository(&mut self, name: &str) -> &mut Repository {
        self.repositories.entry(name.to_owned()).or_default()
    }
}
