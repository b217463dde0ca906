//! The files that COPY, ADD and mounts name.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::ffi::OsStringExt;
use std::path::{Component, Path, PathBuf};

use pondrix_core::matcher::{Matcher, Reading};
use pondrix_files::Watch;

use crate::layer::FOLDER_MODE;
use crate::layer::tree::Content;
use crate::parallel;
use crate::recipe::{Ignore, PatternError, without_alternatives};
use crate::rootfs::{Facts, Layers};

/// Maximum number of parts of a parallel walk.
const PARTS: usize = 32;
/// How many folders of a folder are worth sharing out.
const MANY: usize = 8;

/// A path below a folder, when it is there and no link on the way leads elsewhere. What a repository
/// names may be a link to anything.
#[must_use]
pub fn plain_path(folder: &Path, relative: &Path) -> Option<PathBuf> {
    let mut path = folder.to_owned();
    for part in relative.components() {
        match part {
            Component::Normal(part) if fs::symlink_metadata(&path).ok()?.is_dir() => path.push(part),
            Component::CurDir => {}
            _ => return None,
        }
    }
    fs::symlink_metadata(&path).ok().map(|_| path)
}

/// Why files cannot be copied.
#[derive(Debug)]
pub(super) enum FilesError {
    /// What is wrong, and what to do.
    Words(String, Option<String>),
    Io(PathBuf, io::Error),
}

pub(super) fn at(path: &Path) -> impl FnOnce(io::Error) -> FilesError {
    let path = path.to_owned();
    move |error| FilesError::Io(path, error)
}

/// Where files come from.
pub(super) struct Source<'a> {
    pub(super) layers: Layers<'a>,
    /// Cancels the walk when the build stops.
    pub(super) watch: &'a Watch,
    /// What of them is not seen.
    pub(super) ignore: Option<&'a Ignore>,
    /// Whether owners, times and the like are the files' own.
    pub(super) keeps: bool,
    /// Whether times are, of files and links: a commit's have those and no more.
    pub(super) keeps_times: bool,
    /// What it is, for people: `the context`.
    pub(super) name: String,
}

/// A file, folder or link to copy.
#[derive(Debug)]
pub(super) struct Item {
    /// Its path below the destination; empty for what takes the destination's own name.
    pub(super) to: PathBuf,
    /// Where it is on this machine.
    pub(super) real: PathBuf,
    pub(super) data: Facts,
    /// Its permissions.
    pub(super) mode: u32,
    /// Whether owner, time and the like are the file's own.
    pub(super) keeps: bool,
    /// Whether its time is.
    pub(super) keeps_time: bool,
    /// Whether it was named itself, and is no folder: where the destination is none either, it gets that name.
    pub(super) is_named: bool,
    /// What is in it, where that was looked at.
    pub(super) content: Option<Content>,
}

impl Item {
    fn new(to: PathBuf, real: PathBuf, data: Facts, source: &Source<'_>) -> Self {
        let mode = data.mode();
        let keeps_time = source.keeps || (source.keeps_times && !data.is_dir());
        Self { to, real, data, mode, keeps: source.keeps, keeps_time, is_named: false, content: None }
    }

    /// A folder that was named, whose content is copied. Where there is none at the destination it becomes one: as it
    /// is, if it is a folder in an image; else, and of all that there is, as folders are that nobody said anything of.
    fn root(root: &Path, real: PathBuf, data: Facts, source: &Source<'_>) -> Self {
        let item = Self::new(PathBuf::new(), real, data, source);
        let keeps = source.keeps && root != Path::new("/");
        if keeps { item } else { Self { mode: FOLDER_MODE, keeps, keeps_time: keeps, ..item } }
    }

    /// What stands for what is in it: of a link where it leads, of a file the digest that was noted.
    pub(super) fn content(&self) -> Result<Cow<'_, [u8]>, FilesError> {
        if self.data.is_symlink() {
            let target = fs::read_link(&self.real).map_err(at(&self.real))?;
            return Ok(Cow::Owned(target.into_os_string().into_vec()));
        }
        Ok(Cow::Borrowed(self.content.as_ref().map_or(&[], Content::as_slice)))
    }
}

/// How what a source names is laid out at the destination.
#[derive(Clone, Copy)]
pub(super) struct Layout<'a> {
    pub(super) exclude: &'a Ignore,
    /// Whether the folders above what is named come along.
    pub(super) parents: bool,
    /// The destination.
    pub(super) to: &'a str,
    /// Whether archives that ADD names are unpacked, or stand for what is in them.
    pub(super) unpacks: bool,
}

/// How folders are gone through.
#[derive(Clone, Copy)]
struct Walk<'a> {
    /// What the paths at the destination begin with.
    lead: &'a Path,
    layout: &'a Layout<'a>,
    /// Whether others go through others meanwhile.
    is_part: bool,
}

/// A folder of a walk.
struct Level {
    folder: PathBuf,
    inner: PathBuf,
    /// The entries that remain.
    listed: std::vec::IntoIter<(OsString, (PathBuf, Facts))>,
    /// The index of the folder's own item.
    place: usize,
    /// Whether the folder is left out itself, and something in it may be taken back.
    is_hidden: bool,
}

impl Level {
    fn has_many_folders(&self) -> bool {
        self.listed.as_slice().iter().filter(|(_, (_, data))| data.is_dir()).count() >= MANY
    }

    /// Removes the item of a folder that is left out, if nothing in it was taken back.
    fn leave(&self, items: &mut Vec<Item>) {
        if self.is_hidden && items.len() == self.place + 1 {
            items.pop();
        }
    }
}

impl Source<'_> {
    /// Adds what a path or pattern names. Answers how many things of that name there are: of a path at least one, of a
    /// pattern maybe none.
    pub(super) fn find(&self, named: &str, layout: &Layout<'_>, items: &mut Vec<Item>) -> Result<usize, FilesError> {
        let roots = self.roots(named)?;
        let mut found = roots.len();
        for root in &roots {
            let (real, on_disk) = self.real(root).ok_or_else(|| self.missing(named))?;
            let data = Facts::of(&on_disk).map_err(at(&on_disk))?;
            let lead = if layout.parents { self.lead(named, root) } else { PathBuf::new() };
            if data.is_dir() {
                let place = items.len();
                if !layout.parents {
                    items.push(Item::root(&real, on_disk, data, self));
                } else if !lead.as_os_str().is_empty() {
                    items.push(Item::new(lead.clone(), on_disk, data, self));
                }
                let own = items.len();
                self.walk(&real, Path::new(""), Walk { lead: &lead, layout, is_part: false }, items)?;
                // A folder that is left out is there only for what is taken back in it.
                if items.len() == own && (self.is_left_out(root) || self.is_left_out(&real)) {
                    items.truncate(place);
                    found -= 1;
                }
                continue;
            }
            let name = Path::new(root.file_name().unwrap_or_default());
            if layout.exclude.left_out_by(name).is_none() {
                let to = if layout.parents { lead } else { name.to_owned() };
                items.push(Item { is_named: true, ..Item::new(to, on_disk, data, self) });
            }
        }
        if found == 0 && !is_pattern(named) { Err(self.missing(named)) } else { Ok(found) }
    }

    /// The path of what was found that `--parents` keeps: all of it, or what is behind `/./`.
    fn lead(&self, named: &str, root: &Path) -> PathBuf {
        let pivot = named.find("/./").map_or(0, |at| Path::new(&named[..at]).components().filter(is_normal).count());
        root.components().filter(is_normal).skip(pivot).collect()
    }

    /// That there is nothing of a name.
    pub(super) fn missing(&self, named: &str) -> FilesError {
        let path = Path::new(named.trim_start_matches('/'));
        let line = self.ignore.and_then(|ignore| ignore.left_out_by(path));
        match line {
            Some(line) => FilesError::Words(
                format!("`{named}` is left out of {}", self.name),
                Some(format!(
                    "line {line} of the ignore file leaves it out; `!{}` behind it takes it back",
                    path.display()
                )),
            ),
            None => FilesError::Words(format!("{} has no `{named}`", self.name), Some("correct the path".to_owned())),
        }
    }

    /// A path with its links followed, and where it is on this machine.
    fn real(&self, path: &Path) -> Option<(PathBuf, PathBuf)> {
        let real = self.layers.follow(path)?;
        let on_disk = self.layers.find(&real)?;
        Some((real, on_disk))
    }

    /// The paths that a pattern names, sorted. A pattern matches part by part.
    fn roots(&self, named: &str) -> Result<Vec<PathBuf>, FilesError> {
        let mut found = BTreeSet::from([PathBuf::from("/")]);
        for part in Path::new(named).components() {
            let part = match part {
                Component::Normal(part) => part,
                Component::ParentDir => {
                    let help = "name a file below it, or choose another context in the pipeline file";
                    return Err(FilesError::Words(
                        format!("`{named}` leads out of {}", self.name),
                        Some(help.to_owned()),
                    ));
                }
                _ => continue,
            };
            let matcher = matcher(part).map_err(|error| FilesError::Words(error.to_string(), None))?;
            let mut next = BTreeSet::new();
            for folder in &found {
                self.watch.check().map_err(at(folder))?;
                match &matcher {
                    None => {
                        let path = folder.join(part);
                        if self.real(&path).is_some() && self.is_seen(&path) {
                            next.insert(path);
                        }
                    }
                    Some(_) if part == OsStr::new("**") => self.folders_below(folder, &mut next)?,
                    Some(matcher) => {
                        let Some((real, _)) = self.real(folder).filter(|(_, disk)| disk.is_dir()) else { continue };
                        for (name, _) in self.layers.list(&real).map_err(at(&real))? {
                            let path = folder.join(&name);
                            if matcher.is_match(&name) && self.is_seen(&path) {
                                next.insert(path);
                            }
                        }
                    }
                }
            }
            found = next;
        }
        Ok(found.into_iter().collect())
    }

    /// Adds a folder and all folders below it.
    fn folders_below(&self, folder: &Path, all: &mut BTreeSet<PathBuf>) -> Result<(), FilesError> {
        let mut waiting = vec![folder.to_owned()];
        while let Some(folder) = waiting.pop() {
            self.watch.check().map_err(at(&folder))?;
            let listed = self.layers.list(&folder).map_err(at(&folder))?;
            let folders = listed.into_iter().filter(|(_, (_, data))| data.is_dir());
            waiting.extend(folders.map(|(name, _)| folder.join(name)));
            all.insert(folder);
        }
        Ok(())
    }

    /// Whether a rule leaves this path out.
    fn is_left_out(&self, path: &Path) -> bool {
        let relative = path.strip_prefix("/").unwrap_or(path);
        self.ignore.is_some_and(|ignore| ignore.left_out_by(relative).is_some())
    }

    /// Whether what this path leads to is seen, or something below it may be. What is left out is not there, by no name
    /// and behind no link.
    fn is_seen(&self, path: &Path) -> bool {
        let Some((real, on_disk)) = self.real(path) else { return !self.is_left_out(path) };
        let is_folder = || fs::symlink_metadata(&on_disk).is_ok_and(|data| data.is_dir());
        let is_way_in = || self.ignore.is_some_and(Ignore::takes_back) && is_folder();
        !(self.is_left_out(path) || self.is_left_out(&real)) || is_way_in()
    }

    /// Adds the contents of a folder. `inner` is the path from the named folder to this one.
    fn walk(&self, folder: &Path, inner: &Path, walk: Walk<'_>, items: &mut Vec<Item>) -> Result<(), FilesError> {
        let top = self.level(folder.to_owned(), inner.to_owned(), items.len(), false)?;
        self.walk_levels(top, walk, items)
    }

    /// Lists a folder, whose own item is the one at `place`.
    fn level(&self, folder: PathBuf, inner: PathBuf, place: usize, is_hidden: bool) -> Result<Level, FilesError> {
        self.watch.check().map_err(at(&folder))?;
        let listed = self.layers.list(&folder).map_err(at(&folder))?.into_iter();
        Ok(Level { folder, inner, listed, place, is_hidden })
    }

    /// Adds the contents of a folder. Nested folders wait in a list: recursion would need a stack for 512 of them.
    fn walk_levels(&self, top: Level, walk: Walk<'_>, items: &mut Vec<Item>) -> Result<(), FilesError> {
        if !walk.is_part && top.has_many_folders() {
            return self.walk_in_parts(&top, walk, items);
        }
        let mut levels = vec![top];
        while let Some(level) = levels.last_mut() {
            let Some((name, (on_disk, data))) = level.listed.next() else {
                if let Some(level) = levels.pop() {
                    level.leave(items);
                }
                continue;
            };
            let inner = level.inner.join(&name);
            let place = items.len();
            let Some((path, inner, is_hidden)) =
                self.take((&level.folder, &name), inner, (on_disk, data), walk, items)?
            else {
                continue;
            };
            let inside = self.level(path, inner, place, is_hidden)?;
            if !walk.is_part && inside.has_many_folders() {
                self.walk_in_parts(&inside, walk, items)?;
                inside.leave(items);
            } else {
                levels.push(inside);
            }
        }
        Ok(())
    }

    /// Adds the contents of a folder with many subfolders, on all CPUs.
    fn walk_in_parts(&self, level: &Level, walk: Walk<'_>, items: &mut Vec<Item>) -> Result<(), FilesError> {
        let listed = level.listed.as_slice();
        let parts: Vec<_> = listed.chunks(listed.len().div_ceil(PARTS)).collect();
        let found = parallel::each(parts.len(), |number| {
            let mut items = Vec::new();
            let (folder, inner) = (level.folder.clone(), level.inner.clone());
            let listed = parts[number].to_vec();
            let part = Level { folder, inner, listed: listed.into_iter(), place: 0, is_hidden: false };
            self.walk_levels(part, Walk { is_part: true, ..walk }, &mut items).map(|()| items)
        })?;
        items.extend(found.into_iter().flatten());
        Ok(())
    }

    /// Adds an entry of a folder. Returns the path, the inner path, and whether it is left out itself, of a folder whose
    /// contents are to be added.
    fn take(
        &self,
        (folder, name): (&Path, &OsStr),
        inner: PathBuf,
        (on_disk, data): (PathBuf, Facts),
        walk: Walk<'_>,
        items: &mut Vec<Item>,
    ) -> Result<Option<(PathBuf, PathBuf, bool)>, FilesError> {
        self.watch.check().map_err(at(folder))?;
        let ignore = self.ignore.filter(|ignore| !ignore.is_empty());
        // Most files are left out by nothing, and nobody asks for their paths.
        let path = if data.is_dir() || ignore.is_some() { folder.join(name) } else { PathBuf::new() };
        let relative = path.strip_prefix("/").unwrap_or(&path);
        let rules = [ignore.map(|ignore| (ignore, relative)), Some((walk.layout.exclude, inner.as_path()))];
        let mut is_hidden = false;
        for (rules, path) in rules.into_iter().flatten() {
            if rules.left_out_by(path).is_some() {
                // A folder that is left out is gone into where something in it may be taken back.
                if !(data.is_dir() && rules.takes_back()) {
                    return Ok(None);
                }
                is_hidden = true;
            }
        }
        let below = data.is_dir().then(|| inner.clone());
        let to = if walk.lead.as_os_str().is_empty() { inner } else { walk.lead.join(inner) };
        items.push(Item::new(to, on_disk, data, self));
        Ok(below.map(|inner| (path, inner, is_hidden)))
    }

    /// The path in the layers of the one thing that a mount shows.
    pub(super) fn one(&self, named: &str) -> Result<PathBuf, FilesError> {
        let path = Path::new("/").join(named);
        if path.components().any(|part| part == Component::ParentDir) {
            return Err(FilesError::Words(format!("`{named}` leads out of {}", self.name), None));
        }
        self.real(&path).filter(|_| self.is_seen(&path)).map(|(real, _)| real).ok_or_else(|| self.missing(named))
    }

    /// Everything below a path, for a key.
    pub(super) fn everything(&self, path: &Path, items: &mut Vec<Item>) -> Result<(), FilesError> {
        let on_disk = self.layers.find(path).ok_or_else(|| self.missing(&path.to_string_lossy()))?;
        let data = Facts::of(&on_disk).map_err(at(&on_disk))?;
        let is_folder = data.is_dir();
        items.push(Item::new(PathBuf::new(), on_disk, data, self));
        let nothing = Ignore::default();
        let layout = Layout { exclude: &nothing, parents: false, to: "/", unpacks: false };
        let walk = Walk { lead: Path::new(""), layout: &layout, is_part: false };
        if is_folder { self.walk(path, Path::new(""), walk, items) } else { Ok(()) }
    }
}

fn is_normal(part: &Component<'_>) -> bool {
    matches!(part, Component::Normal(_))
}

/// Whether a part of a path is a pattern.
fn is_pattern(path: &str) -> bool {
    path.contains(['*', '?', '[', '\\'])
}

/// What matches a part of a path that is a pattern; nothing when it is a name.
fn matcher(part: &OsStr) -> Result<Option<Matcher>, PatternError> {
    let Some(text) = part.to_str().filter(|text| is_pattern(text)) else { return Ok(None) };
    let matcher = Matcher::new(&without_alternatives(text), Reading::WithEscapes);
    Ok(Some(matcher.map_err(|error| PatternError::new(text, &error))?))
}
