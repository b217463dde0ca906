//! ADD: archives are unpacked.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use pondrix_files::Watch;
use pondrix_sandbox::IdMap;

use crate::layer::{UnpackError, is_zstd, unpack_files};

/// Where a tar header has the letters `ustar` (POSIX.1-2017, pax, "ustar Interchange Format").
const USTAR: std::ops::Range<usize> = 257..262;

/// How much memory, in KiB, unpacking may take; xz(1) at its strongest wants 65 MiB.
const MOST_MEMORY: u32 = 128 << 10;

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
        Box::new(lzma_rust2::XzReader::new_mem_limit(file, true, MOST_MEMORY))
    } else if is_zstd(first) {
        Box::new(zstd::Decoder::with_buffer(file)?)
    } else {
        Box::new(file)
    })
}

/// Whether a file is a tar archive, compressed or not.
pub(super) fn is_archive(path: &Path) -> bool {
    let mut header = [0; 512];
    let read = File::open(path).and_then(plain).and_then(|mut plain| plain.read_exact(&mut header));
    match read {
        Ok(()) => header[USTAR] == *b"ustar",
        // It cannot be looked into: unpacking it says why, and copying it as it is would say nothing.
        Err(error) => error.kind() == io::ErrorKind::OutOfMemory,
    }
}

/// Why an archive gave no files.
#[derive(Debug, thiserror::Error)]
#[error("the archive cannot be unpacked: {0}")]
pub(super) struct ArchiveError(#[from] UnpackError);

/// Unpacks an archive into a new folder.
pub(super) fn unpack(path: &Path, folder: &Path, ids: IdMap, watch: &Watch) -> Result<(), ArchiveError> {
    let archive = File::open(path).and_then(plain).map_err(UnpackError::from)?;
    let mut archive = watch.reader(archive);
    unpack_files(&mut archive, folder, ids)?;
    // Behind the last file stands what proves that all of it was right.
    io::copy(&mut archive, &mut io::sink()).map_err(UnpackError::from)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    fn written(folder: &Path, bytes: &[u8]) -> std::path::PathBuf {
        let path = folder.join("archive");
        fs::write(&path, bytes).unwrap();
        path
    }

    fn unpacked(path: &Path, into: &Path) -> Result<String, ArchiveError> {
        let _ = fs::remove_dir_all(into);
        unpack(path, into, IdMap::for_this_process(), &Watch::none())?;
        Ok(fs::read_to_string(into.join("beds/lily")).unwrap())
    }

    /// One archive, compressed in each way by the programs that people use.
    const SAMPLES: [&[u8]; 4] = [
        include_bytes!("samples/beds.tar.gz"),
        include_bytes!("samples/beds.tar.bz2"),
        include_bytes!("samples/beds.tar.xz"),
        include_bytes!("samples/beds.tar.zst"),
    ];

    #[test]
    fn an_archive_is_known_by_its_content_however_it_is_compressed() {
        let folder = tempfile::tempdir().unwrap();
        let into = folder.path().join("into");
        for sample in SAMPLES {
            let path = written(folder.path(), sample);
            assert!(is_archive(&path));
            assert_eq!(unpacked(&path, &into).unwrap(), "lily\n");
            // Cut short, it is still meant as one, and told to be damaged.
            let path = written(folder.path(), &sample[..sample.len() - 12]);
            if is_archive(&path) {
                assert!(
                    unpacked(&path, &into).unwrap_err().to_string().starts_with("the archive cannot be unpacked: ")
                );
            }
        }
        for other in [&b""[..], b"lily", &[0x1f, 0x8b], b"BZh9", &[0xfd, b'7', b'z', b'X', b'Z', 0], &[7; 600]] {
            assert!(!is_archive(&written(folder.path(), other)), "{other:?}");
        }
        let text = zstd::encode_all(&b"not an archive, and longer than the head of one is ".repeat(20)[..], 3).unwrap();
        assert!(!is_archive(&written(folder.path(), &text)), "a compressed file is a file");
    }

    #[test]
    fn an_archive_that_wants_more_memory_than_it_gets_is_refused_and_not_copied_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let path = written(folder.path(), include_bytes!("samples/large-memory.tar.xz"));
        assert!(is_archive(&path));
        let words = unpacked(&path, &folder.path().join("into")).unwrap_err().to_string();
        assert!(words.contains("memory too big"), "{words}");
    }
}
