//! Looking into a stack of layers as a command inside would see it, without mounting it.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileTypeExt;
use std::path::{Component, Path, PathBuf};

use crate::layer::pack::{is_opaque, is_whiteout};

/// As many links as the kernel follows (path_resolution(7)).
const LINKS_FOLLOWED: usize = 40;

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
    pub(crate) fn list(&self, path: &Path) -> io::Result<BTreeMap<OsString, PathBuf>> {
        let mut all: BTreeMap<OsString, Option<PathBuf>> = BTreeMap::new();
        for (number, layer) in self.0.iter().enumerate().rev() {
            let folder = layer.join(path.strip_prefix("/").unwrap_or(path));
            // Something above may have removed or replaced this folder, or one above it.
            let above = Layers(&self.0[number + 1..]);
            match fs::symlink_metadata(&folder) {
                Ok(data) if data.is_dir() && !above.ends(path) => {}
                _ => continue,
            }
            for entry in fs::read_dir(&folder)? {
                let entry = entry?;
                // Only what may be one is looked at: nearly nothing is.
                let is_removed = entry.file_type()?.is_char_device() && is_whiteout(&entry.metadata()?);
                let shown = (!is_removed).then(|| entry.path());
                all.entry(entry.file_name()).or_insert(shown);
            }
        }
        Ok(all.into_iter().filter_map(|(name, shown)| Some((name, shown?))).collect())
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
        let mut real = PathBuf::from("/");
        let mut rest: Vec<Vec<u8>> = parts_reversed(path);
        let mut followed = 0;
        while let Some(part) = rest.pop() {
            if part == b".." {
                real.pop();
                continue;
            }
            let next = real.join(std::ffi::OsStr::from_bytes(&part));
            let target = self.find(&next).and_then(|found| fs::read_link(found).ok());
            match target {
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

    /// Whether a path is a folder, links followed.
    pub(crate) fn is_folder(&self, path: &Path) -> bool {
        self.follow(path).and_then(|real| self.find(&real)).is_some_and(|found| found.is_dir())
    }
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
