//! What is below a layer that is being made.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use pondrix_core::image::EntryKind;
use pondrix_sandbox::IdMap;

use crate::inventory::Listing;
use crate::layer::tree::{Node, NodeKind};
use crate::layer::{FOLDER_MODE, attributes};
use crate::rootfs::{Layers, follow};

/// Layers, the lowest first: those that are unpacked, and over them those that are known by their listings, which all
/// say all.
#[derive(Debug, Default)]
pub(super) struct Below {
    unpacked: Vec<PathBuf>,
    listed: Vec<Arc<Listing>>,
}

/// Something in a layer below.
#[derive(Debug)]
pub(super) enum Found {
    OnDisk(PathBuf),
    Listed(Node),
}

impl Below {
    pub(super) const fn new(unpacked: Vec<PathBuf>, listed: Vec<Arc<Listing>>) -> Self {
        Self { unpacked, listed }
    }

    /// Those that are unpacked, where all of these files are in them, or nowhere, and are found there as they are found
    /// in all layers.
    pub(super) fn unpacked_with(&self, files: [&str; 2]) -> Option<&[PathBuf]> {
        let is_there = |file: &str| {
            let real = self.follow(Path::new(file));
            let is_listed = |real: &PathBuf| matches!(self.find(real), Some(Found::Listed(_)));
            real == Layers(&self.unpacked).follow(Path::new(file)) && !real.as_ref().is_some_and(is_listed)
        };
        files.into_iter().all(is_there).then_some(&self.unpacked)
    }

    /// What the highest layer has that shows this path. The path's parents are not links.
    pub(super) fn find(&self, path: &Path) -> Option<Found> {
        let parts: Vec<_> = path.components().filter(|part| matches!(part, Component::Normal(_))).collect();
        if parts.is_empty() && self.unpacked.is_empty() && !self.listed.is_empty() {
            let kind = NodeKind::Folder { is_left_out: true };
            let time = super::MOMENT;
            return Some(Found::Listed(Node { kind, mode: FOLDER_MODE, owner: (0, 0), time, attributes: Vec::new() }));
        }
        for listing in self.listed.iter().rev().filter(|_| !parts.is_empty()) {
            let mut so_far = PathBuf::new();
            for (number, part) in parts.iter().enumerate() {
                so_far.push(part);
                let Some((entry, looks)) = so_far.to_str().and_then(|path| listing.find(path)) else { break };
                if number + 1 < parts.len() {
                    match entry.kind {
                        EntryKind::Folder => continue,
                        _ => return None,
                    }
                }
                let kind = match entry.kind {
                    EntryKind::Link => NodeKind::Link(OsString::from(&entry.content)),
                    EntryKind::Folder => NodeKind::Folder { is_left_out: false },
                    _ => NodeKind::File { from: PathBuf::new(), length: entry.size, content: None, inode: None },
                };
                let (time, attributes) = looks.map(|looks| (looks.time, looks.attributes.clone())).unwrap_or_default();
                return Some(Found::Listed(Node { kind, mode: entry.mode, owner: entry.owner, time, attributes }));
            }
        }
        Layers(&self.unpacked).find(path).map(Found::OnDisk)
    }

    /// The path with every link in it followed ([`Layers::follow`]).
    pub(super) fn follow(&self, path: &Path) -> Option<PathBuf> {
        follow(path, |path| match self.find(path)? {
            Found::OnDisk(path) => fs::read_link(path).ok(),
            Found::Listed(Node { kind: NodeKind::Link(target), .. }) => Some(PathBuf::from(target)),
            Found::Listed(_) => None,
        })
    }

    /// Whether a path is a folder, links followed.
    pub(super) fn is_folder(&self, path: &Path) -> bool {
        self.follow(path).and_then(|real| self.find(&real)).is_some_and(|found| found.is_folder())
    }
}

impl Found {
    pub(super) fn is_folder(&self) -> bool {
        match self {
            Self::OnDisk(path) => fs::symlink_metadata(path).is_ok_and(|data| data.is_dir()),
            Self::Listed(node) => node.is_folder(),
        }
    }

    /// A folder that looks like this one.
    pub(super) fn into_folder(self, ids: IdMap) -> io::Result<Node> {
        let kind = NodeKind::Folder { is_left_out: false };
        match self {
            Self::Listed(node) => Ok(Node { kind, ..node }),
            Self::OnDisk(path) => {
                let data = fs::symlink_metadata(&path)?;
                Ok(Node {
                    kind,
                    mode: data.mode() & 0o7777,
                    owner: ids.to_inside(data.uid(), data.gid()),
                    time: u64::try_from(data.mtime()).unwrap_or(0),
                    attributes: attributes::read(&path)?,
                })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use proptest::prelude::*;

    use super::*;
    use crate::layer::Compression;
    use crate::layer::tests::trees::tree_of;

    /// A file, folder or link.
    #[derive(Clone, Debug)]
    enum Thing {
        File,
        Folder,
        Link(&'static str),
    }

    fn any_layer() -> impl Strategy<Value = Vec<(String, Thing)>> {
        let path =
            prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4).prop_map(|parts| parts.join("/"));
        let to = prop::sample::select(vec!["/", "..", "a", "/b/c", "../a", "/c"]);
        let thing = prop_oneof![Just(Thing::File), Just(Thing::Folder), to.prop_map(Thing::Link)];
        prop::collection::vec((path, thing), 1..8)
    }

    fn make(root: &Path, layer: &[(String, Thing)]) {
        fs::create_dir_all(root).unwrap();
        for (path, thing) in layer {
            let path = root.join(path);
            let parent = path.parent().unwrap();
            let through_link = parent.ancestors().take_while(|above| *above != root).any(Path::is_symlink);
            if through_link || fs::symlink_metadata(&path).is_ok() || fs::create_dir_all(parent).is_err() {
                continue;
            }
            match thing {
                Thing::File => fs::write(path, "").unwrap(),
                Thing::Folder => fs::create_dir(path).unwrap(),
                Thing::Link(to) => symlink(to, path).unwrap(),
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        #[test]
        fn layers_that_are_listed_say_what_they_say_when_they_are_unpacked(
            layers in prop::collection::vec(any_layer(), 1..4),
            listed in 0_usize..4,
            asked in prop::collection::vec(prop::sample::select(vec!["a", "b", "c", "..", ""]), 1..5),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let ids = IdMap::for_this_process();
            let paths: Vec<_> = (0..layers.len()).map(|number| folder.path().join(number.to_string())).collect();
            let mut listings = Vec::new();
            for (path, layer) in paths.iter().zip(&layers) {
                make(path, layer);
                let tree = tree_of(path);
                let (_, entries) = tree.pack(io::sink(), Compression::Zstd, &pondrix_files::Watch::none()).unwrap();
                let listing = Listing::of_tree(&tree, entries, &[], &crate::inventory::NoInspector);
                prop_assert!(listing.says_all());
                // As the store keeps it.
                listings.push(Arc::new(serde_json::from_slice(&serde_json::to_vec(&listing).unwrap()).unwrap()));
            }
            let count = layers.len() - listed.min(layers.len());
            let below = Below::new(paths[..count].to_vec(), listings.split_off(count));
            let unpacked = Below::new(paths, Vec::new());
            let path = Path::new("/").join(asked.join("/"));
            prop_assert_eq!(below.is_folder(&path), unpacked.is_folder(&path));
            let real = below.follow(&path);
            prop_assert_eq!(&real, &unpacked.follow(&path));
            let Some(real) = real else { return Ok(()) };
            let folder_at = |below: &Below| {
                let node = below.find(&real).filter(Found::is_folder).map(|found| found.into_folder(ids).unwrap());
                node.map(|node| (node.mode, node.owner, node.attributes))
            };
            prop_assert_eq!(below.find(&real).is_some(), unpacked.find(&real).is_some());
            if real != Path::new("/") {
                prop_assert_eq!(folder_at(&below), folder_at(&unpacked));
            }
        }
    }
}
