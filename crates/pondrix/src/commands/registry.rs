//! `pondrix registry`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{RegistryAccount, RegistryChange, RegistryQuestion, RegistryView};
use pondrix_core::ProjectName;
use pondrix_core::access::Projects;
use pondrix_core::pipeline::Pattern;

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
    /// Instead of a password, the job's identity signs in: a signed token for this audience, the host where none is named.
    /// The registry has to believe this server: see docs/security.md.
    #[arg(long, value_name = "AUDIENCE", num_args = 0..=1, default_missing_value = "", requires = "user")]
    #[arg(conflicts_with = "same_password")]
    identity: Option<String>,
    /// Repositories that this user signs in for: patterns of their paths, as in 'desk/*'; '**' for all. Of several users
    /// who may, the one with the longest pattern signs in.
    #[arg(long = "repository", value_name = "PATTERN", requires = "user")]
    repositories: Vec<Pattern>,
    /// Projects whose jobs this user signs in for: names, beginnings as in 'garden-*', or '*' for all.
    #[arg(long = "project", value_name = "PROJECT", requires = "user")]
    projects: Vec<Projects>,
    /// Ask for no password: the one that is known of this user stays.
    #[arg(long, requires = "user")]
    same_password: bool,
    /// Where name and password may be shown besides the registry itself: what gives tokens for it. Without this, the
    /// registry is asked once, when a password is given.
    #[arg(long, value_name = "URL")]
    signs_in_at: Option<String>,
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
    /// As jobs of this project would; otherwise as whoever may for any.
    #[arg(long)]
    project: Option<ProjectName>,
}

/// Forget how a registry is reached and who signs in at it; or only that somebody does.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The host that image names begin with.
    host: String,
    /// Forget only that this user signs in.
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
}

impl Registry {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Add(add) => add.run(global).await,
            Self::List(_) => list(global).await,
            Self::Test(test) => test.run(global).await,
            Self::Remove(Remove { host, user }) => {
                settings::client(global)?.remove_registry(&host, user.as_deref()).await?;
                if !global.json {
                    output::line(&match user {
                        Some(user) => format!("{user} signs in at {host} no more"),
                        None => format!("{host} is forgotten: it is reached at https://{host}, and nobody signs in"),
                    });
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
        let password =
            self.user.as_ref().filter(|_| !self.same_password && self.identity.is_none()).map(ask).transpose()?;
        let audience = self.identity.map(|said| if said.is_empty() { self.host.clone() } else { said });
        let change = RegistryChange {
            host: self.host,
            address: self.at,
            user: self.user,
            password,
            audience,
            repositories: Some(self.repositories).filter(|all| !all.is_empty()),
            projects: Some(self.projects).filter(|all| !all.is_empty()),
            signs_in_at: self.signs_in_at,
            certificates,
            layers: self.layers,
            bare_names: self.bare_names,
        };
        let registry = client.set_registry(&change).await?;
        if global.json {
            output::json(&registry)?;
        } else {
            output::line(&format!("{} is reached at {}", output::strong(&registry.host), registry.address));
            for account in &registry.accounts {
                output::line(&format!("{} signs in {}", account.user, for_what(account)));
            }
            if let Some(realm) = registry.signs_in_at.as_ref().filter(|_| !registry.accounts.is_empty()) {
                output::line(&format!("Name and password are shown to {realm}, which gives tokens for it"));
            }
            for user in &registry.forgotten {
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

/// For what somebody signs in.
fn for_what(account: &RegistryAccount) -> String {
    let listed = |all: Vec<String>, none: &str| if all.is_empty() { none.to_owned() } else { all.join(" ") };
    let repositories = listed(account.repositories.iter().map(ToString::to_string).collect(), "all repositories");
    let projects = listed(account.projects.iter().map(ToString::to_string).collect(), "all projects");
    let identity = account.audience.as_ref().map(|audience| format!("with the job's identity for {audience} "));
    format!("{}for {repositories} of {projects}", identity.unwrap_or_default())
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
            let user = |account: &RegistryAccount| format!("{} {}", account.user, for_what(account));
            let mut users = one.accounts.iter().map(user);
            let first = users.next().unwrap_or_else(|| "-".to_owned());
            let rest: Vec<_> = users.map(|user| vec![String::new(), String::new(), user]).collect();
            [vec![vec![one.host, one.address, first, more.join(", ")]], rest].concat()
        };
        let rows: Vec<_> = list.registries.into_iter().flat_map(row).collect();
        output::table(&["REGISTRY", "REACHED AT", "SIGNS IN", "SETTINGS"], &rows);
    }
    Ok(ExitCode::SUCCESS)
}

impl Test {
    async fn run(self, global: &Global) -> Outcome {
        let question = RegistryQuestion { repository: self.repository, project: self.project };
        let proof = settings::client(global)?.test_registry(&question).await?;
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
