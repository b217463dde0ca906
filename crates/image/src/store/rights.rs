//! Who may have what is in a store: a digest names a content, and gives nobody a right to it.

use std::fs::{self, File};
use std::io::BufReader;
use std::path::PathBuf;

use pondrix_core::ProjectName;
use pondrix_core::image::Digest;

use super::{Store, StoreError, io_error, mark_used};
use crate::hash::Sha256;
use crate::layer;
use crate::oci::Descriptor;

/// A layer's blob as one that unpacks to what has this digest: a registry may give anything under a blob's name that does.
pub(crate) fn layer_name(blob: &Digest, diff_id: &Digest) -> Digest {
    let mut name = Sha256::new();
    name.update(&blob.bytes());
    name.update(&diff_id.bytes());
    name.digest()
}

impl Store {
    fn right_path(&self, project: &ProjectName, content: &Digest) -> PathBuf {
        let mut name = Sha256::new();
        name.update(project.as_str().as_bytes());
        name.update(b" ");
        name.update(&content.bytes());
        self.folder.join("rights").join(name.digest().hex())
    }

    fn pair_path(&self, blob: &Digest, diff_id: &Digest) -> PathBuf {
        self.folder.join("pairs").join(layer_name(blob, diff_id).hex())
    }

    /// Whether it is known that a project may have a document, by its digest, or a layer ([`layer_name`]). Whoever has the store alone, and no project, may have all of it.
    pub(crate) fn may_have(&self, project: Option<&ProjectName>, content: &Digest) -> bool {
        let Some(project) = project else { return true };
        let path = self.right_path(project, content);
        let is_known = path.exists();
        if is_known {
            mark_used(&path);
        }
        is_known
    }

    /// Notes that a project may have a document or a layer: it made it, or a registry gave it.
    ///
    /// # Errors
    /// When that cannot be written.
    pub fn let_have(&self, project: Option<&ProjectName>, content: &Digest) -> Result<(), StoreError> {
        let Some(project) = project else { return Ok(()) };
        fs::write(self.right_path(project, content), []).map_err(io_error("note who may have a blob"))
    }

    /// Notes that a layer's blob unpacks to what has this digest.
    pub(crate) fn note_pair(&self, blob: &Digest, diff_id: &Digest) -> Result<(), StoreError> {
        fs::write(self.pair_path(blob, diff_id), []).map_err(io_error("note what a layer unpacks to"))
    }

    /// Whether it is known that a layer's blob unpacks to what has this digest. Asking is using it.
    pub(crate) fn is_pair(&self, blob: &Digest, diff_id: &Digest) -> bool {
        let path = self.pair_path(blob, diff_id);
        let is_noted = path.exists();
        if is_noted {
            mark_used(&path);
        }
        // It may have been unpacked as it came, to this.
        is_noted || fs::read_to_string(self.unproved_path(blob)).is_ok_and(|proved_by| proved_by == diff_id.to_string())
    }

    /// Makes sure that a layer's blob unpacks to what has this digest. An image may call anything so, among it a layer of
    /// somebody else's that is unpacked here.
    ///
    /// # Errors
    /// When it does not, or cannot be read.
    pub(crate) fn prove_pair(&self, blob: &Descriptor, diff_id: &Digest) -> Result<(), StoreError> {
        if self.is_pair(&blob.digest, diff_id) {
            return Ok(());
        }
        let file = File::open(self.blob_path(&blob.digest)).map_err(io_error(format!("open {}", blob.digest)))?;
        let plain = layer::ahead(BufReader::with_capacity(layer::BUFFER, file), |_| Ok::<_, std::io::Error>(()));
        let ((), found) =
            plain.map_err(|error| StoreError::Layer { digest: blob.digest.clone(), words: error.to_string() })?;
        if found != *diff_id {
            return Err(StoreError::WrongDigest { wanted: diff_id.clone(), found });
        }
        self.note_pair(&blob.digest, diff_id)
    }
}
