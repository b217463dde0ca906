//! Keys of copied files: names, permissions and contents.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use pondrix_files::Watch;

use super::copied_files::{FilesError, Item, at};
use super::key::Key;
use super::seen::Seen;
use crate::Store;
use crate::layer::attributes;
use crate::layer::bounds::Bounds;
use crate::layer::tree::Content;
use crate::parallel;

/// How much of a file is hashed at once.
const PIECE: usize = 256 * 1024;
/// In how many parts work is shared out, and how many files a part has at most.
const PARTS: usize = 32;
const FILES: usize = 256;

/// Adds to a key what decides how copies of these look: names, kinds, permissions, contents, and times that are theirs.
///
/// What is in them is noted with them.
pub(super) fn add_to_key(
    items: &mut [Item],
    store: &Store,
    seen: Option<&Seen>,
    key: &mut Key,
) -> Result<(), FilesError> {
    let ids = store.ids();
    note_contents(items, seen, store.watch())?;
    key.number(items.len() as u64);
    let mut names: HashMap<(u64, u64), usize> = HashMap::new();
    for (number, item) in items.iter().enumerate() {
        let word = match item.data {
            data if data.is_dir() => "folder",
            data if data.is_symlink() => "link",
            data if data.is_file() => "file",
            _ => "other",
        };
        key.text(word).path(&item.to).number(item.mode.into()).bytes(&item.content()?);
        if item.keeps_time {
            key.number(item.data.mtime().cast_unsigned());
        }
        if item.keeps {
            let (user, group) = ids.to_inside(item.data.uid(), item.data.gid());
            key.number(user.into()).number(group.into());
            // Files that are one file under several names are so in the copy.
            key.number(*names.entry(item.data.inode()).or_insert(number) as u64);
            let attributes = if item.data.is_symlink() {
                Vec::new()
            } else {
                attributes::read(&item.real).map_err(at(&item.real))?
            };
            key.number(attributes.len() as u64);
            for (name, value) in attributes {
                key.bytes(name.as_bytes()).bytes(&value);
            }
        }
    }
    Ok(())
}

/// Whether no more is to be copied than a layer may have: said before any of it is read.
fn are_within_bounds(items: &[Item]) -> Result<(), FilesError> {
    let mut bounds = Bounds::default();
    let length = |item: &Item| if item.data.is_file() { item.data.len() } else { 0 };
    items.iter().try_for_each(|item| bounds.admit(&item.to, length(item)).map_err(at(&item.to)))
}

/// Notes with each file what is in it; files that have to be read are read on all processors.
pub(super) fn note_contents(items: &mut [Item], seen: Option<&Seen>, watch: &Watch) -> Result<(), FilesError> {
    are_within_bounds(items)?;
    // Files of layers do not change, and their layers are in the key; only the context's are worth remembering.
    let seen_of = |item: &Item| seen.filter(|_| !item.keeps);
    let mut unread = Vec::new();
    for (number, item) in items.iter_mut().enumerate().filter(|(_, item)| item.data.is_file()) {
        item.content = seen_of(item).and_then(|seen| seen.content(&item.data));
        if item.content.is_none() {
            unread.push(number);
        }
    }
    let parts: Vec<_> = unread.chunks(unread.len().div_ceil(PARTS).clamp(1, FILES)).collect();
    let read = parallel::each(parts.len(), |number| {
        let mut buffer = vec![0; PIECE];
        let read = parts[number].iter().map(|number| {
            let item = &items[*number];
            let content = hash(&item.real, item.data.len(), &mut buffer, watch).map_err(at(&item.real))?;
            if let Some(seen) = seen_of(item) {
                seen.note(&item.data, content);
            }
            Ok(content)
        });
        read.collect::<Result<Vec<_>, FilesError>>()
    })?;
    for (number, content) in unread.iter().zip(read.into_iter().flatten()) {
        items[*number].content = Some(content);
    }
    Ok(())
}

/// BLAKE3 of a file: it is several times as fast as SHA-256, and this digest never leaves the machine.
fn hash(path: &Path, length: u64, buffer: &mut [u8], watch: &Watch) -> io::Result<Content> {
    let mut file = File::open(path)?;
    let mut hash = blake3::Hasher::new();
    let mut left = length;
    // A file that is as long as it was said to be is not asked whether there is more.
    while left > 0 {
        watch.check()?;
        let count = file.read(buffer)?;
        if count == 0 {
            break;
        }
        hash.update(&buffer[..count]);
        left = left.saturating_sub(count as u64);
    }
    Ok(*hash.finalize().as_bytes())
}
