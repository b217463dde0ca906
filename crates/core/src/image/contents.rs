//! What is in images: the files of their layers, and how two images differ.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Package;

/// Something in a layer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Its path, without a slash in front.
    pub path: String,
    /// What it is.
    pub kind: EntryKind,
    /// Its permissions.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub mode: u32,
    /// Its user and group.
    #[serde(default, skip_serializing_if = "is_root")]
    pub owner: (u32, u32),
    /// How long it is, in bytes.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub size: u64,
    /// A digest of what is in it, or where a link points.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub content: String,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
const fn is_zero(number: &u32) -> bool {
    *number == 0
}

const fn is_root(owner: &(u32, u32)) -> bool {
    matches!(owner, (0, 0))
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
const fn is_nothing(number: &u64) -> bool {
    *number == 0
}

/// What something in a layer is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum EntryKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A folder that hides what lower layers have in it.
    Cover,
    /// A symbolic link.
    Link,
    /// A name that is removed from the layers below.
    Removed,
    /// A pipe.
    Pipe,
}

/// The files of a stack of layers, the lowest first, by path, as a container would see them.
#[must_use]
pub fn merge<'a>(layers: impl IntoIterator<Item = &'a [Entry]>) -> BTreeMap<&'a str, &'a Entry> {
    let mut all: BTreeMap<&str, &Entry> = BTreeMap::new();
    for layer in layers {
        // What a layer removes or covers is of those below it, and never its own.
        for entry in layer.iter().filter(|entry| matches!(entry.kind, EntryKind::Removed | EntryKind::Cover)) {
            remove(&mut all, &entry.path, entry.kind == EntryKind::Removed);
        }
        for entry in layer.iter().filter(|entry| entry.kind != EntryKind::Removed) {
            let is_folder = |entry: &Entry| matches!(entry.kind, EntryKind::Folder | EntryKind::Cover);
            if !is_folder(entry) && all.get(entry.path.as_str()).is_some_and(|below| is_folder(below)) {
                remove(&mut all, &entry.path, true);
            }
            all.insert(&entry.path, entry);
        }
    }
    all
}

/// Removes what is below a path, and the path itself.
fn remove(all: &mut BTreeMap<&str, &Entry>, path: &str, itself: bool) {
    let lead = format!("{path}/");
    let below: Vec<&str> =
        all.range(lead.as_str()..).map(|(path, _)| *path).take_while(|path| path.starts_with(&lead)).collect();
    for path in below {
        all.remove(path);
    }
    if itself {
        all.remove(path);
    }
}

/// How a file of one image is in another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileChange {
    /// Its path.
    pub path: String,
    /// Its size in the first image; nothing where it is not there.
    pub before: Option<u64>,
    /// Its size in the other.
    pub after: Option<u64>,
    /// What is not the same, of what is in both: `content`, `kind`, `mode`, `owner`.
    pub differs: Vec<String>,
}

/// The files in which two images differ, by path. What is in a folder that only one has is told with it.
#[must_use]
pub fn file_changes(one: &BTreeMap<&str, &Entry>, other: &BTreeMap<&str, &Entry>) -> Vec<FileChange> {
    let mut paths: Vec<&str> = one.keys().chain(other.keys()).copied().collect();
    paths.sort_unstable();
    paths.dedup();
    let change = |path: &str| {
        let (before, after) = (one.get(path), other.get(path));
        let differs = match (before, after) {
            (Some(before), Some(after)) => differences(before, after),
            _ => Vec::new(),
        };
        let is_same = before.is_some() && after.is_some() && differs.is_empty();
        let size = |entry: &&Entry| entry.size;
        (!is_same).then(|| FileChange {
            path: path.to_owned(),
            before: before.map(size),
            after: after.map(size),
            differs,
        })
    };
    paths.into_iter().filter_map(change).collect()
}

fn differences(before: &Entry, after: &Entry) -> Vec<String> {
    let kind = |entry: &Entry| if entry.kind == EntryKind::Cover { EntryKind::Folder } else { entry.kind };
    let all = [
        ("kind", kind(before) != kind(after)),
        ("content", before.content != after.content),
        ("mode", before.mode != after.mode),
        ("owner", before.owner != after.owner),
    ];
    all.into_iter().filter(|(_, differs)| *differs).map(|(word, _)| word.to_owned()).collect()
}

/// How a package of one image is in another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PackageChange {
    /// What kind of package it is.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Its versions in the first image.
    pub before: Vec<String>,
    /// Its versions in the other.
    pub after: Vec<String>,
}

/// The packages in which two images differ, by kind and name.
#[must_use]
pub fn package_changes(one: &[Package], other: &[Package]) -> Vec<PackageChange> {
    type Versions = (Vec<String>, Vec<String>);
    let mut all: BTreeMap<(String, &str), Versions> = BTreeMap::new();
    let key = |package: &Package| package.kind.to_string();
    for package in one {
        all.entry((key(package), &package.name)).or_default().0.push(package.version.clone());
    }
    for package in other {
        all.entry((key(package), &package.name)).or_default().1.push(package.version.clone());
    }
    for (before, after) in all.values_mut() {
        for versions in [before, after] {
            versions.sort();
            versions.dedup();
        }
    }
    let changed = all.into_iter().filter(|(_, (before, after))| before != after);
    changed
        .map(|((kind, name), (before, after))| PackageChange { kind, name: name.to_owned(), before, after })
        .collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn entry(path: &str, kind: EntryKind, content: &str) -> Entry {
        let size = content.len() as u64;
        Entry { path: path.to_owned(), kind, mode: 0o644, owner: (0, 0), size, content: content.to_owned() }
    }

    #[test]
    fn higher_layers_remove_cover_and_replace_what_lower_ones_have() {
        let low = [
            entry("a", EntryKind::Folder, ""),
            entry("a/b", EntryKind::File, "1"),
            entry("a/c", EntryKind::Folder, ""),
            entry("a/c/d", EntryKind::File, "2"),
            entry("a.txt", EntryKind::File, "3"),
            entry("e", EntryKind::Folder, ""),
            entry("e/f", EntryKind::File, "4"),
        ];
        let high = [
            entry("a/b", EntryKind::Removed, ""),
            entry("a/c", EntryKind::Cover, ""),
            entry("a/c/new", EntryKind::File, "5"),
            entry("e", EntryKind::File, "6"),
        ];
        let merged = merge([&low[..], &high[..]]);
        assert_eq!(merged.keys().copied().collect::<Vec<_>>(), ["a", "a.txt", "a/c", "a/c/new", "e"]);
        assert_eq!(merged["e"].content, "6");
        let changes = file_changes(&merge([&low[..]]), &merged);
        let told: Vec<_> = changes.iter().map(|change| (change.path.as_str(), change.before, change.after)).collect();
        let expected = [
            ("a/b", Some(1), None),
            ("a/c/d", Some(1), None),
            ("a/c/new", None, Some(1)),
            ("e", Some(0), Some(1)),
            ("e/f", Some(1), None),
        ];
        assert_eq!(told, expected);
        assert_eq!(changes[3].differs, ["kind", "content"]);
    }

    #[test]
    fn packages_differ_by_version_and_by_being_there() {
        let package = |name: &str, version: &str| Package::new(super::super::PackageKind::Debian, name, version);
        let one = [package("libc", "2.36"), package("tzdata", "1"), package("curl", "8.0"), package("curl", "8.1")];
        let other = [package("libc", "2.41"), package("tzdata", "1"), package("zlib", "1.3"), package("curl", "8.1")];
        let changes = package_changes(&one, &other);
        let told: Vec<_> = changes.iter().map(|c| (c.name.as_str(), c.before.join(" "), c.after.join(" "))).collect();
        let expected = [("curl", "8.0 8.1", "8.1"), ("libc", "2.36", "2.41"), ("zlib", "", "1.3")];
        assert_eq!(told, expected.map(|(name, before, after)| (name, before.to_owned(), after.to_owned())));
    }

    fn any_layer() -> impl Strategy<Value = Vec<Entry>> {
        let kind = prop::sample::select(vec![
            EntryKind::File,
            EntryKind::Folder,
            EntryKind::Cover,
            EntryKind::Link,
            EntryKind::Removed,
        ]);
        let one =
            ("[ab](/[ab]){0,2}", kind, "[x-z]{0,2}").prop_map(|(path, kind, content)| entry(&path, kind, &content));
        prop::collection::vec(one, 0..8)
    }

    proptest! {
        #[test]
        fn nothing_removed_is_seen_and_an_image_differs_in_nothing_from_itself(
            layers in prop::collection::vec(any_layer(), 0..4)
        ) {
            let merged = merge(layers.iter().map(Vec::as_slice));
            prop_assert!(merged.values().all(|entry| entry.kind != EntryKind::Removed));
            prop_assert!(file_changes(&merged, &merged).is_empty());
            // Each layer alone over all below it is the same as all at once.
            let flat: Vec<Vec<Entry>> = vec![merged.values().map(|entry| (*entry).clone()).collect()];
            let again = merge(flat.iter().map(Vec::as_slice));
            prop_assert_eq!(merged.keys().collect::<Vec<_>>(), again.keys().collect::<Vec<_>>());
        }
    }
}
