//! Looking into a stack of layers as a command inside would see it, without mounting it.

use std::collections::BTreeMap;
use std::ffi::{CStr, OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;

use crate::layer::pack::{is_opaque, is_whiteout};
use crate::layer::tree::Inode;

/// As many links as the kernel follows (path_resolution(7)).
const LINKS_FOLLOWED: usize = 40;

/// What the system says of a file, of a link itself and not of what it points at (stat(2)).
#[derive(Clone, Copy, Debug)]
pub(crate) struct Facts(Stat);

impl Facts {
    pub(crate) fn of(path: &Path) -> io::Result<Self> {
        Ok(Self(rustix::fs::lstat(path)?))
    }

    /// Of a name in a folder that is open: its place is not looked up once more.
    fn of_name(folder: &Dir, name: &CStr) -> io::Result<Self> {
        Ok(Self(rustix::fs::statat(folder.fd()?, name, AtFlags::SYMLINK_NOFOLLOW)?))
    }

    fn kind(&self) -> FileType {
        FileType::from_raw_mode(self.0.st_mode)
    }

    pub(crate) fn is_dir(&self) -> bool {
        self.kind() == FileType::Directory
    }

    pub(crate) fn is_file(&self) -> bool {
        self.kind() == FileType::RegularFile
    }

    pub(crate) fn is_symlink(&self) -> bool {
        self.kind() == FileType::Symlink
    }

    /// Whether this stands for a removed name.
    fn is_whiteout(&self) -> bool {
        self.kind() == FileType::CharacterDevice && self.0.st_rdev == 0
    }

    /// Its permissions.
    pub(crate) const fn mode(&self) -> u32 {
        self.0.st_mode & 0o7777
    }

    pub(crate) const fn uid(&self) -> u32 {
        self.0.st_uid
    }

    pub(crate) const fn gid(&self) -> u32 {
        self.0.st_gid
    }

    pub(crate) fn len(&self) -> u64 {
        u64::try_from(self.0.st_size).unwrap_or(0)
    }

    pub(crate) const fn has_several_names(&self) -> bool {
        self.0.st_nlink > 1
    }

    pub(crate) const fn inode(&self) -> Inode {
        (self.0.st_dev, self.0.st_ino)
    }

    /// The time of its content, in seconds since 1970.
    pub(crate) const fn mtime(&self) -> i64 {
        self.0.st_mtime
    }

    /// When it changed last, by the kernel's clock: seconds since 1970, and nanoseconds.
    pub(crate) fn ctime(&self) -> (i64, u32) {
        (self.0.st_ctime, u32::try_from(self.0.st_ctime_nsec).unwrap_or(0))
    }
}

/// What a folder holds, sorted by name: where each is on disk, and what it is.
pub(crate) type Listed = Vec<(OsString, (PathBuf, Facts))>;

/// Layers, the lowest first.
pub(crate) struct Layers<'a>(pub(crate) &'a [PathBuf]);

impl Layers<'_> {
    /// Where the highest layer that shows this path has it. The path's parents are not links.
    pub(crate) fn find(&self, path: &Path) -> Option<PathBuf> {
        for layer in self.0.iter().rev() {
            let mut at = layer.clone();
            let mut hides_lower = false;
            let mut parts = path.components().filter(|part| matches!(part, Component::Normal(_))).peekable();
            if parts.peek().is_none() {
                return Some(at);
            }
            while let Some(part) = parts.next() {
                at.push(part);
                match fs::symlink_metadata(&at) {
                    Err(_) => break,
                    Ok(data) if is_whiteout(&data) => return None,
                    Ok(_) if parts.peek().is_none() => return Some(at),
                    Ok(data) if !data.is_dir() => return None,
                    Ok(_) => hides_lower |= is_opaque(&at),
                }
            }
            if hides_lower {
                return None;
            }
        }
        None
    }

    /// What a folder holds, by name, each with where it is on disk: what higher layers have hides what lower
    /// ones have. The path's parents are not links.
    pub(crate) fn list(&self, path: &Path) -> io::Result<Listed> {
        let relative = path.strip_prefix("/").unwrap_or(path);
        if let [layer] = self.0 {
            let mut all = listed(layer, relative)?.unwrap_or_default();
            all.retain(|(_, (_, facts))| !facts.is_whiteout());
            all.sort_unstable_by(|(one, _), (other, _)| one.cmp(other));
            return Ok(all);
        }
        let mut all = BTreeMap::new();
        for (number, layer) in self.0.iter().enumerate().rev() {
            // Something above may have removed or replaced this folder, or one above it.
            let above = Layers(&self.0[number + 1..]);
            for (name, found) in listed(layer, relative)?.filter(|_| !above.ends(path)).unwrap_or_default() {
                all.entry(name).or_insert(found);
            }
        }
        Ok(all.into_iter().filter(|(_, (_, facts))| !facts.is_whiteout()).collect())
    }

    /// Whether some of these layers ends what lower ones have at this path.
    fn ends(&self, path: &Path) -> bool {
        self.0.iter().any(|layer| {
            let mut at = layer.clone();
            path.components().filter(|part| matches!(part, Component::Normal(_))).any(|part| {
                at.push(part);
                fs::symlink_metadata(&at).is_ok_and(|data| !data.is_dir() || is_opaque(&at))
            })
        })
    }

    /// The path with every link in it followed, as far as it exists; what does not exist stays as it
    /// is. Nothing when links go round in a circle.
    pub(crate) fn follow(&self, path: &Path) -> Option<PathBuf> {
        follow(path, |path| self.find(path).and_then(|found| fs::read_link(found).ok()))
    }

    /// Whether a path is a folder, links followed.
    pub(crate) fn is_folder(&self, path: &Path) -> bool {
        self.follow(path).and_then(|real| self.find(&real)).is_some_and(|found| found.is_dir())
    }
}

/// What a layer has in a folder; nothing where it has none. A link on the way there leads somewhere else in the image, or
/// out of it: it is not followed.
fn folder_of(layer: &Path, relative: &Path) -> io::Result<Option<Dir>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let top = rustix::fs::open(layer, flags, Mode::empty())?;
    if relative.as_os_str().is_empty() {
        return Ok(Some(Dir::new(top)?));
    }
    let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
    match rustix::fs::openat2(&top, relative, flags, Mode::empty(), beneath) {
        Ok(folder) => Ok(Some(Dir::new(folder)?)),
        Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// A path with every link in it followed, as [`Layers::follow`]: `link_at` says where the link at a path leads, whose
/// parents are no links.
pub(crate) fn follow(path: &Path, link_at: impl Fn(&Path) -> Option<PathBuf>) -> Option<PathBuf> {
    let mut real = PathBuf::from("/");
    let mut rest: Vec<Vec<u8>> = parts_reversed(path);
    let mut followed = 0;
    while let Some(part) = rest.pop() {
        if part == b".." {
            real.pop();
            continue;
        }
        let next = real.join(OsStr::from_bytes(&part));
        match link_at(&next) {
            None => real = next,
            Some(target) => {
                followed += 1;
                if followed > LINKS_FOLLOWED {
                    return None;
                }
                if target.is_absolute() {
                    real = PathBuf::from("/");
                }
                rest.extend(parts_reversed(&target));
            }
        }
    }
    Some(real)
}

/// What a layer itself has in a folder, in no order; nothing where it has no such folder.
fn listed(layer: &Path, relative: &Path) -> io::Result<Option<Listed>> {
    let Some(mut entries) = folder_of(layer, relative)? else { return Ok(None) };
    let (folder, mut all) = (layer.join(relative), Vec::new());
    while let Some(entry) = entries.read() {
        let entry = entry?;
        let name = OsStr::from_bytes(entry.file_name().to_bytes());
        if !matches!(name.as_bytes(), b"." | b"..") {
            all.push((name.to_owned(), (folder.join(name), Facts::of_name(&entries, entry.file_name())?)));
        }
    }
    Ok(Some(all))
}

fn parts_reversed(path: &Path) -> Vec<Vec<u8>> {
    let mut parts: Vec<Vec<u8>> = path
        .components()
        .filter(|part| matches!(part, Component::Normal(_) | Component::ParentDir))
        .map(|part| part.as_os_str().as_bytes().to_vec())
        .collect();
    parts.reverse();
    parts
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use proptest::prelude::*;
    use rustix::fs::{CWD, XattrFlags};

    use super::*;
    use crate::layer::OPAQUE;

    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    enum Thing {
        File,
        Link,
        Folder,
        /// A folder that hides what lower layers have in it.
        Cover,
        /// A name that is removed.
        Removed,
    }

    type Layer = Vec<(Vec<&'static str>, Thing)>;

    fn any_layer() -> impl Strategy<Value = Layer> {
        let path = prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4);
        let thing = prop::sample::select(vec![
            Thing::File,
            Thing::Link,
            Thing::Folder,
            Thing::Folder,
            Thing::Cover,
            Thing::Removed,
        ]);
        prop::collection::vec((path, thing), 0..7)
    }

    /// Puts a layer on the disk. What stands in the way of something is left out.
    fn make(root: &Path, layer: &Layer) {
        fs::create_dir_all(root).unwrap();
        for (parts, thing) in layer {
            let path: PathBuf = root.join(parts.iter().collect::<PathBuf>());
            let parent = path.parent().unwrap();
            let through_link = parent.ancestors().take_while(|above| *above != root).any(Path::is_symlink);
            if through_link || fs::symlink_metadata(&path).is_ok() || fs::create_dir_all(parent).is_err() {
                continue;
            }
            match thing {
                Thing::File => fs::write(path, "").unwrap(),
                // Seen from this machine, it leads back into the layer's own files.
                Thing::Link => symlink(root, path).unwrap(),
                Thing::Folder => fs::create_dir(path).unwrap(),
                Thing::Cover => {
                    fs::create_dir(&path).unwrap();
                    rustix::fs::setxattr(&path, OPAQUE.0, OPAQUE.1, XattrFlags::empty()).unwrap();
                }
                Thing::Removed => {
                    rustix::fs::mknodat(CWD, &path, FileType::CharacterDevice, Mode::empty(), 0).unwrap();
                }
            }
        }
    }

    /// What the layers show when one is laid over the other (overlayfs, Documentation/filesystems/overlayfs.rst): every
    /// path, and whether it is a folder.
    fn laid_over(layers: &[PathBuf]) -> BTreeMap<PathBuf, bool> {
        let mut all = BTreeMap::new();
        for layer in layers {
            lay(layer, Path::new("/"), &mut all);
        }
        all
    }

    fn lay(layer: &Path, folder: &Path, all: &mut BTreeMap<PathBuf, bool>) {
        for entry in fs::read_dir(layer.join(folder.strip_prefix("/").unwrap())).unwrap().map(Result::unwrap) {
            let path = folder.join(entry.file_name());
            let data = entry.metadata().unwrap();
            let is_below = |other: &PathBuf| other.starts_with(&path) && *other != path;
            let keeps_lower = data.is_dir() && !is_opaque(&entry.path()) && all.get(&path) != Some(&false);
            if !keeps_lower {
                all.retain(|other, _| !is_below(other));
            }
            all.remove(&path);
            if !is_whiteout(&data) {
                all.insert(path.clone(), data.is_dir());
            }
            if data.is_dir() {
                lay(layer, &path, all);
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        #[test]
        fn layers_show_what_they_show_when_one_is_laid_over_the_other(layers in prop::collection::vec(any_layer(), 1..5)) {
            let place = tempfile::tempdir().unwrap();
            let paths: Vec<PathBuf> = (0..layers.len()).map(|number| place.path().join(number.to_string())).collect();
            for (path, layer) in paths.iter().zip(&layers) {
                make(path, layer);
            }
            let (seen, expected) = (Layers(&paths), laid_over(&paths));
            let names = ["a", "b", "c"];
            let mut all: Vec<PathBuf> = vec!["/".into()];
            for depth in 0..3 {
                let above: Vec<PathBuf> =
                    all.iter().filter(|path| path.components().count() == depth + 1).cloned().collect();
                all.extend(above.iter().flat_map(|above| names.map(|name| above.join(name))));
            }
            for path in all.iter().skip(1) {
                let found = seen.find(path);
                let is_folder = found.map(|found| fs::symlink_metadata(found).unwrap().is_dir());
                prop_assert_eq!(is_folder, expected.get(path).copied(), "{:?}", path);
            }
            let folders = all.iter().filter(|path| path.as_os_str() == "/" || expected.get(*path) == Some(&true));
            for folder in folders {
                let listed: Vec<PathBuf> = seen.list(folder).unwrap().into_iter().map(|(name, _)| folder.join(name)).collect();
                let inside: Vec<PathBuf> =
                    expected.keys().filter(|path| path.parent() == Some(folder)).cloned().collect();
                prop_assert_eq!(listed, inside, "in {:?}", folder);
                // What is listed is where it is found.
                for (name, (on_disk, facts)) in seen.list(folder).unwrap() {
                    prop_assert_eq!(facts.is_dir(), fs::symlink_metadata(&on_disk).unwrap().is_dir());
                    prop_assert_eq!(seen.find(&folder.join(name)), Some(on_disk));
                }
            }
        }
    }

    #[test]
    fn links_are_followed_inside_the_layers_and_never_out_of_them() {
        let place = tempfile::tempdir().unwrap();
        let layer = |name: &str| {
            let layer = place.path().join(name);
            fs::create_dir(&layer).unwrap();
            layer
        };
        let (lower, upper) = (layer("lower"), layer("upper"));
        fs::create_dir_all(lower.join("usr/bin")).unwrap();
        symlink("usr/bin", lower.join("bin")).unwrap();
        symlink("/usr", upper.join("way")).unwrap();
        symlink("../../../../usr", upper.join("climbs")).unwrap();
        symlink("round", upper.join("round")).unwrap();
        symlink("/nowhere/at/all", upper.join("broken")).unwrap();
        let paths = [lower, upper];
        let layers = Layers(&paths);
        for (path, real) in [
            ("/bin/sh", "/usr/bin/sh"),
            ("/way/bin", "/usr/bin"),
            ("/climbs/bin", "/usr/bin"),
            ("/way/../bin/x", "/usr/bin/x"),
            ("/../../bin", "/usr/bin"),
            ("/broken/x", "/nowhere/at/all/x"),
            ("/new/and/deep", "/new/and/deep"),
        ] {
            assert_eq!(layers.follow(Path::new(path)).as_deref(), Some(Path::new(real)), "{path}");
        }
        assert_eq!(layers.follow(Path::new("/round/x")), None);
        assert!(layers.is_folder(Path::new("/way/bin")) && !layers.is_folder(Path::new("/broken")));
    }
}
