//! The files of a workspace. No link is followed: nothing outside of it is ever seen.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use pondrix_core::pipeline::Pattern;

/// Everything below a folder that is no folder itself, by its path from there, in order.
pub(super) fn walk(root: &Path) -> io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    let mut folders = vec![PathBuf::new()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(root.join(&folder))? {
            let entry = entry?;
            let path = folder.join(entry.file_name());
            if entry.file_type()?.is_dir() { folders.push(path) } else { found.push(path) }
        }
    }
    found.sort();
    Ok(found)
}

/// The files that fit one of the patterns, themselves or as part of a folder that does.
pub(super) fn fitting(root: &Path, patterns: &[String]) -> io::Result<Vec<PathBuf>> {
    let patterns: Vec<_> = patterns.iter().filter_map(|text| Pattern::new(text).ok()).collect();
    let fits = |path: &PathBuf| {
        path.ancestors()
            .filter_map(Path::to_str)
            .any(|part| !part.is_empty() && patterns.iter().any(|p| p.matches(part)))
    };
    Ok(walk(root)?.into_iter().filter(fits).collect())
}

#[cfg(test)]
mod tests {
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
            let found = fitting(folder.path(), &[pattern.to_owned()]).unwrap();
            found.iter().map(|path| path.display().to_string()).collect::<Vec<_>>()
        };
        assert_eq!(found("out"), ["out/b.xml", "out/link", "out/site/a"]);
        assert_eq!(found("out/**"), ["out/b.xml", "out/link", "out/site/a"]);
        assert_eq!(found("out/*.xml"), ["out/b.xml"]);
        assert_eq!(found("out/link/*"), Vec::<String>::new());
    }
}
