//! Logs of jobs that have ended, compressed so that any part of one can be read without the rest.
//!
//! The form is the one that zstd's own distribution describes for this (contrib, "Zstandard Seekable Format" 0.1.0):
//! frames that each hold a part, and behind them a table of their lengths in a frame that other programs skip. So
//! `zstd -dc` reads it too.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::Path;

/// How long a part is before it is compressed, in bytes.
const PART: usize = 256 * 1024;
/// As zstd(1) does it when nothing is said.
const LEVEL: i32 = 3;
/// What begins the frame of the table, and what ends it (section "Seek Table Format").
const SKIPPED: u32 = 0x184D_2A5E;
const SEEKABLE: u32 = 0x8F92_EAB1;
/// How long the table's end is, and each of its rows, in bytes.
const FOOTER: u64 = 9;
const ROW: u64 = 8;
/// The longest log that is believed to be described by a table: 2^32 parts.
const MOST_PARTS: u64 = 1 << 32;

/// A part: where it is in the file, and in the log.
#[derive(Clone, Copy, Debug)]
struct Part {
    at: u64,
    length: u32,
    from: u64,
    to: u64,
}

/// A compressed log.
#[derive(Debug)]
pub(super) struct Packed {
    file: File,
    parts: Vec<Part>,
}

fn nonsense(words: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("a compressed log: {words}"))
}

fn number(bytes: &[u8]) -> u32 {
    bytes.try_into().map_or(0, u32::from_le_bytes)
}

/// Compresses a log.
pub(super) fn pack(mut log: impl Read, mut into: impl Write) -> io::Result<()> {
    let mut table = Vec::new();
    let mut part = Vec::with_capacity(PART);
    loop {
        part.clear();
        log.by_ref().take(PART as u64).read_to_end(&mut part)?;
        if part.is_empty() {
            break;
        }
        let packed = zstd::bulk::compress(&part, LEVEL)?;
        into.write_all(&packed)?;
        for length in [packed.len(), part.len()] {
            table.extend(u32::try_from(length).map_err(io::Error::other)?.to_le_bytes());
        }
    }
    let rows = u32::try_from(table.len() as u64 / ROW).map_err(io::Error::other)?;
    let length = u32::try_from(table.len() as u64 + FOOTER).map_err(io::Error::other)?;
    into.write_all(&SKIPPED.to_le_bytes())?;
    into.write_all(&length.to_le_bytes())?;
    into.write_all(&table)?;
    into.write_all(&rows.to_le_bytes())?;
    // No checksums in the table: each frame has its own length, and the disk its own sums.
    into.write_all(&[0])?;
    into.write_all(&SEEKABLE.to_le_bytes())
}

impl Packed {
    pub(super) fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let size = file.metadata()?.len();
        let footer_at = size.checked_sub(FOOTER).ok_or_else(|| nonsense("it is too short"))?;
        let mut footer = [0; FOOTER as usize];
        file.read_exact_at(&mut footer, footer_at)?;
        let rows = u64::from(number(&footer[..4]));
        if number(&footer[5..]) != SEEKABLE || footer[4] != 0 || rows > MOST_PARTS {
            return Err(nonsense("it has no table"));
        }
        let table_at = footer_at.checked_sub(rows * ROW).ok_or_else(|| nonsense("its table is too long"))?;
        let mut table = vec![0; usize::try_from(rows * ROW).map_err(io::Error::other)?];
        file.read_exact_at(&mut table, table_at)?;
        let (mut at, mut from) = (0, 0);
        let part = |row: &[u8]| {
            let (length, plain) = (number(&row[..4]), number(&row[4..]));
            let part = Part { at, length, from, to: from + u64::from(plain) };
            at += u64::from(length);
            from = part.to;
            part
        };
        let parts = table.chunks_exact(ROW as usize).map(part).collect();
        Ok(Self { file, parts })
    }

    /// How long the log is.
    pub(super) fn length(&self) -> u64 {
        self.parts.last().map_or(0, |part| part.to)
    }

    /// So many bytes of the log from an offset on, or what there is of them.
    pub(super) fn read(&self, offset: u64, count: usize) -> io::Result<Vec<u8>> {
        let end = offset.saturating_add(count as u64).min(self.length());
        let mut bytes = Vec::new();
        let first = self.parts.partition_point(|part| part.to <= offset);
        for part in self.parts[first..].iter().take_while(|part| part.from < end) {
            let mut packed = vec![0; part.length as usize];
            self.file.read_exact_at(&mut packed, part.at)?;
            let plain = zstd::bulk::decompress(&packed, PART)?;
            if plain.len() as u64 != part.to - part.from {
                return Err(nonsense("a part is not as long as the table says"));
            }
            let inside = |at: u64| usize::try_from(at.clamp(part.from, part.to) - part.from).unwrap_or(usize::MAX);
            bytes.extend_from_slice(&plain[inside(offset)..inside(end)]);
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn packed(log: &[u8]) -> (tempfile::NamedTempFile, Packed) {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        pack(log, &mut file).unwrap();
        let packed = Packed::open(file.path()).unwrap();
        (file, packed)
    }

    #[test]
    fn other_programs_read_a_compressed_log_too() {
        let log: Vec<u8> = (0..600_000).flat_map(|line| format!("line {line}\n").into_bytes()).collect();
        let (file, packed) = packed(&log);
        assert!(packed.parts.len() > 20);
        assert_eq!(zstd::decode_all(File::open(file.path()).unwrap()).unwrap(), log);
    }

    #[test]
    fn what_is_no_compressed_log_is_refused() {
        let (file, _) = packed(b"one\ntwo\n");
        let bytes = std::fs::read(file.path()).unwrap();
        for wrong in [&bytes[..bytes.len() - 1], &bytes[..5], &[0xff; 40]] {
            std::fs::write(file.path(), wrong).unwrap();
            assert!(Packed::open(file.path()).is_err());
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(30))]
        #[test]
        fn any_part_of_a_log_is_read_as_it_was(
            length in prop::sample::select(vec![0, 1, PART - 1, PART, PART + 1, 3 * PART + 7]),
            places in prop::collection::vec((0.0f64..1.1, 0usize..2 * PART), 1..6),
        ) {
            let log: Vec<u8> = (0..length).map(|at| (at * 31 % 251) as u8).collect();
            let (_file, packed) = packed(&log);
            prop_assert_eq!(packed.length(), length as u64);
            for (place, count) in places {
                let from = (length as f64 * place) as usize;
                let expected = log.get(from..).map_or(&[][..], |rest| &rest[..count.min(rest.len())]);
                prop_assert_eq!(packed.read(from as u64, count).unwrap(), expected);
            }
        }
    }
}
