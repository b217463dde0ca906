//! The types of files that list packages, and their parsers.

use std::fs::{self, File};
use std::io::{self, Read};
use std::os::unix::fs::FileExt;
use std::path::Path;

use pondrix_core::image::packages::{self, Package};

use super::rpm;

/// Files that name packages and are longer are not read.
const LONGEST: u64 = 64 << 20;
/// The longest list of packages in a program, unpacked.
const LONGEST_LIST: u64 = 8 << 20;
/// The longest program that is looked into.
const LONGEST_PROGRAM: u64 = 512 << 20;
/// What a program begins with (elf(5)): 64-bit, little-endian.
const PROGRAM: &[u8; 6] = b"\x7fELF\x02\x01";

/// Returns true if the type of a file may contain packages. A program must be a 64-bit ELF file.
pub(super) fn may_tell(path: &str, mode: u32, size: u64, on_disk: &Path) -> bool {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let parent = folder.rsplit('/').next().unwrap_or_default();
    match name {
        "status" => folder == "var/lib/dpkg",
        "installed" => folder.ends_with("lib/apk/db"),
        "rpmdb.sqlite" | "Packages" | "Packages.db" => parent == "rpm",
        "METADATA" => parent.ends_with(".dist-info"),
        "PKG-INFO" => parent.ends_with(".egg-info"),
        "package.json" => is_node_package(folder),
        "Cargo.lock" => true,
        _ if folder == "var/lib/dpkg/status.d" => true,
        _ => mode & 0o111 != 0 && size < LONGEST_PROGRAM && is_program(on_disk).unwrap_or(false),
    }
}

fn is_program(path: &Path) -> io::Result<bool> {
    let mut first = [0; PROGRAM.len()];
    File::open(path)?.read_exact_at(&mut first, 0)?;
    Ok(first == *PROGRAM)
}

/// Returns the packages of the file at `on_disk`, whose path in the layer is `path`.
///
/// # Errors
/// If the content does not match the type of the file.
pub(super) fn packages_of(path: &str, size: u64, on_disk: &Path) -> io::Result<Vec<Package>> {
    let mut found = Vec::new();
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let parent = folder.rsplit('/').next().unwrap_or_default();
    let text = || {
        if size >= LONGEST {
            return Err(io::Error::other(format!("the file is longer than {} MiB", LONGEST >> 20)));
        }
        Ok(String::from_utf8_lossy(&fs::read(on_disk)?).into_owned())
    };
    match name {
        "status" if folder == "var/lib/dpkg" => found.extend(packages::debian(&text()?)),
        _ if folder == "var/lib/dpkg/status.d" => found.extend(packages::debian(&text()?)),
        "installed" if folder.ends_with("lib/apk/db") => found.extend(packages::alpine(&text()?)),
        // rpm changed the form of its database twice, and its place.
        "rpmdb.sqlite" | "Packages" | "Packages.db" if parent == "rpm" => found.extend(rpm::packages(on_disk)?),
        "METADATA" if parent.ends_with(".dist-info") => found.extend(packages::python(&text()?)),
        "PKG-INFO" if parent.ends_with(".egg-info") => found.extend(packages::python(&text()?)),
        "package.json" if is_node_package(folder) => found.extend(packages::npm(&text()?)),
        "Cargo.lock" => found.extend(packages::cargo_lock(&text()?)),
        // Most programs have no list of packages.
        _ => found.extend(program(on_disk).unwrap_or_default()),
    }
    Ok(found)
}

/// Whether this is the folder of a package in `node_modules`: `NAME`, or `@SCOPE/NAME`.
fn is_node_package(folder: &str) -> bool {
    let Some((_, name)) = folder.rsplit_once("node_modules/") else { return false };
    let slashes = name.matches('/').count();
    slashes == 0 || (slashes == 1 && name.starts_with('@'))
}

/// The packages that a program was built of, where it says so: the section `.dep-v0` of a 64-bit ELF file
/// (elf(5)), compressed (RFC 1950).
fn program(path: &Path) -> Option<Vec<Package>> {
    let file = File::open(path).ok()?;
    let read = |at: u64, length: usize| {
        let mut bytes = vec![0; length];
        file.read_exact_at(&mut bytes, at).ok().map(|()| bytes)
    };
    let header = read(0, 64)?;
    if !header.starts_with(PROGRAM) {
        return None;
    }
    let number = |bytes: &[u8], at: usize, length: usize| {
        let field = bytes.get(at..at + length)?;
        Some(field.iter().rev().fold(0_u64, |number, byte| number << 8 | u64::from(*byte)))
    };
    let (table, size, count, names) =
        (number(&header, 40, 8)?, number(&header, 58, 2)?, number(&header, 60, 2)?, number(&header, 62, 2)?);
    let section = |place: u64| read(table.checked_add(place * size)?, usize::try_from(size).ok()?);
    let names = section(names)?;
    let (names_at, names_length) = (number(&names, 24, 8)?, number(&names, 32, 8)?);
    let names = read(names_at, usize::try_from(names_length.min(1 << 20)).ok()?)?;
    for place in 0..count {
        let section = section(place)?;
        let name = names.get(usize::try_from(number(&section, 0, 4)?).ok()?..)?;
        if !name.starts_with(b".dep-v0\0") {
            continue;
        }
        let (at, length) = (number(&section, 24, 8)?, number(&section, 32, 8)?);
        let packed = read(at, usize::try_from(length.min(LONGEST_LIST)).ok()?)?;
        let mut json = Vec::new();
        flate2::read::ZlibDecoder::new(&packed[..]).take(LONGEST_LIST).read_to_end(&mut json).ok()?;
        return Some(packages::cargo_program(&json));
    }
    None
}
