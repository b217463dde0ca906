//! Running git: with its children in a group of its own, which ends with it.

use std::process::{ExitStatus, Stdio};
use std::time::Duration;

use pondrix_sandbox::WithoutTerminal as _;
use rustix::process::{Pid, Signal, kill_process_group};
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::time::Instant;

use super::GitError;
use crate::off_thread::off_thread;

/// How long git may take to answer.
const PATIENCE: Duration = Duration::from_secs(120);
/// How long git may do nothing that tells how far it is: it says nothing, and reads nothing either. A repository's server
/// that packs for minutes sends a sign of life now and then, of which git says nothing (`uploadpack.keepAlive`).
const SILENCE: Duration = Duration::from_secs(120);
/// How often it is looked whether it reads anything, while it is silent.
const LOOK: Duration = Duration::from_secs(10);
/// The longest answer, in bytes: the names of millions of files.
const LONGEST_ANSWER: u64 = 256 << 20;
/// How much of what it says is kept, in bytes.
const MOST_WORDS: usize = 16 * 1024;
/// What lines begin with that tell how far it is (git-fetch(1), `--progress`).
const PROGRESS: [&str; 9] = [
    "Enumerating ",
    "Counting ",
    "Compressing ",
    "Receiving ",
    "Resolving ",
    "Unpacking ",
    "Total ",
    "Auto packing ",
    "From ",
];

/// A git that runs, with what it has started. Dropping it ends them all.
pub(super) struct Running {
    child: Child,
    group: Option<Pid>,
}

impl Running {
    pub(super) fn start(command: &mut Command) -> Result<Self, GitError> {
        // A session of its own is a group of its own, too.
        command.as_std_mut().without_terminal();
        let child = command.kill_on_drop(true).spawn();
        let child = child.map_err(|error| GitError::NotStarted(error.to_string()))?;
        let group = child.id().and_then(|id| i32::try_from(id).ok()).and_then(Pid::from_raw);
        Ok(Self { child, group })
    }

    pub(super) fn stdout(&mut self) -> Result<ChildStdout, GitError> {
        self.child.stdout.take().ok_or_else(|| GitError::NotStarted("it gave no output".to_owned()))
    }

    pub(super) fn stdin(&mut self) -> Result<ChildStdin, GitError> {
        self.child.stdin.take().ok_or_else(|| GitError::NotStarted("it takes no questions".to_owned()))
    }

    pub(super) async fn wait(&mut self) -> Result<ExitStatus, GitError> {
        let ended = self.child.wait().await.map_err(|error| GitError::NotStarted(error.to_string()));
        // Its number may be another's from now on.
        self.group = None;
        ended
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if let Some(group) = self.group {
            // Nothing is left to be ended, where this fails.
            let _ = kill_process_group(group, Signal::KILL);
        }
    }
}

/// What to do about a repository of another user of this machine, whose configuration git does not read (git-config(1),
/// `safe.directory`).
fn owner_advice(words: &str) -> Option<String> {
    let path = words.split_once("dubious ownership in repository at '")?.1.split_once('\'')?.0;
    Some(format!(
        "the repository belongs to another user of this machine than the server's; as root, run: git config --system --add \
         safe.directory {path}"
    ))
}

/// What it said of why it failed.
fn failure(words: &[u8]) -> GitError {
    let words = String::from_utf8_lossy(words);
    let lines = words.split(['\n', '\r']).map(str::trim).filter(|line| !line.is_empty());
    let is_progress = |line: &str| {
        let line = line.strip_prefix("remote: ").unwrap_or(line);
        PROGRESS.iter().any(|beginning| line.starts_with(beginning))
    };
    let words = lines.filter(|line| !is_progress(line)).collect::<Vec<_>>().join(" ");
    GitError::Failed(owner_advice(&words).unwrap_or(words))
}

/// Runs git to its end, and answers its output.
pub(super) async fn output(command: &mut Command) -> Result<Vec<u8>, GitError> {
    let mut running = Running::start(command.stdout(Stdio::piped()).stderr(Stdio::piped()))?;
    let mut stdout = running.stdout()?;
    let mut stderr = running.child.stderr.take();
    let (mut bytes, mut words) = (Vec::new(), Vec::new());
    let work = async {
        let broken = |error: std::io::Error| GitError::NotStarted(error.to_string());
        let said = async {
            match &mut stderr {
                Some(stderr) => stderr.read_to_end(&mut words).await.map(drop).map_err(broken),
                None => Ok(()),
            }
        };
        let answer = async {
            (&mut stdout).take(LONGEST_ANSWER + 1).read_to_end(&mut bytes).await.map_err(broken)?;
            // Git waits then for somebody to read the rest, and has said all that it will.
            if bytes.len() as u64 > LONGEST_ANSWER {
                let words = format!("what is asked of the repository is longer than {} MiB", LONGEST_ANSWER >> 20);
                return Err(GitError::Failed(words));
            }
            Ok(())
        };
        tokio::try_join!(answer, said)?;
        running.wait().await
    };
    let ended = tokio::time::timeout(PATIENCE, work).await;
    let status = ended.map_err(|_| GitError::Stalled(PATIENCE.as_secs()))??;
    if status.success() { Ok(bytes) } else { Err(failure(&words)) }
}

/// Runs a git that tells how far it is to its end, as long as it goes on.
pub(super) async fn progress(command: &mut Command) -> Result<(), GitError> {
    let mut running = Running::start(command.stdout(Stdio::null()).stderr(Stdio::piped()))?;
    let group = running.group;
    let words = match running.child.stderr.take() {
        Some(stderr) => last_words(stderr, || async move { off_thread(move || bytes_read(group)).await }).await?,
        None => Vec::new(),
    };
    let ended = tokio::time::timeout(SILENCE, running.wait()).await;
    let status = ended.map_err(|_| GitError::Stalled(SILENCE.as_secs()))??;
    if status.success() { Ok(()) } else { Err(failure(&words)) }
}

/// How many bytes the processes of a group have read, from wherever (proc(5), `/proc/pid/io`, `rchar`). It is another
/// number when any of them reads, begins or ends.
fn bytes_read(group: Option<Pid>) -> u64 {
    let Some(group) = group else { return 0 };
    let of_process = |entry: std::fs::DirEntry| {
        let process = entry.path();
        // The name of its program is in brackets, and may have anything in it (`/proc/pid/stat`, field 5 is the group).
        let facts = std::fs::read_to_string(process.join("stat")).ok()?;
        let its_group: i32 = facts.rsplit_once(')')?.1.split_whitespace().nth(2)?.parse().ok()?;
        if its_group != group.as_raw_nonzero().get() {
            return None;
        }
        let counts = std::fs::read_to_string(process.join("io")).ok()?;
        counts.lines().find_map(|line| line.strip_prefix("rchar: ")?.parse::<u64>().ok())
    };
    let all = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    all.filter_map(of_process).fold(0, |sum, read| sum.wrapping_add(read).wrapping_add(1))
}

/// Reads what it says to the end, however long that takes while it says anything, or while what `bytes_read` counts
/// changes. Answers the last of it.
async fn last_words<F: Future<Output = u64>>(
    mut said: impl AsyncRead + Unpin,
    bytes_read: impl Fn() -> F,
) -> Result<Vec<u8>, GitError> {
    let mut words: Vec<u8> = Vec::new();
    let mut buffer = [0; 4096];
    let (mut went_on, mut read_then) = (Instant::now(), 0);
    loop {
        let Ok(read) = tokio::time::timeout(LOOK, said.read(&mut buffer)).await else {
            let read = bytes_read().await;
            if read != read_then {
                (went_on, read_then) = (Instant::now(), read);
            } else if went_on.elapsed() >= SILENCE {
                return Err(GitError::Stalled(SILENCE.as_secs()));
            }
            continue;
        };
        went_on = Instant::now();
        match read.map_err(|error| GitError::NotStarted(error.to_string()))? {
            0 => return Ok(words),
            count => words.extend_from_slice(&buffer[..count]),
        }
        let excess = words.len().saturating_sub(MOST_WORDS);
        words.drain(..excess);
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use tokio::io::AsyncWriteExt;

    use super::*;

    fn shell(text: &str) -> Command {
        let mut shell = Command::new("/bin/sh");
        shell.args(["-c", text]);
        shell
    }

    #[test]
    fn a_repository_of_another_user_is_reported_with_the_command_that_allows_it() {
        let words = "fatal: detected dubious ownership in repository at '/srv/git/desk.git' To add an exception for";
        let advice = owner_advice(words).unwrap();
        assert!(advice.ends_with("git config --system --add safe.directory /srv/git/desk.git"), "{advice}");
        assert_eq!(owner_advice("fatal: the pond is dry"), None);
    }

    #[tokio::test(start_paused = true)]
    async fn what_goes_on_may_take_longer_than_what_is_silent() {
        let (mut git, reader) = tokio::io::duplex(64);
        let nothing = || std::future::ready(7);
        let said = tokio::spawn(last_words(reader, nothing));
        let began = tokio::time::Instant::now();
        for part in 0..20 {
            git.write_all(format!("Receiving {part}\r").as_bytes()).await.unwrap();
            tokio::time::sleep(SILENCE - Duration::from_secs(1)).await;
        }
        drop(git);
        assert!(said.await.unwrap().unwrap().ends_with(b"Receiving 19\r"));
        assert!(began.elapsed() > 19 * SILENCE);
        let (mut git, reader) = tokio::io::duplex(64);
        git.write_all(b"Receiving").await.unwrap();
        assert_eq!(last_words(reader, nothing).await, Err(GitError::Stalled(SILENCE.as_secs())));

        // Signs of life are read, and nothing is said of them.
        let (git, reader) = tokio::io::duplex(64);
        let began = tokio::time::Instant::now();
        let alive = move || std::future::ready(began.elapsed().min(20 * SILENCE).as_secs() / 60);
        let (said, ()) = tokio::join!(last_words(reader, alive), async move {
            tokio::time::sleep(19 * SILENCE).await;
            drop(git);
        });
        assert_eq!(said, Ok(Vec::new()));
    }

    #[tokio::test]
    async fn what_a_process_or_one_that_it_started_reads_is_seen() {
        let folder = tempfile::tempdir().unwrap();
        let (pipe, told) = (folder.path().join("pipe"), folder.path().join("told"));
        let text = format!(
            "mkfifo {pipe}; (while read line; do echo $line >> {told}; done < {pipe}) & wait",
            pipe = pipe.display(),
            told = told.display()
        );
        let running = Running::start(&mut shell(&text)).unwrap();
        let said = |line: &str| {
            let (pipe, line) = (pipe.clone(), format!("{line}\n"));
            let told = told.clone();
            async move {
                for _ in 0..6000 {
                    if pipe.exists() {
                        break;
                    }
                    tokio::time::sleep(Duration::from_millis(10)).await;
                }
                let mut file = tokio::fs::File::options().append(true).open(&pipe).await.unwrap();
                file.write_all(line.as_bytes()).await.unwrap();
                file.flush().await.unwrap();
                for _ in 0..6000 {
                    if std::fs::read_to_string(&told).is_ok_and(|told| told.ends_with(&line)) {
                        break;
                    }
                    tokio::time::sleep(Duration::from_millis(10)).await;
                }
                file
            }
        };
        let _open = said("one").await;
        let first = bytes_read(running.group);
        assert_eq!(bytes_read(running.group), first, "it waits");
        drop(said("two").await);
        assert_ne!(bytes_read(running.group), first);
        assert_eq!(bytes_read(None), 0);
    }

    #[tokio::test]
    async fn what_it_has_started_ends_with_it() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("child");
        let text = format!("sleep 600 & echo $! > {0}.new; mv {0}.new {0}; wait", file.display());
        let running = Running::start(&mut shell(&text)).unwrap();
        let mut child = String::new();
        for _ in 0..6000 {
            child = std::fs::read_to_string(&file).unwrap_or_default().trim().to_owned();
            if !child.is_empty() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        drop(running);
        let is_there = || Path::new(&format!("/proc/{child}/cwd")).read_link().is_ok();
        assert!(!child.is_empty());
        // It is ended at once, and gone when its parent, which is process 1 now, has looked.
        for _ in 0..6000 {
            if !is_there() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("process {child} is still there");
    }

    #[tokio::test]
    async fn a_failure_is_told_without_how_far_it_was() {
        let text = "printf 'Receiving objects:  10%%\\rReceiving objects:  20%%\\r' >&2; echo 'fatal: the pond is dry' >&2; exit 1";
        let failed = progress(&mut shell(text)).await;
        assert_eq!(failed, Err(GitError::Failed("fatal: the pond is dry".into())));
        let failed = output(&mut shell(text)).await;
        assert_eq!(failed, Err(GitError::Failed("fatal: the pond is dry".into())));
    }
}
