//! `pondrix rerun`

use std::process::ExitCode;

use clap::Args;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::{follow, run_name};
use crate::{output, settings};

/// Rerun what did not pass in a run, or everything.
///
/// It is the same commit and the same pipeline file, with the secrets as they are now.
#[derive(Debug, Args)]
pub(crate) struct Rerun {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// Everything; otherwise what passed keeps its results, and is not done again.
    #[arg(long)]
    all: bool,
    /// Stay, print the logs, and exit with 1 when it did not pass.
    #[arg(long)]
    follow: bool,
}

impl Rerun {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let again = client.rerun(&run, self.all).await?;
        if !self.follow {
            if global.json {
                output::json(&again)?;
            } else {
                output::line(&format!("{} reruns {run}", output::strong(&again.run)));
                output::line(&output::faint(&format!("  pondrix show '{}'", again.run)));
            }
            return Ok(ExitCode::SUCCESS);
        }
        let id = again.run.parse().map_err(|error| Failure::new(format!("{error}")))?;
        follow::run(&client, &id, global).await
    }
}
