//! `pondrix registry`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{RegistryChange, RegistryView};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, prompt, settings};

/// Registries: where they are reached, who signs in, what they allow.
#[derive(Debug, Subcommand)]
pub(crate) enum Registry {
    Add(Add),
    List(List),
    Test(Test),
    Remove(Remove),
}

/// Say how a registry is reached, or change it. Those not named here are reached at https://HOST, without
/// signing in. What is not given stays as it is.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The host that image names begin with.
    host: String,
    /// Where it is reached from the server and its runners: http://… or https://…
    #[arg(long, value_name = "URL")]
    at: Option<String>,
    /// Who signs in. The password, or a token that stands for one, is asked for, or read from standard input.
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Believe the authorities whose certificates are in this file (PEM), for this registry.
    #[arg(long, value_name = "FILE")]
    certificates: Option<PathBuf>,
    /// How layers pushed to it are compressed, where a pipeline does not say: gzip or zstd.
    #[arg(long, value_name = "FORM")]
    layers: Option<String>,
    /// Bare names of images, which name no registry, mean this one, below this path.
    #[arg(long, value_name = "PATH", num_args = 0..=1, default_missing_value = "")]
    bare_names: Option<String>,
}

/// List them.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Prove that images can be pulled from a repository and pushed into it.
#[derive(Debug, Args)]
pub(crate) struct Test {
    /// The repository: HOST/PATH.
    repository: String,
}

/// Forget how a registry is reached, and who signs in at it.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The host that image names begin with.
    host: String,
}

impl Registry {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Add(add) => add.run(global).await,
            Self::List(_) => list(global).await,
            Self::Test(test) => test.run(global).await,
            Self::Remove(Remove { host }) => {
                settings::client(global)?.remove_registry(&host).await?;
                if !global.json {
                    output::line(&format!("{host} is forgotten: it is reached at https://{host}, and nobody signs in"));
                }
                Ok(ExitCode::SUCCESS)
            }
        }
    }
}

impl Add {
    async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let read = |file: &PathBuf| {
            std::fs::read_to_string(file).map_err(|error| Failure::usage(format!("{}: {error}", file.display())))
        };
        let certificates = self.certificates.as_ref().map(read).transpose()?;
        let ask = |user: &String| prompt::hidden_or_input(&format!("Password of {user} at {}: ", self.host));
        let password = self.user.as_ref().map(ask).transpose()?;
        let change = RegistryChange {
            host: self.host,
            address: self.at,
            user: self.user,
            password,
            certificates,
            layers: self.layers,
            bare_names: self.bare_names,
        };
        let registry = client.set_registry(&change).await?;
        if global.json {
            output::json(&registry)?;
        } else {
            let who = registry.user.as_ref().map_or_else(String::new, |user| format!(", signed in as {user}"));
            output::line(&format!("{} is reached at {}{who}", output::strong(&registry.host), registry.address));
            if let Some(user) = &registry.forgotten {
                output::line(&format!(
                    "The password of {user} was for another place, and is forgotten: pondrix registry add {} --user {user}",
                    registry.host
                ));
            }
            output::line(&format!("Prove what it allows: pondrix registry test {}/REPOSITORY", registry.host));
        }
        Ok(ExitCode::SUCCESS)
    }
}

async fn list(global: &Global) -> Outcome {
    let list = settings::client(global)?.registries().await?;
    if global.json {
        output::json(&list)?;
    } else if list.registries.is_empty() {
        output::line(
            "Every registry is reached at https://HOST, and nobody signs in. Otherwise: pondrix registry add HOST --user NAME",
        );
    } else {
        let row = |one: RegistryView| {
            let more = [
                one.certificates.then(|| "own certificates".to_owned()),
                one.layers.map(|form| format!("layers {form}")),
                one.bare_names.map(|path| match path.is_empty() {
                    true => "bare names".to_owned(),
                    false => format!("bare names below {path}"),
                }),
            ];
            let more: Vec<_> = more.into_iter().flatten().collect();
            vec![one.host, one.address, one.user.unwrap_or_else(|| "-".to_owned()), more.join(", ")]
        };
        let rows: Vec<_> = list.registries.into_iter().map(row).collect();
        output::table(&["REGISTRY", "REACHED AT", "SIGNS IN", "SETTINGS"], &rows);
    }
    Ok(ExitCode::SUCCESS)
}

impl Test {
    async fn run(self, global: &Global) -> Outcome {
        let proof = settings::client(global)?.test_registry(&self.repository).await?;
        let passed = proof.checks.iter().all(|check| check.passed);
        if global.json {
            output::json(&proof)?;
        } else {
            for check in &proof.checks {
                let word = if check.passed { "yes" } else { "no" };
                output::line(&format!("{:<8} {word:<4} {}", check.what, output::plain(&check.words)));
                if let Some(help) = &check.help {
                    output::line(&format!("              {}", output::plain(help)));
                }
            }
        }
        Ok(if passed { ExitCode::SUCCESS } else { ExitCode::FAILURE })
    }
}
