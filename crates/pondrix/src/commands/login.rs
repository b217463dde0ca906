//! `pondrix login`

use std::process::ExitCode;

use clap::Args;
use pondrix_api::Client;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::settings::{self, Saved};
use crate::{output, prompt};

/// Save a server's address and a token for the other commands.
///
/// The token is read from standard input, where a terminal does not show it, or taken from
/// PONDRIX_TOKEN.
#[derive(Debug, Args)]
pub(crate) struct Login {
    /// The server's address; the one of --url by default.
    #[arg(value_name = "ADDRESS")]
    address: Option<String>,
}

impl Login {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let url = self.address.or_else(|| global.url.clone());
        let url = url.ok_or_else(|| Failure::usage("no address is given: pondrix login http://HOST:PORT"))?;
        let url = url.trim_end_matches('/').to_owned();
        let token = match &global.token {
            Some(token) => token.clone(),
            None => prompt::hidden("token: ")?,
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
