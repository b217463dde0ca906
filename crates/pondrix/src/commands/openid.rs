//! `pondrix openid`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{OpenIdChange, OpenIdSettings, OpenIdView};
use pondrix_core::access::OpenIdRules;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, prompt, settings};

/// The provider of OpenID Connect that people are signed in by.
#[derive(Debug, Subcommand)]
pub(crate) enum OpenId {
    Set(Set),
    Show(Show),
    Remove(Remove),
}

/// Have a provider of OpenID Connect sign people in. Whoever comes first is made known; their teams are what the provider
/// says, each time.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The provider's address, as it says itself: https://…
    issuer: String,
    /// What this server is called there.
    #[arg(long, value_name = "NAME")]
    client: String,
    /// The server shows the provider a secret, which is asked for, or read from standard input.
    #[arg(long)]
    secret: bool,
    /// The claim that has somebody's name.
    #[arg(long, value_name = "CLAIM", default_value = "preferred_username")]
    name_claim: String,
    /// Names are addresses of mail in this domain, which is left out; others are not let in.
    #[arg(long, value_name = "DOMAIN")]
    domain: Option<String>,
    /// The claim that lists somebody's groups, which are their teams here.
    #[arg(long, value_name = "CLAIM", default_value = "groups")]
    groups_claim: String,
    /// Only groups that begin so are teams; the beginning is left out.
    #[arg(long, value_name = "TEXT")]
    group_prefix: Option<String>,
    /// Only who is of this group may sign in; may be given more than once.
    #[arg(long, value_name = "GROUP")]
    only: Vec<String>,
    /// What is asked for besides `openid`.
    #[arg(long = "scope", value_name = "SCOPE", default_values = ["profile", "email"])]
    scopes: Vec<String>,
}

/// Show which one it is, and how people are known by it.
#[derive(Debug, Args)]
pub(crate) struct Show {}

/// Have it sign nobody in any more. Who is signed in stays so, for a day at most; their tokens stay good.
#[derive(Debug, Args)]
pub(crate) struct Remove {}

fn told(view: &OpenIdView) {
    let Some(OpenIdSettings { issuer, client, rules, .. }) = &view.settings else {
        output::line("People are signed in by no provider: pondrix openid set ISSUER --client NAME");
        return;
    };
    let secret = if view.has_secret { "with a secret" } else { "without a secret" };
    output::line(&format!("{} signs people in; this server is {client} there, {secret}", output::strong(issuer)));
    let domain = rules.domain.as_ref().map(|domain| format!(", an address of {domain}")).unwrap_or_default();
    let prefix = rules.group_prefix.as_ref().map(|prefix| format!(" that begin with {prefix}")).unwrap_or_default();
    output::line(&format!(
        "Their name is what it says in {}{domain}; their teams are the groups in {}{prefix}",
        rules.name_claim, rules.groups_claim
    ));
    if !rules.only.is_empty() {
        output::line(&format!("Only who is of {} may", rules.only.join(" or ")));
    }
    output::line(&format!("It has to know this address, where it sends them back to: {}", view.comes_back_to));
}

impl OpenId {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let view = match self {
            Self::Set(set) => {
                let secret = match set.secret {
                    true => Some(prompt::hidden_or_input(&format!("Secret of {} at {}: ", set.client, set.issuer))?),
                    false => None,
                };
                let Set { issuer, client: id, name_claim, domain, groups_claim, group_prefix, only, scopes, .. } = set;
                let rules = OpenIdRules { name_claim, domain, groups_claim, group_prefix, only };
                let settings = OpenIdSettings { issuer, client: id, scopes, rules };
                client.set_openid(&OpenIdChange { settings, secret }).await?
            }
            Self::Show(_) => client.openid().await?,
            Self::Remove(_) => {
                client.remove_openid().await?;
                client.openid().await?
            }
        };
        if global.json {
            output::json(&view)?;
        } else {
            told(&view);
        }
        Ok(ExitCode::SUCCESS)
    }
}
