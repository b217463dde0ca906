//! A repository, through git's own command.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use pondrix_core::Time;
use pondrix_core::file_times::FileTimes;
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
}

pub(super) fn git() -> Command {
    let mut git = Command::new("git");
    git.env("GIT_TERMINAL_PROMPT", "0")
        // Transports that run commands of the address's choosing stay closed.
        .env("GIT_ALLOW_PROTOCOL", "file:git:http:https:ssh")
        .env("LC_ALL", "C")
        .stdin(Stdio::null());
    git
}

impl GitRepository {
    pub(super) fn new(address: &str, signing: Signing, copy: PathBuf) -> Self {
        Self { address: address.to_owned(), signing, copy }
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
        let mut command = self.in_copy();
        let _held = self.signing.prepare(&self.address, &mut command).await?;
        progress(command.arg("fetch").args(alone).args(fetch).args(refs)).await?;
        self.copied_refs().await
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
mod tests {
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, symlink};
    use std::path::Path;

    use super::super::place::{Place, here};
    use super::*;

    fn sorted(mut names: Vec<String>) -> Vec<String> {
        names.sort();
        names
    }

    #[tokio::test]
    async fn the_difference_of_two_commits_names_what_changed_whatever_kind_it_is_and_what_went() {
        let place = Place::new().await;
        for path in ["same", "other", "gone", "mode", "turns/into", "link"] {
            place.write(path, path);
        }
        let first = place.commit().await;
        place.write("other", "another");
        fs::remove_file(place.checkout().join("gone")).unwrap();
        fs::set_permissions(place.checkout().join("mode"), PermissionsExt::from_mode(0o755)).unwrap();
        fs::remove_dir_all(place.checkout().join("turns")).unwrap();
        place.write("turns", "a file");
        fs::remove_file(place.checkout().join("link")).unwrap();
        symlink("same", place.checkout().join("link")).unwrap();
        place.write("ne w", "new");
        let second = place.commit().await;
        let found = place.repository.difference(&first, &second).await.unwrap();
        assert_eq!(sorted(found.changed), ["link", "mode", "ne w", "other", "turns"]);
        assert_eq!(sorted(found.removed), ["gone", "turns/into"]);
        let back = place.repository.difference(&second, &first).await.unwrap();
        assert_eq!(sorted(back.changed), ["gone", "link", "mode", "other", "turns/into"]);
        assert_eq!(sorted(back.removed), ["ne w", "turns"]);
        let none = place.repository.difference(&second, &second).await.unwrap();
        assert!(none.changed.is_empty() && none.removed.is_empty());
    }

    #[tokio::test]
    async fn where_a_difference_would_not_be_the_whole_truth_there_is_none() {
        let place = Place::new().await;
        place.write("a.txt", "line\n");
        let first = place.commit().await;
        // Of a commit that nobody knows, and of what is none, and would be an option of git.
        let unknown = "0123456789abcdef0123456789abcdef01234567";
        let evil = format!("--output={}", place.folder.path().join("evil").display());
        for from in [unknown, evil.as_str(), "HEAD~1", "-", ""] {
            assert!(place.repository.difference(from, &first).await.is_none(), "{from}");
        }
        assert!(!place.folder.path().join("evil").exists());
        // Other line ends for files that did not change themselves.
        place.write("deep/.gitattributes", "*.txt eol=crlf\n");
        let second = place.commit().await;
        assert!(place.repository.difference(&first, &second).await.is_none());
        // A name that is no text.
        let name = std::os::unix::ffi::OsStrExt::from_bytes(b"no\xfftext");
        fs::write(place.checkout().join(<std::ffi::OsStr as AsRef<Path>>::as_ref(name)), "x").unwrap();
        let third = place.commit().await;
        assert!(place.repository.difference(&second, &third).await.is_none());
        // So much that all is fetched as easily.
        for number in 0..3000 {
            place.write(&format!("many/{number}-{}", "x".repeat(30)), "");
        }
        let fourth = place.commit().await;
        assert!(place.repository.difference(&third, &fourth).await.is_none());
    }

    #[tokio::test]
    async fn an_archive_of_some_files_has_these_and_takes_their_names_as_they_are() {
        let place = Place::new().await;
        for name in ["*.txt", "a.txt", ":(top)x", "[ab]", "a", "-x", "deep/b"] {
            place.write(name, name);
        }
        let commit = place.commit().await;
        for names in [&["*.txt"][..], &[":(top)x", "[ab]"], &["-x"], &["deep/b"]] {
            let found = place.archive(&commit, names).await;
            let expected: Vec<_> = names.iter().map(|name| ((*name).to_owned(), (*name).to_owned())).collect();
            assert_eq!(found, expected);
        }
        assert_eq!(place.archive(&commit, &[]).await.len(), 7);
        // A commit without such a file has the same archive without a look for them.
        for names in [&["*.txt"][..], &["deep/b", "a"], &[]] {
            let files: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
            let (looked, not) = (
                place.archive_bytes(&commit, &files, AttributeFiles::Perhaps).await,
                place.archive_bytes(&commit, &files, AttributeFiles::None).await,
            );
            assert!(looked == not && !looked.is_empty(), "{names:?}");
        }
    }

    #[tokio::test]
    async fn an_archive_has_what_a_checkout_has_whatever_the_repository_says_of_archives() {
        let place = Place::new().await;
        place.write(".gitattributes", "tests export-ignore\nversion export-subst\n*.bat eol=crlf\n");
        place.write("tests/lily", "lily");
        place.write("version", "$Format:%H$");
        place.write("a.bat", "one\ntwo\n");
        let commit = place.commit().await;
        let found = place.archive(&commit, &[]).await;
        let text = |name: &str| found.iter().find(|(known, _)| known == name).map(|(_, text)| text.as_str());
        assert_eq!(text("tests/lily"), Some("lily"));
        assert_eq!(text("version"), Some("$Format:%H$"));
        assert_eq!(text("a.bat"), Some("one\r\ntwo\r\n"));
        // A copy from before this was so is mended by the next fetch.
        fs::write(place.folder.path().join("copy.git/info/attributes"), "* export-ignore\n").unwrap();
        place.repository.fetch().await.unwrap();
        assert_eq!(place.archive(&commit, &[]).await.len(), 4);
    }

    #[tokio::test]
    async fn branches_and_tags_are_those_of_the_repository_and_a_tag_with_a_message_means_its_commit() {
        let place = Place::new().await;
        place.write("a", "a");
        let commit = place.commit().await;
        place.git(&["tag", "v1"]).await;
        place.git(&["tag", "--annotate", "--message", "The second", "v2"]).await;
        let bare = place.repository.address.clone();
        place.git(&["push", "--quiet", &bare, "--tags", "HEAD:refs/heads/release/1"]).await;
        let refs = place.repository.refs().await.unwrap();
        let told = |all: &std::collections::BTreeMap<String, String>| {
            all.iter().map(|(name, of)| (name.clone(), *of == commit)).collect::<Vec<_>>()
        };
        assert_eq!(told(&refs.branches), [("main".to_owned(), true), ("release/1".to_owned(), true)]);
        assert_eq!(told(&refs.tags), [("v1".to_owned(), true), ("v2".to_owned(), true)]);
        let nowhere = GitRepository::new("/nowhere/at/all", here(), place.folder.path().join("other.git"));
        assert!(nowhere.refs().await.unwrap_err().to_string().contains("/nowhere/at/all"));
        assert_eq!(place.repository.commit(&commit[..8]).await.as_deref(), Some(commit.as_str()));
        assert_eq!(place.repository.commit("--help").await, None);
        assert_eq!(place.repository.file(&commit, "a").await.unwrap().as_deref(), Some("a"));
        assert_eq!(place.repository.file(&commit, "b").await.unwrap(), None);
        let facts = place.repository.facts(&commit).await.unwrap();
        assert_eq!((facts.author.as_str(), facts.title.as_str()), ("Wren", "More"));
    }

    #[tokio::test]
    async fn a_file_is_read_by_its_path_and_neither_a_folder_nor_a_link_nor_a_long_one_is_taken_for_it() {
        let place = Place::new().await;
        for path in ["plain", "deep/er/file", "-x", "*", "two words", "deep/two\u{e4}"] {
            place.write(path, path);
        }
        symlink("plain", place.checkout().join("link")).unwrap();
        fs::write(place.checkout().join("long"), vec![b'x'; LONGEST_FILE + 1]).unwrap();
        let commit = place.commit().await;
        let read = async |path: &str| place.repository.file(&commit, path).await;
        for path in ["plain", "deep/er/file", "-x", "*", "two words", "deep/two\u{e4}"] {
            assert_eq!(read(path).await.unwrap().as_deref(), Some(path));
        }
        assert_eq!(read("./deep//er/./file").await.unwrap().as_deref(), Some("deep/er/file"));
        for path in ["link", "deep", "deep/er", "plain/x", "none", "deep/none", "", ".", "../plain", "a\nb", "p*"] {
            assert_eq!(read(path).await, Ok(None), "{path}");
        }
        assert_eq!(read("long").await.unwrap_err().to_string(), "long is longer than 8 MiB");
        let nowhere = place.repository.file("0123456789abcdef0123456789abcdef01234567", "plain").await;
        assert_eq!(nowhere, Ok(None));
        place.repository.tidy().await.unwrap();
        assert_eq!(read("plain").await.unwrap().as_deref(), Some("plain"));
    }

    #[tokio::test]
    async fn what_was_fetched_has_the_branches_and_tags_that_the_repository_lists() {
        let place = Place::new().await;
        let none = place.repository.fetch().await.unwrap();
        assert_eq!((none.branches.len(), none.tags.len()), (0, 0));
        place.write("a", "a");
        place.commit().await;
        place.git(&["tag", "light"]).await;
        place.git(&["tag", "--annotate", "--message", "x", "words"]).await;
        place.git(&["tag", "--annotate", "--message", "x", "words-on-words", "words"]).await;
        let bare = place.repository.address.clone();
        place.git(&["push", "--quiet", &bare, "--tags", "HEAD:refs/heads/release/1"]).await;
        let fetched = place.repository.fetch().await.unwrap();
        assert_eq!((fetched.branches.len(), fetched.tags.len()), (2, 3));
        assert_eq!(fetched, place.repository.refs().await.unwrap());
        place.git(&["push", "--quiet", &bare, ":refs/heads/release/1", ":refs/tags/words"]).await;
        let fetched = place.repository.fetch().await.unwrap();
        assert_eq!((fetched.branches.len(), fetched.tags.len()), (1, 2));
        assert_eq!(fetched, place.repository.refs().await.unwrap());
    }

    #[tokio::test]
    async fn a_tag_may_be_on_a_commit_or_on_anything_else() {
        let place = Place::new().await;
        place.write("a", "a");
        let commit = place.commit().await;
        let bare = place.repository.address.clone();
        for (tag, on) in [("light", "HEAD"), ("of-a-file", "HEAD:a"), ("of-a-folder", "HEAD^{tree}")] {
            place.git(&["tag", tag, on]).await;
        }
        for (tag, on) in [("words", "HEAD"), ("words-on-a-file", "HEAD:a")] {
            place.git(&["tag", "--annotate", "--message", "x", tag, on]).await;
        }
        place.git(&["push", "--quiet", &bare, "--tags"]).await;
        place.repository.fetch().await.unwrap();
        let refs = place.repository.refs().await.unwrap();
        let mut on = Vec::new();
        for (tag, named) in &refs.tags {
            on.push((tag.as_str(), place.repository.commit(named).await));
        }
        let some = Some(commit);
        let none = None;
        let expected = [
            ("light", &some),
            ("of-a-file", &none),
            ("of-a-folder", &none),
            ("words", &some),
            ("words-on-a-file", &none),
        ];
        assert_eq!(on, expected.map(|(tag, commit)| (tag, commit.clone())));
    }
}
