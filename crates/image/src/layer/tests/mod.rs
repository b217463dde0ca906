use std::collections::BTreeMap;
use std::fs;
use std::io::{Cursor, Read, Seek, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_sandbox::IdMap;
use proptest::prelude::*;
use rustix::fs::{CWD, FileType, Mode, XattrFlags};

use super::*;

pub(crate) mod deep;
mod stacks;
pub(crate) mod trees;

const MOMENT: u64 = 1_700_000_000;

fn ids() -> IdMap {
    IdMap::for_this_process()
}

/// An archive with these entries: name, kind, mode, content or link's target.
fn archive(entries: &[(&str, tar::EntryType, u32, &str)]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, kind, mode, content) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(*kind);
        header.set_mode(*mode);
        header.set_mtime(5);
        header.set_uid(0);
        header.set_gid(0);
        // Names are written as they are: `Builder::append_data` would refuse those that climb.
        header.as_mut_bytes()[..name.len()].copy_from_slice(name.as_bytes());
        let is_link = matches!(kind, tar::EntryType::Symlink | tar::EntryType::Link);
        if is_link {
            header.set_link_name_literal(content).unwrap();
        }
        let data = if is_link { &[][..] } else { content.as_bytes() };
        header.set_size(data.len() as u64);
        header.set_cksum();
        builder.append(&header, data).unwrap();
    }
    builder.into_inner().unwrap()
}

fn unpacked(entries: &[(&str, tar::EntryType, u32, &str)]) -> Result<(tempfile::TempDir, PathBuf), UnpackError> {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("layer");
    unpack(Cursor::new(archive(entries)), &root, ids())?;
    Ok((folder, root))
}

fn packed(root: &Path) -> (Packed, Vec<u8>) {
    let mut bytes = Vec::new();
    let times = Times { since: SystemTime::UNIX_EPOCH + Duration::from_secs(MOMENT), moment: MOMENT, of: Of::All };
    let packed =
        pack(root, &mut bytes, ids(), &Contents::whole(times), Compression::Gzip, &pondrix_files::Watch::none())
            .unwrap();
    (packed, bytes)
}

use tar::EntryType::{Directory, Link, Regular, Symlink};

#[test]
fn a_name_that_climbs_out_of_the_layer_is_refused() {
    for name in ["../evil", "a/../../evil"] {
        let error = unpacked(&[(name, Regular, 0o644, "x")]).unwrap_err();
        assert!(matches!(error, UnpackError::Leaves(_)), "{error}");
    }
    // An absolute name is a name below the layer's root.
    let (_folder, root) = unpacked(&[("/etc/motd", Regular, 0o644, "x")]).unwrap();
    assert!(root.join("etc/motd").is_file());
}

#[test]
fn no_link_in_a_layer_is_followed_while_it_is_unpacked() {
    let outside = tempfile::tempdir().unwrap();
    let target = outside.path().to_str().unwrap();
    assert!(unpacked(&[("a", Symlink, 0o777, target), ("a/evil", Regular, 0o644, "x")]).is_err());
    let kept = outside.path().join("kept");
    fs::write(&kept, "mine").unwrap();
    // A file that replaces a link replaces the link and not what it points at.
    let (_folder, root) =
        unpacked(&[("b", Symlink, 0o777, kept.to_str().unwrap()), ("b", Regular, 0o644, "theirs")]).unwrap();
    assert_eq!(fs::read_to_string(&kept).unwrap(), "mine");
    assert_eq!(fs::read_to_string(root.join("b")).unwrap(), "theirs");
    assert!(unpacked(&[("c", Link, 0o644, "../../../../etc/passwd")]).is_err());
    assert!(fs::read_dir(outside.path()).unwrap().count() == 1);
}

#[test]
fn the_mode_of_a_folder_that_something_else_replaced_is_forgotten_and_what_a_link_leads_to_keeps_its_own() {
    let outside = tempfile::tempdir().unwrap();
    fs::create_dir(outside.path().join("secret")).unwrap();
    let mode_of = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o7777;
    let paths = [outside.path().to_owned(), outside.path().join("secret")];
    for path in &paths {
        fs::set_permissions(path, PermissionsExt::from_mode(0o700)).unwrap();
    }
    let target = outside.path().to_str().unwrap();
    for entries in [
        vec![("d", Directory, 0o777, ""), ("d", Symlink, 0o777, target)],
        vec![("a/secret", Directory, 0o777, ""), ("a", Symlink, 0o777, target)],
        vec![("a/secret", Directory, 0o777, ""), (".wh.a", Regular, 0o644, ""), ("a", Symlink, 0o777, target)],
    ] {
        let (_folder, root) = unpacked(&entries).unwrap();
        assert!(root.join(entries[entries.len() - 1].0).is_symlink());
        for path in &paths {
            assert_eq!(mode_of(path), 0o700, "{entries:?}");
        }
    }
    // No harm is meant: a file comes in place of a folder, and a folder in place of that.
    let entries = [("a/b", Directory, 0o700, ""), ("a", Regular, 0o600, "x"), ("ab", Directory, 0o701, "")];
    let (_folder, root) = unpacked(&entries).unwrap();
    assert_eq!((fs::read_to_string(root.join("a")).unwrap().as_str(), mode_of(&root.join("ab"))), ("x", 0o701));
    let entries = [("a", Directory, 0o700, ""), ("a", Regular, 0o600, "x"), ("a", Directory, 0o711, "")];
    let (_folder, root) = unpacked(&entries).unwrap();
    assert_eq!(mode_of(&root.join("a")), 0o711);
    // Closed to whoever unpacks it, with something in it.
    let entries = [("z", Directory, 0o000, ""), ("z/y", Directory, 0o500, ""), ("z/y/x", Regular, 0o400, "x")];
    let (_folder, root) = unpacked(&entries).unwrap();
    assert_eq!(mode_of(&root.join("z")), 0);
    fs::set_permissions(root.join("z"), PermissionsExt::from_mode(0o700)).unwrap();
    assert_eq!(mode_of(&root.join("z/y")), 0o500);
    fs::set_permissions(root.join("z/y"), PermissionsExt::from_mode(0o700)).unwrap();
}

#[test]
fn removed_names_and_hiding_folders_become_what_overlayfs_reads_and_come_back_as_they_were() {
    let entries = [
        ("etc/.wh.old", Regular, 0o644, ""),
        ("var/", Directory, 0o755, ""),
        ("var/.wh..wh..opq", Regular, 0o644, ""),
        ("var/new", Regular, 0o644, "n"),
    ];
    let (_folder, root) = unpacked(&entries).unwrap();
    assert!(pack::is_whiteout(&fs::symlink_metadata(root.join("etc/old")).unwrap()));
    assert!(pack::is_opaque(&root.join("var")) && !pack::is_opaque(&root.join("etc")));
    let (_, bytes) = packed(&root);
    let mut names = Vec::new();
    let mut plain = Vec::new();
    decompressed(Cursor::new(bytes)).unwrap().read_to_end(&mut plain).unwrap();
    for entry in tar::Archive::new(&plain[..]).entries().unwrap() {
        names.push(entry.unwrap().path().unwrap().to_string_lossy().into_owned());
    }
    assert_eq!(names, ["etc", "etc/.wh.old", "var", "var/.wh..wh..opq", "var/new"]);
}

#[test]
fn damaged_archives_are_refused_and_not_taken_in_part() {
    let whole = archive(&[("a", Regular, 0o644, &"x".repeat(2000))]);
    let folder = tempfile::tempdir().unwrap();
    assert!(unpack(Cursor::new(&whole[..900]), &folder.path().join("cut"), ids()).is_err());
    let mut flipped = whole;
    flipped[150] ^= 0xff;
    assert!(unpack(Cursor::new(flipped), &folder.path().join("flipped"), ids()).is_err());
}

#[test]
fn an_archive_that_says_of_itself_that_it_is_endless_is_refused_before_it_fills_memory_or_disk() {
    // Headers of what would come, with nothing behind them: what they say is enough.
    let of = |kind: tar::EntryType, name: &str, size: u64| {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_path(name).unwrap();
        header.set_mode(0o644);
        header.set_size(size);
        header.set_cksum();
        header.as_bytes().to_vec()
    };
    let told = |header: Vec<u8>| {
        let folder = tempfile::tempdir().unwrap();
        // As if it went on for ever.
        let endless = std::io::Read::chain(std::io::Cursor::new(header), std::io::repeat(b'x'));
        unpack(endless, &folder.path().join("layer"), ids()).unwrap_err().to_string()
    };
    for kind in [
        tar::EntryType::XHeader,
        tar::EntryType::GNULongName,
        tar::EntryType::GNULongLink,
        tar::EntryType::XGlobalHeader,
    ] {
        let words = told(of(kind, "lily", 10 << 30));
        assert!(words.contains("what stands before a file in the archive is longer than 1 MiB"), "{kind:?}: {words}");
    }
    let words = told(of(tar::EntryType::Regular, "lily", 65 << 30));
    assert_eq!(words, "lily: the files of the archive are larger than 64 GiB together");
}

/// What is in a tree: names, kinds, modes, contents, links. Times are those of the archive.
fn listing(root: &Path) -> BTreeMap<Vec<u8>, String> {
    let mut all = BTreeMap::new();
    let mut folders = vec![PathBuf::new()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(root.join(&folder)).unwrap() {
            let path = folder.join(entry.unwrap().file_name());
            let data = fs::symlink_metadata(root.join(&path)).unwrap();
            let mut told = format!("{:o} {:?}", data.mode(), ids().to_inside(data.uid(), data.gid()));
            if !data.is_symlink() {
                told += &format!(" {:?}", super::attributes::read(&root.join(&path)).unwrap());
            }
            if data.is_file() {
                told += &format!(" {} {:?} x{}", data.mtime(), fs::read(root.join(&path)).unwrap(), data.nlink());
            } else if data.is_symlink() {
                told += &format!(" -> {:?}", fs::read_link(root.join(&path)).unwrap());
            } else if data.is_dir() {
                told += &format!(" {} {}", data.mtime(), pack::is_opaque(&root.join(&path)));
                folders.push(path.clone());
            }
            all.insert(path.as_os_str().as_bytes().to_vec(), told);
        }
    }
    all
}

#[derive(Clone, Debug)]
enum Thing {
    File(Vec<u8>, u32),
    Folder(bool),
    Symlink(String),
    Whiteout,
    HardLink,
    /// A file with a hole in front of its bytes, of this length.
    Sparse(u64),
    /// A file with an attribute, of a user.
    Marked(Vec<u8>, u32),
}

fn any_thing() -> impl Strategy<Value = Thing> {
    prop_oneof![
        (prop::collection::vec(any::<u8>(), 0..40), prop::sample::select(vec![0o644, 0o755, 0o600, 0o4755]))
            .prop_map(|(bytes, mode)| Thing::File(bytes, mode)),
        any::<bool>().prop_map(Thing::Folder),
        prop_oneof!["[a-z/.]{1,12}", "[a-z/]{101,130}"].prop_map(Thing::Symlink),
        Just(Thing::Whiteout),
        Just(Thing::HardLink),
        (0_u64..300_000).prop_map(Thing::Sparse),
        (prop::collection::vec(any::<u8>(), 0..30), 0_u32..65_535)
            .prop_map(|(bytes, owner)| Thing::Marked(bytes, owner)),
    ]
}

/// Names that are no UTF-8, that are long, that have spaces.
fn any_name() -> impl Strategy<Value = Vec<u8>> {
    prop_oneof![
        "[a-c]{1,2}".prop_map(String::into_bytes),
        Just(b"no\xffutf8".to_vec()),
        Just(b"with space".to_vec()),
        Just(vec![b'l'; 140]),
    ]
}

fn make(root: &Path, things: &[(Vec<Vec<u8>>, Thing)]) {
    fs::create_dir_all(root).unwrap();
    let mut first_file: Option<PathBuf> = None;
    for (parts, thing) in things {
        let mut path = root.to_owned();
        path.extend(parts.iter().map(|part| std::ffi::OsStr::from_bytes(part)));
        let parent = path.parent().unwrap();
        // A link that was made before may lead anywhere on this machine: nothing is made through one.
        let through_link = parent.ancestors().take_while(|above| *above != root).any(Path::is_symlink);
        if through_link || fs::symlink_metadata(&path).is_ok() || fs::create_dir_all(parent).is_err() {
            continue;
        }
        match thing {
            Thing::File(bytes, mode) => {
                fs::write(&path, bytes).unwrap();
                fs::set_permissions(&path, PermissionsExt::from_mode(*mode)).unwrap();
                first_file.get_or_insert(path);
            }
            Thing::Folder(opaque) => {
                fs::create_dir(&path).unwrap();
                if *opaque {
                    rustix::fs::setxattr(&path, OPAQUE.0, OPAQUE.1, XattrFlags::empty()).unwrap();
                }
            }
            Thing::Sparse(length) => {
                let mut file = fs::File::create(&path).unwrap();
                file.seek_relative(length.cast_signed()).unwrap();
                file.write_all(b"end").unwrap();
            }
            Thing::Marked(value, owner) => {
                fs::write(&path, "marked").unwrap();
                rustix::fs::setxattr(&path, "user.pond", value, XattrFlags::empty()).unwrap();
                ids().give(&path, *owner, owner / 2).unwrap();
            }
            Thing::Symlink(target) => symlink(target, &path).unwrap(),
            Thing::Whiteout => {
                rustix::fs::mknodat(CWD, &path, FileType::CharacterDevice, Mode::empty(), 0).unwrap();
            }
            Thing::HardLink => {
                if let Some(first) = &first_file {
                    fs::hard_link(first, &path).unwrap();
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn any_tree_comes_back_as_it_was_and_always_in_the_same_bytes(
        things in prop::collection::vec((prop::collection::vec(any_name(), 1..4), any_thing()), 0..25)
    ) {
        comes_back(&things)?;
    }
}

/// A tree comes back as it was, and always in the same bytes.
fn comes_back(things: &[(Vec<Vec<u8>>, Thing)]) -> Result<(), TestCaseError> {
    let folder = tempfile::tempdir().unwrap();
    let (one, other, back) = (folder.path().join("one"), folder.path().join("other"), folder.path().join("back"));
    // Made twice, so that nothing of a file's inode, and no order of a folder, gets into the bytes.
    make(&one, things);
    make(&other, things);
    let (first, bytes) = packed(&one);
    let (second, same) = packed(&other);
    prop_assert_eq!(&first, &second);
    prop_assert!(bytes == same);
    unpack(decompressed(Cursor::new(bytes)).unwrap(), &back, ids()).unwrap();
    prop_assert_eq!(listing(&one), listing(&back));
    let (again, _) = packed(&back);
    prop_assert_eq!(again, first);
    Ok(())
}

#[test]
fn trees_that_once_did_not_come_back_do() {
    let at = |parts: &[&str]| parts.iter().map(|part| part.as_bytes().to_vec()).collect::<Vec<_>>();
    for things in [
        vec![(at(&["a"]), Thing::Marked(vec![10], 0))],
        vec![(at(&["a"]), Thing::Symlink("//a".to_owned()))],
        // The hard link would be made through the link, outside the tree.
        vec![
            (at(&["with space"]), Thing::Symlink("/./".to_owned())),
            (at(&["b"]), Thing::File(vec![1], 0o644)),
            (at(&["with space", "c"]), Thing::HardLink),
        ],
    ] {
        comes_back(&things).unwrap_or_else(|fault| panic!("{things:?}: {fault}"));
    }
}

/// An entry of an archive that means no good: names and links lead anywhere.
fn any_entry() -> impl Strategy<Value = (String, tar::EntryType, String)> {
    let part = || prop::sample::select(vec!["a", "b", "..", ".", "way", ".wh.a", ".wh..wh..opq", "OUTSIDE", ""]);
    let path = move || prop::collection::vec(part(), 1..5).prop_map(|parts| parts.join("/"));
    let kind = prop::sample::select(vec![
        Regular,
        Directory,
        Symlink,
        Symlink,
        Link,
        tar::EntryType::Fifo,
        tar::EntryType::Char,
        tar::EntryType::Continuous,
    ]);
    (path(), kind, path())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn whatever_an_archive_says_nothing_outside_its_folder_is_touched(
        entries in prop::collection::vec(any_entry(), 1..12)
    ) {
        let folder = tempfile::tempdir().unwrap();
        let (root, outside) = (folder.path().join("layer"), folder.path().join("outside"));
        fs::create_dir_all(outside.join("b")).unwrap();
        fs::write(outside.join("a"), "mine").unwrap();
        let standing = || {
            ["", "a", "b"].map(|name| {
                let data = fs::symlink_metadata(outside.join(name)).unwrap();
                (data.mode(), data.mtime(), data.mtime_nsec(), data.uid(), data.ctime(), data.ctime_nsec())
            })
        };
        let before = standing();
        // Absolute, and relative from a folder in the layer.
        let there = outside.to_str().unwrap();
        let entries: Vec<(String, tar::EntryType, String)> = entries
            .into_iter()
            .map(|(name, kind, link)| (name.replace("OUTSIDE", "outside"), kind, link.replace("OUTSIDE", there)))
            .filter(|(name, _, link)| !name.is_empty() && !link.is_empty() && link.len() < 100)
            .collect();
        let borrowed: Vec<_> =
            entries.iter().map(|(name, kind, link)| (name.as_str(), *kind, 0o711, link.as_str())).collect();
        let bytes = archive(&borrowed);
        for is_layer in [true, false] {
            let bytes = Cursor::new(&bytes);
            let _ = if is_layer { unpack(bytes, &root, ids()).map(drop) } else { unpack_files(bytes, &root, ids()) };
            let names: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
            prop_assert!(names.iter().all(|name| name == "layer" || name == "outside"), "{:?}", names);
            prop_assert_eq!(fs::read_dir(&outside).unwrap().count(), 2);
            prop_assert_eq!(standing(), before, "something outside was changed");
            let kept = fs::symlink_metadata(outside.join("a")).unwrap();
            prop_assert_eq!((kept.nlink(), fs::read_to_string(outside.join("a")).unwrap()), (1, "mine".to_owned()));
            fs::remove_dir_all(&root).unwrap();
        }
    }
}

#[test]
fn a_time_that_a_clock_made_long_ago_is_one_of_this_machine_and_one_that_an_archive_gave_is_not() {
    let folder = tempfile::tempdir().unwrap();
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000);
    let copied = SystemTime::UNIX_EPOCH + Duration::from_secs(2_000_000);
    // Some programs cut off the fraction when they copy.
    let times = [("clock", long_ago + Duration::from_nanos(7)), ("archive", long_ago), ("copied", copied)];
    for (name, _) in times {
        fs::write(folder.path().join(name), name).unwrap();
    }
    let seconds = |of: Of| {
        for (name, time) in times {
            fs::File::options().write(true).open(folder.path().join(name)).unwrap().set_modified(time).unwrap();
        }
        let mut bytes = Vec::new();
        let times = Times::from_now(MOMENT, of);
        pack(
            folder.path(),
            &mut bytes,
            ids(),
            &Contents::whole(times),
            Compression::Gzip,
            &pondrix_files::Watch::none(),
        )
        .unwrap();
        let mut archive = tar::Archive::new(decompressed(Cursor::new(bytes)).unwrap());
        let seconds = archive.entries().unwrap().map(|entry| entry.unwrap().header().mtime().unwrap());
        let on_disk = |name| fs::metadata(folder.path().join(name)).unwrap().mtime().cast_unsigned();
        (seconds.collect::<Vec<_>>(), vec![on_disk("archive"), on_disk("clock"), on_disk("copied")])
    };
    let same = |times: [u64; 3]| (times.to_vec(), times.to_vec());
    for of in [Of::All, Of::Folders] {
        assert_eq!(seconds(of), same([1_000_000, 1_000_000, 2_000_000]));
    }
    assert_eq!(seconds(Of::AllAndEarlier([].into())), same([1_000_000, MOMENT, 2_000_000]));
    assert_eq!(seconds(Of::AllAndEarlier([2_000_000].into())), same([1_000_000, MOMENT, MOMENT]));
}

#[test]
fn a_hole_stays_one_and_a_programs_capabilities_are_those_of_the_image_and_not_of_the_machine() {
    let folder = tempfile::tempdir().unwrap();
    let (one, back) = (folder.path().join("one"), folder.path().join("back"));
    make(&one, &[(vec![b"sparse".to_vec()], Thing::Sparse(40 << 20))]);
    fs::write(one.join("ping"), "program").unwrap();
    // Revision 2, effective, with the right to open raw sockets (capabilities(7)).
    let mut capability = [0_u8; 20];
    (capability[0], capability[3], capability[5]) = (1, 2, 0x20);
    let may_set =
        rustix::fs::setxattr(one.join("ping"), "security.capability", &capability, XattrFlags::empty()).is_ok();
    let (_, bytes) = packed(&one);
    unpack(decompressed(Cursor::new(bytes.clone())).unwrap(), &back, ids()).unwrap();
    let taken = fs::metadata(back.join("sparse")).unwrap();
    assert!(taken.blocks() * 512 < 1 << 20 && taken.len() == (40 << 20) + 3, "{} blocks", taken.blocks());
    if may_set {
        let mut plain = Vec::new();
        decompressed(Cursor::new(bytes)).unwrap().read_to_end(&mut plain).unwrap();
        let mut archive = tar::Archive::new(&plain[..]);
        let mut entry =
            archive.entries().unwrap().map(Result::unwrap).find(|e| e.path().unwrap().ends_with("ping")).unwrap();
        let record = entry.pax_extensions().unwrap().expect("it has records").next().unwrap().unwrap();
        assert_eq!((record.key(), record.value_bytes()), (Ok("SCHILY.xattr.security.capability"), &capability[..]));
        let (again, _) = packed(&back);
        assert_eq!(again, packed(&one).0, "unpacked for a namespace, and packed without it");
    }
}
