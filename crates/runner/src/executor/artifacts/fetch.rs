//! `fetch`: artifacts are put into the workspace.

use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use pondrix_api::{ArtifactFile, FetchedArtifact};
use pondrix_core::image::Digest;

use crate::executor::context::JobExecutor;
use crate::executor::error::{Doing, JobError};

/// A content, brought to this machine where it is not here.
pub(super) fn content(executor: &JobExecutor, digest: &Digest, executable: bool) -> Result<PathBuf, JobError> {
    if let Some(path) = executor.folder.contents.find(digest, executable) {
        return Ok(path);
    }
    let doing = || digest.short();
    let fetched = tempfile::NamedTempFile::new_in(executor.scratch.path()).doing(doing)?;
    executor.ask(async |client, assignment| client.fetch_file(assignment, digest, fetched.path()).await)?;
    executor.folder.contents.put_compressed(fetched.path(), digest, executable).doing(doing)
}

/// Puts an artifact that the job asked for into its workspace.
pub(crate) fn fetch(executor: &JobExecutor, workspace: &Path, artifact: &FetchedArtifact) -> Result<(), JobError> {
    let FetchedArtifact { name, from, to, files } = artifact;
    let files = files.as_ref().ok_or_else(|| {
        let words = "is not kept any more; rerun that run: pondrix rerun --all";
        JobError::Asked(format!("the artifact `{name}` of {from} {words}"))
    })?;
    let into = to.as_deref().unwrap_or("");
    for file in files {
        let put = put(executor, workspace, into, file).doing(|| file.path.clone());
        put.doing(|| format!("could not fetch the artifact `{name}` of {from}"))?;
    }
    executor.log.say(&format!("fetched {name} from {from}: {} files", files.len()));
    Ok(())
}

fn put(executor: &JobExecutor, workspace: &Path, into: &str, file: &ArtifactFile) -> Result<(), JobError> {
    let relative = Path::new(into).join(&file.path);
    let to = place(workspace, &relative, executor)?;
    match &file.link {
        Some(link) => std::os::unix::fs::symlink(link, &to)?,
        None => {
            let content = content(executor, &file.digest, file.executable)?;
            executor.folder.contents.give(&content, &to, file.executable)?;
        }
    }
    Ok(())
}

/// The place of a file in the workspace, free for it. Its folders are made; none may be a link, which
/// could lead anywhere on the machine.
fn place(workspace: &Path, relative: &Path, executor: &JobExecutor) -> io::Result<PathBuf> {
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
                executor.launcher.ids().give(&path, 0, 0)?;
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
