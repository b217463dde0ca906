//! A repository for tests.

use std::fs;
use std::io::Read;
use std::path::PathBuf;

use tokio::io::AsyncReadExt;
use tokio::process::Command;

use super::command::output;
use super::repository::{GitRepository, git};
use super::{Archive, AttributeFiles, Repository, Signing};

/// A repository that people push to, a checkout of it, and the server's copy.
pub(super) struct Place {
    pub(super) folder: tempfile::TempDir,
    pub(super) repository: GitRepository,
}

/// Of a repository on this machine.
pub(super) fn here() -> Signing {
    Signing { is_trusted: true, ..Signing::default() }
}

impl Place {
    pub(super) async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let bare = folder.path().join("bare");
        output(git().args(["init", "--quiet", "--bare", "--"]).arg(&bare)).await.unwrap();
        output(git().args(["init", "--quiet", "--"]).arg(folder.path().join("checkout"))).await.unwrap();
        let repository =
            GitRepository::new(&bare.display().to_string(), here(), folder.path().join("copy.git"), 1 << 30);
        Self { folder, repository }
    }

    pub(super) fn address(&self) -> String {
        self.folder.path().join("bare").display().to_string()
    }

    pub(super) fn checkout(&self) -> PathBuf {
        self.folder.path().join("checkout")
    }

    pub(super) fn write(&self, path: &str, text: &str) {
        let path = self.checkout().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn command(&self) -> Command {
        // What the machine's user wants of git is not what is committed here.
        let mut command = git();
        command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_ATTR_NOSYSTEM", "1");
        command.current_dir(self.checkout()).args(["-c", "user.name=Wren", "-c", "user.email=wren@fernhollow.test"]);
        command
    }

    pub(super) async fn git(&self, arguments: &[&str]) -> String {
        let words = output(self.command().args(arguments)).await.unwrap();
        String::from_utf8(words).unwrap().trim().to_owned()
    }

    /// Commits everything, has the copy fetch it, and answers the commit.
    pub(super) async fn commit(&self) -> String {
        self.git(&["add", "--all"]).await;
        self.git(&["commit", "--quiet", "--allow-empty", "--message", "More"]).await;
        self.push().await
    }

    async fn push(&self) -> String {
        let bare = self.folder.path().join("bare").display().to_string();
        self.git(&["push", "--quiet", "--force", &bare, "HEAD:refs/heads/main"]).await;
        self.repository.fetch().await.unwrap();
        self.git(&["rev-parse", "HEAD"]).await
    }

    /// The same, of a commit made at a moment, in seconds since 1970.
    pub(super) async fn commit_at(&self, time: u64) -> String {
        self.git(&["add", "--all"]).await;
        let date = format!("@{time} +0000");
        let mut command = self.command();
        command.env("GIT_COMMITTER_DATE", &date).args(["commit", "--quiet", "--allow-empty", "--message", "More"]);
        output(&mut command).await.unwrap();
        self.push().await
    }

    pub(super) async fn archive_bytes(&self, commit: &str, files: &[String], attributes: AttributeFiles) -> Vec<u8> {
        let Archive { bytes: mut archive, ended } = self.repository.archive(commit, files, attributes).unwrap();
        let mut bytes = Vec::new();
        archive.read_to_end(&mut bytes).await.unwrap();
        assert!(ended.await);
        bytes
    }

    /// The names and contents of an archive, without folders.
    pub(super) async fn archive(&self, commit: &str, files: &[&str]) -> Vec<(String, String)> {
        let files: Vec<String> = files.iter().map(|file| (*file).to_owned()).collect();
        let bytes = self.archive_bytes(commit, &files, AttributeFiles::Perhaps).await;
        let mut all = Vec::new();
        for entry in tar::Archive::new(&bytes[..]).entries().unwrap() {
            let mut entry = entry.unwrap();
            if matches!(entry.header().entry_type(), tar::EntryType::Regular | tar::EntryType::Symlink) {
                let name = entry.path().unwrap().display().to_string();
                let mut text = String::new();
                entry.read_to_string(&mut text).unwrap();
                all.push((name, text));
            }
        }
        all
    }
}
