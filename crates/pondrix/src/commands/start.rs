//! `pondrix start`

use std::process::ExitCode;

use clap::Args;
use pondrix_api::StartRequest;
use pondrix_core::ProjectName;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::follow;
use crate::shared::inputs::Inputs;
use crate::{output, settings};

/// Start a run by hand: of a branch's newest commit, or of a tag's.
#[derive(Debug, Args)]
pub(crate) struct Start {
    /// The project.
    project: String,
    /// The branch; `main` when neither it nor a tag is named.
    #[arg(long, value_name = "BRANCH", conflicts_with = "tag")]
    branch: Option<String>,
    /// Run the commit of this tag.
    #[arg(long, value_name = "TAG")]
    tag: Option<String>,
    #[command(flatten)]
    inputs: Inputs,
    /// Stay, print the logs, and exit with 1 when it did not pass.
    #[arg(long)]
    follow: bool,
}

impl Start {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let project: ProjectName = self.project.parse().map_err(|error| Failure::usage(format!("{error}")))?;
        let run = client
            .start(&project, &StartRequest { branch: self.branch, tag: self.tag, inputs: self.inputs.values() })
            .await?;
        if !self.follow {
            if global.json {
                output::json(&run)?;
            } else {
                output::line(&format!(
                    "{} {} at {}",
                    output::strong(&run.run),
                    output::place(&run),
                    &run.commit[..12.min(run.commit.len())]
                ));
                output::line(&output::faint(&format!("  pondrix show '{}'", run.run)));
            }
            return Ok(ExitCode::SUCCESS);
        }
        let id = run.run.parse().map_err(|error| Failure::new(format!("{error}")))?;
        follow::run(&client, &id, global).await
    }
}
