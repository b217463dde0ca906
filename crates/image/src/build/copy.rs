//! Putting copied files into a new layer.

use std::collections::HashMap;
use std::ffi::OsString;
use std::fs;
use std::path::{Component, Path, PathBuf};
use std::rc::Rc;

use pondrix_sandbox::IdMap;

use super::below::Below;
use super::copied_files::{FilesError, Item, at};
use super::owner::Mode;
use crate::Store;
use crate::layer::tree::{Node, NodeKind, Tree};
use crate::layer::{FOLDER_MODE, attributes};

/// Copies into a new layer, over those below it.
pub(super) struct Copier<'a> {
    below: &'a Below,
    tree: Tree,
    ids: IdMap,
    /// Whose the files become; where nothing is said, root's or their own.
    owner: Option<(u32, u32)>,
    mode: Option<Mode>,
    /// The time of what has none of its own, in seconds since 1970.
    time: u64,
    /// Folders that were looked at, as they were asked for: where they are in the image, and whether the layers
    /// below have something there.
    folders: HashMap<PathBuf, FolderBelow>,
    /// The one that was asked for last: that of most files is that of the file before.
    last: Option<(PathBuf, FolderBelow)>,
    /// Whether the layers below are not known: folders that are made only for what is in them look as those say.
    is_alone: bool,
}

/// Where a folder is in the image, and whether the layers below have something there.
type FolderBelow = (Rc<Path>, bool);

/// A path of the image as one of a tree.
fn in_tree(path: &Path) -> &Path {
    path.strip_prefix("/").unwrap_or(path)
}

impl<'a> Copier<'a> {
    pub(super) fn new(below: &'a Below, ids: IdMap, time: u64) -> Self {
        let tree = Tree::default();
        Self { below, tree, ids, owner: None, mode: None, time, folders: HashMap::new(), last: None, is_alone: false }
    }

    /// A layer that does not depend on those below it.
    pub(super) fn alone(self) -> Self {
        Self { is_alone: true, ..self }
    }

    pub(super) fn owned(self, owner: Option<(u32, u32)>, mode: Option<Mode>) -> Self {
        Self { owner, mode, ..self }
    }

    /// What was copied.
    pub(super) fn into_tree(self) -> Tree {
        self.tree
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
        self.below.follow(target).ok_or_else(circle)
    }

    /// Makes sure of a folder. Answers where it is in the image, and whether the layers below have it.
    pub(super) fn folder(&mut self, path: &Path) -> Result<FolderBelow, FilesError> {
        match &self.last {
            Some((last, below)) if last.as_os_str() == path.as_os_str() => Ok(below.clone()),
            _ => self.make_sure(path, None),
        }
    }

    fn put_folder(&mut self, item: &Item, target: &Path) -> Result<(), FilesError> {
        self.make_sure(target, Some(item)).map(|_| ())
    }

    fn make_sure(&mut self, path: &Path, like: Option<&Item>) -> Result<FolderBelow, FilesError> {
        let below = match self.folders.get(path) {
            Some(known) => known.clone(),
            None => {
                let real = self.real(path)?;
                self.make_folders(&real, like)?;
                let there = self.below.find(&real).is_some();
                let below = (Rc::from(real), there);
                self.folders.insert(path.to_owned(), below.clone());
                below
            }
        };
        self.last = Some((path.to_owned(), below.clone()));
        Ok(below)
    }

    /// Makes a folder and those above it, as the layers below have them where they have them.
    fn make_folders(&mut self, path: &Path, like: Option<&Item>) -> Result<(), FilesError> {
        let mut so_far = PathBuf::from("/");
        for part in path.components().filter(|part| matches!(part, Component::Normal(_))) {
            so_far.push(part);
            let here = self.tree.get(in_tree(&so_far));
            if here.is_some_and(Node::is_folder) {
                continue;
            }
            let below = self.below.find(&so_far);
            if here.is_some() || below.as_ref().is_some_and(|below| !below.is_folder()) {
                let words = format!("{} is a file in the image, and would have to be a folder", so_far.display());
                return Err(FilesError::Words(words, None));
            }
            let node = match (below, like.filter(|_| so_far == path)) {
                (Some(below), _) => below.into_folder(self.ids).map_err(at(&so_far))?,
                (None, Some(item)) => self.dressed(item, NodeKind::Folder { is_left_out: false })?,
                (None, None) => {
                    // Who says whose the files are means the folder that they are to be in, and none above it.
                    let is_left_out = self.is_alone && (self.owner.is_none() || so_far != path);
                    let owner = self.owner.unwrap_or((0, 0));
                    let kind = NodeKind::Folder { is_left_out };
                    Node { kind, mode: FOLDER_MODE, owner, time: self.time, attributes: Vec::new() }
                }
            };
            self.tree.put(in_tree(&so_far).to_owned(), node);
        }
        Ok(())
    }

    /// Puts a file or link at a path of the image, whose parents are no links.
    fn put(&mut self, item: &Item, path: &Path) -> Result<(), FilesError> {
        let (_, parent_is_below) = self.folder(path.parent().unwrap_or(Path::new("/")))?;
        let is_folder_below = || parent_is_below && self.below.find(path).is_some_and(|below| below.is_folder());
        if self.tree.get(in_tree(path)).is_some_and(Node::is_folder) || is_folder_below() {
            let words = format!("{} is a folder in the image, and would have to be a file", path.display());
            return Err(FilesError::Words(words, Some("name another destination, or end it with a slash".to_owned())));
        }
        let kind = if item.data.is_symlink() {
            NodeKind::Link(OsString::from(fs::read_link(&item.real).map_err(at(&item.real))?))
        } else if item.data.is_file() {
            let inode = (item.keeps && item.data.has_several_names()).then(|| item.data.inode());
            NodeKind::File { from: item.real.clone(), length: item.data.len(), content: item.content, inode }
        } else {
            // Pipes, sockets and devices are of a running machine.
            return Ok(());
        };
        let node = self.dressed(item, kind)?;
        self.tree.put(in_tree(path).to_owned(), node);
        Ok(())
    }

    /// A copy, with its owner, permissions and time.
    fn dressed(&self, item: &Item, kind: NodeKind) -> Result<Node, FilesError> {
        let data = &item.data;
        let own = if item.keeps { self.ids.to_inside(data.uid(), data.gid()) } else { (0, 0) };
        let keeps_attributes = item.keeps && !data.is_symlink();
        Ok(Node {
            kind,
            mode: self.mode.as_ref().map_or(item.mode, |mode| mode.of(item.mode, data.is_dir())),
            owner: self.owner.unwrap_or(own),
            time: if item.keeps_time { u64::try_from(data.mtime()).unwrap_or(0) } else { self.time },
            attributes: match keeps_attributes {
                true => attributes::read(&item.real).map_err(at(&item.real))?,
                false => Vec::new(),
            },
        })
    }
}

/// Writes copies into a folder that is empty.
pub(super) fn copy_into(folder: &Path, items: &[Item], store: &Store, time: u64) -> Result<(), FilesError> {
    let ids = store.ids();
    let below = Below::default();
    let mut copier = Copier::new(&below, ids, time);
    copier.copy(items, "/")?;
    copier.into_tree().write(folder, ids, store.watch()).map_err(at(folder))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use std::os::unix::fs::symlink;

    use super::super::copied_files::{Layout, Source};
    use super::*;
    use crate::recipe::Ignore;
    use crate::rootfs::Layers;

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

    #[test]
    fn folders_are_copied_that_are_as_deep_as_a_layer_may_have_them_and_no_deeper() {
        let folder = tempfile::tempdir().unwrap();
        let mut deep = folder.path().join("context");
        (1..pondrix_files::DEEPEST).for_each(|_| deep.push("bed"));
        fs::create_dir_all(&deep).unwrap();
        fs::write(deep.join("lily"), "").unwrap();
        let (sources, nothing, watch) =
            ([folder.path().join("context")], Ignore::default(), pondrix_files::Watch::none());
        let name = "the context".to_owned();
        let source =
            Source { layers: Layers(&sources), watch: &watch, ignore: None, keeps: false, keeps_times: false, name };
        let layout = Layout { exclude: &nothing, parents: false, to: "/", unpacks: false };
        let mut items = Vec::new();
        source.find(".", &layout, &mut items).unwrap();
        super::super::copied_keys::note_contents(&mut items, None, &watch).unwrap();
        assert!(items.iter().any(|item| item.to.ends_with("lily")));
        fs::create_dir_all(deep.join("bed/bed")).unwrap();
        let mut items = Vec::new();
        source.find(".", &layout, &mut items).unwrap();
        let error = super::super::copied_keys::note_contents(&mut items, None, &watch).unwrap_err();
        let FilesError::Io(_, error) = error else { panic!("{error:?}") };
        assert!(error.to_string().starts_with("more than 512 nested folders"), "{error}");
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
            let source = Source { layers: Layers(&sources), watch: &pondrix_files::Watch::none(), ignore: None, keeps: false, keeps_times: false, name: "the context".to_owned() };
            let nothing = Ignore::default();
            let layout = Layout { exclude: &nothing, parents, to, unpacks: false };
            let mut items = Vec::new();
            for name in named {
                let _ = source.find(name, &layout, &mut items);
            }
            let upper = place("upper");
            let below = Below::new(layers.to_vec(), Vec::new());
            let mut copier = Copier::new(&below, IdMap::for_this_process(), 0);
            let _ = copier.copy(&items, to);
            copier.into_tree().write(&upper, IdMap::for_this_process(), &pondrix_files::Watch::none()).unwrap();
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
            let source = Source { layers: Layers(&sources), watch: &pondrix_files::Watch::none(), ignore: None, keeps: true, keeps_times: true, name: "a stage".to_owned() };
            let nothing = Ignore::default();
            let layout = Layout { exclude: &nothing, parents: false, to: "/", unpacks: false };
            let mut items = Vec::new();
            for number in 0..folders.len() {
                source.find(&format!("folder-{number}"), &layout, &mut items).unwrap();
            }
            let upper = place("upper");
            let below = Below::default();
            let mut copier = Copier::new(&below, IdMap::for_this_process(), 0);
            copier.copy(&items, "/to/").unwrap();
            copier.into_tree().write(&upper, IdMap::for_this_process(), &pondrix_files::Watch::none()).unwrap();
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
        let layout = Layout { exclude: &nothing, parents: false, to: "/", unpacks: false };
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
            let source = Source { layers: Layers(&layers), watch: &pondrix_files::Watch::none(), ignore: Some(&ignore), keeps: false, keeps_times: false, name };
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
