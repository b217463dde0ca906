//! The content-addressed store of a machine: blobs as they travel, layers as they are mounted.
//!
//! ```text
//! blobs/HEX        a blob, named by its digest
//! layers/HEX/      a layer unpacked, named by the digest of its uncompressed bytes
//! listings/HEX     the files of an unpacked layer
//! used/KIND-HEX    when content was used last (the file's time), and how many bytes it takes
//! steps/HEX        the layer that an instruction makes, named by the digest of all that decides it
//! unfinished/      what is being written; nothing in it is believed
//! ```

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use pondrix_core::image::Digest;
use pondrix_sandbox::IdMap;
use serde::{Deserialize, Serialize};

use crate::hash::digest_of;
use crate::layer;
use crate::oci::{Config, Descriptor, Manifest};
use crate::room::{Kind, Users};

/// A store in a folder.
#[derive(Clone, Debug)]
pub struct Store {
    folder: PathBuf,
    ids: IdMap,
    users: Arc<Users>,
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
        for part in ["blobs", "layers", "listings", "steps", "unfinished", "used"] {
            fs::create_dir_all(folder.join(part)).map_err(io_error(format!("make {part}")))?;
        }
        let store = Self { folder: folder.to_owned(), ids, users: Arc::default() };
        store.doubt_what_is_new().map_err(io_error("look what is in it"))?;
        Ok(store)
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
        let there = self.blob_path(digest).is_file();
        if there {
            self.note_use(Kind::Blob, digest, None);
        }
        there
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
    pub(crate) fn unfinished_folder(&self) -> Result<tempfile::TempDir, StoreError> {
        let folder = tempfile::tempdir_in(self.folder.join("unfinished")).map_err(io_error("make a folder"))?;
        Ok(folder)
    }

    /// Gives a blob its name. It is there whole or not at all.
    pub(crate) fn finish_blob(&self, file: tempfile::NamedTempFile, digest: &Digest) -> Result<(), StoreError> {
        let doing = || format!("keep {digest}");
        // Not synced: see `room`.
        let size = file.as_file().metadata().map_err(io_error(doing()))?.len();
        file.persist(self.blob_path(digest)).map_err(|error| io_error(doing())(error.error))?;
        self.note_use(Kind::Blob, digest, Some(size));
        Ok(())
    }

    /// Where a layer is unpacked, whether or not it is.
    #[must_use]
    pub fn layer_path(&self, diff_id: &Digest) -> PathBuf {
        self.folder.join("layers").join(diff_id.hex())
    }

    /// Gives an unpacked layer its name.
    pub(crate) fn finish_layer(&self, folder: &Path, diff_id: &Digest) -> Result<(), StoreError> {
        let to = self.layer_path(diff_id);
        match fs::rename(folder, &to) {
            // Somebody else unpacked the same layer meanwhile; theirs is as good.
            Err(_) if to.is_dir() => fs::remove_dir_all(folder).map_err(io_error("remove a layer unpacked twice")),
            other => other.map_err(io_error(format!("keep layer {diff_id}"))),
        }
    }

    /// Unpacks a layer's blob, unless it is unpacked already.
    ///
    /// # Errors
    /// When the blob is not a layer, or not the one that `diff_id` names.
    pub fn unpack_layer(&self, blob: &Descriptor, diff_id: &Digest) -> Result<(), StoreError> {
        self.note_use(Kind::Layer, diff_id, None);
        if self.layer_path(diff_id).is_dir() {
            return Ok(());
        }
        let folder = self.unfinished_folder()?;
        let root = folder.path().join("layer");
        let told = |words: String| StoreError::Layer { digest: blob.digest.clone(), words };
        let file = File::open(self.blob_path(&blob.digest)).map_err(io_error(format!("open {}", blob.digest)))?;
        // Decompressing and hashing are most of the work, and need nothing of what is written.
        let unpacked = layer::ahead(file, |plain| layer::unpack(plain, &root, self.ids));
        let ((), found) = unpacked.map_err(|error| told(error.to_string()))?;
        if found != *diff_id {
            return Err(StoreError::WrongDigest { wanted: diff_id.clone(), found });
        }
        self.finish_layer(&root, diff_id)
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

    /// The unpacked layers of an image, the lowest first, unpacking what is not.
    ///
    /// # Errors
    /// When a layer cannot be unpacked.
    pub fn layers(&self, image: &Image) -> Result<Vec<PathBuf>, StoreError> {
        self.unpacked(&image.manifest.layers, &image.config.rootfs.diff_ids)
    }

    /// The same of layers and the digests of their uncompressed bytes.
    pub(crate) fn unpacked(&self, layers: &[Descriptor], diff_ids: &[Digest]) -> Result<Vec<PathBuf>, StoreError> {
        let pairs: Vec<_> = layers.iter().zip(diff_ids).collect();
        let next = AtomicUsize::new(0);
        let work = || {
            while let Some((blob, diff_id)) = pairs.get(next.fetch_add(1, Ordering::Relaxed)) {
                self.unpack_layer(blob, diff_id)?;
            }
            Ok::<_, StoreError>(())
        };
        // What is unpacked already needs no second thread.
        let missing = diff_ids.iter().filter(|diff_id| !self.layer_path(diff_id).is_dir()).count();
        let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(missing);
        std::thread::scope(|scope| {
            let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
            let own = work();
            let joined = others.into_iter().map(|other| other.join().unwrap_or(Ok(())));
            joined.fold(own, Result::and)
        })?;
        Ok(diff_ids.iter().take(layers.len()).map(|diff_id| self.layer_path(diff_id)).collect())
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(crate) fn users(&self) -> &Arc<Users> {
        &self.users
    }

    pub(crate) fn listing_path(&self, diff_id: &Digest) -> PathBuf {
        self.folder.join("listings").join(diff_id.hex())
    }

    fn step_path(&self, key: &Digest) -> PathBuf {
        self.folder.join("steps").join(key.hex())
    }

    /// What the instruction with this key made, if that is known and its bytes are here.
    pub(crate) fn remembered(&self, key: &Digest) -> Option<Remembered> {
        let text = fs::read(self.step_path(key)).ok()?;
        let known: Remembered = serde_json::from_slice(&text).ok()?;
        known.layer.as_ref().is_none_or(|(blob, _)| self.has_blob(&blob.digest)).then_some(known)
    }

    /// Remembers what the instruction with this key made.
    pub(crate) fn remember(&self, key: &Digest, made: &Remembered) -> Result<(), StoreError> {
        let told = || io_error("remember a layer");
        let text = serde_json::to_vec(made).map_err(std::io::Error::other).map_err(told())?;
        let file = self.unfinished_file()?;
        fs::write(file.path(), text).map_err(told())?;
        file.persist(self.step_path(key)).map_err(|error| told()(error.error))?;
        Ok(())
    }
}

/// What an instruction made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remembered {
    /// The layer and the digest of its uncompressed bytes; nothing when no file changed.
    pub layer: Option<(Descriptor, Digest)>,
}

/// What the instruction with a key made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepRecord {
    /// A digest of all that decides what it makes.
    pub key: Digest,
    /// What it made.
    pub made: Remembered,
}
