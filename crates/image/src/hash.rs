//! SHA-256 on the way. The time of large images goes into it, and ring has it in each processor's own instructions.

use std::io::{self, Read, Write};

use pondrix_core::image::Digest;
use ring::digest::{Context, SHA256};

/// SHA-256 in the making.
#[derive(Clone)]
pub(crate) struct Sha256(Context);

impl Sha256 {
    pub(crate) fn new() -> Self {
        Self(Context::new(&SHA256))
    }

    pub(crate) fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    pub(crate) fn digest(self) -> Digest {
        let bytes = self.0.finish();
        Digest::from_bytes(bytes.as_ref().try_into().expect("SHA-256 has 32 bytes"))
    }
}

/// The digest of some bytes.
#[must_use]
pub fn digest_of(bytes: &[u8]) -> Digest {
    let mut hash = Sha256::new();
    hash.update(bytes);
    hash.digest()
}

/// The digest of what can be read.
pub(crate) fn digest_of_file(mut from: impl Read) -> io::Result<Digest> {
    let mut hash = Hashing::new(io::sink());
    io::copy(&mut from, &mut hash)?;
    Ok(hash.finish().0)
}

/// Counts and hashes what is written through it.
pub(crate) struct Hashing<W> {
    inner: W,
    hash: Sha256,
    count: u64,
}

impl<W> Hashing<W> {
    pub(crate) fn new(inner: W) -> Self {
        Self { inner, hash: Sha256::new(), count: 0 }
    }

    /// The digest and the number of bytes so far, and what was written to.
    pub(crate) fn finish(self) -> (Digest, u64, W) {
        (self.hash.digest(), self.count, self.inner)
    }
}

impl<W: Write> Write for Hashing<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.inner.write(bytes)?;
        self.hash.update(&bytes[..written]);
        self.count += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}
