//! A repository, through git's own command.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use pondrix_core::file_times::FileTimes;
use pondrix_core::{Size, Time};
use tokio::process::Command;

use super::command::{Running, output, progress};
use super::objects::{LONGEST_FILE, Object, Objects, has_file};
use super::{Archive, AttributeFiles, CommitFacts, Difference, GitError, Refs, Repository, Signing};

/// What a repository's own notes may not decide: which files a commit has when it is fetched as an archive, and
/// what stands in them (gitattributes(5), "Creating an archive"). A job gets what a checkout has.
const ATTRIBUTES: &str = "* -export-ignore -export-subst\n";
/// How many names of changed files, in bytes, git is given as arguments.
pub(super) const MOST_NAMES: usize = 64 * 1024;

/// A repository at an address, and the server's own copy of it.
#[derive(Clone, Debug)]
pub(super) struct GitRepository {
    address: String,
    signing: Signing,
    copy: PathBuf,
    /// The longest file that git may write of what it fetches, in bytes.
    most: u64,
}

pub(super) fn git() -> Command {
    prepared(Command::new("git"))
}

/// Git, and what it starts, writes no file that is longer than so many bytes.
fn git_that_writes(most: u64) -> Command {
    let mut shell = Command::new("/bin/sh");
    // POSIX.1-2017, "ulimit": in units of 512 bytes. Where it may not be so much, less is the limit already.
    shell.args(["-c", "ulimit -f \"$0\" 2> /dev/null; exec git \"$@\""]).arg((most / 512).to_string());
    prepared(shell)
}

fn prepared(mut git: Command) -> Command {
    git.env("GIT_TERMINAL_PROMPT", "0")
        // Transports that run commands of the address's choosing stay closed.
        .env("GIT_ALLOW_PROTOCOL", "file:git:http:https:ssh")
        .env("LC_ALL", "C")
        .stdin(Stdio::null());
    git
}

impl GitRepository {
    pub(super) fn new(address: &str, signing: Signing, copy: PathBuf, most: u64) -> Self {
        Self { address: address.to_owned(), signing, copy, most }
    }

    /// Where the server's own copy is.
    pub(super) fn copy(&self) -> &Path {
        &self.copy
    }

    fn in_copy(&self) -> Command {
        let mut git = git();
        git.arg("--git-dir").arg(&self.copy);
        git
    }

    /// For reading what the copy has. What the machine or its user set for git, such as filters that
    /// change files on their way out, has no say in what a commit consists of.
    pub(super) fn reading_copy(&self) -> Command {
        let mut git = self.in_copy();
        git.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_ATTR_NOSYSTEM", "1");
        git
    }

    /// The branches and tags and their commits, as the repository has them now.
    async fn refs(&self) -> Result<Refs, GitError> {
        let mut list = git();
        let _held = self.signing.prepare(&self.address, &mut list).await?;
        let text = output(list.args(["ls-remote", "--heads", "--tags", "--", &self.address])).await?;
        Ok(refs(&text, '\t'))
    }

    /// The branch that HEAD is at (git-ls-remote(1), `--symref`).
    async fn default_branch(&self) -> Result<Option<String>, GitError> {
        let mut list = git();
        let _held = self.signing.prepare(&self.address, &mut list).await?;
        let text = output(list.args(["ls-remote", "--symref", "--", &self.address, "HEAD"])).await?;
        let text = String::from_utf8_lossy(&text);
        let head = text.lines().find_map(|line| line.strip_prefix("ref: refs/heads/")?.strip_suffix("\tHEAD"));
        Ok(head.map(str::to_owned))
    }

    /// The branches and tags and their commits, as the copy has them.
    async fn copied_refs(&self) -> Result<Refs, GitError> {
        match output(self.reading_copy().args(["show-ref", "--dereference"])).await {
            Ok(text) => Ok(refs(&text, ' ')),
            // It fails without a word where there is none.
            Err(GitError::Failed(words)) if words.is_empty() => Ok(Refs::default()),
            Err(error) => Err(error),
        }
    }

    /// The paths of the files that differ between two commits; nothing when that cannot be told.
    async fn changed(&self, from: &str, to: &str) -> Option<Vec<String>> {
        let diff = ["diff", "--name-only", "--no-renames", "-z", from, to, "--"];
        let bytes = output(self.reading_copy().args(diff)).await.ok()?;
        Some(names(&bytes))
    }

    /// Brings the copy up to date.
    async fn fetch(&self) -> Result<Refs, GitError> {
        if !self.copy.join("HEAD").exists() {
            output(git().args(["init", "--quiet", "--bare", "--"]).arg(&self.copy)).await?;
        }
        self.write_attributes().await.map_err(|error| GitError::Failed(format!("{}: {error}", self.copy.display())))?;
        let refs = ["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"];
        let alone = ["--progress", "--no-write-fetch-head", "--no-auto-maintenance"];
        let fetch = ["--prune", "--no-tags", "--", &self.address];
        let mut command = git_that_writes(self.most);
        command.arg("--git-dir").arg(&self.copy);
        let _held = self.signing.prepare(&self.address, &mut command).await?;
        let fetched = progress(command.arg("fetch").args(alone).args(fetch).args(refs)).await;
        fetched.map_err(|error| self.told_of_size(error))?;
        self.copied_refs().await
    }

    /// The same error, in words for people where something was too long.
    fn told_of_size(&self, error: GitError) -> GitError {
        match &error {
            GitError::Failed(words) if words.contains("File too large") || words.contains("died of signal 25") => {
                let most = Size::from_bytes(self.most);
                let words = format!(
                    "it sends more than {most} at once, which is the most that is taken of a repository: serve \
                     --repository-limit"
                );
                GitError::Failed(words)
            }
            _ => error,
        }
    }

    /// Packs the copy anew, where git finds that it is in too many pieces (git-maintenance(1), `--auto`); it then goes on
    /// by itself, beside whatever else is done with the copy.
    async fn tidy(&self) -> Result<(), GitError> {
        progress(self.in_copy().args(["maintenance", "run", "--auto"])).await
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
    pub(super) async fn difference(&self, from: &str, to: &str) -> Option<Difference> {
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
    async fn commit(&self, start: &str) -> Option<String> {
        let is_id = (7..=64).contains(&start.len()) && start.bytes().all(|byte| byte.is_ascii_hexdigit());
        let name = is_id.then(|| format!("{start}^{{commit}}"))?;
        let id = output(self.reading_copy().args(["rev-parse", "--verify", "--quiet", &name])).await.ok()?;
        Some(String::from_utf8_lossy(&id).trim().to_owned())
    }

    /// Whether a commit is in what a reference of the copy names.
    async fn contains(&self, reference: &str, commit: &str) -> Result<bool, GitError> {
        // Neither is anything else to git: the first begins with `refs/`, and the second is an id.
        if !reference.starts_with("refs/") || !commit.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Ok(false);
        }
        let question = ["merge-base", "--is-ancestor", commit, reference];
        match output(self.reading_copy().args(question)).await {
            Ok(_) => Ok(true),
            // It has not, or there is no such reference or commit.
            Err(GitError::Failed(_)) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// A file of a commit; nothing when the commit has no such file.
    async fn file(&self, commit: &str, path: &str) -> Result<Option<String>, GitError> {
        let Some((folder, name)) = within(path) else { return Ok(None) };
        let mut objects = Objects::open(&mut self.reading_copy())?;
        // A folder or a link of this name is not the file: that is written in the folder that it is in.
        let listed = objects.read(&format!("{commit}:{folder}")).await?;
        let is_file = match &listed {
            Object::Whole { kind, bytes, id_length } if kind == "tree" => has_file(bytes, &name, *id_length),
            Object::TooLong => return Err(GitError::Failed(format!("the folder of {path} has too many entries"))),
            Object::Whole { .. } | Object::Missing => false,
        };
        if !is_file {
            return Ok(None);
        }
        let path_in_full = if folder.is_empty() { name } else { format!("{folder}/{name}") };
        match objects.read(&format!("{commit}:{path_in_full}")).await? {
            Object::Whole { bytes, .. } => Ok(Some(String::from_utf8_lossy(&bytes).into_owned())),
            Object::TooLong => Err(GitError::Failed(format!("{path} is longer than {} MiB", LONGEST_FILE >> 20))),
            Object::Missing => Ok(None),
        }
    }

    /// The names of all files of a commit.
    async fn file_names(&self, commit: &str) -> Result<Vec<String>, GitError> {
        let bytes =
            output(self.reading_copy().args(["ls-tree", "-r", "-z", "--full-tree", "--name-only", commit])).await?;
        Ok(names(&bytes))
    }

    /// What git knows of a commit.
    pub(super) async fn facts(&self, commit: &str) -> Result<CommitFacts, GitError> {
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
}

impl Repository for GitRepository {
    fn refs(&self) -> BoxFuture<'_, Result<Refs, GitError>> {
        self.refs().boxed()
    }

    fn default_branch(&self) -> BoxFuture<'_, Result<Option<String>, GitError>> {
        self.default_branch().boxed()
    }

    fn fetch(&self) -> BoxFuture<'_, Result<Refs, GitError>> {
        self.fetch().boxed()
    }

    fn tidy(&self) -> BoxFuture<'_, Result<(), GitError>> {
        self.tidy().boxed()
    }

    fn changed<'a>(&'a self, from: &'a str, to: &'a str) -> BoxFuture<'a, Option<Vec<String>>> {
        self.changed(from, to).boxed()
    }

    fn difference<'a>(&'a self, from: &'a str, to: &'a str) -> BoxFuture<'a, Option<Difference>> {
        self.difference(from, to).boxed()
    }

    fn commit<'a>(&'a self, start: &'a str) -> BoxFuture<'a, Option<String>> {
        self.commit(start).boxed()
    }

    fn contains<'a>(&'a self, reference: &'a str, commit: &'a str) -> BoxFuture<'a, Result<bool, GitError>> {
        self.contains(reference, commit).boxed()
    }

    fn file<'a>(&'a self, commit: &'a str, path: &'a str) -> BoxFuture<'a, Result<Option<String>, GitError>> {
        self.file(commit, path).boxed()
    }

    fn file_names<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<Vec<String>, GitError>> {
        self.file_names(commit).boxed()
    }

    fn facts<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<CommitFacts, GitError>> {
        self.facts(commit).boxed()
    }

    fn file_times<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<FileTimes, GitError>> {
        self.file_times(commit).boxed()
    }

    fn archive(&self, commit: &str, files: &[String], attributes: AttributeFiles) -> Result<Archive, GitError> {
        let mut command = self.reading_copy();
        command.env("GIT_LITERAL_PATHSPECS", "1").args(["-c", "tar.umask=0022", "archive", "--format=tar"]);
        if attributes == AttributeFiles::None {
            // Git reads the whole commit into an index to look for them, unless it is told to look into the work tree,
            // which a copy has not.
            command.arg("--worktree-attributes");
        }
        command.args([commit, "--"]).args(files).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut running = Running::start(&mut command)?;
        let bytes = running.stdout()?;
        Ok(Archive {
            bytes: Box::new(bytes),
            ended: async move { running.wait().await.is_ok_and(|s| s.success()) }.boxed(),
        })
    }
}

/// Branches and tags as git lists them: an id, something between, a name.
fn refs(text: &[u8], between: char) -> Refs {
    let text = String::from_utf8_lossy(text);
    let mut refs = Refs::default();
    for (commit, name) in text.lines().filter_map(|line| line.split_once(between)) {
        if let Some(branch) = name.strip_prefix("refs/heads/") {
            refs.branches.insert(branch.to_owned(), commit.to_owned());
        } else if let Some(tag) = name.strip_prefix("refs/tags/") {
            // A tag with a message comes twice: as itself, then with the commit that it means.
            refs.tags.insert(tag.trim_end_matches("^{}").to_owned(), commit.to_owned());
        }
    }
    refs
}

/// The folder of a path in a commit, and its name there; nothing for what can be no file's.
fn within(path: &str) -> Option<(String, String)> {
    let mut parts: Vec<&str> = path.split('/').filter(|part| !matches!(*part, "" | ".")).collect();
    let name = parts.pop()?;
    // Git is told names a line each.
    let is_name = |part: &&str| *part != ".." && !part.contains('\n');
    (is_name(&name) && parts.iter().all(is_name)).then(|| (parts.join("/"), name.to_owned()))
}

/// Names that each end with a zero byte.
fn names(bytes: &[u8]) -> Vec<String> {
    let names = bytes.split(|byte| *byte == 0).filter(|name| !name.is_empty());
    names.map(|name| String::from_utf8_lossy(name).into_owned()).collect()
}

#[cfg(test)]
mod tests;
