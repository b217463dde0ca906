//! Keys: a digest of all that decides what an instruction makes.

use std::path::Path;

use pondrix_core::image::Digest;

use crate::hash::digest_of;

/// Changes when the same words and files would make other layers than an earlier version made of them.
const VERSION: &str = "pondrix layer 7";

/// How many bytes are hashed at once: parts are short.
const PIECE: usize = 16 * 1024;

/// A key in the making. Every part is written with its length, so that no two lists of parts look alike.
///
/// A key of many files is long: it is hashed with BLAKE3, several times as fast as SHA-256, and only what comes of that
/// with SHA-256, as all names of blobs are.
#[derive(Clone)]
pub(super) struct Key {
    hash: blake3::Hasher,
    /// What is not hashed yet.
    waiting: Vec<u8>,
}

impl Key {
    /// The key of a kind of instruction over these layers.
    pub(super) fn new(kind: &str, below: &[Digest]) -> Self {
        let mut key = Self { hash: blake3::Hasher::new(), waiting: Vec::with_capacity(PIECE) };
        key.text(VERSION).text(kind).number(below.len() as u64);
        for layer in below {
            key.bytes(&layer.bytes());
        }
        key
    }

    pub(super) fn bytes(&mut self, bytes: &[u8]) -> &mut Self {
        self.waiting.extend((bytes.len() as u64).to_le_bytes());
        self.waiting.extend(bytes);
        if self.waiting.len() >= PIECE {
            self.hash.update(&self.waiting);
            self.waiting.clear();
        }
        self
    }

    pub(super) fn text(&mut self, text: &str) -> &mut Self {
        self.bytes(text.as_bytes())
    }

    pub(super) fn path(&mut self, path: &Path) -> &mut Self {
        self.bytes(std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()))
    }

    pub(super) fn number(&mut self, number: u64) -> &mut Self {
        self.bytes(&number.to_le_bytes())
    }

    pub(super) fn maybe(&mut self, text: Option<&str>) -> &mut Self {
        match text {
            Some(text) => self.number(1).text(text),
            None => self.number(0),
        }
    }

    pub(super) fn texts<'a>(&mut self, texts: impl IntoIterator<Item = &'a String>) -> &mut Self {
        let texts: Vec<_> = texts.into_iter().collect();
        self.number(texts.len() as u64);
        for text in texts {
            self.text(text);
        }
        self
    }

    pub(super) fn digest(mut self) -> Digest {
        self.hash.update(&self.waiting);
        digest_of(self.hash.finalize().as_bytes())
    }
}
