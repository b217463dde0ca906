//! `pondrix token`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::NewToken;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Tokens: who may use the server.
#[derive(Debug, Subcommand)]
pub(crate) enum Token {
    Add(Add),
    List(List),
    Remove(Remove),
}

/// Make a token for a person. It is shown this once. Only the token that the server printed when it first
/// started can do this.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The person's name: a-z, 0-9 and `-`.
    name: String,
    /// A group that the person is of, for approvals; may be given more than once.
    #[arg(long, value_name = "NAME")]
    group: Vec<String>,
}

/// List the people who have a token.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Remove a person's token; their browsers are signed out.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The person.
    name: String,
}

impl Token {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Add(add) => {
                let made = client.add_token(&NewToken { name: add.name, groups: add.group }).await?;
                if global.json {
                    output::json(&made)?;
                } else {
                    output::line(&format!("The token of {}, told this once:", output::strong(&made.person.name)));
                    output::line(&format!("  {}", made.token));
                }
            }
            Self::List(_) => {
                let list = client.tokens().await?;
                if global.json {
                    output::json(&list)?;
                } else {
                    let row = |one: &pondrix_api::TokenView| {
                        vec![one.name.clone(), one.groups.join(", "), output::ago(one.created)]
                    };
                    let rows: Vec<_> = list.tokens.iter().map(row).collect();
                    output::table(&["PERSON", "GROUPS", "MADE"], &rows);
                }
            }
            Self::Remove(remove) => {
                client.remove_token(&remove.name).await?;
                if !global.json {
                    output::line(&format!("{} has no token any more", output::strong(&remove.name)));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
