//! `pondrix approve` and `pondrix reject`

use std::process::ExitCode;

use clap::Args;

use super::run_name;
use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Answer what a run waits for.
#[derive(Debug, Args)]
pub(crate) struct Answer {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
}

impl Answer {
    pub(crate) async fn run(self, global: &Global, yes: bool) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let summary = client.answer(&run, yes).await?;
        if global.json {
            output::json(&summary)?;
        } else {
            let done = if yes { "approved" } else { "rejected" };
            output::line(&format!("{} {done}; it is {}", summary.run, output::state(summary.state)));
        }
        Ok(ExitCode::SUCCESS)
    }
}
