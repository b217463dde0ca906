//! The programs that this machine has.

use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// The names of every program that a shell would find in the folders of this variable (`PATH`).
pub(crate) fn programs(path: &str) -> BTreeSet<String> {
    let folders = path.split(':').filter(|folder| Path::new(folder).is_absolute());
    let entries = folders.filter_map(|folder| std::fs::read_dir(folder).ok()).flatten().flatten();
    let is_program = |entry: &std::fs::DirEntry| {
        // A link counts as what it leads to.
        let data = std::fs::metadata(entry.path());
        data.is_ok_and(|data| data.is_file() && data.permissions().mode() & 0o111 != 0)
    };
    entries.filter(is_program).filter_map(|entry| entry.file_name().into_string().ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_programs_are_found_and_only_in_folders_that_are_named_whole() {
        let folder = tempfile::tempdir().unwrap();
        for (name, mode) in [("spade", 0o755), ("label", 0o644)] {
            let path = folder.path().join(name);
            std::fs::write(&path, "").unwrap();
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        }
        std::os::unix::fs::symlink("spade", folder.path().join("shovel")).unwrap();
        let found = programs(&format!("bin:{}:/no/such/folder", folder.path().display()));
        assert_eq!(found.into_iter().collect::<Vec<_>>(), ["shovel", "spade"]);
    }
}
