//! `pondrix login`

use std::process::ExitCode;

use clap::Args;
use pondrix_api::{Client, NewToken};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::settings::{self, Saved};
use crate::{output, prompt};

/// Save a server's address and a token for the other commands.
///
/// The token is read from standard input, where a terminal does not show it, or taken from
/// PONDRIX_TOKEN. With --user, a name and a password are shown instead, and a token is made for this machine.
#[derive(Debug, Args)]
pub(crate) struct Login {
    /// The server's address; the one of --url by default.
    #[arg(value_name = "ADDRESS")]
    address: Option<String>,
    /// Show this person's password, which is asked for, or read from standard input.
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// For how many days the token is good that is made then.
    #[arg(long, value_name = "COUNT", default_value_t = 90, requires = "user")]
    days: u32,
}

/// What the token of this machine is called: `cli-` and its name, as far as a label may have it.
fn label() -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().to_lowercase();
    let host: String = host.chars().take_while(|letter| *letter != '.').filter(char::is_ascii_alphanumeric).collect();
    if host.is_empty() { "cli".to_owned() } else { format!("cli-{}", &host[..host.len().min(40)]) }
}

impl Login {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let url = self.address.or_else(|| global.url.clone());
        let url = url.ok_or_else(|| Failure::usage("no address is given: pondrix login http://HOST:PORT"))?;
        let url = url.trim_end_matches('/').to_owned();
        let token = match (&self.user, &global.token) {
            (Some(user), _) => {
                let password = prompt::hidden_or_input(&format!("password of {user}: "))?;
                let new = NewToken { label: label(), days: Some(self.days), ..NewToken::default() };
                Client::token_for_password(&url, user, &password, &new).await?.token
            }
            (None, Some(token)) => token.clone(),
            (None, None) => prompt::hidden("token: ")?,
        };
        let identity = Client::new(&url, &token).whoami().await?;
        let path = settings::save(&Saved { url: url.clone(), token })?;
        if global.json {
            output::json(&identity)?;
        } else {
            output::line(&format!("Signed in at {url} as {}; saved in {}", identity.name, path.display()));
        }
        Ok(ExitCode::SUCCESS)
    }
}
