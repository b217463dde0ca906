//! Files of a workspace that fit a pattern.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use pondrix_core::pipeline::Pattern;
use pondrix_files::{Bounds, Order, Watch};
use pondrix_image::build::plain_path;
use rustix::fs::FileType;

/// How long the files of one artifact or cache may be together, in bytes, holes as well.
const MOST_BYTES: u64 = 64 << 30;

/// Everything below a folder that is no folder itself, by its path from there, in order.
///
/// # Errors
/// What cannot be read, and what there is too much of ([`Bounds::KEPT`]); nothing of it is read then.
pub(super) fn walk(root: &Path, watch: &Watch) -> io::Result<Vec<PathBuf>> {
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
    Ok(found)
}

/// Whether files may be kept that are so long together.
pub(super) fn is_no_more_than_kept(bytes: u64) -> io::Result<()> {
    if bytes > MOST_BYTES {
        let (size, most) = (pondrix_core::Size::from_bytes(bytes), MOST_BYTES >> 30);
        return Err(io::Error::other(format!("the files are {size} in total; the limit is {most} GiB")));
    }
    Ok(())
}

/// What every path begins with that fits a pattern: its parts in front of the first with a special character.
fn beginning(pattern: &str) -> PathBuf {
    Path::new(pattern).components().take_while(|part| !is_special(part.as_os_str().as_encoded_bytes())).collect()
}

fn is_special(part: &[u8]) -> bool {
    part.iter().any(|byte| b"*?[{\\".contains(byte))
}

/// The files that fit one of the patterns, themselves or as part of a folder that does. Only folders are gone through in
/// which one may be.
///
/// # Errors
/// As for a walk through one of those folders.
pub(super) fn fitting(root: &Path, patterns: &[String], watch: &Watch) -> io::Result<Vec<PathBuf>> {
    let mut all = BTreeSet::new();
    for text in patterns {
        let Ok(pattern) = Pattern::new(text) else { continue };
        let from = beginning(text);
        let Some(place) = plain_path(root, &from) else { continue };
        let fits = |path: &PathBuf| {
            path.ancestors().filter_map(Path::to_str).any(|part| !part.is_empty() && pattern.matches(part))
        };
        let candidates = match place.symlink_metadata()?.is_dir() {
            true => walk_at(&place, &from, watch)?,
            false => vec![from],
        };
        for path in candidates {
            watch.check()?;
            if fits(&path) {
                all.insert(path);
            }
        }
    }
    Ok(all.into_iter().collect())
}

/// Everything below a folder, by paths that begin with `from`. How long files are is not yet asked: few may fit.
fn walk_at(folder: &Path, from: &Path, watch: &Watch) -> io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    pondrix_files::walk(folder, Order::Any, &Bounds::KEPT, watch, |one| {
        if one.kind() != FileType::Directory {
            found.push(from.join(one.path));
        }
        Ok(())
    })?;
    Ok(found)
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
