//! Giving the files of an archive their times.

/// A block of an archive (POSIX.1-2017, pax, "ustar Interchange Format").
const BLOCK: usize = 512;
/// The longest record of further facts that is looked into; names are far shorter.
const LONGEST_RECORD: u64 = 1 << 20;
/// Where in a header its fields are.
const NAME: std::ops::Range<usize> = 0..100;
const SIZE: std::ops::Range<usize> = 124..136;
const TIME: std::ops::Range<usize> = 136..148;
const SUM: std::ops::Range<usize> = 148..156;
const KIND: usize = 156;
const MAGIC: std::ops::Range<usize> = 257..262;
const PREFIX: std::ops::Range<usize> = 345..500;
/// The highest time that the field holds: eleven octal digits.
const HIGHEST: u64 = (1 << 33) - 1;

/// An archive (tar, as git writes it) on its way, whose files get times. What is no file or link stays as it is, and so
/// does all of what is no archive.
#[derive(Debug)]
pub struct Retimed<F> {
    time_of: F,
    /// The beginning of a block that has not come whole.
    rest: Vec<u8>,
    /// How many bytes of a file come before the next header.
    content: u64,
    /// A record about what follows it that is coming.
    record: Option<Record>,
    /// What the record in front of the next header says.
    path: Option<Vec<u8>>,
    size: Option<u64>,
    is_archive: bool,
}

/// Something that is said of the next file.
#[derive(Debug)]
struct Record {
    /// Whether it is a name (of GNU's form) and no further facts (pax).
    is_name: bool,
    /// How long it is.
    length: usize,
    /// How many bytes are still to come, with those that fill its last block.
    left: u64,
    came: Vec<u8>,
}

impl<F: Fn(&[u8], u64) -> u64> Retimed<F> {
    /// Gives files the times that `time_of` answers for their paths and their own times, in seconds since 1970.
    pub const fn new(time_of: F) -> Self {
        let rest = Vec::new();
        Self { time_of, rest, content: 0, record: None, path: None, size: None, is_archive: true }
    }

    /// Takes the next bytes. Answers as many of those so far as can be told.
    pub fn push(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut out = Vec::with_capacity(bytes.len() + BLOCK);
        let mut bytes = bytes;
        while !bytes.is_empty() {
            if !self.is_archive {
                out.extend(bytes);
                break;
            }
            if self.rest.is_empty() && (self.content > 0 || self.record.is_some()) {
                let left = self.record.as_ref().map_or(self.content, |record| record.left);
                let count = usize::try_from(left).unwrap_or(usize::MAX).min(bytes.len());
                let (now, later) = bytes.split_at(count);
                out.extend(now);
                self.pass(now);
                bytes = later;
                continue;
            }
            let count = (BLOCK - self.rest.len()).min(bytes.len());
            self.rest.extend(&bytes[..count]);
            bytes = &bytes[count..];
            if self.rest.len() == BLOCK {
                let mut header = std::mem::take(&mut self.rest);
                self.header(&mut header);
                out.extend(header);
            }
        }
        out
    }

    /// What came at the end and is no whole block.
    #[must_use]
    pub fn finish(self) -> Vec<u8> {
        self.rest
    }

    fn pass(&mut self, bytes: &[u8]) {
        let Some(record) = &mut self.record else {
            self.content -= bytes.len() as u64;
            return;
        };
        record.came.extend(bytes);
        record.left -= bytes.len() as u64;
        let Some(mut record) = self.record.take_if(|record| record.left == 0) else { return };
        record.came.truncate(record.length);
        if record.is_name {
            self.path = Some(text(&record.came).to_vec());
            return;
        }
        for (key, value) in facts(&record.came) {
            match key {
                b"path" => self.path = Some(value.to_vec()),
                b"size" => self.size = std::str::from_utf8(value).ok().and_then(|size| size.parse().ok()),
                _ => {}
            }
        }
    }

    fn header(&mut self, header: &mut [u8]) {
        if header.iter().all(|byte| *byte == 0) {
            return;
        }
        let Some(size) = number(&header[SIZE]).filter(|_| &header[MAGIC] == b"ustar") else {
            self.is_archive = false;
            return;
        };
        let blocks = |size: u64| size.div_ceil(BLOCK as u64) * BLOCK as u64;
        if matches!(header[KIND], b'x' | b'L') {
            // One that long is passed on unread.
            match usize::try_from(size) {
                Ok(length) if (1..=LONGEST_RECORD).contains(&size) => {
                    let is_name = header[KIND] == b'L';
                    self.record = Some(Record { is_name, length, left: blocks(size), came: Vec::new() });
                }
                _ => self.content = blocks(size),
            }
            return;
        }
        let (path, longer) = (self.path.take(), self.size.take());
        let has_content = matches!(header[KIND], b'0' | 0 | b'7' | b'g' | b'K');
        self.content = if has_content { blocks(longer.unwrap_or(size)) } else { 0 };
        if !matches!(header[KIND], b'0' | 0 | b'7' | b'2') {
            return;
        }
        let path = path.unwrap_or_else(|| {
            let (prefix, name) = (text(&header[PREFIX]), text(&header[NAME]));
            if prefix.is_empty() { name.to_vec() } else { [prefix, b"/", name].concat() }
        });
        let own = number(&header[TIME]).unwrap_or(0);
        let time = (self.time_of)(&path, own).min(HIGHEST);
        if time != own {
            header[TIME].copy_from_slice(format!("{time:011o}\0").as_bytes());
            header[SUM].fill(b' ');
            let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
            header[SUM].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        }
    }
}

/// The further facts of a record: each its length, a space, its key, `=`, its value and an end of line.
fn facts(mut record: &[u8]) -> Vec<(&[u8], &[u8])> {
    let mut all = Vec::new();
    loop {
        let space = record.iter().position(|byte| *byte == b' ');
        let length = space.and_then(|at| std::str::from_utf8(&record[..at]).ok()?.parse::<usize>().ok());
        let (Some(space), Some(length)) = (space, length) else { return all };
        let Some(line) = record.get(space + 1..length.saturating_sub(1)) else { return all };
        if let Some(equals) = line.iter().position(|byte| *byte == b'=') {
            all.push((&line[..equals], &line[equals + 1..]));
        }
        let Some(rest) = record.get(length..) else { return all };
        record = rest;
    }
}

/// An octal number, after blanks and up to a blank or zero byte.
fn number(field: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(text(field)).ok()?.trim();
    if text.is_empty() { Some(0) } else { u64::from_str_radix(text, 8).ok() }
}

fn text(field: &[u8]) -> &[u8] {
    field.split(|byte| *byte == 0).next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use proptest::prelude::*;
    use tar::{Archive, Builder, EntryType, Header};

    use super::*;

    type File = (String, EntryType, Vec<u8>, u64);

    fn any_file() -> impl Strategy<Value = File> {
        let name = prop_oneof!["[a-c]{1,3}", "[a-c]{1,3}/[a-c ]{90,120}", "([a-c]{40}/){4}[a-c]{1,90}", "[a-c]{150}"];
        let kind = prop::sample::select(vec![
            EntryType::Regular,
            EntryType::Regular,
            EntryType::Symlink,
            EntryType::Directory,
        ]);
        (name, kind, prop::collection::vec(any::<u8>(), 0..1500), 0..HIGHEST)
    }

    fn archive(files: &[File], has_facts: bool) -> Vec<u8> {
        let mut archive = Builder::new(Vec::new());
        for (name, kind, content, time) in files {
            let mut header = if has_facts { Header::new_ustar() } else { Header::new_gnu() };
            header.set_entry_type(*kind);
            header.set_mtime(*time);
            header.set_mode(0o644);
            header.set_size(0);
            match kind {
                EntryType::Symlink => archive.append_link(&mut header, name, "elsewhere").unwrap(),
                EntryType::Directory => archive.append_data(&mut header, name, std::io::empty()).unwrap(),
                _ if has_facts => {
                    // As git does with names too long for a header.
                    let size = content.len().to_string();
                    let facts = [("path", name.as_bytes()), ("size", size.as_bytes())];
                    archive.append_pax_extensions(facts).unwrap();
                    header.set_path("named-before").unwrap();
                    header.set_size(content.len() as u64);
                    header.set_cksum();
                    archive.append(&header, &content[..]).unwrap();
                }
                _ => {
                    header.set_size(content.len() as u64);
                    archive.append_data(&mut header, name, &content[..]).unwrap();
                }
            }
        }
        archive.into_inner().unwrap()
    }

    fn entries(bytes: &[u8]) -> Vec<(String, EntryType, Vec<u8>, u64)> {
        let mut archive = Archive::new(bytes);
        let entries = archive.entries().unwrap().map(|entry| {
            let mut entry = entry.unwrap();
            let mut content = Vec::new();
            entry.read_to_end(&mut content).unwrap();
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            (name, entry.header().entry_type(), content, entry.header().mtime().unwrap())
        });
        entries.collect()
    }

    proptest! {
        #[test]
        fn files_and_links_get_their_times_and_nothing_else_changes_wherever_an_archive_is_cut(
            files in prop::collection::vec(any_file(), 0..6),
            has_facts in any::<bool>(),
            cuts in prop::collection::vec(1_usize..2000, 1..6),
        ) {
            // Names in headers of the older form are not that long.
            prop_assume!(!has_facts || files.iter().all(|(name, kind, ..)| *kind == EntryType::Regular || name.len() < 100));
            let bytes = archive(&files, has_facts);
            let time_of = |path: &[u8], own: u64| own / 2 + path.len() as u64;
            let mut retimed = Retimed::new(time_of);
            let (mut out, mut rest, mut cuts) = (Vec::new(), &bytes[..], cuts.into_iter().cycle());
            while !rest.is_empty() {
                let (now, later) = rest.split_at(cuts.next().unwrap().min(rest.len()));
                out.extend(retimed.push(now));
                rest = later;
            }
            out.extend(retimed.finish());
            prop_assert_eq!(out.len(), bytes.len());
            let expected: Vec<_> = entries(&bytes)
                .into_iter()
                .map(|(name, kind, content, own)| {
                    let time = if kind == EntryType::Directory { own } else { time_of(name.as_bytes(), own).min(HIGHEST) };
                    (name, kind, content, time)
                })
                .collect();
            prop_assert_eq!(entries(&out), expected);
        }

        #[test]
        fn what_is_no_archive_stays_as_it_is_and_nothing_panics(
            bytes in prop::collection::vec(any::<u8>(), 0..3000),
            at in 0_usize..3000,
            wrong in any::<u8>(),
        ) {
            let mut retimed = Retimed::new(|_, _| 7);
            let mut out = retimed.push(&bytes);
            out.extend(retimed.finish());
            prop_assert_eq!(&out, &bytes);
            // Nor does an archive with a damaged byte.
            let mut damaged = archive(&[("a".to_owned(), EntryType::Regular, bytes, 5)], true);
            let at = at % damaged.len();
            damaged[at] = wrong;
            let mut retimed = Retimed::new(|_, own| own);
            let mut out = retimed.push(&damaged);
            out.extend(retimed.finish());
            prop_assert_eq!(out, damaged);
        }
    }
}
