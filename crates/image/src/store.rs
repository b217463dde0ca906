//! The content-addressed store of a machine: blobs as they travel, layers as they are mounted.
//!
//! ```text
//! blobs/HEX        a blob, named by its digest
//! unproved/HEX     the digest of a layer's plain bytes, which were proved, where those of its blob were not yet
//! layers/HEX/      a layer unpacked, named by the digest of its uncompressed bytes; or what is laid over one
//! left-out/HEX     the folders that an unpacked layer leaves out, each ended with a zero byte
//! listings/HEX     the files of an unpacked layer
//! used/KIND-HEX    when content was used last (the file's time), and how many bytes it takes
//! rights/HEX       that a project may have a blob, named by the digest of both names
//! pairs/HEX        that a layer's blob unpacks to a layer, named by the digest of both names
//! steps/HEX        the layer that an instruction makes, named by the digest of all that decides it and of its realm
//! unfinished/      what is being written; nothing in it is believed
//! form             the form of all this; another one is given up for this
//! ```

mod layers;
mod remembered;
mod rights;

use std::collections::HashSet;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use pondrix_core::image::Digest;
use pondrix_files::{TemporaryFolder, Watch};
use pondrix_sandbox::IdMap;

use crate::build::CacheUsers;
use crate::garbage::{Kind, Users};
use crate::hash::{digest_of, digest_of_file};
use crate::inventory::{Inspector, NoInspector};
use crate::oci::{Config, Manifest};
use crate::once::{Fetches, InTurn, Turn};

pub(crate) use remembered::mark_used;
pub use remembered::{Realm, Remembered, StepRecord};
pub(crate) use rights::layer_name;

/// The form of a store.
const FORM: &str = "2";

/// A store in a folder.
#[derive(Clone, Debug)]
pub struct Store {
    folder: PathBuf,
    ids: IdMap,
    users: Arc<Users>,
    /// Of which layers, over which others, it is known that nothing is to be laid over them.
    plain: Arc<Mutex<HashSet<Digest>>>,
    cache_users: Arc<CacheUsers>,
    /// The layers that are being unpacked, and the blobs that are being fetched.
    unpacking: Arc<InTurn>,
    fetching: Arc<Fetches>,
    /// Cancels long operations.
    watch: Watch,
    /// Reads package files.
    inspector: Arc<dyn Inspector>,
}

/// An image whose parts are all in the store.
#[derive(Clone, Debug)]
pub struct Image {
    /// The manifest's digest.
    pub digest: Digest,
    /// The manifest.
    pub manifest: Manifest,
    /// The configuration.
    pub config: Config,
}

impl Image {
    /// All that it has, as rights to it are noted: manifest, configuration, and the layers, each as what it unpacks to.
    pub fn parts(&self) -> impl Iterator<Item = Digest> {
        let layers = self.manifest.layers.iter().zip(&self.config.rootfs.diff_ids);
        let layers = layers.map(|(layer, diff_id)| rights::layer_name(&layer.digest, diff_id));
        [self.digest.clone(), self.manifest.config.digest.clone()].into_iter().chain(layers)
    }
}

/// What went wrong in a store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The file system's words.
    #[error("could not {doing} in the image store: {source}")]
    Io {
        /// What was tried.
        doing: String,
        /// What the system said.
        source: io::Error,
    },
    /// Content is not what its name says.
    #[error("content that should be {wanted} is {found}")]
    WrongDigest {
        /// The digest asked for.
        wanted: Digest,
        /// The digest of what came.
        found: Digest,
    },
    /// A document does not parse.
    #[error("{what} is not what it should be: {source}")]
    Document {
        /// Which document.
        what: String,
        /// Where it fails.
        source: serde_json::Error,
    },
    /// A layer cannot be unpacked.
    #[error("layer {digest} cannot be unpacked: {words}")]
    Layer {
        /// The blob.
        digest: Digest,
        /// Why.
        words: String,
    },
}

pub(crate) fn io_error(doing: impl Into<String>) -> impl FnOnce(io::Error) -> StoreError {
    move |source| StoreError::Io { doing: doing.into(), source }
}

impl Store {
    /// Opens a store, making its folders where they are not there.
    ///
    /// # Errors
    /// When the folders cannot be made.
    pub fn open(folder: &Path, ids: IdMap) -> Result<Self, StoreError> {
        for part in
            ["blobs", "unproved", "layers", "left-out", "listings", "rights", "pairs", "steps", "unfinished", "used"]
        {
            fs::create_dir_all(folder.join(part)).map_err(io_error(format!("make {part}")))?;
        }
        let store = Self {
            folder: folder.to_owned(),
            ids,
            users: Arc::default(),
            plain: Arc::default(),
            cache_users: Arc::default(),
            unpacking: Arc::default(),
            fetching: Arc::default(),
            watch: Watch::none(),
            inspector: Arc::new(NoInspector),
        };
        store.take_form().map_err(io_error("bring it into this version's form"))?;
        store.doubt_what_is_new().map_err(io_error("look what is in it"))?;
        Ok(store)
    }

    /// The same store with cancellation. Packing, unpacking, reading and listing then end with [`pondrix_files::GivenUp`].
    #[must_use]
    pub fn watched(&self, watch: Watch) -> Self {
        Self { watch, ..self.clone() }
    }

    /// The same store with an inspector for package files. Without one, listings have no packages.
    #[must_use]
    pub fn inspected_by(&self, inspector: Arc<dyn Inspector>) -> Self {
        Self { inspector, ..self.clone() }
    }

    pub(crate) fn inspector(&self) -> &dyn Inspector {
        &*self.inspector
    }

    pub(crate) const fn watch(&self) -> &Watch {
        &self.watch
    }

    /// The ids that unpacked files belong to.
    #[must_use]
    pub const fn ids(&self) -> IdMap {
        self.ids
    }

    /// Where a blob is, whether or not it is there.
    #[must_use]
    pub fn blob_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join("blobs").join(digest.hex())
    }

    /// Whether a blob is there. Asking is using it.
    #[must_use]
    pub fn has_blob(&self, digest: &Digest) -> bool {
        self.claim(Kind::Blob, digest, || self.blob_path(digest).is_file())
    }

    /// The bytes of a blob, checked against its digest; for documents, not for layers.
    ///
    /// # Errors
    /// When it is not there or damaged.
    pub fn read_blob(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        let bytes = fs::read(self.blob_path(digest)).map_err(io_error(format!("read {digest}")))?;
        let found = digest_of(&bytes);
        if found == *digest { Ok(bytes) } else { Err(StoreError::WrongDigest { wanted: digest.clone(), found }) }
    }

    /// Stores bytes under their digest.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn add_blob(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        let digest = digest_of(bytes);
        if !self.has_blob(&digest) {
            let file = self.unfinished_file()?;
            fs::write(file.path(), bytes).map_err(io_error(format!("write {digest}")))?;
            self.finish_blob(file, &digest)?;
        }
        Ok(digest)
    }

    /// A file to write a blob to.
    pub(crate) fn unfinished_file(&self) -> Result<tempfile::NamedTempFile, StoreError> {
        tempfile::NamedTempFile::new_in(self.folder.join("unfinished")).map_err(io_error("make a file"))
    }

    /// A folder to unpack a layer in.
    pub(crate) fn unfinished_folder(&self) -> Result<TemporaryFolder, StoreError> {
        TemporaryFolder::new_in(&self.folder.join("unfinished")).map_err(io_error("make a folder"))
    }

    /// Gives a blob its name. It is there whole or not at all.
    pub(crate) fn finish_blob(&self, file: tempfile::NamedTempFile, digest: &Digest) -> Result<(), StoreError> {
        let doing = || format!("keep {digest}");
        // Not synced: see `garbage`.
        let size = file.as_file().metadata().map_err(io_error(doing()))?.len();
        file.persist(self.blob_path(digest)).map_err(|error| io_error(doing())(error.error))?;
        self.note_use(Kind::Blob, digest, Some(size));
        Ok(())
    }

    /// Gives a layer's blob its name, of which is known that it unpacks to `diff_id`, and not that its own bytes are the
    /// right ones.
    pub(crate) fn finish_unproved_blob(
        &self,
        file: tempfile::NamedTempFile,
        digest: &Digest,
        diff_id: &Digest,
    ) -> Result<(), StoreError> {
        // Before the blob: one without this would be believed.
        fs::write(self.unproved_path(digest), diff_id.to_string()).map_err(io_error(format!("keep {digest}")))?;
        self.finish_blob(file, digest)
    }

    /// Whether a blob of this name may be another one: nobody has looked at its bytes, and what it was proved by is not
    /// that it unpacks to `diff_id`. An image may call anything by any name.
    pub(crate) fn is_doubtful(&self, digest: &Digest, diff_id: &Digest) -> bool {
        let proved_by = fs::read_to_string(self.unproved_path(digest));
        proved_by.is_ok_and(|proved_by| proved_by != diff_id.to_string()) && self.blob_path(digest).exists()
    }

    fn unproved_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join("unproved").join(digest.hex())
    }

    /// Makes sure that a blob is what it is called, before it goes elsewhere. One that is not is removed.
    pub(crate) fn prove_blob(&self, digest: &Digest) -> Result<(), StoreError> {
        let told = || io_error(format!("look at {digest}"));
        let (mark, path) = (self.unproved_path(digest), self.blob_path(digest));
        if !mark.exists() {
            return Ok(());
        }
        let file = File::open(&path).map_err(told())?;
        let found = digest_of_file(self.watch.reader(file)).map_err(told())?;
        if found != *digest {
            fs::remove_file(path).map_err(told())?;
            return Err(StoreError::WrongDigest { wanted: digest.clone(), found });
        }
        if let Ok(diff_id) = fs::read_to_string(&mark).unwrap_or_default().parse() {
            self.note_pair(digest, &diff_id)?;
        }
        drop(fs::remove_file(mark));
        Ok(())
    }

    /// What an earlier version unpacked may lack what this one notes beside it: it is unpacked anew.
    fn take_form(&self) -> io::Result<()> {
        let known = self.folder.join("form");
        if fs::read_to_string(&known).is_ok_and(|form| form == FORM) {
            return Ok(());
        }
        let aside = pondrix_files::move_aside(&self.folder.join("layers"), &self.folder.join("unfinished"))?;
        fs::create_dir(self.folder.join("layers"))?;
        fs::write(known, FORM)?;
        // What of it cannot be removed is, at another time, with all else that is unfinished.
        drop(pondrix_files::remove(&aside));
        Ok(())
    }

    /// An image by its manifest's digest, when manifest and configuration are in the store.
    ///
    /// # Errors
    /// When they are not, or do not parse.
    pub fn image(&self, digest: &Digest) -> Result<Image, StoreError> {
        let manifest: Manifest = self.document(digest, "the manifest")?;
        let config: Config = self.document(&manifest.config.digest, "the image's configuration")?;
        Ok(Image { digest: digest.clone(), manifest, config })
    }

    pub(crate) fn document<T: serde::de::DeserializeOwned>(
        &self,
        digest: &Digest,
        what: &str,
    ) -> Result<T, StoreError> {
        let bytes = self.read_blob(digest)?;
        serde_json::from_slice(&bytes).map_err(|source| StoreError::Document { what: what.to_owned(), source })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    /// Asks to fetch a blob.
    pub(crate) fn fetch_turn(&self, digest: &Digest) -> Turn {
        Fetches::begin(&self.fetching, digest)
    }

    pub(crate) fn cache_users(&self) -> &Arc<CacheUsers> {
        &self.cache_users
    }

    pub(crate) fn users(&self) -> &Arc<Users> {
        &self.users
    }

    pub(crate) fn listing_path(&self, diff_id: &Digest) -> PathBuf {
        self.folder.join("listings").join(diff_id.hex())
    }
}

#[cfg(test)]
mod tests;
