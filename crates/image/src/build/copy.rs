//! Putting copied files into a new layer.

use std::collections::{BTreeSet, HashMap};
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Component, Path, PathBuf};
use std::time::{Duration, SystemTime};

use pondrix_sandbox::IdMap;

use super::copied_files::{FilesError, Item, at};
use super::owner::Mode;
use crate::layer::unpack::set_time;
use crate::layer::{FOLDER_MODE, attributes};
use crate::rootfs::Layers;

/// Copies into the folder of a new layer, over the layers below it.
pub(super) struct Copier<'a> {
    layers: Layers<'a>,
    upper: &'a Path,
    ids: IdMap,
    /// Whose the files become; where nothing is said, root's or their own.
    owner: Option<(u32, u32)>,
    mode: Option<Mode>,
    /// The time of what has none of its own.
    time: SystemTime,
    /// Folders that were looked at, as they were asked for: where they are in the image, and whether the layers
    /// below have something there.
    folders: HashMap<PathBuf, (PathBuf, bool)>,
    /// The first copy of each file that has several names.
    links: HashMap<(u64, u64), PathBuf>,
    /// The folders, by their paths in the layer, that were made only for what is in them; where the layers below are
    /// not known, whose folders look as they say.
    without: Option<BTreeSet<PathBuf>>,
}

impl<'a> Copier<'a> {
    pub(super) fn new(layers: Layers<'a>, upper: &'a Path, ids: IdMap, moment: u64) -> Self {
        Self {
            layers,
            upper,
            ids,
            owner: None,
            mode: None,
            time: SystemTime::UNIX_EPOCH + Duration::from_secs(moment),
            folders: HashMap::new(),
            links: HashMap::new(),
            without: None,
        }
    }

    /// A layer that does not depend on those below it.
    pub(super) fn alone(self) -> Self {
        Self { without: Some(BTreeSet::new()), ..self }
    }

    /// The folders that are not to be in the layer.
    pub(super) fn without(self) -> BTreeSet<PathBuf> {
        self.without.unwrap_or_default()
    }

    pub(super) fn owned(self, owner: Option<(u32, u32)>, mode: Option<Mode>) -> Self {
        Self { owner, mode, ..self }
    }

    /// Copies these to `to`, an absolute path.
    pub(super) fn copy(&mut self, items: &[Item], to: &str) -> Result<(), FilesError> {
        let destination = Path::new(to);
        for item in items {
            if item.to.as_os_str().is_empty() && item.data.is_dir() {
                self.put_folder(item, destination)?;
                continue;
            }
            if item.to.as_os_str().is_empty() {
                let real = self.real(destination)?;
                self.put(item, &real)?;
                continue;
            }
            let target = destination.join(&item.to);
            let (parent, _) = self.folder(target.parent().unwrap_or(Path::new("/")))?;
            let path = parent.join(target.file_name().unwrap_or_default());
            if item.data.is_dir() {
                self.put_folder(item, &target)?;
            } else {
                self.put(item, &path)?;
            }
        }
        Ok(())
    }

    /// A path with the links of the layers below followed.
    fn real(&self, target: &Path) -> Result<PathBuf, FilesError> {
        let circle = || FilesError::Words(format!("{}: links go round in a circle", target.display()), None);
        self.layers.follow(target).ok_or_else(circle)
    }

    /// A path of the image in the new layer's folder.
    fn in_upper(&self, path: &Path) -> PathBuf {
        self.upper.join(path.strip_prefix("/").unwrap_or(path))
    }

    /// Makes sure of a folder. Answers where it is in the image, and whether the layers below have it.
    pub(super) fn folder(&mut self, path: &Path) -> Result<(PathBuf, bool), FilesError> {
        if let Some(known) = self.folders.get(path) {
            return Ok(known.clone());
        }
        let real = self.real(path)?;
        self.make_folders(&real, None)?;
        let there = self.layers.find(&real).is_some();
        self.folders.insert(path.to_owned(), (real.clone(), there));
        Ok((real, there))
    }

    /// Makes a folder and those above it, as the layers below have them where they have them.
    fn make_folders(&mut self, path: &Path, like: Option<&Item>) -> Result<(), FilesError> {
        let mut so_far = PathBuf::from("/");
        for part in path.components().filter(|part| matches!(part, Component::Normal(_))) {
            so_far.push(part);
            let on_disk = self.in_upper(&so_far);
            // A link that was copied a moment ago may lead anywhere on this machine: it is not followed.
            if fs::symlink_metadata(&on_disk).is_ok_and(|data| data.is_dir()) {
                continue;
            }
            let below = self.layers.find(&so_far);
            let below = below.map(|path| fs::symlink_metadata(&path).map_err(at(&path)).map(|data| (path, data)));
            let below = below.transpose()?;
            if fs::symlink_metadata(&on_disk).is_ok() || below.as_ref().is_some_and(|(_, below)| !below.is_dir()) {
                let words = format!("{} is a file in the image, and would have to be a folder", so_far.display());
                return Err(FilesError::Words(words, None));
            }
            fs::create_dir(&on_disk).map_err(at(&on_disk))?;
            match (below, like.filter(|_| so_far == path)) {
                (Some((path, below)), _) => {
                    let (user, group) = self.ids.to_inside(below.uid(), below.gid());
                    self.ids.give(&on_disk, user, group).map_err(at(&on_disk))?;
                    attributes::copy(&path, &on_disk, self.ids).map_err(at(&on_disk))?;
                    fs::set_permissions(&on_disk, below.permissions()).map_err(at(&on_disk))?;
                    set_time(&on_disk, below.modified().map_err(at(&on_disk))?).map_err(at(&on_disk))?;
                }
                (None, Some(item)) => self.dress(item, &on_disk)?,
                (None, None) => {
                    // Who says whose the files are means the folder that they are to be in, and none above it.
                    if let Some(without) = self.without.as_mut().filter(|_| self.owner.is_none() || so_far != path) {
                        without.insert(so_far.strip_prefix("/").unwrap_or(&so_far).to_owned());
                    }
                    let (user, group) = self.owner.unwrap_or((0, 0));
                    self.ids.give(&on_disk, user, group).map_err(at(&on_disk))?;
                    fs::set_permissions(&on_disk, PermissionsExt::from_mode(FOLDER_MODE)).map_err(at(&on_disk))?;
                    set_time(&on_disk, self.time).map_err(at(&on_disk))?;
                }
            }
        }
        Ok(())
    }

    fn put_folder(&mut self, item: &Item, target: &Path) -> Result<(), FilesError> {
        if self.folders.contains_key(target) {
            return Ok(());
        }
        let real = self.real(target)?;
        self.make_folders(&real, Some(item))?;
        let there = self.layers.find(&real).is_some();
        self.folders.insert(target.to_owned(), (real, there));
        Ok(())
    }

    /// Puts a file or link at a path of the image, whose parents are no links.
    fn put(&mut self, item: &Item, path: &Path) -> Result<(), FilesError> {
        self.folder(path.parent().unwrap_or(Path::new("/")))?;
        let on_disk = self.in_upper(path);
        let is_folder = |on_disk: &Path| fs::symlink_metadata(on_disk).is_ok_and(|data| data.is_dir());
        let (_, parent_is_below) = self.folder(path.parent().unwrap_or(Path::new("/")))?;
        if is_folder(&on_disk) || (parent_is_below && self.layers.find(path).is_some_and(|below| is_folder(&below))) {
            let words = format!("{} is a folder in the image, and would have to be a file", path.display());
            return Err(FilesError::Words(words, Some("name another destination, or end it with a slash".to_owned())));
        }
        if fs::symlink_metadata(&on_disk).is_ok() {
            fs::remove_file(&on_disk).map_err(at(&on_disk))?;
            // It was the copy of something else, whose other names must not become names of this.
            self.links.retain(|_, first| *first != on_disk);
        }
        let kind = item.data.file_type();
        if kind.is_symlink() {
            symlink(fs::read_link(&item.real).map_err(at(&item.real))?, &on_disk).map_err(at(&on_disk))?;
        } else if kind.is_file() {
            if item.data.nlink() > 1 && item.keeps {
                let first = self.links.entry((item.data.dev(), item.data.ino())).or_insert_with(|| on_disk.clone());
                if *first != on_disk {
                    return fs::hard_link(first, &on_disk).map_err(at(&on_disk));
                }
            }
            fs::copy(&item.real, &on_disk).map_err(at(&item.real))?;
        } else {
            // Pipes, sockets and devices are of a running machine.
            return Ok(());
        }
        self.dress(item, &on_disk)
    }

    /// Gives a copy its owner, permissions and time.
    fn dress(&self, item: &Item, on_disk: &Path) -> Result<(), FilesError> {
        let own = if item.keeps { self.ids.to_inside(item.data.uid(), item.data.gid()) } else { (0, 0) };
        let (user, group) = self.owner.unwrap_or(own);
        self.ids.give(on_disk, user, group).map_err(at(on_disk))?;
        if !item.data.is_symlink() {
            let mode = self.mode.as_ref().map_or(item.mode, |mode| mode.of(item.mode, item.data.is_dir()));
            fs::set_permissions(on_disk, PermissionsExt::from_mode(mode)).map_err(at(on_disk))?;
            // After the owner, whose change takes capabilities away.
            if item.keeps {
                attributes::copy(&item.real, on_disk, self.ids).map_err(at(on_disk))?;
            }
        }
        let time = if item.keeps_time { item.data.modified().map_err(at(on_disk))? } else { self.time };
        set_time(on_disk, time).map_err(at(on_disk))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::copied_files::{Layout, Source};
    use super::*;
    use crate::recipe::Ignore;

    /// Things of a context, or of an image: a file, or a link that leads somewhere, at a path.
    fn any_things() -> impl Strategy<Value = Vec<(String, Option<String>)>> {
        let path =
            || prop::collection::vec(prop::sample::select(vec!["a", "b", "c"]), 1..4).prop_map(|parts| parts.join("/"));
        let to = prop_oneof![
            Just("OUTSIDE".to_owned()),
            Just("OUTSIDE/a".to_owned()),
            Just("/".to_owned()),
            Just("..".to_owned()),
            Just("../../../outside".to_owned()),
            path(),
            path().prop_map(|path| format!("/{path}")),
        ];
        prop::collection::vec((path(), prop::option::of(to)), 0..8)
    }

    fn make(root: &Path, things: &[(String, Option<String>)], outside: &str) {
        fs::create_dir_all(root).unwrap();
        for (path, link) in things {
            let path = root.join(path);
            let parent = path.parent().unwrap();
            let through_link = parent.ancestors().take_while(|above| *above != root).any(Path::is_symlink);
            if through_link || fs::symlink_metadata(&path).is_ok() || fs::create_dir_all(parent).is_err() {
                continue;
            }
            match link {
                Some(link) => symlink(link.replace("OUTSIDE", outside), path).unwrap(),
                None => fs::write(path, "theirs").unwrap(),
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]

        #[test]
        fn whatever_is_copied_over_whatever_nothing_outside_the_new_layer_is_touched(
            context in any_things(),
            below in any_things(),
            named in prop::collection::vec(prop::sample::select(vec!["a", "b", "c", "*", "a/b", "."]), 1..4),
            to in prop::sample::select(vec!["/", "/a", "/a/", "/b/c/", "/c/../a"]),
            parents in any::<bool>(),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let place = |name: &str| folder.path().join(name);
            let outside = place("outside");
            fs::create_dir(&outside).unwrap();
            fs::write(outside.join("a"), "mine").unwrap();
            make(&place("context"), &context, outside.to_str().unwrap());
            make(&place("below"), &below, outside.to_str().unwrap());
            fs::create_dir(place("upper")).unwrap();
            let (sources, layers) = ([place("context")], [place("below")]);
            let source = Source { layers: Layers(&sources), ignore: None, keeps: false, keeps_times: false, name: "the context".to_owned() };
            let nothing = Ignore::default();
            let layout = Layout { exclude: &nothing, parents, into_folder: to.ends_with('/'), unpacks: false };
            let mut items = Vec::new();
            for name in named {
                let _ = source.find(name, &layout, &mut items);
            }
            let upper = place("upper");
            let mut copier = Copier::new(Layers(&layers), &upper, IdMap::for_this_process(), 0);
            let _ = copier.copy(&items, to);
            prop_assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 4);
            prop_assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
            prop_assert_eq!(fs::read_to_string(outside.join("a")).unwrap(), "mine");
            // Nor are the files that it was copied from, and over.
            prop_assert!(walked(&place("context")).iter().chain(&walked(&place("below"))).all(|text| text == "theirs"));
            // And nothing from outside came in.
            prop_assert!(walked(&upper).iter().all(|text| text == "theirs"));
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]

        #[test]
        fn of_several_folders_each_name_has_what_the_last_one_has_there_whichever_names_are_of_one_file(
            folders in prop::collection::vec(prop::collection::btree_map("[abc]", 0_usize..3, 0..4), 1..4),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let place = |name: &str| folder.path().join(name);
            let from = place("from");
            fs::create_dir(&from).unwrap();
            // The same file in a folder, and in others, under several names.
            let contents = |file: usize| format!("file {file}");
            for file in 0..3 {
                fs::write(from.join(format!("original-{file}")), contents(file)).unwrap();
            }
            for (number, names) in folders.iter().enumerate() {
                let one = from.join(format!("folder-{number}"));
                fs::create_dir(&one).unwrap();
                for (name, file) in names {
                    fs::hard_link(from.join(format!("original-{file}")), one.join(name)).unwrap();
                }
            }
            fs::create_dir(place("upper")).unwrap();
            let sources = [from];
            let source = Source { layers: Layers(&sources), ignore: None, keeps: true, keeps_times: true, name: "a stage".to_owned() };
            let nothing = Ignore::default();
            let layout = Layout { exclude: &nothing, parents: false, into_folder: true, unpacks: false };
            let mut items = Vec::new();
            for number in 0..folders.len() {
                source.find(&format!("folder-{number}"), &layout, &mut items).unwrap();
            }
            let upper = place("upper");
            Copier::new(Layers(&[]), &upper, IdMap::for_this_process(), 0).copy(&items, "/to/").unwrap();
            let last: std::collections::BTreeMap<_, _> = folders.iter().flatten().collect();
            for (name, file) in last {
                prop_assert_eq!(fs::read_to_string(upper.join("to").join(name)).unwrap(), contents(*file), "{}", name);
            }
        }
    }

    /// A line of an ignore file.
    fn any_rule() -> impl Strategy<Value = String> {
        let part = prop::sample::select(vec!["a", "b", "c", "*", "?", "**", "[ab]"]);
        (any::<bool>(), prop::collection::vec(part, 1..4))
            .prop_map(|(takes_back, parts)| format!("{}{}", if takes_back { "!" } else { "" }, parts.join("/")))
    }

    /// The files among what a name stands for, each by its path in the context.
    fn named(source: &Source<'_>, context: &Path, name: &str) -> Option<Vec<PathBuf>> {
        let nothing = Ignore::default();
        let layout = Layout { exclude: &nothing, parents: false, into_folder: true, unpacks: false };
        let mut items = Vec::new();
        source.find(name, &layout, &mut items).ok()?;
        let files = items.iter().filter(|item| item.data.is_file());
        Some(files.map(|item| item.real.strip_prefix(context).unwrap().to_owned()).collect())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(600))]

        #[test]
        fn what_is_left_out_is_copied_by_no_name_and_everything_else_by_each(
            things in any_things(),
            rules in prop::collection::vec(any_rule(), 0..5),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let context = folder.path().join("context");
            make(&context, &things, "/nowhere");
            let ignore = Ignore::read(&rules.join("\n")).unwrap();
            let layers = [context.clone()];
            let name = "the context".to_owned();
            let source = Source { layers: Layers(&layers), ignore: Some(&ignore), keeps: false, keeps_times: false, name };
            let whole = named(&source, &context, ".").unwrap_or_default();
            for (path, link) in &things {
                let is_plain_file = link.is_none()
                    && Path::new(path).ancestors().all(|above| !context.join(above).is_symlink())
                    && context.join(path).is_file();
                // By its name, by a pattern that it fits, and with the folder that it is in.
                let pattern = path.replace('a', "?").replace('b', "[b]").replace('c', "*");
                for name in [path.clone(), pattern, format!("./{path}"), format!("{path}/.")] {
                    let files = named(&source, &context, &name).unwrap_or_default();
                    prop_assert!(files.iter().all(|file| ignore.left_out_by(file).is_none()), "{name}: {files:?}");
                }
                if is_plain_file {
                    let path = Path::new(path);
                    let is_seen = ignore.left_out_by(path).is_none();
                    let by_name = named(&source, &context, path.to_str().unwrap());
                    prop_assert_eq!(by_name, is_seen.then(|| vec![path.to_owned()]));
                    prop_assert_eq!(whole.iter().any(|file| file == path), is_seen);
                    prop_assert_eq!(source.one(path.to_str().unwrap()).is_ok(), is_seen);
                }
            }
            prop_assert!(whole.iter().all(|file| ignore.left_out_by(file).is_none()));
        }
    }

    /// What is in every file below a folder; links are not followed.
    fn walked(folder: &Path) -> Vec<String> {
        let mut texts = Vec::new();
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let kind = entry.file_type().unwrap();
            if kind.is_dir() {
                texts.extend(walked(&entry.path()));
            } else if kind.is_file() {
                texts.push(fs::read_to_string(entry.path()).unwrap());
            }
        }
        texts
    }
}
