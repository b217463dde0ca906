//! How a repository elsewhere is reached: who signs in, where it may be, and what of the server's own goes along.

use std::fs::File;
use std::io::Write;
use std::net::IpAddr;
use std::os::fd::AsRawFd;
use std::path::PathBuf;

use pondrix_core::access::{RepositoryHost, is_public};
use rustix::fs::{MemfdFlags, Mode, fchmod, memfd_create};
use serde::{Deserialize, Serialize};
use tokio::process::Command;

use super::GitError;

/// Who signs in at a project's repository.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Credential {
    /// A name and a password, or a token that stands for one, over https.
    Password { user: String, password: String },
    /// A private key, over ssh.
    Key(String),
}

impl std::fmt::Debug for Credential {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Credential(..)")
    }
}

/// How a repository is reached.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Signing {
    pub(crate) credential: Option<Credential>,
    /// Whether whoever administers the server named it: it may be anywhere then, also on the server's machine, and is
    /// reached with what the server's user has for git and ssh.
    pub(crate) is_trusted: bool,
    /// Where the keys of hosts are that were met, of those that are not trusted.
    pub(crate) known_hosts: PathBuf,
}

/// What signs in, for as long as a command runs.
pub(super) struct Held {
    /// A key, in memory alone.
    _key: Option<File>,
}

/// What git runs to be told a name and a password, which stand in its environment, for one host only.
const HELPER: &str =
    "!f() { test \"$1\" = get && printf 'username=%s\\npassword=%s\\n' \"$PONDRIX_USER\" \"$PONDRIX_PASSWORD\"; }; f";

fn failed(words: impl std::fmt::Display) -> GitError {
    GitError::Failed(words.to_string())
}

/// Settings of git, in the environment of a command (git-config(1), `GIT_CONFIG_COUNT`).
#[derive(Default)]
struct Settings(Vec<(String, String)>);

impl Settings {
    fn set(&mut self, key: impl Into<String>, value: impl Into<String>) {
        self.0.push((key.into(), value.into()));
    }

    fn give(&self, command: &mut Command) {
        command.env("GIT_CONFIG_COUNT", self.0.len().to_string());
        for (at, (key, value)) in self.0.iter().enumerate() {
            command.env(format!("GIT_CONFIG_KEY_{at}"), key).env(format!("GIT_CONFIG_VALUE_{at}"), value);
        }
    }
}

/// Whether a text means nothing to a shell: a host, or a part of a path.
fn is_plain(text: &str) -> bool {
    text.chars().all(|letter| letter.is_ascii_alphanumeric() || "._-:".contains(letter)) && !text.starts_with('-')
}

/// The address of those that a name has which is connected to; all of them must be public.
fn public(host: &str, found: impl IntoIterator<Item = IpAddr>) -> Result<IpAddr, GitError> {
    let found: Vec<IpAddr> = found.into_iter().collect();
    if let Some(address) = found.iter().find(|address| !is_public(**address)) {
        return Err(failed(format!(
            "{host} is {address}, which is not of the public network; whoever administers the server can add such a \
             repository"
        )));
    }
    found.first().copied().ok_or_else(|| failed(format!("{host} has no address")))
}

impl Signing {
    /// Gives a command that reaches a repository what it needs for that, and nothing else.
    pub(super) async fn prepare(&self, address: &str, command: &mut Command) -> Result<Held, GitError> {
        let mut settings = Settings::default();
        let mut ssh = vec!["ssh".to_owned(), "-o BatchMode=yes".to_owned()];
        if !self.is_trusted {
            self.keep_apart(address, command, &mut settings, &mut ssh).await?;
        }
        let mut key_file = None;
        match &self.credential {
            None => {}
            Some(Credential::Password { user, password }) => {
                // The empty one forgets those of the server's user. It is told to nobody but the host itself, and so to
                // none that this leads to.
                let place = address.split_once("://").map(|(scheme, rest)| {
                    let host = rest.split('/').next().unwrap_or_default();
                    format!("{scheme}://{}", host.rsplit_once('@').map_or(host, |(_, host)| host))
                });
                settings.set("credential.helper", "");
                if let Some(place) = place {
                    settings.set(format!("credential.{place}.helper"), HELPER);
                }
                command.env("PONDRIX_USER", user).env("PONDRIX_PASSWORD", password);
            }
            Some(Credential::Key(key)) => {
                let file = in_memory(key.as_bytes()).map_err(failed)?;
                ssh.push("-o IdentitiesOnly=yes -o IdentityAgent=none".to_owned());
                ssh.push(format!("-i /proc/{}/fd/{}", std::process::id(), file.as_raw_fd()));
                key_file = Some(file);
            }
        }
        command.env("GIT_SSH_COMMAND", ssh.join(" "));
        settings.give(command);
        Ok(Held { _key: key_file })
    }

    /// A repository that somebody named who does not administer the server: nothing of the server's user goes there, and
    /// it is looked up once, to be connected to where that is public, and leads nowhere else.
    async fn keep_apart(
        &self,
        address: &str,
        command: &mut Command,
        settings: &mut Settings,
        ssh: &mut Vec<String>,
    ) -> Result<(), GitError> {
        let RepositoryHost { host, port } = RepositoryHost::of(address).map_err(failed)?;
        // A shell reads it in the command for ssh, and whoever answers for names may have one answer to anything.
        if !is_plain(&host) {
            return Err(failed(format!("`{}` is no name of a host", host.escape_debug())));
        }
        let found = tokio::net::lookup_host((host.as_str(), port)).await;
        let found = found.map_err(|error| failed(format!("{host} is not found: {error}")))?;
        let pinned = public(&host, found.map(|found| found.ip()))?;
        command
            .env("GIT_CONFIG_GLOBAL", "/dev/null")
            .env("GIT_CONFIG_NOSYSTEM", "1")
            .env("GIT_ALLOW_PROTOCOL", "https:ssh")
            .env("HOME", "/nonexistent")
            .env_remove("XDG_CONFIG_HOME")
            .env_remove("SSH_AUTH_SOCK");
        settings.set("http.followRedirects", "false");
        let literal = if pinned.is_ipv6() { format!("[{pinned}]") } else { pinned.to_string() };
        settings.set("http.curloptResolve", format!("{host}:{port}:{literal}"));
        let known_hosts = self.known_hosts.display().to_string();
        if !known_hosts.split('/').all(is_plain) {
            let words = "the server's folder has a name that no shell leaves as it is";
            return Err(failed(format!("{words}, and repositories of others are not reached with ssh then")));
        }
        ssh.push(format!(
            "-F /dev/null -o IdentityAgent=none -o HostName={pinned} -o HostKeyAlias={host} \
             -o StrictHostKeyChecking=accept-new -o UserKnownHostsFile={known_hosts} -o ProxyCommand=none"
        ));
        if self.credential.is_none() {
            ssh.push("-o IdentitiesOnly=yes -o IdentityFile=none".to_owned());
        }
        Ok(())
    }
}

/// A file that is in memory alone, and only this user's.
fn in_memory(bytes: &[u8]) -> std::io::Result<File> {
    let file = memfd_create("key", MemfdFlags::CLOEXEC)?;
    fchmod(&file, Mode::RUSR)?;
    let mut file = File::from(file);
    file.write_all(bytes)?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn environment(command: &Command, name: &str) -> Option<String> {
        let mut all = command.as_std().get_envs();
        all.find(|(key, _)| *key == name).and_then(|(_, value)| Some(value?.to_string_lossy().into_owned()))
    }

    fn settings(command: &Command) -> Vec<(String, String)> {
        let count: usize = environment(command, "GIT_CONFIG_COUNT").unwrap().parse().unwrap();
        let of = |what: &str, at: usize| environment(command, &format!("GIT_CONFIG_{what}_{at}")).unwrap();
        (0..count).map(|at| (of("KEY", at), of("VALUE", at))).collect()
    }

    #[tokio::test]
    async fn a_repository_that_anybody_named_is_reached_where_it_was_looked_up_and_with_nothing_of_the_servers() {
        let signing = Signing { known_hosts: "/data/known_hosts".into(), ..Signing::default() };
        let mut command = Command::new("git");
        signing.prepare("https://192.0.9.7:8443/pond.git", &mut command).await.unwrap();
        let set = settings(&command);
        assert!(set.contains(&("http.followRedirects".to_owned(), "false".to_owned())), "{set:?}");
        let pinned = ("http.curloptResolve".to_owned(), "192.0.9.7:8443:192.0.9.7".to_owned());
        assert!(set.contains(&pinned), "{set:?}");
        assert_eq!(environment(&command, "HOME").as_deref(), Some("/nonexistent"));
        assert_eq!(environment(&command, "GIT_CONFIG_GLOBAL").as_deref(), Some("/dev/null"));
        let mut command = Command::new("git");
        signing.prepare("wren@192.0.9.7:pond.git", &mut command).await.unwrap();
        let ssh = environment(&command, "GIT_SSH_COMMAND").unwrap();
        assert!(ssh.contains("-o HostName=192.0.9.7 -o HostKeyAlias=192.0.9.7"), "{ssh}");
        assert!(ssh.contains("-F /dev/null") && ssh.contains("IdentityFile=none"), "{ssh}");
        for closed in
            ["https://127.0.0.1/x", "https://10.1.2.3/x", "wren@169.254.169.254:x", "/srv/pond.git", "file:///x"]
        {
            let refused = signing.prepare(closed, &mut Command::new("git")).await;
            assert!(refused.is_err(), "{closed}");
        }
        for told_to_a_shell in
            ["ssh://192.0.9.7$(id)/x", "wren@192.0.9.7;id:x", "https://`id`/x", "ssh://a b/x", "ssh://-oX/x"]
        {
            let refused = signing.prepare(told_to_a_shell, &mut Command::new("git")).await.err().unwrap().to_string();
            assert!(refused.contains("is no name of a host"), "{refused}");
        }
        // One address of several is enough to be refused: whoever answers for the name chooses which one is used.
        let both = ["192.0.9.7", "10.0.0.1"].map(|address| address.parse().unwrap());
        assert!(public("pond.test", both).unwrap_err().to_string().contains("pond.test is 10.0.0.1"));
        assert!(public("pond.test", []).is_err());
    }

    #[tokio::test]
    async fn a_key_is_read_by_the_command_and_is_in_no_file_of_the_disk() {
        let credential = Some(Credential::Key("the key of the heron\n".to_owned()));
        let signing = Signing { credential, is_trusted: true, ..Signing::default() };
        let mut command = Command::new("git");
        let held = signing.prepare("wren@pond.test:labels.git", &mut command).await.unwrap();
        let ssh = environment(&command, "GIT_SSH_COMMAND").unwrap();
        let file = ssh.split("-i ").nth(1).unwrap().to_owned();
        let read = || std::process::Command::new("cat").arg(&file).output().unwrap();
        assert_eq!(read().stdout, b"the key of the heron\n");
        let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&file).unwrap().permissions());
        assert_eq!(mode & 0o077, 0, "ssh takes no key that others can read");
        // The descriptor's number may be another file's at once.
        let which = || std::fs::metadata(&file).ok().map(|data| std::os::unix::fs::MetadataExt::ino(&data));
        let was = which();
        drop(held);
        assert!(was.is_some() && which() != was);
    }

    #[tokio::test]
    async fn a_password_is_told_to_the_repositorys_host_and_to_no_other() {
        let credential = Credential::Password { user: "wren".to_owned(), password: "s3cret".to_owned() };
        let signing = Signing { credential: Some(credential), is_trusted: true, ..Signing::default() };
        let mut fill = Command::new("git");
        fill.args(["credential", "fill"]).env("GIT_TERMINAL_PROMPT", "0").env("GIT_ASKPASS", "true");
        fill.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1");
        let _held = signing.prepare("https://pond.test:8443/labels.git", &mut fill).await.unwrap();
        let ask = |url: &'static str| {
            let mut fill = clone(&fill);
            let mut child =
                fill.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped()).spawn().unwrap();
            child.stdin.take().unwrap().write_all(format!("url={url}\n\n").as_bytes()).unwrap();
            String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap()
        };
        let own = ask("https://pond.test:8443/labels.git");
        assert!(own.contains("username=wren\npassword=s3cret\n"), "{own}");
        for other in
            ["https://lake.test/labels.git", "https://pond.test/labels.git", "http://pond.test:8443/labels.git"]
        {
            assert!(!ask(other).contains("s3cret"), "{other}");
        }
        let told = format!("{:?}", fill.as_std().get_args().collect::<Vec<_>>());
        assert!(!told.contains("s3cret"));
    }

    /// The same command once more.
    fn clone(command: &Command) -> std::process::Command {
        let command = command.as_std();
        let mut other = std::process::Command::new(command.get_program());
        other.args(command.get_args());
        for (key, value) in command.get_envs() {
            match value {
                Some(value) => other.env(key, value),
                None => other.env_remove(key),
            };
        }
        other
    }
}
