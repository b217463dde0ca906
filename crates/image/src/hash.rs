//! SHA-256 on the way.

use std::io::{self, Write};

use pondrix_core::image::Digest;
use sha2::{Digest as _, Sha256};

/// The digest of some bytes.
#[must_use]
pub fn digest_of(bytes: &[u8]) -> Digest {
    Digest::from_bytes(&Sha256::digest(bytes).into())
}

/// The digest of what can be read.
pub(crate) fn digest_of_file(mut from: impl io::Read) -> io::Result<Digest> {
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
        (Digest::from_bytes(&self.hash.finalize().into()), self.count, self.inner)
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
