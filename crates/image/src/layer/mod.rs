//! Layers: a tree of files as a tar archive, and back (OCI Image specification, "Image Layer
//! Filesystem Changeset").
//!
//! On disk a layer is a folder as overlayfs reads it with `userxattr`: a removed name is a character
//! device 0/0, a folder that hides what is below it has the attribute `user.overlay.opaque`.

pub(crate) mod attributes;
pub(crate) mod beneath;
pub(crate) mod bounds;
mod compress;
pub(crate) mod left_out;
pub(crate) mod pack;
mod records;
mod sparse;
pub(crate) mod tree;
pub(crate) mod unpack;

use std::io::{self, BufRead, BufReader, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use pondrix_core::image::Digest;

use crate::hash::Sha256;

pub use beneath::set_time;
pub use compress::Compression;
pub use pack::{Contents, Of, Packed, Times, pack};
pub use unpack::{UnpackError, unpack, unpack_files};

/// The permissions of a folder that nobody said anything of.
pub(crate) const FOLDER_MODE: u32 = 0o755;
/// The attribute of a folder that hides what is below it, and its value.
pub(crate) const OPAQUE: (&str, &[u8]) = ("user.overlay.opaque", b"y");
/// What a removed name begins with in an archive.
const WHITEOUT: &[u8] = b".wh.";
/// What the names of extended attributes begin with in an archive's records (pax; the form that tar programs
/// agree on).
const ATTRIBUTE: &str = "SCHILY.xattr.";
/// The name that makes its folder hide what is below it.
const WHITEOUT_OPAQUE: &[u8] = b".wh..wh..opq";

/// The plain bytes of a layer's blob: gzip (RFC 1952) or zstd (RFC 8878), known by their first bytes,
/// or plain already.
///
/// # Errors
/// When the blob cannot be read.
pub fn decompressed(blob: impl Read + 'static) -> io::Result<Box<dyn Read>> {
    decompressed_of(BufReader::with_capacity(BUFFER, blob))
}

/// How much of a file is read at once.
pub(crate) const BUFFER: usize = 128 * 1024;

/// The same of what has a buffer already.
fn decompressed_of(mut blob: impl BufRead + 'static) -> io::Result<Box<dyn Read>> {
    let first = blob.fill_buf()?;
    Ok(if first.starts_with(&[0x1f, 0x8b]) {
        Box::new(flate2::bufread::MultiGzDecoder::new(blob))
    } else if is_zstd(first) {
        Box::new(zstd::Decoder::with_buffer(blob)?)
    } else {
        Box::new(blob)
    })
}

/// Whether something that begins so is compressed with zstd: in front of what is, there may be frames to skip (RFC 8878,
/// section 3.1.2).
pub(crate) fn is_zstd(first: &[u8]) -> bool {
    let is_skipped = first.len() >= 4 && first[0] & 0xf0 == 0x50 && first[1..4] == [0x2a, 0x4d, 0x18];
    is_skipped || first.starts_with(&[0x28, 0xb5, 0x2f, 0xfd])
}

/// A few bytes may unpack to any number: no layer is longer than this.
const LONGEST_LAYER: u64 = 128 << 30;
/// How much is decompressed at once, and how often before it is used.
const PIECE: usize = 512 * 1024;
const AHEAD: usize = 4;

/// Decompresses and hashes a blob on threads of their own, some pieces ahead of `with`, which reads the plain bytes.
/// Answers the digest of those, too, whether `with` read them all or not.
///
/// # Errors
/// Those of `with`, and what damaged the blob behind what it read.
pub(crate) fn ahead<T, E: From<io::Error>>(
    blob: impl BufRead + Send + 'static,
    with: impl FnOnce(&mut Pieces) -> Result<T, E>,
) -> Result<(T, Digest), E> {
    let (plain_to, plain) = sync_channel::<Piece>(AHEAD);
    let (hashed_to, hashed) = sync_channel::<Piece>(AHEAD);
    std::thread::scope(|scope| {
        scope.spawn(move || decompress(blob, &plain_to));
        let hashing = scope.spawn(move || hash(&plain, &hashed_to));
        let mut pieces = Pieces { receiver: hashed, piece: io::Cursor::default() };
        let answer = with(&mut pieces)?;
        // What follows that belongs to the digest too.
        io::copy(&mut pieces, &mut io::sink())?;
        drop(pieces);
        let digest = hashing.join().map_err(|_| io::Error::other("the thread that hashes broke"))?;
        Ok((answer, digest))
    })
}

type Piece = io::Result<Vec<u8>>;

fn decompress(blob: impl BufRead + 'static, to: &SyncSender<Piece>) {
    let mut plain = match decompressed_of(blob) {
        Ok(plain) => plain,
        Err(error) => return drop(to.send(Err(error))),
    };
    let mut total = 0;
    loop {
        let mut piece = Vec::with_capacity(PIECE);
        let mut read = (&mut plain).take(PIECE as u64).read_to_end(&mut piece);
        total += piece.len() as u64;
        if total > LONGEST_LAYER {
            read = Err(io::Error::other(format!("it unpacks to more than {} GiB", LONGEST_LAYER >> 30)));
        }
        let is_last = !matches!(read, Ok(count) if count > 0);
        // Nobody listens any more where a later one has met a fault.
        if to.send(read.map(|_| piece)).is_err() || is_last {
            return;
        }
    }
}

fn hash(from: &Receiver<Piece>, to: &SyncSender<Piece>) -> Digest {
    let mut hash = Sha256::new();
    for piece in from {
        if let Ok(piece) = &piece {
            hash.update(piece);
        }
        if to.send(piece).is_err() {
            break;
        }
    }
    hash.digest()
}

/// Plain bytes, from another thread.
pub(crate) struct Pieces {
    receiver: Receiver<io::Result<Vec<u8>>>,
    piece: io::Cursor<Vec<u8>>,
}

impl Read for Pieces {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            match self.piece.read(buffer)? {
                0 if !buffer.is_empty() => match self.receiver.recv() {
                    Ok(piece) => self.piece = io::Cursor::new(piece?),
                    Err(_) => return Ok(0),
                },
                count => return Ok(count),
            }
        }
    }
}

#[cfg(test)]
pub(crate) mod tests;
