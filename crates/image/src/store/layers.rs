//! Unpacked layers.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::sync::atomic::{AtomicUsize, Ordering};

use pondrix_core::image::Digest;

use super::{Image, StoreError, io_error};
use crate::Store;
use crate::garbage::Kind;
use crate::hash::Sha256;
use crate::layer::{self, left_out};
use crate::oci::Descriptor;

impl Store {
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
}
