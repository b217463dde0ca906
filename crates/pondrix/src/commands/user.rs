//! `pondrix user`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{Client, NewUser, RoleView, UserChange, UserView};
use pondrix_core::access::{Grant, Projects, Role};

use super::role::place;
use super::token;
use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, prompt, settings};

/// People: who uses the server.
#[derive(Debug, Subcommand)]
pub(crate) enum User {
    Add(Add),
    List(List),
    Set(Set),
    Password(Password),
    Link(Link),
    Remove(Remove),
}

/// Set a password, to sign in with in the console and with `pondrix login --user`. It is asked for twice, or read from
/// standard input. Browsers that were signed in with the one before are signed out.
#[derive(Debug, Args)]
pub(crate) struct Password {
    /// Whose; one's own, where nobody is named. Those of others are set by whoever administers the server.
    name: Option<String>,
    /// Remove it: tokens are what they sign in with then.
    #[arg(long)]
    remove: bool,
}

impl Password {
    async fn run(self, client: &Client, global: &Global) -> Result<(), Failure> {
        let name = match self.name {
            Some(name) => name,
            None => client.whoami().await?.name,
        };
        let password = match self.remove {
            true => None,
            false => Some(prompt::twice(&format!("New password of {name}: "))?),
        };
        client.set_password(&name, password).await?;
        if !global.json {
            let name = output::strong(&name);
            output::line(&match self.remove {
                true => format!("{name} has no password any more, and signs in with tokens"),
                false => format!("{name} signs in with it: in the console, and with pondrix login --user"),
            });
        }
        Ok(())
    }
}

/// Say who a person is at the provider that people are signed in by (pondrix openid): for somebody who was known here
/// before they first came from there.
#[derive(Debug, Args)]
pub(crate) struct Link {
    /// The person.
    name: String,
    /// Their subject there (`sub`), which they are told when they are not let in.
    subject: String,
}

/// Make a person known. Their first token is shown this once.
///
/// Without a role they see nothing, but for what their teams were given: pondrix role give.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The person's name: a-z, 0-9 and `-`.
    name: String,
    /// A team that the person is of; may be given more than once.
    #[arg(long, value_name = "TEAM")]
    team: Vec<String>,
    /// What they may do: look, approve, secrets, run, add, maintain or administer.
    #[arg(long)]
    role: Option<Role>,
    /// Where: a project, those whose names begin so (`garden-*`), or all (`*`, as without it).
    #[arg(long, value_name = "PROJECT", requires = "role")]
    project: Option<Projects>,
}

/// List the people, their teams, and what they may do.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Say which teams a person is of.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The person.
    name: String,
    /// A team that the person is of from now on; may be given more than once.
    #[arg(long, value_name = "TEAM", required_unless_present = "no_team")]
    team: Vec<String>,
    /// That they are of no team.
    #[arg(long, conflicts_with = "team")]
    no_team: bool,
}

/// Remove a person, with their roles and tokens; their browsers are signed out.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The person.
    name: String,
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

/// What a person may do, by roles of their own and of their teams.
fn may(user: &UserView, roles: &[RoleView]) -> String {
    let held = roles.iter().filter(|role| role.to.is(&user.name, &user.teams));
    let mut words: Vec<_> = held.map(|role| format!("{} in {}", role.role, place(&role.projects))).collect();
    words.dedup();
    if words.is_empty() { "nothing yet".to_owned() } else { words.join(", ") }
}

impl User {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Add(Add { name, team, role, project }) => {
                let projects = project.unwrap_or_else(Projects::all);
                let roles = role.map(|role| Grant { role, projects }).into_iter().collect();
                let made = client.add_user(&NewUser { name, teams: team, roles }).await?;
                if global.json {
                    output::json(&made)?;
                } else {
                    token::told(&made.first);
                    let roles = client.roles().await?.roles;
                    let words = format!("{} may do: {}", output::strong(&made.user.name), may(&made.user, &roles));
                    output::line(&words);
                }
            }
            Self::Set(Set { name, team, no_team: _ }) => {
                let user = client.change_user(&name, &UserChange { teams: team }).await?;
                if global.json {
                    output::json(&user)?;
                } else {
                    let teams = if user.teams.is_empty() { "no team".to_owned() } else { user.teams.join(", ") };
                    output::line(&format!("{} is of {teams}", output::strong(&user.name)));
                }
            }
            Self::List(_) => {
                let list = client.users().await?;
                if global.json {
                    output::json(&list)?;
                } else {
                    let roles = client.roles().await?.roles;
                    let row = |user: &UserView| {
                        let teams = user.teams.join(", ");
                        let signs_in = if user.has_password { "password, tokens" } else { "tokens" };
                        let since = output::ago(user.created);
                        vec![user.name.clone(), teams, may(user, &roles), signs_in.to_owned(), since]
                    };
                    let rows: Vec<_> = list.users.iter().map(row).collect();
                    output::table(&["PERSON", "TEAMS", "MAY DO", "SIGNS IN WITH", "SINCE"], &rows);
                }
            }
            Self::Link(Link { name, subject }) => {
                client.link_user(&name, &subject).await?;
                if !global.json {
                    output::line(&format!("{} is {subject} there", output::strong(&name)));
                }
            }
            Self::Password(password) => password.run(&client, global).await?,
            Self::Remove(Remove { name, yes }) => {
                let what = format!("This removes {name} with their roles and tokens; their programs stop working.");
                prompt::confirm_name(&what, &name, yes)?;
                client.remove_user(&name).await?;
                if !global.json {
                    output::line(&format!("{} is removed.", output::strong(&name)));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
