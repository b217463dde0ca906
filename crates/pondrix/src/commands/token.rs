//! `pondrix token`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{NewToken, TokenMade, TokenView};
use pondrix_core::access::{Grant, Projects, Role};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, settings};

/// Tokens: what people and their programs show to the server.
#[derive(Debug, Subcommand)]
pub(crate) enum Token {
    Add(Add),
    List(List),
    Rotate(Rotate),
    Remove(Remove),
}

/// Make a token. It is shown this once.
///
/// It allows what its person may do, or less: with --role and --project no more than that, whatever the person is given
/// later. A program should have one that is limited and ends.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// What it is for: a-z, 0-9 and `-`.
    label: String,
    /// Whose it is, instead of your own; for administrators.
    #[arg(long, value_name = "PERSON")]
    owner: Option<String>,
    /// The most that it allows: look, approve, secrets, run, add, maintain or administer.
    #[arg(long)]
    role: Option<Role>,
    /// Where it allows that: a project, those whose names begin so (`garden-*`), or all (`*`, as without it).
    #[arg(long, value_name = "PROJECT", requires = "role")]
    project: Option<Projects>,
    /// For how many days it is good; until it is removed, without it.
    #[arg(long, value_name = "DAYS")]
    days: Option<u32>,
}

/// List your tokens; everybody's, for administrators.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Make a token in the place of another, which stays good for an hour.
///
/// Whatever uses the old one has that hour to be told the new one. It is like the old one, and is good for as long. The
/// old one makes no further tokens; one that leaked is better removed.
#[derive(Debug, Args)]
pub(crate) struct Rotate {
    /// The token's number or label, from `pondrix token list`.
    #[arg(value_name = "NUMBER|LABEL")]
    which: String,
}

/// Remove a token; browsers that were signed in with it are signed out.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The token's number or label, from `pondrix token list`.
    #[arg(value_name = "NUMBER|LABEL")]
    which: String,
}

/// Shows a token that was made.
pub(super) fn told(made: &TokenMade) {
    let TokenView { owner, label, ends, limit, .. } = &made.made;
    let limit = limit.as_ref().map(|limit| format!(", for `{}` in {}", limit.role, limit.projects));
    let ends = ends.map(|ends| format!(", until {}", output::moment(ends)));
    let (limit, ends) = (limit.unwrap_or_default(), ends.unwrap_or_default());
    output::line(&format!("The token `{label}` of {}{limit}{ends}, told this once:", output::strong(owner)));
    output::line(&format!("  {}", made.token));
}

/// The token of a number or label.
fn find<'t>(tokens: &'t [TokenView], name: &str) -> Result<&'t TokenView, Failure> {
    let by_number = name.parse().ok().and_then(|id: i64| tokens.iter().find(|token| token.id == id));
    // In whose place another was put is named by its number only.
    let by_label: Vec<_> = tokens.iter().filter(|token| token.label == name && token.heir.is_none()).collect();
    match (by_number, by_label.as_slice()) {
        (Some(token), _) => Ok(token),
        (None, [token]) => Ok(token),
        (None, []) => Err(Failure::new(format!("there is no token `{name}`; see `pondrix token list`"))),
        (None, several) => {
            let numbers = several.iter().map(|token| format!("{} of {}", token.id, token.owner)).collect::<Vec<_>>();
            let words = format!("several tokens are called `{name}`; name one by its number: {}", numbers.join(", "));
            Err(Failure::new(words))
        }
    }
}

impl Token {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Add(Add { label, owner, role, project, days }) => {
                let limit = role.map(|role| Grant { role, projects: project.unwrap_or_else(Projects::all) });
                let made = client.add_token(&NewToken { label, owner, limit, days }).await?;
                if global.json { output::json(&made)? } else { told(&made) }
            }
            Self::Rotate(rotate) => {
                let tokens = client.tokens().await?.tokens;
                let old = find(&tokens, &rotate.which)?;
                let made = client.rotate_token(old.id).await?;
                if global.json {
                    output::json(&made)?;
                } else {
                    told(&made);
                    output::line(&format!("The old one, number {}, is good for an hour more.", old.id));
                }
            }
            Self::List(_) => {
                let list = client.tokens().await?;
                if global.json {
                    output::json(&list)?;
                } else {
                    let row = |one: &TokenView| {
                        let limit = one.limit.as_ref().map(|limit| format!("{} in {}", limit.role, limit.projects));
                        let heir = one.heir.map(|heir| format!(", then token {heir}"));
                        vec![
                            one.id.to_string(),
                            one.owner.clone(),
                            one.label.clone(),
                            limit.unwrap_or_else(|| "what they may".to_owned()),
                            output::ago(one.created),
                            one.used.map_or_else(|| "never".to_owned(), output::ago),
                            one.ends.map_or_else(|| "no end".to_owned(), output::moment) + &heir.unwrap_or_default(),
                        ]
                    };
                    let rows: Vec<_> = list.tokens.iter().map(row).collect();
                    output::table(&["TOKEN", "PERSON", "LABEL", "ALLOWS", "MADE", "LAST USED", "ENDS"], &rows);
                }
            }
            Self::Remove(remove) => {
                let tokens = client.tokens().await?.tokens;
                let token = find(&tokens, &remove.which)?;
                client.remove_token(token.id).await?;
                if !global.json {
                    let words = format!("The token `{}` of {} is removed.", token.label, output::strong(&token.owner));
                    output::line(&words);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
