//! rpm's database, in the three forms that it has had: a table of SQLite, Berkeley DB's hash, and a file of slots.
//!
//! All keep one header for each package. The file is somebody else's: whatever stands in it, reading it ends, takes no more
//! memory than some headers, and reads no byte of a header twice.

use std::fs::File;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;

use pondrix_core::image::packages::{Package, rpm_header};
use rusqlite::limits::Limit;
use rusqlite::{Connection, OpenFlags};

/// No header is longer.
const LONGEST_HEADER: u64 = 64 << 20;

/// After how many of its instructions SQLite asks whether it may go on.
const STEPS: i32 = 1000;

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
    let mut connection = Connection::open_with_flags(format!("file:{name}?immutable=1"), flags)?;
    connection.pragma_update(None, "trusted_schema", false)?;
    connection.pragma_update(None, "cell_size_check", true)?;
    connection.set_limit(Limit::SQLITE_LIMIT_LENGTH, i32::try_from(LONGEST_HEADER).unwrap_or(i32::MAX))?;
    // What is read are rows that were written. A view, a virtual table and a column that is worked out are commands of
    // whoever wrote them.
    let is_table = "SELECT count(*) FROM sqlite_schema WHERE name = 'Packages' AND type = 'table' AND rootpage > 0 \
                    AND NOT EXISTS (SELECT 1 FROM pragma_table_xinfo('Packages') WHERE hidden <> 0)";
    if connection.query_row(is_table, [], |row| row.get::<_, i64>(0))? != 1 {
        return Err(rusqlite::Error::QueryReturnedNoRows);
    }
    // Each row of a sound table costs some tens of the machine's instructions, as SQLite counts them.
    let length = path.metadata().map_or(0, |data| data.len());
    let mut left = length / u64::from(STEPS.unsigned_abs()) + 10_000;
    let is_too_much = move || {
        left = left.saturating_sub(1);
        left == 0
    };
    connection.progress_handler(STEPS, Some(is_too_much))?;
    let mut statement = connection.prepare("SELECT blob FROM Packages")?;
    let mut rows = statement.query([])?;
    let mut left = Left::of(length);
    while let Some(row) = rows.next()? {
        if let Ok(header) = row.get_ref(0)?.as_blob() {
            left.take(header.len() as u64).map_err(|error| rusqlite::Error::ToSqlConversionFailure(error.into()))?;
            take(header);
        }
    }
    Ok(())
}

/// How many bytes of headers there can still be in a file: no two of a sound one share any.
struct Left(u64);

impl Left {
    /// Of a file of this length.
    const fn of(length: u64) -> Self {
        Self(length)
    }

    fn take(&mut self, length: u64) -> io::Result<()> {
        self.0 = self.0.checked_sub(length).ok_or_else(|| damaged("the length of a header"))?;
        Ok(())
    }
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
    let mut left = Left::of(file.metadata()?.len());
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
        left.take(length.into())?;
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
    let mut left = Left::of(file.metadata()?.len());
    // A header on a chain of pages, each of which says how much of it there is, and where it goes on.
    let chained = |first: u32, length: u32, left: &mut Left| {
        let mut header = Vec::new();
        let mut next = first;
        // No chain has more pages than the file.
        for _ in 0..=last {
            if next == 0 || header.len() >= length as usize {
                break;
            }
            left.take(size.into())?;
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
                Some(&INLINE) => {
                    left.take(item.len() as u64)?;
                    take(&item[1..]);
                }
                Some(&OFF_PAGE) => take(&chained(word(item, 4)?, word(item, 8)?, &mut left)?),
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

    /// What is said of a database of SQLite that these commands make.
    fn said_of_table(commands: &str) -> String {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("rpmdb.sqlite");
        Connection::open(&path).unwrap().execute_batch(commands).unwrap();
        packages(&path).map_or_else(|error| error.to_string(), |found| format!("{} packages", found.len()))
    }

    #[test]
    fn no_query_that_a_database_brings_along_is_carried_out() {
        let endless = "WITH RECURSIVE n(blob) AS (SELECT x'00' UNION ALL SELECT blob FROM n) SELECT blob FROM n";
        let refused = "Query returned no rows";
        assert_eq!(said_of_table(&format!("CREATE VIEW Packages AS {endless}")), refused);
        let worked_out = "CREATE TABLE Packages (hnum INTEGER PRIMARY KEY, blob BLOB AS (hex(zeroblob(100000000))))";
        assert_eq!(said_of_table(worked_out), refused);
        let index = "CREATE TABLE other (a); CREATE INDEX Packages ON other (a)";
        assert_eq!(said_of_table(index), refused);
        let virtual_table = "CREATE VIRTUAL TABLE Packages USING fts5(blob)";
        assert_eq!(said_of_table(virtual_table), refused);
        let sound = "CREATE TABLE Packages (hnum INTEGER PRIMARY KEY, blob BLOB NOT NULL); INSERT INTO Packages (blob) VALUES (x'00')";
        assert_eq!(said_of_table(sound), "0 packages");
        // A sound table of very many rows is read whole.
        let many = format!(
            "{sound}; INSERT INTO Packages (blob) WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200000) SELECT x'00' FROM n"
        );
        assert_eq!(said_of_table(&many), "0 packages");
    }

    #[test]
    fn headers_that_share_their_bytes_are_refused() {
        let folder = tempfile::tempdir().unwrap();
        // Every slot leads to the same blob.
        let mut bytes = slots(&headers());
        let first = bytes[3 * 16..4 * 16].to_vec();
        for slot in 3..256 {
            bytes[slot * 16..slot * 16 + 16].copy_from_slice(&first);
        }
        let words = packages(&written(folder.path(), &bytes)).unwrap_err().to_string();
        assert!(words.ends_with("of rpm's database is damaged"), "{words}");
        // All values of a hash are on one chain.
        let mut bytes = zstd::decode_all(SAMPLES[1]).unwrap();
        let chain = (1..bytes.len() / 4096).find(|page| bytes[page * 4096 + 25] == 7).unwrap() as u32;
        let (mut item, length) = (vec![3, 0, 0, 0], bytes.len() as u32);
        item.extend(chain.to_le_bytes());
        item.extend(length.to_le_bytes());
        let page = (1..bytes.len() / 4096).find(|page| [2, 13].contains(&bytes[page * 4096 + 25])).unwrap() * 4096;
        let at = |number: usize| page + 26 + 2 * number;
        bytes[page + 20..page + 22].copy_from_slice(&1000_u16.to_le_bytes());
        bytes[page + 4096 - 12..page + 4096].copy_from_slice(&item);
        for number in 0..1000 {
            let place: u16 = if number % 2 == 0 { 4096_u32 as u16 } else { 4096 - 12 };
            bytes[at(number)..at(number) + 2].copy_from_slice(&place.to_le_bytes());
        }
        bytes[page + 4096 - 12..page + 4096].copy_from_slice(&item);
        let words = packages(&written(folder.path(), &bytes)).unwrap_err().to_string();
        assert!(words.contains("of rpm's database is damaged"), "{words}");
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
