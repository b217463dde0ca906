//! `pondrix stop`

use std::process::ExitCode;

use clap::Args;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::shared::run_name;
use crate::{output, settings};

/// Stop a run: what runs is ended, what waits never starts.
#[derive(Debug, Args)]
pub(crate) struct Stop {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
}

impl Stop {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let summary = client.stop(&run).await?;
        if global.json {
            output::json(&summary)?;
        } else {
            output::line(&format!("{} is being stopped", summary.run));
        }
        Ok(ExitCode::SUCCESS)
    }
}
