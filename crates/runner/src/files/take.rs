//! `take`: kept files are put into the workspace.

use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use pondrix_api::{KeptFile, Taken};
use pondrix_core::image::Digest;

use crate::job::Hands;

/// A content, brought to this machine where it is not here.
pub(super) fn content(hands: &Hands, digest: &Digest, executable: bool) -> Result<PathBuf, String> {
    if let Some(path) = hands.folder.contents.find(digest, executable) {
        return Ok(path);
    }
    let told = |error: &dyn std::fmt::Display| format!("{}: {error}", digest.short());
    let fetched = tempfile::NamedTempFile::new_in(hands.scratch.path()).map_err(|error| told(&error))?;
    hands.ask(async |client| client.fetch_file(&hands.assignment, digest, fetched.path()).await)?;
    hands.folder.contents.put_compressed(fetched.path(), digest, executable).map_err(|error| told(&error))
}

/// Puts what the job asked for into its workspace.
pub(crate) fn take(hands: &Hands, workspace: &Path, taken: &Taken) -> Result<(), String> {
    let Taken { name, from, to, files } = taken;
    let told = |error: &dyn std::fmt::Display| format!("could not take `{name}` of {from}: {error}");
    let files = files.as_ref().ok_or_else(|| format!("`{name}` of {from} is not kept any more; do that run again"))?;
    let into = to.as_deref().unwrap_or("");
    for file in files {
        put(hands, workspace, into, file).map_err(|error| told(&format!("{}: {error}", file.path)))?;
    }
    hands.log.say(&format!("took {name} from {from}: {} files", files.len()));
    Ok(())
}

fn put(hands: &Hands, workspace: &Path, into: &str, file: &KeptFile) -> Result<(), String> {
    let relative = Path::new(into).join(&file.path);
    let to = place(workspace, &relative, hands).map_err(|error| error.to_string())?;
    match &file.link {
        Some(link) => std::os::unix::fs::symlink(link, &to).map_err(|error| error.to_string()),
        None => {
            let content = content(hands, &file.digest, file.executable)?;
            hands.folder.contents.give(&content, &to, file.executable).map_err(|error| error.to_string())
        }
    }
}

/// The place of a file in the workspace, free for it. Its folders are made; none may be a link, which
/// could lead anywhere on the machine.
fn place(workspace: &Path, relative: &Path, hands: &Hands) -> io::Result<PathBuf> {
    let leaves = || io::Error::other("it leads out of the workspace");
    let mut path = workspace.to_owned();
    let parts: Vec<_> = relative.components().collect();
    let (name, folders) = parts.split_last().ok_or_else(leaves)?;
    for part in folders {
        let Component::Normal(part) = part else { return Err(leaves()) };
        path.push(part);
        match fs::symlink_metadata(&path) {
            Ok(data) if data.is_dir() => {}
            Ok(_) => return Err(io::Error::other("a folder above it is no folder")),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                fs::create_dir(&path)?;
                hands.launcher.ids().give(&path, 0, 0)?;
            }
            Err(error) => return Err(error),
        }
    }
    let Component::Normal(name) = name else { return Err(leaves()) };
    path.push(name);
    match fs::symlink_metadata(&path) {
        Ok(data) if data.is_dir() => Err(io::Error::other("a folder of this name is there")),
        Ok(_) => fs::remove_file(&path).map(|()| path),
        Err(_) => Ok(path),
    }
}
