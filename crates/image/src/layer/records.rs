//! The records that go before an entry of an archive (POSIX.1-2017, pax, "pax Extended Header").
//!
//! A record says its own length, so that its value may have any bytes in it; the library that reads archives
//! splits records at line ends, and loses such values. They are therefore read off the stream on its way.

use std::cell::RefCell;
use std::io::{self, Read};
use std::rc::Rc;

/// How long a block of an archive is.
const BLOCK: usize = 512;
/// The longest records that are taken.
const LONGEST: u64 = 1 << 20;

/// The records of the entry whose header was read last.
#[derive(Clone, Debug, Default)]
pub(super) struct Records(Rc<RefCell<Vec<u8>>>);

impl Records {
    /// Each record's name and value.
    pub(super) fn all(&self) -> Vec<(Vec<u8>, Vec<u8>)> {
        parse(&self.0.borrow())
    }
}

/// Reads an archive, and keeps the records in it.
pub(super) struct Tap<R> {
    inner: R,
    records: Records,
    /// What is read of the block or of the records that come now.
    held: Vec<u8>,
    state: State,
    /// Records that wait for their entry.
    waiting: Vec<u8>,
}

enum State {
    /// A header comes.
    Header,
    /// A header that goes on: the map of a file with holes (GNU tar).
    More(u64),
    /// Records come, so many bytes of them, and then so many of padding.
    Records(u64, u64),
    /// So many bytes that mean nothing here.
    Data(u64),
}

impl<R: Read> Tap<R> {
    pub(super) fn new(inner: R) -> (Self, Records) {
        let records = Records::default();
        let tap = Self { inner, records: records.clone(), held: Vec::new(), state: State::Header, waiting: Vec::new() };
        (tap, records)
    }

    fn take(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            let wanted = match self.state {
                State::Header | State::More(_) => (BLOCK - self.held.len()) as u64,
                State::Records(length, _) => length - self.held.len() as u64,
                State::Data(left) => left,
            };
            let count = usize::try_from(wanted).unwrap_or(usize::MAX).min(bytes.len());
            let (piece, rest) = bytes.split_at(count);
            bytes = rest;
            if let State::Data(left) = &mut self.state {
                *left -= count as u64;
                if *left == 0 {
                    self.state = State::Header;
                }
                continue;
            }
            self.held.extend_from_slice(piece);
            if count as u64 == wanted {
                let held = std::mem::take(&mut self.held);
                self.state = self.after(&held)?;
            }
        }
        Ok(())
    }

    /// What comes after this.
    fn after(&mut self, held: &[u8]) -> io::Result<State> {
        Ok(match self.state {
            State::Records(_, padding) => {
                self.waiting = held.to_vec();
                data(padding)
            }
            State::More(size) if held[504] != 0 => State::More(size),
            State::More(size) => data(size),
            State::Header | State::Data(_) => return self.after_header(held),
        })
    }

    fn after_header(&mut self, header: &[u8]) -> io::Result<State> {
        // Two blocks of zeros end an archive; what follows them is nothing.
        if header.iter().all(|byte| *byte == 0) {
            return Ok(State::Header);
        }
        let size = number(&header[124..136]);
        let padded = size.div_ceil(BLOCK as u64) * BLOCK as u64;
        Ok(match header[156] {
            // Whoever reads the archive has all of such a one in memory.
            b'L' | b'K' | b'g' | b'x' if size > LONGEST => {
                return Err(io::Error::other("what stands before a file in the archive is longer than 1 MiB"));
            }
            b'x' => match size {
                0 => State::Header,
                size => State::Records(size, padded - size),
            },
            // These are in front of an entry too, and not the entry itself.
            b'L' | b'K' | b'g' => data(padded),
            kind => {
                let records = std::mem::take(&mut self.waiting);
                let said = parse(&records).into_iter().find(|(name, _)| name == b"size");
                let said = said.and_then(|(_, value)| std::str::from_utf8(&value).ok()?.parse::<u64>().ok());
                *self.records.0.borrow_mut() = records;
                let padded = said.map_or(padded, |size| size.div_ceil(BLOCK as u64) * BLOCK as u64);
                // Links and folders say a size at times, and have no data.
                let has_data = !matches!(kind, b'1' | b'2' | b'3' | b'4' | b'5' | b'6');
                match has_data {
                    true if kind == b'S' && header[482] != 0 => State::More(padded),
                    true => data(padded),
                    false => State::Header,
                }
            }
        })
    }
}

const fn data(count: u64) -> State {
    if count == 0 { State::Header } else { State::Data(count) }
}

impl<R: Read> Read for Tap<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.take(&buffer[..count])?;
        Ok(count)
    }
}

/// A number of a header: octal digits, or, with the highest bit set, big-endian (GNU tar).
fn number(field: &[u8]) -> u64 {
    if field[0] & 0x80 != 0 {
        return field[4..].iter().fold(0, |number, byte| number << 8 | u64::from(*byte));
    }
    let digits = field.iter().skip_while(|byte| **byte == b' ').take_while(|byte| (b'0'..=b'7').contains(byte));
    digits.fold(0, |number, digit| number << 3 | u64::from(digit - b'0'))
}

/// `LENGTH NAME=VALUE` and a line's end, the length that of all of it.
fn parse(mut bytes: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
    let mut all = Vec::new();
    loop {
        let Some(space) = bytes.iter().position(|byte| *byte == b' ') else { return all };
        let length = std::str::from_utf8(&bytes[..space]).ok().and_then(|digits| digits.parse::<usize>().ok());
        let Some(record) = length.filter(|length| *length > space + 1).and_then(|length| bytes.get(..length)) else {
            return all;
        };
        bytes = &bytes[record.len()..];
        let record = &record[space + 1..record.len() - 1];
        let Some(equals) = record.iter().position(|byte| *byte == b'=') else { return all };
        all.push((record[..equals].to_vec(), record[equals + 1..].to_vec()));
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_entry_has_its_own_records_whatever_is_in_them(
            entries in prop::collection::vec(
                (prop::collection::vec(any::<u8>(), 0..600), prop::collection::vec(any::<u8>(), 0..1500), any::<bool>(), any::<bool>()),
                0..6,
            ),
            piece in 1_usize..900,
        ) {
            let mut archive = tar::Builder::new(Vec::new());
            for (value, content, marked, long) in &entries {
                if *marked {
                    archive.append_pax_extensions([("SCHILY.xattr.user.pond", value.as_slice())]).unwrap();
                }
                let mut header = tar::Header::new_gnu();
                header.set_size(content.len() as u64);
                header.set_mode(0o644);
                archive.append_data(&mut header, if *long { "n".repeat(140) } else { "n".to_owned() }, &content[..]).unwrap();
            }
            let bytes = archive.into_inner().unwrap();
            /// Gives at most so many bytes at once.
            struct Slow<'a>(&'a [u8], usize);
            impl Read for Slow<'_> {
                fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
                    let most = buffer.len().min(self.1);
                    self.0.read(&mut buffer[..most])
                }
            }
            let (tap, records) = Tap::new(Slow(&bytes, piece));
            let mut read = tar::Archive::new(tap);
            let mut found = Vec::new();
            for entry in read.entries().unwrap() {
                let mut entry = entry.unwrap();
                let all = records.all();
                let mut content = Vec::new();
                entry.read_to_end(&mut content).unwrap();
                found.push((all, content));
            }
            let expected: Vec<_> = entries
                .into_iter()
                .map(|(value, content, marked, _)| {
                    (marked.then(|| (b"SCHILY.xattr.user.pond".to_vec(), value)).into_iter().collect::<Vec<_>>(), content)
                })
                .collect();
            prop_assert_eq!(found, expected);
        }

        #[test]
        fn any_bytes_are_passed_on_as_they_are_or_refused_as_too_much(
            bytes in prop::collection::vec(any::<u8>(), 0..3000),
        ) {
            let (mut tap, records) = Tap::new(&bytes[..]);
            let mut read = Vec::new();
            match tap.read_to_end(&mut read) {
                Ok(_) => prop_assert_eq!(read, bytes),
                Err(error) => {
                    prop_assert!(error.to_string().contains("longer than 1 MiB"));
                    prop_assert!(bytes.starts_with(&read));
                }
            }
            let _ = records.all();
        }
    }
}
