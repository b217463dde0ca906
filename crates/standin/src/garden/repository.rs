//! A sample repository: a bare one that the server watches, and a checkout to commit in.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicU64, Ordering};

use super::samples::SampleFile;
use anyhow::{Context, anyhow};
use pondrix_sandbox::WithoutTerminal as _;

/// A sample repository.
#[derive(Debug)]
pub struct Repository {
    /// Its name.
    pub name: &'static str,
    /// The bare one, which the server watches.
    pub bare: PathBuf,
    checkout: PathBuf,
    /// When the next commit is made, in seconds since 1970; now where nothing is said.
    clock: AtomicU64,
}

fn told<T>(result: std::io::Result<T>, doing: &str) -> anyhow::Result<T> {
    result.with_context(|| format!("could not {doing}"))
}

/// Runs git in a folder, as one of the garden's developers, whatever this machine's git is set to.
fn git(folder: &Path, arguments: &[&str]) -> anyhow::Result<String> {
    git_at(folder, 0, arguments)
}

/// The same at a moment, in seconds since 1970; now for 0.
fn git_at(folder: &Path, moment: u64, arguments: &[&str]) -> anyhow::Result<String> {
    let mut git = Command::new("git");
    git.without_terminal();
    if moment > 0 {
        git.env("GIT_COMMITTER_DATE", format!("@{moment} +0000"));
    }
    let output = git
        .current_dir(folder)
        .args(["-c", "init.defaultBranch=main", "-c", "commit.gpgSign=false", "-c", "core.hooksPath="])
        .args(arguments)
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_AUTHOR_NAME", "Tomas")
        .env("GIT_AUTHOR_EMAIL", "tomas@fernhollow.test")
        .env("GIT_COMMITTER_NAME", "Tomas")
        .env("GIT_COMMITTER_EMAIL", "tomas@fernhollow.test")
        .output();
    let output = told(output, "start git (install it: apt-get install git)")?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned());
    }
    Err(anyhow!("git {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr).trim()))
}

impl Repository {
    /// Makes both, with the sample's files ready for the first commit.
    ///
    /// # Errors
    /// In words; so for all the others.
    pub fn new(folder: &Path, name: &'static str, files: &[SampleFile]) -> anyhow::Result<Self> {
        let bare = folder.join("repositories").join(format!("{name}.git"));
        let checkout = folder.join("checkouts").join(name);
        for folder in [&bare, &checkout] {
            told(fs::create_dir_all(folder), "make a folder for a repository")?;
        }
        git(&bare, &["init", "--quiet", "--bare"])?;
        git(&checkout, &["init", "--quiet"])?;
        git(&checkout, &["remote", "add", "origin", &bare.display().to_string()])?;
        let repository = Self { name, bare, checkout, clock: AtomicU64::new(0) };
        for (path, text) in files {
            repository.write(path, text)?;
            if path.ends_with(".sh") {
                let mode = fs::Permissions::from_mode(0o755);
                told(fs::set_permissions(repository.checkout.join(path), mode), "make a script")?;
            }
        }
        Ok(repository)
    }

    /// Writes a file of the checkout.
    ///
    /// # Errors
    /// In words.
    pub fn write(&self, path: &str, text: &str) -> anyhow::Result<()> {
        let path = self.checkout.join(path);
        told(fs::create_dir_all(path.parent().unwrap_or(&path)), "make a folder")?;
        told(fs::write(&path, text), "write a file")
    }

    /// Commits everything and pushes it; answers the commit.
    ///
    /// # Errors
    /// In words.
    pub fn push(&self, message: &str) -> anyhow::Result<String> {
        self.push_to("main", message)
    }

    /// The same, to another branch.
    ///
    /// # Errors
    /// In words.
    pub fn push_to(&self, branch: &str, message: &str) -> anyhow::Result<String> {
        git(&self.checkout, &["add", "--all"])?;
        self.git(&["commit", "--quiet", "--allow-empty", "--message", message])?;
        git(&self.checkout, &["push", "--quiet", "origin", &format!("HEAD:refs/heads/{branch}")])?;
        git(&self.checkout, &["rev-parse", "HEAD"])
    }

    /// Has a tag name a commit, whatever it named before, and pushes it.
    ///
    /// # Errors
    /// In words.
    pub fn push_tag(&self, tag: &str, commit: &str) -> anyhow::Result<()> {
        git(&self.checkout, &["tag", "--force", tag, commit])?;
        git(&self.checkout, &["push", "--quiet", "--force", "origin", &format!("refs/tags/{tag}")])?;
        Ok(())
    }

    /// Runs git in the checkout; answers what it printed.
    ///
    /// # Errors
    /// In words.
    pub fn git(&self, arguments: &[&str]) -> anyhow::Result<String> {
        let moment = self.clock.load(Ordering::Relaxed);
        if moment > 0 {
            self.clock.store(moment + 100, Ordering::Relaxed);
        }
        git_at(&self.checkout, moment, arguments)
    }

    /// From now on commits are made at this moment and later, each 100 seconds or more after the one before.
    pub fn set_clock(&self, moment: u64) {
        self.clock.store(moment, Ordering::Relaxed);
    }

    /// The folder of the checkout.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.checkout
    }

    /// Removes a file of the checkout.
    ///
    /// # Errors
    /// In words.
    pub fn remove(&self, path: &str) -> anyhow::Result<()> {
        told(fs::remove_file(self.checkout.join(path)), "remove a file")
    }

    /// Has the repository tell the server after each push, or no longer.
    ///
    /// # Errors
    /// In words.
    pub fn set_hook(&self, address: Option<&str>) -> anyhow::Result<()> {
        let hook = self.bare.join("hooks/post-receive");
        let Some(address) = address else {
            return told(fs::remove_file(hook), "remove the hook");
        };
        let script = format!(
            "#!/bin/sh\n# \"Look now\": the server then compares branches itself.\nexec curl --silent --show-error --fail --max-time 5 \
             --request POST --output /dev/null '{address}'\n"
        );
        told(fs::write(&hook, script), "write the hook")?;
        told(fs::set_permissions(&hook, PermissionsExt::from_mode(0o755)), "write the hook")
    }
}
