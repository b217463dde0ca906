//! Secrets that are kept elsewhere, and read at the moment of use: from a folder of files, or from a command.

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::str::FromStr;
use std::time::Duration;

use pondrix_core::access::SecretScope;
use pondrix_sandbox::WithoutTerminal as _;
use tokio::io::AsyncReadExt;
use tokio::process::Command;
use tracing::warn;

/// How long a command may take.
const PATIENCE: Duration = Duration::from_secs(30);
/// How much of what a command says besides is written to the log, in bytes.
const WORDS: usize = 1000;
/// What the folder is called with what is for all projects: no project is called so.
const EVERYWHERE: &str = "ALL";

/// A provider of secrets, which whoever starts the server names: what a command does it does as the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SecretProvider {
    /// What secrets call it.
    pub name: String,
    source: Source,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Source {
    /// A folder of folders: `FOR/NAME` is the value of NAME for a project, `environment:NAME`, or `ALL` for all.
    Folder(PathBuf),
    /// What a shell is given to run.
    Command(String),
}

/// A text that names no provider.
#[derive(Clone, Debug, thiserror::Error)]
#[error("`{0}` names no provider of secrets: write NAME=folder:PATH or NAME=command:LINE")]
pub struct NoProvider(String);

impl FromStr for SecretProvider {
    type Err = NoProvider;

    fn from_str(text: &str) -> Result<Self, NoProvider> {
        let named = || {
            let (name, rest) = text.split_once('=')?;
            let (kind, rest) = rest.split_once(':').filter(|(_, rest)| !rest.is_empty())?;
            let is_name = name.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '-');
            let source = match kind {
                "folder" => Source::Folder(rest.into()),
                "command" => Source::Command(rest.to_owned()),
                _ => return None,
            };
            (is_name && !name.is_empty()).then(|| Self { name: name.to_owned(), source })
        };
        named().ok_or_else(|| NoProvider(text.to_owned()))
    }
}

/// Why a provider gave no secret. Nothing of a value is in it.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotProvided {
    #[error("the server has no provider `{0}`: pondrix serve --secret-provider {0}=folder:PATH")]
    NoProvider(String),
    #[error("the provider `{provider}` has no file {file}: {words}")]
    NoFile { provider: String, file: String, words: String },
    #[error("the command of the provider `{provider}` {words}; what it said is in the server's log")]
    Command { provider: String, words: String },
    #[error("what the provider `{provider}` gives is {words}")]
    Unfit { provider: String, words: String },
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(crate) struct SecretProviders(BTreeMap<String, Source>);

impl SecretProviders {
    pub(crate) fn new(all: Vec<SecretProvider>) -> Self {
        Self(all.into_iter().map(|SecretProvider { name, source }| (name, source)).collect())
    }

    /// The names.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Reads a secret that is set for somebody. What it is read by is the server's choice and not theirs: nobody is given
    /// what is another's.
    pub(crate) async fn read(
        &self,
        provider: &str,
        scope: &SecretScope,
        name: &str,
        longest: usize,
    ) -> Result<Vec<u8>, NotProvided> {
        let source = self.0.get(provider).ok_or_else(|| NotProvided::NoProvider(provider.to_owned()))?;
        let value = match source {
            Source::Folder(folder) => from_folder(provider, folder, scope, name, longest).await?,
            Source::Command(line) => from_command(provider, line, scope, name, longest).await?,
        };
        let unfit = |words: String| NotProvided::Unfit { provider: provider.to_owned(), words };
        if value.len() > longest {
            return Err(unfit(format!("longer than {} KiB", longest / 1024)));
        }
        if value.trim_ascii().len() < pondrix_core::mask::SHORTEST {
            return Err(unfit(format!(
                "too short to be hidden in logs: at least {} letters",
                pondrix_core::mask::SHORTEST
            )));
        }
        Ok(value)
    }
}

impl fmt::Display for SecretProviders {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.names().collect::<Vec<_>>().join(", "))
    }
}

async fn from_folder(
    provider: &str,
    folder: &Path,
    scope: &SecretScope,
    name: &str,
    longest: usize,
) -> Result<Vec<u8>, NotProvided> {
    let whose = match scope {
        SecretScope::Everywhere => EVERYWHERE.to_owned(),
        named => named.to_string(),
    };
    let file = format!("{whose}/{name}");
    let told = |error: std::io::Error| NotProvided::NoFile {
        provider: provider.to_owned(),
        file: file.clone(),
        words: error.kind().to_string(),
    };
    let opened = tokio::fs::File::open(folder.join(&file)).await.map_err(told)?;
    let mut value = Vec::new();
    opened.take(longest as u64 + 1).read_to_end(&mut value).await.map_err(told)?;
    Ok(value)
}

async fn from_command(
    provider: &str,
    line: &str,
    scope: &SecretScope,
    name: &str,
    longest: usize,
) -> Result<Vec<u8>, NotProvided> {
    let failed = |words: String| NotProvided::Command { provider: provider.to_owned(), words };
    let mut command = Command::new("/bin/sh");
    command.args(["-c", line]).env("SECRET_FOR", scope.to_string()).env("SECRET_NAME", name);
    command.as_std_mut().without_terminal();
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
    let mut child = command.spawn().map_err(|error| failed(format!("was not started ({error})")))?;
    let (output, errors) = (child.stdout.take(), child.stderr.take());
    let run = async {
        let (mut value, mut words) = (Vec::new(), Vec::new());
        let read = async {
            if let Some(output) = output {
                output.take(longest as u64 + 1).read_to_end(&mut value).await?;
            }
            Ok::<_, std::io::Error>(())
        };
        let hear = async {
            if let Some(errors) = errors {
                errors.take(WORDS as u64).read_to_end(&mut words).await?;
            }
            Ok::<_, std::io::Error>(())
        };
        tokio::try_join!(read, hear)?;
        Ok::<_, std::io::Error>((child.wait().await?, value, words))
    };
    let ended = tokio::time::timeout(PATIENCE, run).await;
    let ended = ended.map_err(|_| failed(format!("did not end within {} s", PATIENCE.as_secs())))?;
    let (status, mut value, words) = ended.map_err(|error| failed(format!("broke ({error})")))?;
    // It is ended by that nobody reads the rest.
    if value.len() > longest {
        return Ok(value);
    }
    if !status.success() {
        warn!(provider, %status, words = %String::from_utf8_lossy(&words), "a provider of secrets gave none");
        return Err(failed(format!("ended with {status}")));
    }
    // Programs end what they print with a line's end, which is none of the value.
    if value.ends_with(b"\n") {
        value.pop();
    }
    Ok(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn providers(all: &[&str]) -> SecretProviders {
        SecretProviders::new(all.iter().map(|text| text.parse().unwrap()).collect())
    }

    #[tokio::test]
    async fn a_secret_is_read_for_whom_it_is_set_and_a_reason_tells_nothing_of_it() {
        let folder = tempfile::tempdir().unwrap();
        for (whose, value) in [("plant-labels", "the-right-key\n"), ("environment:production", "gate"), ("ALL", "x")] {
            std::fs::create_dir(folder.path().join(whose)).unwrap();
            std::fs::write(folder.path().join(whose).join("KEY"), value).unwrap();
        }
        let kept = providers(&[
            &format!("files=folder:{}", folder.path().display()),
            "vault=command:echo \"$SECRET_FOR has $SECRET_NAME\"; echo warned >&2",
            "shut=command:echo the-right-key; echo the-right-key >&2; exit 3",
            "long=command:yes",
        ]);
        let read = async |provider: &str, scope: &str| {
            let scope = scope.parse().unwrap();
            let read = kept.read(provider, &scope, "KEY", 1024).await;
            read.map(|value| String::from_utf8(value).unwrap()).map_err(|error| error.to_string())
        };
        assert_eq!(read("files", "plant-labels").await.unwrap(), "the-right-key\n", "a file is what it is");
        assert_eq!(read("files", "environment:production").await.unwrap(), "gate");
        assert_eq!(read("vault", "*").await.unwrap(), "* has KEY");
        for (provider, scope, words) in [
            ("files", "*", "too short to be hidden"),
            ("files", "visitor-desk", "has no file visitor-desk/KEY"),
            ("shut", "plant-labels", "ended with exit status: 3"),
            ("long", "plant-labels", "longer than 1 KiB"),
            ("none", "plant-labels", "--secret-provider none=folder:PATH"),
        ] {
            let refused = read(provider, scope).await.unwrap_err();
            assert!(refused.contains(words) && !refused.contains("the-right-key"), "{refused}");
        }
        for text in ["vault", "vault=x", "vault=folder:", "a b=folder:/x", "=folder:/x", "v=vault:x"] {
            assert!(text.parse::<SecretProvider>().is_err(), "{text}");
        }
    }
}
