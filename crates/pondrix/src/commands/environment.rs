//! `pondrix environment`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::EnvironmentView;
use pondrix_core::ProjectName;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::removed;
use crate::{output, prompt, settings};

/// Environments: where rollouts go.
#[derive(Debug, Subcommand)]
pub(crate) enum Environment {
    Set(Set),
    List(List),
    Remove(Remove),
}

/// Remove an environment. What runs in it goes on running, and the commands that end it are printed.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The environment.
    name: ProjectName,
    /// Do not ask for its name once more.
    #[arg(long)]
    yes: bool,
}

/// Add an environment, or change it.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// Its name, as pipelines name it.
    name: String,
    /// The file that says how the cluster is reached, on the server's machine. It is read at each
    /// rollout, so that changed credentials are used at once.
    #[arg(long, value_name = "FILE")]
    kubeconfig: PathBuf,
    /// The namespace for objects that name none; the environment's name by default.
    #[arg(long)]
    namespace: Option<String>,
    /// Where people reach what runs there.
    #[arg(long, value_name = "URL")]
    address: Option<String>,
    /// Let runs that try what is not committed roll out there.
    #[arg(long)]
    allow_tries: bool,
}

/// List the environments.
#[derive(Debug, Args)]
pub(crate) struct List {}

impl Environment {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Set(set) => {
                let kubeconfig = std::path::absolute(&set.kubeconfig)?;
                let kubeconfig = kubeconfig.to_str().ok_or_else(|| Failure::usage("the file's name is not UTF-8"))?;
                let environment = EnvironmentView {
                    takes_tries: set.allow_tries,
                    namespace: set.namespace.unwrap_or_else(|| set.name.clone()),
                    name: set.name,
                    kubeconfig: kubeconfig.to_owned(),
                    address: set.address,
                };
                let environment = client.set_environment(&environment).await?;
                if global.json {
                    output::json(&environment)?;
                } else {
                    output::line(&format!(
                        "Rollouts to {} go to namespace {}",
                        environment.name, environment.namespace
                    ));
                }
            }
            Self::Remove(remove) => {
                let name = remove.name;
                let what = format!("This removes the environment {name}: nothing can roll out there any more.");
                prompt::confirm_name(&what, name.as_str(), remove.yes)?;
                let removed = client.remove_environment(&name).await?;
                if global.json {
                    output::json(&removed)?;
                } else {
                    output::line(&format!("Environment {} is removed.", output::strong(name.as_str())));
                    removed::releases(&removed.releases);
                }
            }
            Self::List(_) => {
                let list = client.environments().await?;
                if global.json {
                    output::json(&list)?;
                } else if list.environments.is_empty() {
                    output::line("No environments yet: pondrix environment set NAME --kubeconfig FILE");
                } else {
                    let row = |one: EnvironmentView| {
                        vec![one.name, one.namespace, one.address.unwrap_or_default(), one.kubeconfig]
                    };
                    let rows: Vec<_> = list.environments.into_iter().map(row).collect();
                    output::table(&["ENVIRONMENT", "NAMESPACE", "ADDRESS", "CLUSTER DESCRIBED IN"], &rows);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
