//! Stacks of layers, against what is there when their archives are applied one after the other.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use pondrix_core::image::Digest;
use proptest::prelude::*;
use tar::EntryType;

use super::ids;
use crate::hash::digest_of;
use crate::oci::{Descriptor, media};
use crate::rootfs::Layers;
use crate::store::Store;

/// What a layer has at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Thing {
    File(u32, String),
    Folder { mode: u32, owner: u32 },
    Link(String),
}

/// What a folder is like that nobody said anything of.
const PLAIN: Thing = Thing::Folder { mode: 0o755, owner: 0 };

/// An entry of a layer's archive.
#[derive(Clone, Debug)]
enum Entry {
    There(Thing),
    /// What lower layers have here is gone.
    Removed,
    /// What lower layers have in this folder is gone.
    Hides,
}

type Layer = Vec<(PathBuf, Entry)>;
type Tree = BTreeMap<PathBuf, Thing>;

fn any_path() -> impl Strategy<Value = PathBuf> {
    prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4).prop_map(|parts| parts.iter().collect())
}

fn any_layer() -> impl Strategy<Value = Layer> {
    let mode = || prop::sample::select(vec![0o755_u32, 0o700, 0o1777]);
    let link = prop::sample::select(vec!["a", "/b", "b/c", "../a", "/c/a", "nowhere"]);
    let entry = prop_oneof![
        4 => (mode(), "[xyz]").prop_map(|(mode, text)| Entry::There(Thing::File(mode & 0o777, text))),
        3 => (mode(), prop::sample::select(vec![0_u32, 7]))
            .prop_map(|(mode, owner)| Entry::There(Thing::Folder { mode, owner })),
        2 => link.prop_map(|to| Entry::There(Thing::Link(to.to_owned()))),
        1 => Just(Entry::Removed),
        1 => Just(Entry::Hides),
    ];
    prop::collection::vec((any_path(), entry), 1..6).prop_map(plain)
}

/// A layer as programs write them: one thing at a path, and nothing below what is no folder.
fn plain(entries: Layer) -> Layer {
    let mut kept: Layer = Vec::new();
    for (path, entry) in entries {
        let clashes = |(other, there): &(PathBuf, Entry)| {
            let is_closed =
                |entry: &Entry| matches!(entry, Entry::Removed | Entry::There(Thing::File(..) | Thing::Link(_)));
            *other == path
                || (path.starts_with(other) && is_closed(there))
                || (other.starts_with(&path) && is_closed(&entry))
        };
        if !kept.iter().any(clashes) {
            kept.push((path, entry));
        }
    }
    kept
}

/// Where a path leads, every link followed; nothing when that goes round in a circle.
fn follow(tree: &Tree, path: &Path) -> Option<PathBuf> {
    let mut real = PathBuf::new();
    let parts = |path: &Path| path.iter().rev().map(std::ffi::OsStr::to_owned).collect::<Vec<_>>();
    let (mut rest, mut followed) = (parts(path), 0);
    while let Some(part) = rest.pop() {
        if part == "/" {
            real = PathBuf::new();
        } else if part == ".." {
            real.pop();
        } else if let Some(Thing::Link(to)) = tree.get(&real.join(&part)) {
            followed += 1;
            if followed > 40 {
                return None;
            }
            rest.extend(parts(Path::new(to)));
        } else {
            real.push(part);
        }
    }
    Some(real)
}

fn is_folder(tree: &Tree, path: &Path) -> bool {
    path.as_os_str().is_empty() || matches!(tree.get(path), Some(Thing::Folder { .. }))
}

/// Where something of a layer comes: through the links of what is there already, but where the layer itself has a
/// folder. With where the last link leads that it comes through.
fn place(tree: &Tree, said: &BTreeSet<PathBuf>, folder: &Path) -> (PathBuf, Option<PathBuf>) {
    let (mut real, mut named, mut led) = (PathBuf::new(), PathBuf::new(), None);
    for part in folder {
        named.push(part);
        let next = real.join(part);
        let is_link = matches!(tree.get(&next), Some(Thing::Link(_))) && !said.contains(&named);
        let target = if is_link { follow(tree, &next).filter(|target| is_folder(tree, target)) } else { None };
        led = target.clone().or(led);
        real = target.unwrap_or(next);
    }
    (real, led)
}

/// Applies a layer as its archive says, removals first; nothing where it depends on the order of its entries what comes
/// of it.
fn apply(tree: &mut Tree, layer: &Layer) -> Option<()> {
    let is_said = |entry: &Entry| matches!(entry, Entry::There(Thing::Folder { .. }));
    let said: BTreeSet<PathBuf> =
        layer.iter().filter(|(_, entry)| is_said(entry)).map(|(path, _)| path.clone()).collect();
    let mut sorted: Vec<&(PathBuf, Entry)> = layer.iter().collect();
    sorted.sort_by_key(|(path, _)| path.components().count());
    let placed = |tree: &Tree, (path, entry): &(PathBuf, Entry)| match entry {
        Entry::Hides => place(tree, &said, path),
        _ => {
            let (folder, led) = place(tree, &said, path.parent().unwrap());
            (folder.join(path.file_name().unwrap()), led)
        }
    };
    let places: Vec<(PathBuf, Option<PathBuf>)> = sorted.iter().map(|entry| placed(tree, entry)).collect();
    for ((_, entry), (real, _)) in sorted.iter().zip(&places) {
        match entry {
            Entry::Removed => tree.retain(|other, _| !other.starts_with(real)),
            Entry::Hides => tree.retain(|other, _| !other.starts_with(real) || other == real),
            Entry::There(_) => {}
        }
    }
    // What comes through a link must not meet what comes by its own name, nor a change of what leads it. To hide what
    // is below a folder is no matter of order.
    let hides = |number: usize| matches!(sorted[number].1, Entry::Hides);
    for (number, (one, led)) in places.iter().enumerate() {
        let meets = |(other, (place, _)): (usize, &(PathBuf, Option<PathBuf>))| {
            let is_inside = one.starts_with(place) && !hides(other);
            other != number && (is_inside || (place.starts_with(one) && !hides(number)))
        };
        if led.is_some() && places.iter().enumerate().any(meets) {
            return None;
        }
    }
    for ((_, entry), (real, led)) in sorted.iter().zip(&places) {
        if led.as_ref().is_some_and(|led| !is_folder(tree, led)) {
            return None;
        }
        let above = real.ancestors().skip(usize::from(!matches!(entry, Entry::Hides)));
        let above: Vec<&Path> = above.filter(|above| !above.as_os_str().is_empty()).collect();
        // To remove what was never there makes a folder for it, or does not.
        if matches!(entry, Entry::Removed) && led.is_some() && above.iter().any(|above| !is_folder(tree, above)) {
            return None;
        }
        for folder in above.into_iter().rev() {
            if !is_folder(tree, folder) {
                tree.insert(folder.to_owned(), PLAIN);
            }
        }
        let Entry::There(thing) = entry else { continue };
        if !(is_folder(tree, real) && matches!(thing, Thing::Folder { .. })) {
            tree.retain(|other, _| !other.starts_with(real));
        }
        tree.insert(real.clone(), thing.clone());
    }
    // Nor may it be another one that would lead it when all is done.
    sorted.iter().zip(&places).all(|(entry, (real, led))| led.is_none() || placed(tree, entry).0 == *real).then_some(())
}

fn archive(layer: &Layer) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (path, entry) in layer {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o644);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(5);
        header.set_size(0);
        match entry {
            Entry::There(Thing::File(mode, text)) => {
                header.set_mode(*mode);
                header.set_size(text.len() as u64);
                builder.append_data(&mut header, path, text.as_bytes()).unwrap();
            }
            Entry::There(Thing::Folder { mode, owner }) => {
                header.set_entry_type(EntryType::Directory);
                header.set_mode(*mode);
                header.set_uid((*owner).into());
                builder.append_data(&mut header, path, std::io::empty()).unwrap();
            }
            Entry::There(Thing::Link(to)) => {
                header.set_entry_type(EntryType::Symlink);
                builder.append_link(&mut header, path, to).unwrap();
            }
            Entry::Removed => {
                let name = format!(".wh.{}", path.file_name().unwrap().to_str().unwrap());
                builder.append_data(&mut header, path.with_file_name(name), std::io::empty()).unwrap();
            }
            Entry::Hides => {
                builder.append_data(&mut header, path.join(".wh..wh..opq"), std::io::empty()).unwrap();
            }
        }
    }
    builder.into_inner().unwrap()
}

/// What layers show.
fn shown(layers: &Layers<'_>, folder: &Path, tree: &mut Tree) {
    for (name, (on_disk, _)) in layers.list(&Path::new("/").join(folder)).unwrap() {
        let (path, data) = (folder.join(name), fs::symlink_metadata(&on_disk).unwrap());
        assert_eq!(layers.find(&path), Some(on_disk.clone()));
        let mode = data.mode() & 0o7777;
        let thing = if data.is_dir() {
            Thing::Folder { mode, owner: ids().to_inside(data.uid(), data.gid()).0 }
        } else if data.is_symlink() {
            Thing::Link(fs::read_link(&on_disk).unwrap().to_str().unwrap().to_owned())
        } else {
            Thing::File(mode, fs::read_to_string(&on_disk).unwrap())
        };
        tree.insert(path.clone(), thing);
        if data.is_dir() {
            shown(layers, &path, tree);
        }
    }
}

/// The layers in a store, unpacked, as commands and copies see them.
fn stacked(store: &Store, layers: &[Layer]) -> Vec<PathBuf> {
    let parts: Vec<(Descriptor, Digest)> = layers
        .iter()
        .map(|layer| {
            let bytes = archive(layer);
            let blob = Descriptor {
                media_type: media::LAYER_GZIP.to_owned(),
                digest: store.add_blob(&bytes).unwrap(),
                size: bytes.len() as u64,
                platform: None,
                annotations: BTreeMap::new(),
                artifact_type: None,
            };
            (blob, digest_of(&bytes))
        })
        .collect();
    let (blobs, diff_ids): (Vec<_>, Vec<_>) = parts.into_iter().unzip();
    store.unpacked(&blobs, &diff_ids).unwrap()
}

/// Compares, where what a layer says does not depend on the order of its entries.
fn is_as_applied(layers: &[Layer]) -> Result<(), TestCaseError> {
    let mut expected = Tree::new();
    for layer in layers {
        prop_assume!(apply(&mut expected, layer).is_some());
    }
    if !ids().is_range() {
        for thing in expected.values_mut() {
            if let Thing::Folder { owner, .. } = thing {
                *owner = 0;
            }
        }
    }
    let place = tempfile::tempdir().unwrap();
    let store = Store::open(place.path(), ids()).unwrap();
    let paths = stacked(&store, layers);
    let mut found = Tree::new();
    shown(&Layers(&paths), Path::new(""), &mut found);
    prop_assert_eq!(&found, &expected);
    // Once more, from what the store knows now, and from what another start of it knows.
    prop_assert_eq!(&stacked(&store, layers), &paths);
    let once: BTreeSet<_> = paths.iter().collect();
    prop_assert_eq!(once.len(), paths.len(), "the kernel takes no folder twice");
    let again = Store::open(place.path(), ids()).unwrap();
    prop_assert_eq!(&stacked(&again, layers), &paths);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { max_global_rejects: 100_000, ..ProptestConfig::with_cases(150) })]

    #[test]
    fn layers_that_leave_folders_out_show_what_their_archives_give_when_applied_one_after_the_other(
        layers in prop::collection::vec(any_layer(), 2..5),
        again in prop::option::of((0_usize..5, 0_usize..5)),
    ) {
        let mut layers = layers;
        // One of them comes once more.
        if let Some((from, to)) = again {
            let layer = layers[from % layers.len()].clone();
            layers.insert(to % (layers.len() + 1), layer);
        }
        is_as_applied(&layers)?;
    }
}

#[test]
fn a_folder_that_a_layer_leaves_out_stays_what_it_was_and_a_link_stays_a_link() {
    let file = |path: &str| (PathBuf::from(path), Entry::There(Thing::File(0o644, "x".to_owned())));
    let folder = |path: &str, mode| (PathBuf::from(path), Entry::There(Thing::Folder { mode, owner: 0 }));
    let base = vec![
        folder("tmp", 0o1777),
        folder("root", 0o700),
        folder("usr", 0o755),
        folder("usr/bin", 0o711),
        file("usr/bin/sh"),
        (PathBuf::from("bin"), Entry::There(Thing::Link("usr/bin".to_owned()))),
    ];
    for upper in [
        vec![file("tmp/list"), file("root/deep/note"), file("bin/tool")],
        vec![file("bin/tool"), (PathBuf::from("bin/sh"), Entry::Removed)],
        vec![file("bin/new/tool"), folder("tmp/own", 0o700)],
        vec![file("bin/tool"), (PathBuf::from("bin"), Entry::Hides)],
        // Removed and there again: a new folder, like any.
        vec![(PathBuf::from("root"), Entry::Removed), file("tmp/x")],
    ] {
        is_as_applied(&[base.clone(), upper.clone()]).unwrap_or_else(|fault| panic!("{upper:?}: {fault}"));
        is_as_applied(&[base.clone(), upper.clone(), vec![file("tmp/more")]]).unwrap();
    }
}
