//! An agent that signs with a key which nobody reads: OpenSSH's own, for the length of one build.

use std::io::{Read, Write};
use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use pondrix_sandbox::{Launcher, WithoutTerminal as _};
use tempfile::TempDir;

use super::error::JobError;

/// How long the agent may take to answer, and how often is looked whether it does.
const PATIENCE: Duration = Duration::from_secs(5);
const PAUSE: Duration = Duration::from_millis(10);

/// A running agent. Dropping it ends it.
pub(crate) struct Agent {
    child: Child,
    pub(crate) socket: PathBuf,
    _folder: TempDir,
}

impl Agent {
    /// Starts an agent with one private key. It runs as root inside the sandbox is seen from outside: it answers
    /// nobody else. Its folder is none of the runner's: in there, files are stored under other ids than processes have.
    pub(crate) fn start(key: &[u8], launcher: &Launcher) -> Result<Self, JobError> {
        let told = |doing: &str| {
            let doing = doing.to_owned();
            move |error: std::io::Error| match error.kind() {
                std::io::ErrorKind::NotFound => JobError::Asked(format!(
                    "could not {doing}: this machine has no OpenSSH client; install openssh-client"
                )),
                _ => JobError::While { doing: format!("could not {doing}"), error: Box::new(error.into()) },
            }
        };
        let folder = tempfile::Builder::new().prefix("pondrix-agent-").tempdir();
        let folder = folder.map_err(told("make the agent's folder"))?;
        let (user, group) = launcher.root_outside();
        let is_range = launcher.ids().is_range();
        if is_range {
            chown(folder.path(), Some(user), Some(group)).map_err(told("make the agent's folder"))?;
        }
        let socket = folder.path().join("socket");
        let mut agent = Command::new("ssh-agent");
        agent.arg("-D").arg("-a").arg(&socket).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut add = Command::new("ssh-add");
        add.args(["-q", "-"]).env("SSH_AUTH_SOCK", &socket).stdin(Stdio::piped()).stdout(Stdio::null());
        for command in [&mut agent, &mut add] {
            command.without_terminal();
            if is_range {
                command.uid(user).gid(group);
            }
        }
        let child = agent.spawn().map_err(told("start ssh-agent"))?;
        let agent = Self { child, socket, _folder: folder };
        let since = Instant::now();
        while !agent.socket.exists() {
            if since.elapsed() > PATIENCE {
                return Err(JobError::Asked(format!("ssh-agent did not answer within {} s", PATIENCE.as_secs())));
            }
            std::thread::sleep(PAUSE);
        }
        let mut adding = add.stderr(Stdio::piped()).spawn().map_err(told("start ssh-add"))?;
        if let Some(mut input) = adding.stdin.take() {
            // A key without a newline at its end is none to OpenSSH.
            let written = input.write_all(key).and_then(|()| input.write_all(b"\n"));
            written.map_err(told("hand the key to ssh-add"))?;
        }
        let mut words = String::new();
        if let Some(mut errors) = adding.stderr.take() {
            let _ = errors.read_to_string(&mut words);
        }
        match adding.wait() {
            Ok(status) if status.success() => Ok(agent),
            _ => Err(JobError::Asked(format!("ssh-add does not take the key: {}", words.trim()))),
        }
    }
}

impl Drop for Agent {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
