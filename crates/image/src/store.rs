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

mod remembered;
mod rights;

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use pondrix_core::image::Digest;
use pondrix_files::{TemporaryFolder, Watch};
use pondrix_sandbox::IdMap;

use crate::build::CacheUsers;
use crate::garbage::{Kind, Users};
use crate::hash::{Sha256, digest_of, digest_of_file};
use crate::inventory::{Inspector, NoInspector};
use crate::layer::{self, left_out};
use crate::oci::{Config, Descriptor, Manifest};
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
    /// Whether the work goes on for which it is used.
    watch: Watch,
    /// Who looks into its files.
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

    /// The same store for work that may be given up: then what is packed, unpacked, read or listed ends with
    /// [`pondrix_files::GivenUp`].
    #[must_use]
    pub fn watched(&self, watch: Watch) -> Self {
        Self { watch, ..self.clone() }
    }

    /// The same store, with somebody who looks into the files of its layers for packages. Without, none are told of.
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

    /// Where a layer is unpacked, whether or not it is.
    #[must_use]
    pub fn layer_path(&self, diff_id: &Digest) -> PathBuf {
        self.folder.join("layers").join(diff_id.hex())
    }

    /// The folder of the unpacked layer that something is in.
    pub(crate) fn layer_around(&self, path: &Path) -> Option<PathBuf> {
        let layers = self.folder.join("layers");
        let name = path.strip_prefix(&layers).ok()?.components().next()?;
        Some(layers.join(name))
    }

    /// Gives an unpacked layer its name. It leaves out these folders.
    pub(crate) fn finish_layer(&self, folder: &Path, diff_id: &Digest, left_out: &[PathBuf]) -> Result<(), StoreError> {
        let list = self.left_out_path(diff_id);
        let mut names = Vec::new();
        for path in left_out {
            names.extend(path.as_os_str().as_bytes());
            names.push(0);
        }
        // Before the layer: one without a list would leave out nothing.
        if !names.is_empty() {
            let told = || io_error(format!("keep layer {diff_id}"));
            let file = self.unfinished_file()?;
            fs::write(file.path(), names).map_err(told())?;
            file.persist(list).map_err(|error| told()(error.error))?;
        }
        self.name_layer(folder, diff_id)
    }

    fn name_layer(&self, folder: &Path, diff_id: &Digest) -> Result<(), StoreError> {
        // Before it has its name: a folder of an image has the image's time, and would look long unused.
        self.note_use(Kind::Layer, diff_id, None);
        let to = self.layer_path(diff_id);
        match fs::rename(folder, &to) {
            // Somebody else unpacked the same layer meanwhile; theirs is as good.
            Err(_) if to.is_dir() => pondrix_files::remove(folder).map_err(io_error("remove a layer unpacked twice")),
            other => other.map_err(io_error(format!("keep layer {diff_id}"))),
        }
    }

    fn left_out_path(&self, diff_id: &Digest) -> PathBuf {
        self.folder.join("left-out").join(diff_id.hex())
    }

    /// The folders that an unpacked layer leaves out, sorted.
    fn left_out(&self, diff_id: &Digest) -> Result<Vec<PathBuf>, StoreError> {
        match fs::read(self.left_out_path(diff_id)) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(io_error(format!("read what {diff_id} leaves out"))(error)),
            Ok(names) => {
                let mut names: Vec<PathBuf> =
                    names.split(|byte| *byte == 0).map(|name| PathBuf::from(OsStr::from_bytes(name))).collect();
                // Behind the last end is nothing.
                names.pop();
                Ok(names)
            }
        }
    }

    /// What is to be laid over these layers, for the folders that the highest of them leaves out; nothing when they look
    /// as they should.
    fn restored(&self, diff_ids: &[Digest], layers: &[PathBuf]) -> Result<Option<PathBuf>, StoreError> {
        let Some(diff_id) = diff_ids.last().filter(|_| layers.len() > 1) else { return Ok(None) };
        let mut key = Sha256::new();
        key.update(b"what a layer leaves out");
        diff_ids.iter().for_each(|diff_id| key.update(&diff_id.bytes()));
        let key = key.digest();
        let plain = || self.plain.lock().unwrap_or_else(PoisonError::into_inner);
        if plain().contains(&key) {
            return Ok(None);
        }
        if !self.claim(Kind::Layer, &key, || self.layer_path(&key).is_dir()) {
            let left_out = self.left_out(diff_id)?;
            let folder = self.unfinished_folder()?;
            let into = folder.path().join("layer");
            let told = || io_error(format!("lay {diff_id} over others"));
            fs::create_dir(&into).map_err(told())?;
            if !left_out::restore(layers, &left_out, &into, self.ids).map_err(told())? {
                plain().insert(key);
                return Ok(None);
            }
            self.name_layer(&into, &key)?;
        }
        Ok(Some(self.layer_path(&key)))
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

    /// Whether a layer is unpacked. Asking is using it.
    pub(crate) fn has_layer(&self, diff_id: &Digest) -> bool {
        self.claim(Kind::Layer, diff_id, || self.layer_path(diff_id).is_dir())
    }

    /// Unpacks a layer's blob, unless it is unpacked already.
    ///
    /// # Errors
    /// When the blob is not a layer, or not the one that `diff_id` names.
    pub fn unpack_layer(&self, blob: &Descriptor, diff_id: &Digest) -> Result<(), StoreError> {
        if self.has_layer(diff_id) {
            return self.prove_pair(blob, diff_id);
        }
        // Who wants the same one waits for it.
        let _mine = self.unpacking.begin(diff_id);
        if self.has_layer(diff_id) {
            return self.prove_pair(blob, diff_id);
        }
        if self.is_doubtful(&blob.digest, diff_id) {
            self.prove_blob(&blob.digest)?;
        }
        let file = File::open(self.blob_path(&blob.digest)).map_err(io_error(format!("open {}", blob.digest)))?;
        self.unpack(BufReader::with_capacity(layer::BUFFER, file), &blob.digest, diff_id)?;
        self.note_pair(&blob.digest, diff_id)
    }

    /// Unpacks a layer, compressed or not, unless it is unpacked already; answers whether it was read, and is what
    /// `diff_id` names. What is read need not be proved yet: it is kept only if it is.
    pub(crate) fn unpack_from(
        &self,
        blob: impl BufRead + Send + 'static,
        diff_id: &Digest,
    ) -> Result<bool, StoreError> {
        let _mine = self.unpacking.begin(diff_id);
        if self.has_layer(diff_id) {
            return Ok(false);
        }
        self.unpack(blob, diff_id, diff_id).map(|()| true)
    }

    fn unpack(&self, blob: impl BufRead + Send + 'static, name: &Digest, diff_id: &Digest) -> Result<(), StoreError> {
        let folder = self.unfinished_folder()?;
        let root = folder.path().join("layer");
        let told = |words: String| StoreError::Layer { digest: name.clone(), words };
        // Decompressing and hashing are most of the work, and need nothing of what is written.
        let unpacked = layer::ahead(blob, |plain| layer::unpack(self.watch.reader(plain), &root, self.ids));
        let (left_out, found) = unpacked.map_err(|error| told(error.to_string()))?;
        if found != *diff_id {
            return Err(StoreError::WrongDigest { wanted: diff_id.clone(), found });
        }
        self.finish_layer(&root, diff_id, &left_out)
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

    /// The unpacked layers of an image, the lowest first, unpacking what is not, and between them what makes folders that
    /// a layer leaves out look as the layers below it say.
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
        let mut paths = Vec::new();
        for (number, (_, diff_id)) in pairs.iter().enumerate() {
            paths.push(self.layer_path(diff_id));
            let restored = self.restored(&diff_ids[..=number], &paths)?;
            paths.extend(restored);
        }
        // An image may have a layer twice. The kernel takes no folder twice, and needs the lower one for nothing: what it
        // adds and what it hides, the higher one adds and hides again.
        let mut seen = HashSet::new();
        paths.reverse();
        paths.retain(|path| seen.insert(path.clone()));
        paths.reverse();
        Ok(paths)
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
