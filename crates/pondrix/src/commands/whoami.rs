//! `pondrix whoami`

use std::process::ExitCode;

use clap::Args;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Tell which server the commands talk to, and as whom.
#[derive(Debug, Args)]
pub(crate) struct Whoami {}

impl Whoami {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let identity = client.whoami().await?;
        if global.json {
            output::json(&identity)?;
        } else {
            output::line(&format!("{} at {} (Pondrix {})", identity.name, client.address(), identity.version));
        }
        Ok(ExitCode::SUCCESS)
    }
}
