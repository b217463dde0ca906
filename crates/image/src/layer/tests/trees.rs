//! Trees: packed as they are, and written into a folder, they are the same layer.

use super::*;
use crate::inventory::Listing;
use crate::layer::tree::{Inode, Node, NodeKind, Tree};
use pondrix_files::Watch;

/// What is in a folder, as a tree.
pub(crate) fn tree_of(root: &Path) -> Tree {
    let mut tree = Tree::default();
    let mut folders = vec![PathBuf::new()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(root.join(&folder)).unwrap() {
            let path = folder.join(entry.unwrap().file_name());
            let on_disk = root.join(&path);
            let data = fs::symlink_metadata(&on_disk).unwrap();
            let inode: Option<Inode> = (data.nlink() > 1).then(|| (data.dev(), data.ino()));
            let kind = if data.is_dir() {
                folders.push(path.clone());
                NodeKind::Folder { is_left_out: false }
            } else if data.is_symlink() {
                NodeKind::Link(fs::read_link(&on_disk).unwrap().into_os_string())
            } else if data.is_file() {
                NodeKind::File { from: on_disk.clone(), length: data.len(), content: None, inode }
            } else {
                continue;
            };
            let attributes = if data.is_symlink() { Vec::new() } else { attributes::read(&on_disk).unwrap() };
            let owner = ids().to_inside(data.uid(), data.gid());
            tree.put(path, Node { kind, mode: data.mode() & 0o7777, owner, time: 5, attributes });
        }
    }
    tree
}

/// Things that a tree can have: it removes and hides nothing.
fn any_copied() -> impl Strategy<Value = Thing> {
    any_thing().prop_map(|thing| match thing {
        Thing::Folder(_) => Thing::Folder(false),
        Thing::Whiteout => Thing::HardLink,
        other => other,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn a_tree_that_is_packed_and_one_that_is_written_are_the_same_layer(
        things in prop::collection::vec((prop::collection::vec(any_name(), 1..4), any_copied()), 0..25)
    ) {
        let folder = tempfile::tempdir().unwrap();
        let place = |name: &str| folder.path().join(name);
        make(&place("from"), &things);
        let tree = tree_of(&place("from"));
        fs::create_dir(place("written")).unwrap();
        tree.write(&place("written"), ids(), &Watch::none()).unwrap();
        let mut bytes = Vec::new();
        let (of_tree, entries) = tree.pack(&mut bytes, Compression::Gzip, &Watch::none()).unwrap();
        unpack(decompressed(Cursor::new(bytes)).unwrap(), &place("unpacked"), ids()).unwrap();
        prop_assert_eq!(listing(&place("written")), listing(&place("unpacked")));
        prop_assert_eq!(packed(&place("written")).0, of_tree);
        // And what is told of it without looking is what is seen who looks.
        prop_assert_eq!(&entries, &Listing::of_folder(&place("unpacked"), ids(), &Watch::none(), &crate::inventory::NoInspector).unwrap().entries);
    }
}

#[test]
fn a_file_that_becomes_shorter_while_it_is_packed_is_a_fault_that_names_it() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("lily"), "lily").unwrap();
    let tree = tree_of(folder.path());
    fs::write(folder.path().join("lily"), "li").unwrap();
    let error = tree.pack(std::io::sink(), Compression::Gzip, &Watch::none()).unwrap_err().to_string();
    assert!(error.ends_with("lily became shorter while it was read"), "{error}");
    // One that becomes longer is taken as it was when it was looked at.
    fs::write(folder.path().join("lily"), "lily and fern").unwrap();
    let (_, entries) = tree.pack(std::io::sink(), Compression::Gzip, &Watch::none()).unwrap();
    assert_eq!(entries[0].size, 4);
}
