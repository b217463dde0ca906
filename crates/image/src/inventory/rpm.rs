//! rpm's database, in the three forms that it has had: a table of SQLite, Berkeley DB's hash, and a file of slots.
//!
//! All keep one header for each package. The file is somebody else's: whatever stands in it, reading it ends, and takes
//! no more memory than one header.

use std::fs::File;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;

use pondrix_core::image::packages::{Package, rpm_header};
use rusqlite::{Connection, OpenFlags};

/// No header is longer.
const LONGEST_HEADER: u64 = 64 << 20;

/// The packages of a database, whichever form its name and its first bytes say.
///
/// # Errors
/// When it cannot be read, or is none of these.
pub(super) fn packages(path: &Path) -> io::Result<Vec<Package>> {
    let file = File::open(path)?;
    let mut first = [0; 32];
    file.read_exact_at(&mut first, 0)?;
    let mut found = Vec::new();
    let mut take = |header: &[u8]| found.extend(rpm_header(header));
    if first.starts_with(b"SQLite format 3\0") {
        of_table(path, &mut take).map_err(io::Error::other)?;
    } else if first.starts_with(b"RpmP") {
        of_slots(&file, &mut take)?;
    } else {
        of_hash(&file, &mut take)?;
    }
    Ok(found)
}

/// `rpmdb.sqlite`: the table `Packages`.
fn of_table(path: &Path, take: &mut dyn FnMut(&[u8])) -> rusqlite::Result<()> {
    // Nothing in it is carried out, and nothing is written beside it.
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let name: String = path.as_os_str().as_bytes().iter().map(|byte| format!("%{byte:02x}")).collect();
    let connection = Connection::open_with_flags(format!("file:{name}?immutable=1"), flags)?;
    connection.pragma_update(None, "trusted_schema", false)?;
    connection.pragma_update(None, "cell_size_check", true)?;
    let mut statement = connection.prepare("SELECT blob FROM Packages")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        if let Ok(header) = row.get_ref(0)?.as_blob() {
            take(header);
        }
    }
    Ok(())
}

fn damaged(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("{what} of rpm's database is damaged"))
}

/// Bytes of a file; their number comes from the file, too, and is believed up to a limit.
fn bytes(file: &File, at: u64, length: u64) -> io::Result<Vec<u8>> {
    let left = file.metadata()?.len().saturating_sub(at);
    if length > left.min(LONGEST_HEADER) {
        return Err(damaged("a length"));
    }
    let mut bytes = vec![0; usize::try_from(length).map_err(io::Error::other)?];
    file.read_exact_at(&mut bytes, at)?;
    Ok(bytes)
}

/// `Packages.db`, as rpm writes it itself: pages of slots in front, each of which says where a blob is. All numbers are
/// little-endian.
fn of_slots(file: &File, take: &mut dyn FnMut(&[u8])) -> io::Result<()> {
    const PAGE: u64 = 4096;
    const SLOT: u64 = 16;
    /// Blobs begin at multiples of this.
    const BLOCK: u64 = 16;
    let numbers = |at: u64| {
        let bytes = bytes(file, at, SLOT)?;
        let number = |place: usize| u32::from_le_bytes(bytes[4 * place..4 * place + 4].try_into().expect("four bytes"));
        Ok::<_, io::Error>([number(0), number(1), number(2), number(3)])
    };
    let [.., pages] = numbers(0)?;
    let slots = u64::from(pages) * (PAGE / SLOT);
    // The header takes the place of the first two.
    for slot in 2..slots {
        let [magic, package, block, _] = numbers(slot * SLOT)?;
        if magic.to_le_bytes() != *b"Slot" {
            return Err(damaged("a slot"));
        }
        if package == 0 {
            continue;
        }
        let at = u64::from(block) * BLOCK;
        let [magic, of_package, _, length] = numbers(at)?;
        if magic.to_le_bytes() != *b"BlbS" || of_package != package {
            return Err(damaged("a header"));
        }
        take(&bytes(file, at + SLOT, length.into())?);
    }
    Ok(())
}

/// `Packages`, a hash of Berkeley DB (its `dbinc/db_page.h`): pages of keys and values, each value a header, which may
/// stand on a chain of pages of its own.
fn of_hash(file: &File, take: &mut dyn FnMut(&[u8])) -> io::Result<()> {
    const MAGIC: u32 = 0x0006_1561;
    /// What every page begins with.
    const HEAD: usize = 26;
    /// Kinds of pages, and of what stands on them.
    const HASH_PAGES: [u8; 2] = [2, 13];
    const OVERFLOW_PAGE: u8 = 7;
    const INLINE: u8 = 1;
    const OFF_PAGE: u8 = 3;
    let meta = bytes(file, 0, 72)?;
    let is_big = match four(&meta, 12) {
        Some(magic) if u32::from_le_bytes(magic) == MAGIC => false,
        Some(magic) if u32::from_be_bytes(magic) == MAGIC => true,
        _ => return Err(damaged("the beginning")),
    };
    let word = |page: &[u8], at: usize| {
        let bytes = four(page, at).ok_or_else(|| damaged("a page"))?;
        Ok::<_, io::Error>(if is_big { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) })
    };
    let half = |page: &[u8], at: usize| {
        let bytes = page.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).ok_or_else(|| damaged("a page"))?;
        Ok::<_, io::Error>(usize::from(if is_big { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) }))
    };
    let (size, last) = (word(&meta, 20)?, word(&meta, 32)?);
    if !(512..=65536).contains(&size) {
        return Err(damaged("the size of pages"));
    }
    let page_at = |number: u32| bytes(file, u64::from(number) * u64::from(size), size.into());
    // A header on a chain of pages, each of which says how much of it there is, and where it goes on.
    let chained = |first: u32, length: u32| {
        let mut header = Vec::new();
        let mut next = first;
        // No chain has more pages than the file.
        for _ in 0..=last {
            if next == 0 || header.len() >= length as usize {
                break;
            }
            let page = page_at(next)?;
            let end = HEAD + half(&page, 22)?;
            let part = page.get(HEAD..end).filter(|_| page[25] == OVERFLOW_PAGE);
            header.extend_from_slice(part.ok_or_else(|| damaged("a header"))?);
            next = word(&page, 16)?;
            if header.len() as u64 > LONGEST_HEADER {
                return Err(damaged("a header"));
            }
        }
        Ok(header)
    };
    for number in 1..=last {
        let page = page_at(number)?;
        if !HASH_PAGES.contains(&page[25]) {
            continue;
        }
        // Keys and values take turns, from the end of the page forward.
        for value in (1..half(&page, 20)?).step_by(2) {
            let (start, end) = (half(&page, HEAD + 2 * value)?, half(&page, HEAD + 2 * (value - 1))?);
            let item = page.get(start..end).ok_or_else(|| damaged("a value"))?;
            match item.first() {
                Some(&INLINE) => take(&item[1..]),
                Some(&OFF_PAGE) => take(&chained(word(item, 4)?, word(item, 8)?)?),
                _ => {}
            }
        }
    }
    Ok(())
}

fn four(bytes: &[u8], at: usize) -> Option<[u8; 4]> {
    bytes.get(at..at.checked_add(4)?)?.try_into().ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Databases of the same three packages: one that rpm 4.18 wrote, and two that Berkeley DB 5.3 made of its headers,
    /// of which one is too long for a page.
    const SAMPLES: [&[u8]; 3] = [
        include_bytes!("samples/rpmdb.sqlite.zst"),
        include_bytes!("samples/Packages.zst"),
        include_bytes!("samples/Packages-big-endian.zst"),
    ];

    fn written(folder: &Path, bytes: &[u8]) -> std::path::PathBuf {
        let path = folder.join("database");
        std::fs::write(&path, bytes).unwrap();
        path
    }

    fn told(mut packages: Vec<Package>) -> Vec<String> {
        packages.sort();
        packages.iter().map(|one| format!("{} {} {:?}", one.name, one.version, one.license)).collect()
    }

    const EXPECTED: [&str; 3] =
        [r#"moss 0.9-7 Some("MIT")"#, r#"pond-tools 1.2-3 Some("MIT")"#, r#"water-lily 2:20.5-1.gh2 Some("MIT")"#];

    #[test]
    fn every_form_of_the_database_tells_the_same_packages() {
        let folder = tempfile::tempdir().unwrap();
        for sample in SAMPLES {
            let path = written(folder.path(), &zstd::decode_all(sample).unwrap());
            assert_eq!(told(packages(&path).unwrap()), EXPECTED);
        }
    }

    /// The headers of the samples.
    fn headers() -> Vec<Vec<u8>> {
        let folder = tempfile::tempdir().unwrap();
        let path = written(folder.path(), &zstd::decode_all(SAMPLES[0]).unwrap());
        let mut headers = Vec::new();
        of_table(&path, &mut |header| headers.push(header.to_vec())).unwrap();
        headers
    }

    /// A file of slots with these headers, with an empty slot in front of each, and a blob that was left behind.
    fn slots(headers: &[Vec<u8>]) -> Vec<u8> {
        let words = |words: [u32; 4]| words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>();
        let word = |text: &[u8; 4]| u32::from_le_bytes(*text);
        let mut front = [words([word(b"RpmP"), 0, 7, 1]), words([9, 0, 0, 0])].concat();
        let mut blobs = [words([word(b"BlbS"), 5, 6, 4]), b"gone".to_vec(), vec![0; 12]].concat();
        for (number, header) in headers.iter().enumerate() {
            let (package, block) = (number as u32 + 1, (4096 + blobs.len()) as u32 / 16);
            front.extend(words([word(b"Slot"), 0, 0, 0]));
            front.extend(words([word(b"Slot"), package, block, header.len().div_ceil(16) as u32 + 2]));
            blobs.extend(words([word(b"BlbS"), package, 7, header.len() as u32]));
            blobs.extend(header);
            blobs.extend(b"sum_lengBlbE");
            blobs.resize(blobs.len().next_multiple_of(16), 0);
        }
        while front.len() < 4096 {
            front.extend(words([word(b"Slot"), 0, 0, 0]));
        }
        [front, blobs].concat()
    }

    #[test]
    fn a_file_of_slots_tells_the_packages_whose_slots_are_taken() {
        let folder = tempfile::tempdir().unwrap();
        let whole = slots(&headers());
        assert_eq!(told(packages(&written(folder.path(), &whole)).unwrap()), EXPECTED);
        let mut other = whole.clone();
        // The second header says that it is another package's.
        let place = 4096 + 32 + whole[4096 + 32..].windows(4).position(|bytes| bytes == b"BlbS").unwrap() + 4;
        other[place] = 9;
        let error = packages(&written(folder.path(), &other)).unwrap_err();
        assert_eq!(error.to_string(), "a header of rpm's database is damaged");
    }

    #[test]
    fn a_chain_of_pages_that_goes_round_in_a_circle_ends() {
        let folder = tempfile::tempdir().unwrap();
        let mut bytes = zstd::decode_all(SAMPLES[1]).unwrap();
        let pages: Vec<usize> = (1..bytes.len() / 4096).filter(|page| bytes[page * 4096 + 25] == 7).collect();
        assert!(pages.len() > 10);
        for page in &pages {
            bytes[page * 4096 + 16..page * 4096 + 20].copy_from_slice(&(pages[0] as u32).to_le_bytes());
        }
        let _ = packages(&written(folder.path(), &bytes));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        #[test]
        fn whatever_is_damaged_is_read_or_refused_and_never_breaks(
            form in 0_usize..4,
            changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..12),
            at_the_beginning in any::<bool>(),
            cut in prop::option::of(any::<prop::sample::Index>()),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let mut bytes = match SAMPLES.get(form) {
                Some(sample) => zstd::decode_all(*sample).unwrap(),
                None => slots(&headers()),
            };
            for (place, byte) in changes {
                let reach = if at_the_beginning { 128 } else { bytes.len() };
                let place = place.index(reach);
                bytes[place] = byte;
            }
            if let Some(cut) = cut {
                bytes.truncate(cut.index(bytes.len()));
            }
            let _ = packages(&written(folder.path(), &bytes));
        }
    }
}
