//! Reading objects of a repository, several of them from one git.

use std::process::Stdio;
use std::time::Duration;

use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::process::{ChildStdin, ChildStdout, Command};

use super::GitError;
use super::command::Running;

/// The longest object that is read as a whole, in bytes: files that say what is to be done are short.
pub(super) const LONGEST_FILE: usize = 8 << 20;
/// How long git may take to answer.
const PATIENCE: Duration = Duration::from_secs(120);

/// A git that is asked for one object after the other. Dropping it ends it.
pub(super) struct Objects {
    questions: ChildStdin,
    answers: BufReader<ChildStdout>,
    _running: Running,
}

/// What there is under a name.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Object {
    /// An object.
    Whole {
        /// `blob`, `tree`, `commit` or `tag`.
        kind: String,
        /// What is in it.
        bytes: Vec<u8>,
        /// How many bytes the ids of this repository have.
        id_length: usize,
    },
    /// One that is longer than is read as a whole. Nothing more can be asked for.
    TooLong,
    /// None.
    Missing,
}

impl Objects {
    /// Starts git in a repository.
    pub(super) fn open(git: &mut Command) -> Result<Self, GitError> {
        let git = git.args(["cat-file", "--batch"]);
        let mut running = Running::start(git.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()))?;
        let (questions, answers) = (running.stdin()?, BufReader::new(running.stdout()?));
        Ok(Self { questions, answers, _running: running })
    }

    /// The object of a name that has no line break in it (gitrevisions(7)).
    pub(super) async fn read(&mut self, name: &str) -> Result<Object, GitError> {
        let answer = tokio::time::timeout(PATIENCE, self.answer(name)).await;
        let answer = answer.map_err(|_| GitError::Stalled(PATIENCE.as_secs()))?;
        answer.map_err(|error| GitError::Failed(format!("the copy of the repository could not be read: {error}")))
    }

    /// The form is that of git-cat-file(1), "Batch output".
    async fn answer(&mut self, name: &str) -> std::io::Result<Object> {
        self.questions.write_all(format!("{name}\n").as_bytes()).await?;
        self.questions.flush().await?;
        let mut head = Vec::new();
        self.answers.read_until(b'\n', &mut head).await?;
        let head = String::from_utf8_lossy(&head);
        let Some(head) = head.strip_suffix('\n') else { return Err(std::io::ErrorKind::UnexpectedEof.into()) };
        let (id_length, kind, length) = match head.rsplitn(3, ' ').collect::<Vec<_>>()[..] {
            [length, kind, id] => match length.parse::<usize>() {
                Ok(length) => (id.len() / 2, kind, length),
                Err(_) => return Ok(Object::Missing),
            },
            // `NAME missing`, or what else is no object.
            _ => return Ok(Object::Missing),
        };
        if length > LONGEST_FILE {
            return Ok(Object::TooLong);
        }
        // Behind it stands a line break.
        let mut bytes = vec![0; length + 1];
        self.answers.read_exact(&mut bytes).await?;
        bytes.pop();
        Ok(Object::Whole { kind: kind.to_owned(), bytes, id_length })
    }
}

/// Whether a tree has an ordinary file of a name: each of its entries is a mode, a space, a name, a zero byte and an id
/// (Pro Git, section 10.2, "Tree Objects").
pub(super) fn has_file(tree: &[u8], name: &str, id_length: usize) -> bool {
    let mut rest = tree;
    while let Some(end) = rest.iter().position(|byte| *byte == 0) {
        let (entry, id) = rest.split_at(end);
        if let Some(space) = entry.iter().position(|byte| *byte == b' ')
            && entry[space + 1..] == *name.as_bytes()
        {
            return entry.starts_with(b"100");
        }
        rest = id.get(1 + id_length..).unwrap_or_default();
    }
    false
}
