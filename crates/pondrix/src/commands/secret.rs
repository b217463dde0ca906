//! `pondrix secret`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::SecretValue;
use pondrix_core::ProjectName;
use pondrix_core::pipeline::SecretName;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, prompt, settings};

/// Secrets: values that only the jobs see that name them.
#[derive(Debug, Subcommand)]
pub(crate) enum Secret {
    Set(Set),
    List(List),
    Remove(Remove),
}

/// Set a secret. Its value is asked for, or read from standard input or a file; never from an argument,
/// which other programs of the machine could see.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The project.
    project: String,
    /// The secret's name, as jobs name it.
    name: String,
    /// Read the value from this file, as it is.
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// Give it to runs of the project's protected refs only (`pondrix project set --protect`).
    #[arg(long)]
    protected: bool,
    /// Give it to every run that names it.
    #[arg(long, conflicts_with = "protected")]
    unprotected: bool,
}

/// List a project's secrets. Values are never shown.
#[derive(Debug, Args)]
pub(crate) struct List {
    /// The project.
    project: String,
}

/// Remove a secret.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The project.
    project: String,
    /// The secret's name.
    name: String,
}

fn project(name: &str) -> Result<ProjectName, Failure> {
    name.parse().map_err(|error| Failure::usage(format!("{error}")))
}

impl Secret {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Set(set) => set.run(global).await?,
            Self::List(list) => list.run(global).await?,
            Self::Remove(Remove { project: of, name }) => {
                settings::client(global)?.remove_secret(&project(&of)?, &name).await?;
                if !global.json {
                    output::line(&format!("{name} of {of} is removed"));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

impl Set {
    async fn run(self, global: &Global) -> Result<(), Failure> {
        let name: SecretName = self.name.parse().map_err(|error| Failure::usage(format!("{error}")))?;
        let of = project(&self.project)?;
        let client = settings::client(global)?;
        let value = match &self.file {
            Some(file) => {
                let text = std::fs::read_to_string(file);
                text.map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?
            }
            None => prompt::hidden_or_input(&format!("Value of {name}: "))?,
        };
        let protected = (self.protected || self.unprotected).then_some(self.protected);
        let secret = client.put_secret(&of, name.as_str(), &SecretValue { value, protected }).await?;
        if global.json {
            output::json(&secret)?;
        } else {
            let whose = if secret.protected { "runs of protected refs" } else { "every run that names it" };
            output::line(&format!("{} of {of} is set, for {whose}", output::strong(&secret.name)));
        }
        Ok(())
    }
}

impl List {
    async fn run(self, global: &Global) -> Result<(), Failure> {
        let list = settings::client(global)?.secrets(&project(&self.project)?).await?;
        if global.json {
            output::json(&list)?;
        } else if list.secrets.is_empty() {
            output::line(&format!("No secrets yet. Set one: pondrix secret set {} NAME", self.project));
        } else {
            let row = |secret: &pondrix_api::SecretView| {
                let whose = if secret.protected { "runs of protected refs" } else { "every run that names it" };
                vec![secret.name.clone(), whose.to_owned(), output::ago(secret.set), output::plain(&secret.by)]
            };
            output::table(&["SECRET", "FOR", "SET", "BY"], &list.secrets.iter().map(row).collect::<Vec<_>>());
        }
        Ok(())
    }
}
