//! `pondrix role`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{RoleChange, RoleView};
use pondrix_core::access::{Holder, Projects, Role as Given};

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Roles: who may do what, and where.
///
/// look: see runs, logs, artifacts, images. approve: look, and answer approvals. secrets: look, and set and remove
/// secrets. run: look, answer approvals, start, try, stop, rerun. add: make projects known whose names fit; with maintain,
/// also environments, runners and accounts at registries that are for those alone. maintain: run, secrets, and the
/// project's own settings. administer: everything, and give roles; for all projects also machines, registries and
/// environments.
#[derive(Debug, Subcommand)]
pub(crate) enum Role {
    Give(Give),
    List(List),
    Take(Take),
}

/// Give a role to a person or a team.
#[derive(Debug, Args)]
pub(crate) struct Give {
    #[command(flatten)]
    role: Which,
}

/// Take a role that was given.
#[derive(Debug, Args)]
pub(crate) struct Take {
    #[command(flatten)]
    role: Which,
}

/// Which role, whose, and where.
#[derive(Debug, Args)]
struct Which {
    /// A person (`wren`), or everybody of a team (`team:keepers`).
    to: Holder,
    /// look, approve, secrets, run, add, maintain or administer.
    role: Given,
    /// Where: a project, those whose names begin so (`garden-*`), or all (`*`).
    #[arg(long, value_name = "PROJECT")]
    project: Projects,
}

/// List the roles that were given: who may do what, and whom to ask.
#[derive(Debug, Args)]
pub(crate) struct List {
    /// Only those that hold in a project.
    #[arg(long, value_name = "PROJECT")]
    project: Option<String>,
}

impl Which {
    fn change(self) -> RoleChange {
        RoleChange { to: self.to, role: self.role, projects: self.project }
    }
}

/// Where a role holds, for people.
pub(super) fn place(projects: &Projects) -> String {
    if projects.is_all() { "all projects".to_owned() } else { projects.to_string() }
}

impl Role {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Give(give) => {
                let change = give.role.change();
                client.give_role(&change).await?;
                if !global.json {
                    let RoleChange { to, role, projects } = &change;
                    output::line(&format!("{to} has the role `{role}` in {}: {}", place(projects), role.about()));
                }
            }
            Self::Take(take) => {
                let change = take.role.change();
                client.take_role(&change).await?;
                if !global.json {
                    let RoleChange { to, role, projects } = &change;
                    output::line(&format!("{to} has the role `{role}` in {} no more", place(projects)));
                }
            }
            Self::List(List { project }) => {
                let mut list = client.roles().await?;
                if let Some(project) = project {
                    list.roles.retain(|role| role.projects.matches(&project));
                }
                if global.json {
                    output::json(&list)?;
                } else {
                    let row = |one: &RoleView| {
                        vec![
                            one.to.to_string(),
                            one.role.to_string(),
                            one.projects.to_string(),
                            one.role.about().to_owned(),
                            one.by.clone(),
                            output::ago(one.given),
                        ]
                    };
                    let rows: Vec<_> = list.roles.iter().map(row).collect();
                    output::table(&["WHO", "ROLE", "PROJECTS", "WHICH ALLOWS TO", "GIVEN BY", "GIVEN"], &rows);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
