//! ADD: archives are unpacked.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use pondrix_sandbox::IdMap;

use crate::layer::unpack_files;

/// Where a tar header has the letters `ustar` (POSIX.1-2017, pax, "ustar Interchange Format").
const USTAR: std::ops::Range<usize> = 257..262;

/// The plain bytes of a file: of gzip (RFC 1952), bzip2, xz or zstd (RFC 8878), known by their first bytes; of
/// any other, its own.
fn plain(file: File) -> io::Result<Box<dyn Read>> {
    let mut file = BufReader::with_capacity(128 * 1024, file);
    let first = file.fill_buf()?;
    Ok(if first.starts_with(&[0x1f, 0x8b]) {
        Box::new(flate2::bufread::MultiGzDecoder::new(file))
    } else if first.starts_with(b"BZh") {
        Box::new(bzip2::bufread::MultiBzDecoder::new(file))
    } else if first.starts_with(&[0xfd, b'7', b'z', b'X', b'Z', 0]) {
        Box::new(lzma_rust2::XzReader::new(file, true))
    } else if first.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        Box::new(zstd::Decoder::with_buffer(file)?)
    } else {
        Box::new(file)
    })
}

/// Whether a file is a tar archive, compressed or not.
pub(super) fn is_archive(path: &Path) -> bool {
    let mut header = [0; 512];
    let read = File::open(path).and_then(plain).and_then(|mut plain| plain.read_exact(&mut header));
    read.is_ok() && header[USTAR] == *b"ustar"
}

/// Unpacks an archive into a new folder.
pub(super) fn unpack(path: &Path, folder: &Path, ids: IdMap) -> Result<(), String> {
    let told = |error: &dyn std::fmt::Display| format!("the archive cannot be unpacked: {error}");
    let archive = File::open(path).and_then(plain).map_err(|error| told(&error))?;
    unpack_files(archive, folder, ids).map_err(|error| told(&error))
}
