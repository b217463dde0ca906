//! Files with holes, as GNU tar writes them into archives of the standard's form: their data alone, and in records where
//! it belongs (GNU tar manual, "Storing Sparse Files", formats 0.0, 0.1 and 1.0). The older form, which the library that
//! reads archives knows, is not among these.

use std::ffi::OsString;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

/// The length of what the map in front of the data is filled up to.
const BLOCK: usize = 512;
/// The longest digits of a number in that map, and how many numbers it may have: of the most pieces that a file of the
/// longest layer can be in.
const LONGEST_NUMBER: usize = 20;
const MOST_PIECES: u64 = 1 << 24;

/// A file with holes.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Sparse {
    /// Its name, where the entry's own is another.
    pub(super) name: Option<PathBuf>,
    /// How long it is.
    length: u64,
    /// Where its data belongs: offsets and lengths; where it stands in front of the data, nothing.
    map: Option<Vec<(u64, u64)>>,
}

fn nonsense(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("the map of a file with holes {what}"))
}

fn number(text: &[u8]) -> io::Result<u64> {
    std::str::from_utf8(text).ok().and_then(|text| text.parse().ok()).ok_or_else(|| nonsense("has no number"))
}

impl Sparse {
    /// What an entry's records say of holes; nothing when it is a file like others.
    pub(super) fn read(records: &[(Vec<u8>, Vec<u8>)]) -> io::Result<Option<Self>> {
        let mut sparse = Self::default();
        let (mut is_sparse, mut flat) = (false, None::<Vec<u64>>);
        for (name, value) in records {
            let Some(word) = name.strip_prefix(b"GNU.sparse.") else { continue };
            is_sparse = true;
            match word {
                b"name" => sparse.name = Some(PathBuf::from(OsString::from_vec(value.clone()))),
                b"size" | b"realsize" => sparse.length = number(value)?,
                b"offset" | b"numbytes" => flat.get_or_insert_default().push(number(value)?),
                b"map" => flat = Some(value.split(|byte| *byte == b',').map(number).collect::<io::Result<_>>()?),
                _ => {}
            }
        }
        sparse.map = flat.map(|flat| pairs(&flat)).transpose()?;
        Ok(is_sparse.then_some(sparse))
    }

    /// How long the file is, with its holes.
    pub(super) const fn length(&self) -> u64 {
        self.length
    }

    /// Writes the file.
    pub(super) fn write(self, from: &mut impl Read, to: &mut File) -> io::Result<()> {
        let map = match self.map {
            Some(map) => map,
            None => map_in_front(from)?,
        };
        let mut end = 0;
        for (offset, length) in map {
            let last = offset.checked_add(length).filter(|last| offset >= end && *last <= self.length);
            end = last.ok_or_else(|| nonsense("leads out of it"))?;
            to.seek(SeekFrom::Start(offset))?;
            if io::copy(&mut from.by_ref().take(length), to)? < length {
                return Err(nonsense("has more than there is data for"));
            }
        }
        to.flush()?;
        to.set_len(self.length)
    }
}

fn pairs(flat: &[u64]) -> io::Result<Vec<(u64, u64)>> {
    let (pairs, rest) = flat.as_chunks::<2>();
    if rest.is_empty() {
        Ok(pairs.iter().map(|[offset, length]| (*offset, *length)).collect())
    } else {
        Err(nonsense("is cut"))
    }
}

/// The map that stands in front of the data: how many pieces there are, and of each its offset and length, each number
/// ended by an end of line; filled up to whole blocks.
fn map_in_front(from: &mut impl Read) -> io::Result<Vec<(u64, u64)>> {
    let (mut block, mut at, mut digits) = ([0; BLOCK], BLOCK, Vec::new());
    let mut next = || loop {
        if at == BLOCK {
            from.read_exact(&mut block)?;
            at = 0;
        }
        at += 1;
        match block[at - 1] {
            b'\n' => return number(&std::mem::take(&mut digits)),
            digit if digits.len() < LONGEST_NUMBER => digits.push(digit),
            _ => return Err(nonsense("has no number")),
        }
    };
    let count = next()?;
    if count > MOST_PIECES {
        return Err(nonsense("has too many pieces"));
    }
    (0..count).map(|_| Ok((next()?, next()?))).collect()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::MetadataExt;

    use pondrix_sandbox::IdMap;

    use crate::layer::unpack_files;

    /// One file, `beds/lily`, as GNU tar writes it in each of its forms: a hole of a MiB, `lily`, a hole, and `end`.
    const SAMPLES: [&[u8]; 4] = [
        include_bytes!("samples/holes-0.0.tar"),
        include_bytes!("samples/holes-0.1.tar"),
        include_bytes!("samples/holes-1.0.tar"),
        include_bytes!("samples/holes-gnu.tar"),
    ];

    #[test]
    fn a_file_with_holes_is_what_it_was_however_it_was_written_down_and_takes_no_more_room() {
        for sample in SAMPLES {
            let folder = tempfile::tempdir().unwrap();
            unpack_files(sample, folder.path(), IdMap::for_this_process()).unwrap();
            let lily = folder.path().join("beds/lily");
            let mut expected = vec![0; (3 << 20) + 3];
            expected[1 << 20..(1 << 20) + 4].copy_from_slice(b"lily");
            expected[3 << 20..].copy_from_slice(b"end");
            assert!(std::fs::read(&lily).unwrap() == expected);
            assert!(std::fs::metadata(&lily).unwrap().blocks() * 512 < 1 << 20);
            assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        }
    }

    #[test]
    fn a_damaged_map_is_a_fault_and_never_a_panic() {
        for sample in SAMPLES {
            for at in (0..sample.len().min(3072)).step_by(13) {
                let mut damaged = sample.to_vec();
                damaged[at] = b'9';
                let folder = tempfile::tempdir().unwrap();
                // Some are still a file, with another name or other holes.
                drop(unpack_files(&damaged[..], &folder.path().join("into"), IdMap::for_this_process()));
            }
        }
        let damaged = String::from_utf8_lossy(SAMPLES[1]).replace("1048576,4096", "9048576,4096");
        let folder = tempfile::tempdir().unwrap();
        let error = unpack_files(damaged.as_bytes(), folder.path(), IdMap::for_this_process()).unwrap_err().to_string();
        assert_eq!(error, "beds/lily: the map of a file with holes leads out of it");
    }
}
