//! The checkout that the command stands in.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, anyhow};

fn output(arguments: &[&str]) -> anyhow::Result<String> {
    let output = Command::new("git").args(arguments).output().context("git")?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(anyhow!("{}", String::from_utf8_lossy(&output.stderr).trim()))
}

/// The addresses of its remotes.
pub(crate) fn remotes() -> Vec<String> {
    let text = output(&["config", "--get-regexp", r"^remote\..*\.url$"]).unwrap_or_default();
    text.lines().filter_map(|line| line.split_once(' ')).map(|(_, url)| url.to_owned()).collect()
}

/// The branch that is checked out.
pub(crate) fn current_branch() -> Option<String> {
    let name = output(&["symbolic-ref", "--short", "--quiet", "HEAD"]).ok()?;
    Some(name.trim().to_owned()).filter(|name| !name.is_empty())
}

/// The paths of the files that differ from a commit, committed or not, from the repository's root.
///
/// # Errors
/// What git says.
pub(crate) fn changed_since(commit: &str) -> anyhow::Result<Vec<String>> {
    let text = output(&["diff", "--name-only", "--no-renames", "-z", "--end-of-options", commit, "--"])?;
    Ok(text.split('\0').filter(|path| !path.is_empty()).map(str::to_owned).collect())
}

/// The files that are as they are in the commit that is checked out, from the repository's root.
///
/// # Errors
/// What git says.
pub(crate) fn unchanged() -> anyhow::Result<HashSet<PathBuf>> {
    let text = output(&["ls-tree", "-r", "-z", "--full-tree", "--name-only", "HEAD"])?;
    let mut files: HashSet<_> = text.split('\0').filter(|path| !path.is_empty()).map(PathBuf::from).collect();
    for changed in changed_since("HEAD")? {
        files.remove(Path::new(&changed));
    }
    Ok(files)
}

/// The commit that is checked out.
pub(crate) struct Head {
    pub(crate) commit: String,
    /// When it was made, in seconds since 1970.
    pub(crate) seconds: i64,
}

/// The commit that is checked out.
///
/// # Errors
/// What git says, as when there is none yet.
pub(crate) fn head() -> anyhow::Result<Head> {
    let text = output(&["log", "-1", "--format=%H %ct", "HEAD"])?;
    let (commit, seconds) = text.trim().split_once(' ').context("git names no commit")?;
    Ok(Head { commit: commit.to_owned(), seconds: seconds.parse().unwrap_or(0) })
}

/// The root folder of the checkout.
///
/// # Errors
/// What git says.
pub(crate) fn root() -> anyhow::Result<PathBuf> {
    output(&["rev-parse", "--show-toplevel"]).map(|text| PathBuf::from(text.trim_end_matches('\n')))
}

/// Who works here, as git is set.
pub(crate) fn user() -> String {
    let name = output(&["config", "user.name"]).unwrap_or_default();
    let name = name.trim();
    if name.is_empty() { "somebody".to_owned() } else { name.to_owned() }
}

/// The files that git knows or does not ignore, from the root of the checkout.
///
/// # Errors
/// What git says.
pub(crate) fn files() -> anyhow::Result<Vec<PathBuf>> {
    let list = ["ls-files", "--cached", "--others", "--exclude-standard", "--full-name", "-z", "--deduplicate", ":/"];
    let text = output(&list)?;
    Ok(text.split('\0').filter(|path| !path.is_empty()).map(PathBuf::from).collect())
}
