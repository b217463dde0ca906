//! Folders that a layer leaves out, above things that it has.
//!
//! An archive may have `tmp/list` and no `tmp/`. Applied over others as archives are, `/tmp` stays what it was; a
//! folder `tmp` of the unpacked layer, laid over the others by overlayfs, would take its place with permissions that
//! nobody asked for. So a further folder goes between, with what the layers below say of such folders. One that is a
//! link below (`bin/tool`, where `/bin` leads to `usr/bin`) stays one, and what the layer has in it goes where it
//! leads.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::CString;
use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::{Path, PathBuf};

use pondrix_sandbox::IdMap;
use rustix::fs::XattrFlags;

use super::beneath::set_time;
use super::pack::is_opaque;
use super::{OPAQUE, attributes};
use crate::rootfs::Layers;

/// Fills the folder `into`, which is to be laid over `layers`, the highest of which leaves out these folders of its
/// own, sorted. Answers whether there is anything to lay over them.
///
/// # Errors
/// What the system says.
pub(crate) fn restore(layers: &[PathBuf], left_out: &[PathBuf], into: &Path, ids: IdMap) -> io::Result<bool> {
    let [below @ .., layer] = layers else { return Ok(false) };
    let named = left_out.iter().map(PathBuf::as_path).collect();
    let (below, all, dressed) = (Layers(below), Layers(layers), BTreeMap::new());
    let mut restorer = Restorer { below, all, layer, left_out: named, into, ids, dressed };
    for folder in left_out {
        restorer.restore(folder)?;
    }
    restorer.settle()
}

struct Restorer<'a> {
    below: Layers<'a>,
    all: Layers<'a>,
    layer: &'a Path,
    left_out: BTreeSet<&'a Path>,
    into: &'a Path,
    ids: IdMap,
    /// The folders that were made, and which folder each is to look like.
    dressed: BTreeMap<PathBuf, PathBuf>,
}

/// A folder of the layer whose content is to be put into another.
struct Carried {
    from: PathBuf,
    to: PathBuf,
    over: Over,
}

/// Whether the layers below have something in a folder.
#[derive(Clone, Copy)]
enum Over {
    Lower,
    Nothing,
}

impl Restorer<'_> {
    fn restore(&mut self, folder: &Path) -> io::Result<()> {
        let Some(lower) = self.below.find(folder) else { return Ok(()) };
        let data = fs::symlink_metadata(&lower)?;
        if data.is_dir() {
            if looks(&lower)? != looks(&self.layer.join(folder))? {
                self.folder(folder)?;
            }
        } else if data.is_symlink() && self.below.is_folder(folder) {
            let Some(target) = self.below.follow(folder) else { return Ok(()) };
            self.folder(folder.parent().unwrap_or(Path::new("")))?;
            symlink(fs::read_link(&lower)?, self.into.join(folder))?;
            let (user, group) = self.ids.to_inside(data.uid(), data.gid());
            self.ids.give(&self.into.join(folder), user, group)?;
            set_time(&self.into.join(folder), data.modified()?)?;
            self.carry(folder, target.strip_prefix("/").unwrap_or(&target))?;
        }
        Ok(())
    }

    /// Puts what the layer has in one folder into another, where the layers below have it. Folders wait in a list and not
    /// on the stack: an image may have hundreds in each other.
    fn carry(&mut self, from: &Path, to: &Path) -> io::Result<()> {
        let mut waiting = vec![Carried { from: from.to_owned(), to: to.to_owned(), over: Over::Lower }];
        while let Some(Carried { from, to, over }) = waiting.pop() {
            let is_over_lower = matches!(over, Over::Lower);
            if is_over_lower {
                self.folder(&to)?;
            }
            if is_over_lower && is_opaque(&self.layer.join(&from)) {
                rustix::fs::setxattr(self.into.join(&to), OPAQUE.0, OPAQUE.1, XattrFlags::empty())?;
                waiting.push(Carried { from: from.clone(), to: to.clone(), over: Over::Nothing });
                // That hides what the layer has there itself, too.
                if from != to && fs::symlink_metadata(self.layer.join(&to)).is_ok_and(|data| data.is_dir()) {
                    waiting.push(Carried { from: to.clone(), to, over: Over::Nothing });
                }
                continue;
            }
            for entry in fs::read_dir(self.layer.join(&from))? {
                let entry = entry?;
                let (from, to) = (from.join(entry.file_name()), to.join(entry.file_name()));
                if is_over_lower && self.left_out.contains(from.as_path()) {
                    let real = self.below.follow(&to).filter(|real| self.below.is_folder(real)).unwrap_or(to);
                    let to = real.strip_prefix("/").unwrap_or(&real).to_owned();
                    waiting.push(Carried { from, to, over });
                } else if entry.file_type()?.is_dir() {
                    self.folder(&to)?;
                    self.dressed.insert(to.clone(), entry.path());
                    waiting.push(Carried { from, to, over });
                } else {
                    self.link(&entry.path(), &to)?;
                }
            }
        }
        Ok(())
    }

    /// Has the same file once more; a link or a mark, too, has several names if need be.
    fn link(&self, file: &Path, to: &Path) -> io::Result<()> {
        let to = self.into.join(to);
        match fs::remove_file(&to) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        fs::hard_link(file, to)
    }

    /// Makes a folder and those above it, which are to look as they did.
    fn folder(&mut self, folder: &Path) -> io::Result<()> {
        let parts: Vec<_> = folder.components().collect();
        for count in 0..=parts.len() {
            let path: PathBuf = parts[..count].iter().collect();
            if self.dressed.contains_key(&path) {
                continue;
            }
            let like = if self.left_out.contains(path.as_path()) { self.below.find(&path) } else { None };
            let like = like.filter(|like| like.is_dir()).or_else(|| self.all.find(&path).filter(|like| like.is_dir()));
            if count > 0 {
                fs::create_dir(self.into.join(&path))?;
            }
            self.dressed.insert(path.clone(), like.unwrap_or_else(|| self.layer.to_owned()));
        }
        Ok(())
    }

    /// Gives the folders their looks, those inside first: the folder around one may be closed to us then.
    fn settle(&self) -> io::Result<bool> {
        for (path, like) in self.dressed.iter().rev() {
            let (path, data) = (self.into.join(path), fs::symlink_metadata(like)?);
            let (user, group) = self.ids.to_inside(data.uid(), data.gid());
            self.ids.give(&path, user, group)?;
            attributes::copy(like, &path, self.ids)?;
            fs::set_permissions(&path, data.permissions())?;
            set_time(&path, data.modified()?)?;
        }
        Ok(!self.dressed.is_empty())
    }
}

/// What of a folder others see, but for its time: that of a folder changes with what is put into it.
#[derive(PartialEq)]
struct Looks {
    mode: u32,
    owner: (u32, u32),
    attributes: Vec<(CString, Vec<u8>)>,
}

fn looks(path: &Path) -> io::Result<Looks> {
    let data = fs::symlink_metadata(path)?;
    Ok(Looks { mode: data.mode(), owner: (data.uid(), data.gid()), attributes: attributes::read(path)? })
}
