//! Files of a workspace that fit a pattern.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use pondrix_core::pipeline::Pattern;
use pondrix_files::{Bounds, Order, Watch};
use pondrix_image::build::plain_path;
use rustix::fs::FileType;

/// Maximum total length of the files of an artifact or a cache, including holes, in bytes.
const MOST_BYTES: u64 = 64 << 30;

/// Maximum total length of the kept paths, in bytes.
const MOST_PATHS: u64 = 256 << 20;

/// Returns the paths of all entries below a folder except folders, sorted, and the total length of the files.
///
/// # Errors
/// Errors of the file system, and an error for an exceeded limit ([`Bounds::KEPT`]). No file is read.
pub(super) fn walk(root: &Path, watch: &Watch) -> io::Result<(Vec<PathBuf>, u64)> {
    let (mut found, mut bytes) = (Vec::new(), 0_u64);
    pondrix_files::walk(root, Order::Any, &Bounds::KEPT, watch, |one| {
        if one.kind() == FileType::RegularFile {
            bytes = bytes.saturating_add(one.length());
        }
        if one.kind() != FileType::Directory {
            found.push(one.path.to_owned());
        }
        Ok(())
    })?;
    is_no_more_than_kept(bytes)?;
    found.sort();
    Ok((found, bytes))
}

/// Checks the total length of files.
///
/// # Errors
/// If it exceeds [`MOST_BYTES`].
pub(super) fn is_no_more_than_kept(bytes: u64) -> io::Result<()> {
    if bytes > MOST_BYTES {
        let (size, most) = (pondrix_core::Size::from_bytes(bytes), MOST_BYTES >> 30);
        return Err(io::Error::other(format!("the files are {size} in total; the limit is {most} GiB")));
    }
    Ok(())
}

/// Returns the literal beginning of a pattern: its components before the first one with a special character.
fn beginning(pattern: &str) -> PathBuf {
    Path::new(pattern).components().take_while(|part| !is_special(part.as_os_str().as_encoded_bytes())).collect()
}

fn is_special(part: &[u8]) -> bool {
    part.iter().any(|byte| b"*?[{\\".contains(byte))
}

/// Returns the files that match one of the patterns, or that are below a folder that matches. Only folders below the literal
/// beginning of a pattern are read.
///
/// # Errors
/// As for [`walk`].
pub(super) fn fitting(root: &Path, patterns: &[String], watch: &Watch) -> io::Result<Vec<PathBuf>> {
    let (mut all, mut length) = (BTreeSet::new(), 0_u64);
    for text in patterns {
        let Ok(pattern) = Pattern::new(text) else { continue };
        let from = beginning(text);
        let Some(place) = plain_path(root, &from) else { continue };
        let mut take = |path: PathBuf| {
            let mut parts = path.ancestors().filter_map(Path::to_str);
            if parts.any(|part| !part.is_empty() && pattern.matches(part)) {
                length += path.as_os_str().len() as u64;
                all.insert(path);
            }
            if length > MOST_PATHS {
                return Err(io::Error::other(format!("the paths are longer than {} MiB in total", MOST_PATHS >> 20)));
            }
            Ok(())
        };
        if !place.symlink_metadata()?.is_dir() {
            take(from)?;
            continue;
        }
        pondrix_files::walk(&place, Order::Any, &Bounds::KEPT, watch, |one| {
            if one.kind() == FileType::Directory { Ok(()) } else { take(from.join(one.path)) }
        })?;
    }
    Ok(all.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use std::fs::{self, File};

    use super::*;

    #[test]
    fn links_are_found_and_not_followed_and_a_folder_means_all_in_it() {
        let folder = tempfile::tempdir().unwrap();
        let outside = tempfile::tempdir().unwrap();
        fs::write(outside.path().join("secret"), "").unwrap();
        fs::create_dir_all(folder.path().join("out/site")).unwrap();
        fs::write(folder.path().join("out/site/a"), "").unwrap();
        fs::write(folder.path().join("out/b.xml"), "").unwrap();
        std::os::unix::fs::symlink(outside.path(), folder.path().join("out/link")).unwrap();
        let found = |pattern: &str| {
            let found = fitting(folder.path(), &[pattern.to_owned()], &Watch::none()).unwrap();
            found.iter().map(|path| path.display().to_string()).collect::<Vec<_>>()
        };
        assert_eq!(found("out"), ["out/b.xml", "out/link", "out/site/a"]);
        assert_eq!(found("out/**"), ["out/b.xml", "out/link", "out/site/a"]);
        assert_eq!(found("**/a"), ["out/site/a"]);
        assert_eq!(found("{out,in}/*.xml"), ["out/b.xml"]);
        assert_eq!(found("out/*.xml"), ["out/b.xml"]);
        assert_eq!(found("out/b.xml"), ["out/b.xml"]);
        assert_eq!(found("out/link/*"), Vec::<String>::new());
        assert_eq!(found("in/*"), Vec::<String>::new());
    }

    #[test]
    fn what_no_pattern_names_may_be_of_any_depth_and_what_one_names_may_not() {
        let folder = tempfile::tempdir().unwrap();
        let mut deep = folder.path().join("deep");
        (0..pondrix_files::DEEPEST + 2).for_each(|_| deep.push("a"));
        fs::create_dir_all(&deep).unwrap();
        fs::write(folder.path().join("kept"), "").unwrap();
        let found = |pattern: &str| fitting(folder.path(), &[pattern.to_owned()], &Watch::none());
        assert_eq!(found("kept").unwrap(), [Path::new("kept")]);
        let words = found("**/b").unwrap_err().to_string();
        assert!(words.starts_with("more than 512 nested folders, at deep/a/a/"), "{words}");
    }

    #[test]
    fn a_file_that_says_that_it_is_endless_is_refused_before_it_is_read() {
        let folder = tempfile::tempdir().unwrap();
        File::create(folder.path().join("sparse")).unwrap().set_len(2 << 40).unwrap();
        let words = walk(folder.path(), &Watch::none()).unwrap_err().to_string();
        assert_eq!(words, "the files are 2TiB in total; the limit is 64 GiB");
        assert_eq!(fitting(folder.path(), &["*".to_owned()], &Watch::none()).unwrap().len(), 1);
    }
}
