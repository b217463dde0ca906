//! `pondrix secret`

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{Client, SecretList, SecretValue, SecretView, SharedSecret, SharedSecretName};
use pondrix_core::access::SecretScope;
use pondrix_core::pipeline::SecretName;
use pondrix_core::secrets_file;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, prompt, settings};

/// Secrets: values that only the jobs see that name them.
///
/// They are set for a project, for stages that go to an environment (`environment:NAME`), or for all projects (`'*'`). Of
/// several with one name a job gets the nearest: that of the environment, then that of the project, then that for all.
#[derive(Debug, Subcommand)]
pub(crate) enum Secret {
    Set(Set),
    Import(Import),
    List(List),
    Remove(Remove),
}

/// For which runs.
#[derive(Debug, Args)]
struct Whose {
    /// Give it to runs of protected refs only (`pondrix project set --protect`), which is usual for an environment.
    #[arg(long)]
    protected: bool,
    /// Give it to every run that names it.
    #[arg(long, conflicts_with = "protected")]
    unprotected: bool,
}

/// Set a secret. Its value is asked for, or read from standard input or a file; never from an argument,
/// which other programs of the machine could see.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// For whom: a project, `environment:NAME`, or `'*'` for all projects.
    #[arg(value_name = "FOR")]
    scope: SecretScope,
    /// The secret's name, as jobs name it.
    name: String,
    /// Read the value from this file, as it is.
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// It is kept elsewhere, and read there whenever a job names it: by this provider (`pondrix serve --secret-provider`).
    #[arg(long, value_name = "PROVIDER", conflicts_with = "file")]
    from: Option<String>,
    #[command(flatten)]
    whose: Whose,
}

/// Set the secrets of a file of lines NAME=VALUE, or of a folder, whose files are values by their names. Says first what it
/// would set, what it would set anew, and what stays.
#[derive(Debug, Args)]
pub(crate) struct Import {
    /// For whom: a project, `environment:NAME`, or `'*'` for all projects.
    #[arg(value_name = "FOR")]
    scope: SecretScope,
    /// The file or folder.
    file: PathBuf,
    #[command(flatten)]
    whose: Whose,
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

/// List secrets: those that jobs of a project may name, or those that are set for an environment or for all. Values are
/// never shown.
#[derive(Debug, Args)]
pub(crate) struct List {
    /// A project, `environment:NAME`, or `'*'` for all projects.
    #[arg(value_name = "FOR")]
    scope: SecretScope,
}

/// Remove a secret.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// For whom it is set: a project, `environment:NAME`, or `'*'` for all projects.
    #[arg(value_name = "FOR")]
    scope: SecretScope,
    /// The secret's name.
    name: String,
}

impl Whose {
    fn protected(&self) -> Option<bool> {
        (self.protected || self.unprotected).then_some(self.protected)
    }
}

/// For whom a secret is set, for people.
fn told(scope: &SecretScope) -> String {
    match scope {
        SecretScope::Project(project) => project.to_string(),
        SecretScope::Environment(name) => format!("stages that go to {name}"),
        SecretScope::Everywhere => "all projects".to_owned(),
    }
}

fn runs(secret: &SecretView) -> &'static str {
    if secret.protected { "runs of protected refs" } else { "every run that names it" }
}

async fn put(
    client: &Client,
    scope: &SecretScope,
    name: &SecretName,
    value: SecretValue,
) -> Result<SecretView, Failure> {
    let set = match scope {
        SecretScope::Project(project) => client.put_secret(project, name.as_str(), &value).await?,
        _ => {
            let shared = SharedSecret { scope: scope.clone(), name: name.to_string(), value };
            client.put_shared_secret(&shared).await?
        }
    };
    Ok(set)
}

/// The secrets that are set for somebody; for a project those too that it shares with others.
async fn list(client: &Client, scope: &SecretScope) -> Result<SecretList, Failure> {
    let mut list = match scope {
        SecretScope::Project(project) => client.secrets(project).await?,
        _ => client.shared_secrets().await?,
    };
    if !matches!(scope, SecretScope::Project(_)) {
        list.secrets.retain(|secret| secret.scope == *scope);
    }
    Ok(list)
}

impl Secret {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Set(set) => set.run(global).await?,
            Self::Import(import) => import.run(global).await?,
            Self::List(list) => list.run(global).await?,
            Self::Remove(Remove { scope, name }) => {
                let client = settings::client(global)?;
                match &scope {
                    SecretScope::Project(project) => client.remove_secret(project, &name).await?,
                    _ => {
                        let which = SharedSecretName { scope: scope.clone(), name: name.clone() };
                        client.remove_shared_secret(&which).await?;
                    }
                }
                if !global.json {
                    output::line(&format!("{name} of {} is removed", told(&scope)));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn read(file: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(file).map_err(|error| Failure::usage(format!("{}: {error}", file.display())))
}

impl Set {
    async fn run(self, global: &Global) -> Result<(), Failure> {
        let name: SecretName = self.name.parse().map_err(|error| Failure::usage(format!("{error}")))?;
        let client = settings::client(global)?;
        let protected = self.whose.protected();
        let value = match (&self.file, self.from) {
            (_, Some(provider)) => SecretValue::kept_by(provider, protected),
            (Some(file), None) => SecretValue::new(read(file)?, protected),
            (None, None) => SecretValue::new(prompt::hidden_or_bytes(&format!("Value of {name}: "))?, protected),
        };
        let secret = put(&client, &self.scope, &name, value).await?;
        if global.json {
            output::json(&secret)?;
        } else {
            let (name, whose) = (output::strong(&secret.name), runs(&secret));
            let kept =
                secret.provider.as_ref().map(|provider| format!(", and read from {provider} whenever a job names it"));
            let kept = kept.unwrap_or_default();
            output::line(&format!("{name} of {} is set, for {whose}{kept}", told(&self.scope)));
        }
        Ok(())
    }
}

/// The values of a file of lines, or of the files of a folder.
fn values(path: &Path) -> Result<Vec<(SecretName, Vec<u8>)>, Failure> {
    let faulty = |faults: Vec<String>| {
        let words = format!("{}: {}", path.display(), faults.join("\n  "));
        Failure::usage(words).advise("mend it; nothing was set")
    };
    if !path.is_dir() {
        let text = String::from_utf8(read(path)?)
            .map_err(|_| Failure::usage(format!("{} is no text of lines NAME=VALUE", path.display())))?;
        let read = secrets_file::read(&text);
        let read = read.map(|all| all.into_iter().map(|(name, value)| (name, value.into_bytes())).collect());
        return read.map_err(|faults| faulty(faults.iter().map(ToString::to_string).collect()));
    }
    let (mut secrets, mut faults) = (Vec::new(), Vec::new());
    let mut files: Vec<_> = std::fs::read_dir(path)?.collect::<Result<Vec<_>, _>>()?;
    files.sort_by_key(std::fs::DirEntry::file_name);
    for file in files {
        let name = file.file_name().to_string_lossy().into_owned();
        // A folder may be one of a volume, whose files are links beside the folders of its own (`..data`).
        if name.starts_with('.') || !file.path().is_file() {
            continue;
        }
        match (name.parse::<SecretName>(), std::fs::read(file.path())) {
            (Ok(name), Ok(value)) => secrets.push((name, value)),
            (Err(error), _) => faults.push(format!("the file {}: {error}", output::plain(&name))),
            (_, Err(error)) => faults.push(format!("the file {}: {error}", output::plain(&name))),
        }
    }
    if faults.is_empty() { Ok(secrets) } else { Err(faulty(faults)) }
}

impl Import {
    async fn run(self, global: &Global) -> Result<(), Failure> {
        let values = values(&self.file)?;
        if values.is_empty() {
            return Err(Failure::usage(format!("{} names no secrets", self.file.display())));
        }
        let client = settings::client(global)?;
        let known = list(&client, &self.scope).await?.secrets.into_iter().filter(|secret| secret.scope == self.scope);
        let known: BTreeMap<String, SecretView> = known.map(|secret| (secret.name.clone(), secret)).collect();
        let named = |wanted: &dyn Fn(&str) -> bool| {
            let names = values.iter().map(|(name, _)| name.as_str()).filter(|name| wanted(name));
            names.collect::<Vec<_>>().join(", ")
        };
        let stays = known.keys().filter(|known| !values.iter().any(|(name, _)| name.as_str() == *known));
        let plan = [
            ("set", named(&|name| !known.contains_key(name))),
            ("set anew", named(&|name| known.contains_key(name))),
            ("stays", stays.cloned().collect::<Vec<_>>().join(", ")),
        ];
        if !global.json {
            for (what, names) in plan.iter().filter(|(_, names)| !names.is_empty()) {
                output::line(&format!("{what:<9} {names}"));
            }
        }
        let whom = told(&self.scope);
        prompt::confirm(&format!("This sets {} secrets of {whom}.", values.len()), self.yes)?;
        let mut set = Vec::new();
        for (name, value) in values {
            let value = SecretValue::new(value, self.whose.protected());
            let done = put(&client, &self.scope, &name, value).await;
            let done = done.map_err(|failure| failure.about(&format!("{name}, after {} that are set", set.len())))?;
            set.push(done);
        }
        if global.json {
            output::json(&set)?;
        } else {
            output::line(&format!("{} secrets of {whom} are set", set.len()));
        }
        Ok(())
    }
}

impl List {
    async fn run(self, global: &Global) -> Result<(), Failure> {
        let list = list(&settings::client(global)?, &self.scope).await?;
        if global.json {
            output::json(&list)?;
            return Ok(());
        }
        if list.secrets.is_empty() {
            output::line(&format!("No secrets yet. Set one: pondrix secret set '{}' NAME", self.scope));
        } else {
            let row = |secret: &SecretView| {
                let used = secret.used.map(|used| {
                    format!("{}, {}", output::ago(used), output::plain(secret.used_by.as_deref().unwrap_or_default()))
                });
                vec![
                    secret.name.clone(),
                    told(&secret.scope),
                    runs(secret).to_owned(),
                    output::ago(secret.set),
                    output::plain(&secret.by),
                    secret.provider.clone().unwrap_or_else(|| "here".to_owned()),
                    used.unwrap_or_else(|| "never".to_owned()),
                ]
            };
            let rows: Vec<_> = list.secrets.iter().map(row).collect();
            output::table(&["SECRET", "OF", "FOR", "SET", "BY", "KEPT", "USED"], &rows);
        }
        for missing in &list.missing {
            let name = output::strong(&missing.name);
            output::line(&format!("{name} is not set, and {} of {} names it", missing.job, missing.run));
        }
        Ok(())
    }
}
