//! Git, through its own command.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use pondrix_core::Time;
use tokio::process::{Child, Command};

use crate::store::Refs;

/// How long git may take to answer.
const PATIENCE: Duration = Duration::from_secs(120);

/// What a repository's own notes may not decide: which files a commit has when it is fetched as an archive, and
/// what stands in them (gitattributes(5), "Creating an archive"). A job gets what a checkout has.
const ATTRIBUTES: &str = "* -export-ignore -export-subst\n";
/// How many names of changed files, in bytes, git is given as arguments.
const MOST_NAMES: usize = 64 * 1024;

/// What git said when it failed.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct GitError(String);

/// A repository, and the service's own copy of it.
#[derive(Clone, Debug)]
pub(crate) struct Repository {
    address: String,
    copy: PathBuf,
}

/// What git knows of a commit.
#[derive(Clone, Debug)]
pub(crate) struct CommitFacts {
    pub(crate) time: Time,
    pub(crate) author: String,
    pub(crate) title: String,
}

/// How the files of one commit differ from those of another.
#[derive(Clone, Debug, Default)]
pub(crate) struct Difference {
    /// Files that are new or other.
    pub(crate) changed: Vec<String>,
    /// Files that are gone.
    pub(crate) removed: Vec<String>,
}

fn git() -> Command {
    let mut git = Command::new("git");
    git.env("GIT_TERMINAL_PROMPT", "0")
        .env("GIT_SSH_COMMAND", "ssh -o BatchMode=yes")
        // Transports that run commands of the address's choosing stay closed.
        .env("GIT_ALLOW_PROTOCOL", "file:git:http:https:ssh")
        .env("LC_ALL", "C")
        .stdin(Stdio::null())
        .kill_on_drop(true);
    git
}

async fn output(command: &mut Command) -> Result<Vec<u8>, GitError> {
    let ended = tokio::time::timeout(PATIENCE, command.output()).await;
    let output = ended
        .map_err(|_| GitError(format!("git did not answer within {} s", PATIENCE.as_secs())))?
        .map_err(|error| GitError(format!("git could not be started: {error}")))?;
    if output.status.success() {
        return Ok(output.stdout);
    }
    let words = String::from_utf8_lossy(&output.stderr);
    let words: Vec<_> = words.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    Err(GitError(words.join(" ")))
}

impl Repository {
    pub(crate) fn new(address: &str, copy: PathBuf) -> Self {
        Self { address: address.to_owned(), copy }
    }

    fn in_copy(&self) -> Command {
        let mut git = git();
        git.arg("--git-dir").arg(&self.copy);
        git
    }

    /// For reading what the copy has. What the machine or its user set for git, such as filters that
    /// change files on their way out, has no say in what a commit consists of.
    fn reading_copy(&self) -> Command {
        let mut git = self.in_copy();
        git.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_ATTR_NOSYSTEM", "1");
        git
    }

    /// The branches and tags and their commits, as the repository has them now.
    pub(crate) async fn refs(&self) -> Result<Refs, GitError> {
        let text = output(git().args(["ls-remote", "--heads", "--tags", "--", &self.address])).await?;
        let text = String::from_utf8_lossy(&text);
        let mut refs = Refs::default();
        for (commit, name) in text.lines().filter_map(|line| line.split_once('\t')) {
            if let Some(branch) = name.strip_prefix("refs/heads/") {
                refs.branches.insert(branch.to_owned(), commit.to_owned());
            } else if let Some(tag) = name.strip_prefix("refs/tags/") {
                // A tag with a message comes twice: as itself, then with the commit that it means.
                refs.tags.insert(tag.trim_end_matches("^{}").to_owned(), commit.to_owned());
            }
        }
        Ok(refs)
    }

    /// The paths of the files that differ between two commits; nothing when that cannot be told.
    pub(crate) async fn changed(&self, from: &str, to: &str) -> Option<Vec<String>> {
        let diff = ["diff", "--name-only", "--no-renames", "-z", from, to, "--"];
        let bytes = output(self.reading_copy().args(diff)).await.ok()?;
        Some(names(&bytes))
    }

    /// Brings the copy up to date.
    pub(crate) async fn fetch(&self) -> Result<(), GitError> {
        if !self.copy.join("HEAD").exists() {
            output(git().args(["init", "--quiet", "--bare", "--"]).arg(&self.copy)).await?;
        }
        self.write_attributes().await.map_err(|error| GitError(format!("{}: {error}", self.copy.display())))?;
        let refs = ["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"];
        let fetch = ["fetch", "--quiet", "--prune", "--no-tags", "--no-write-fetch-head", "--", &self.address];
        output(self.in_copy().args(fetch).args(refs)).await.map(|_| ())
    }

    async fn write_attributes(&self) -> std::io::Result<()> {
        let info = self.copy.join("info");
        let file = info.join("attributes");
        if tokio::fs::read(&file).await.is_ok_and(|known| known == ATTRIBUTES.as_bytes()) {
            return Ok(());
        }
        tokio::fs::create_dir_all(&info).await?;
        tokio::fs::write(&file, ATTRIBUTES).await
    }

    /// What of a commit's files is not as in another commit; nothing when that cannot be told, or is so much that
    /// all of them are fetched as easily.
    pub(crate) async fn difference(&self, from: &str, to: &str) -> Option<Difference> {
        // It comes from a runner, and is an argument.
        if !from.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return None;
        }
        let diff = ["diff", "--name-status", "--no-renames", "-z", from, to, "--"];
        let text = String::from_utf8(output(self.reading_copy().args(diff)).await.ok()?).ok()?;
        let mut difference = Difference::default();
        let mut words = text.split_terminator('\0');
        while let (Some(status), Some(path)) = (words.next(), words.next()) {
            // These notes say how other files are written out, which then change without being changed.
            if path == ".gitattributes" || path.ends_with("/.gitattributes") {
                return None;
            }
            let list = if status == "D" { &mut difference.removed } else { &mut difference.changed };
            list.push(path.to_owned());
        }
        (difference.changed.iter().map(|path| path.len() + 1).sum::<usize>() <= MOST_NAMES).then_some(difference)
    }

    /// The whole id of a commit that the copy has, by the beginning of it; nothing when there is none, or
    /// this is no beginning of an id.
    pub(crate) async fn commit(&self, start: &str) -> Option<String> {
        let is_id = (7..=64).contains(&start.len()) && start.bytes().all(|byte| byte.is_ascii_hexdigit());
        let name = is_id.then(|| format!("{start}^{{commit}}"))?;
        let id = output(self.reading_copy().args(["rev-parse", "--verify", "--quiet", &name])).await.ok()?;
        Some(String::from_utf8_lossy(&id).trim().to_owned())
    }

    /// A file of a commit; nothing when the commit has no such file.
    pub(crate) async fn file(&self, commit: &str, path: &str) -> Result<Option<String>, GitError> {
        let listed = output(self.reading_copy().args(["ls-tree", "-z", "--full-tree", commit, "--", path])).await?;
        // A folder or a link of this name is not the file.
        if !listed.starts_with(b"100") {
            return Ok(None);
        }
        let bytes = output(self.reading_copy().args(["cat-file", "blob", &format!("{commit}:{path}")])).await?;
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// The names of all files of a commit.
    pub(crate) async fn file_names(&self, commit: &str) -> Result<Vec<String>, GitError> {
        let bytes =
            output(self.reading_copy().args(["ls-tree", "-r", "-z", "--full-tree", "--name-only", commit])).await?;
        Ok(names(&bytes))
    }

    /// What git knows of a commit.
    pub(crate) async fn facts(&self, commit: &str) -> Result<CommitFacts, GitError> {
        let bytes =
            output(self.reading_copy().args(["show", "--no-patch", "--format=%ct%x00%an%x00%s", commit, "--"])).await?;
        let text = String::from_utf8_lossy(&bytes);
        let mut parts = text.trim_end().split('\0');
        let seconds: i64 = parts.next().and_then(|part| part.parse().ok()).unwrap_or(0);
        Ok(CommitFacts {
            time: Time::from_millis(seconds * 1000),
            author: parts.next().unwrap_or_default().to_owned(),
            title: parts.next().unwrap_or_default().to_owned(),
        })
    }

    /// A commit's files as a tar archive, from the child's standard output. Only their owner may write them, as in
    /// a checkout: images are made of them. Where files are named, it is those alone.
    pub(crate) fn archive(&self, commit: &str, files: &[String]) -> Result<Child, GitError> {
        let mut command = self.reading_copy();
        command
            .env("GIT_LITERAL_PATHSPECS", "1")
            .args(["-c", "tar.umask=0022", "archive", "--format=tar", commit, "--"])
            .args(files)
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        command.spawn().map_err(|error| GitError(format!("git could not be started: {error}")))
    }
}

/// Names that each end with a zero byte.
fn names(bytes: &[u8]) -> Vec<String> {
    let names = bytes.split(|byte| *byte == 0).filter(|name| !name.is_empty());
    names.map(|name| String::from_utf8_lossy(name).into_owned()).collect()
}

/// Where the copy of a project's repository is.
pub(crate) fn copy_path(data: &Path, project: &str) -> PathBuf {
    data.join("repositories").join(format!("{project}.git"))
}
