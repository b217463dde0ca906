//! `pondrix approve` and `pondrix reject`

use std::process::ExitCode;

use clap::Args;
use pondrix_api::RunDetail;
use pondrix_core::State;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::run_name;
use crate::{output, settings};

/// Answer what a stage of a run waits for.
#[derive(Debug, Args)]
pub(crate) struct Answer {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// The stage that waits for the answer, when it shall be this one and no other.
    #[arg(long)]
    stage: Option<String>,
}

/// The stage that waits, and its question.
fn waiting(detail: &RunDetail) -> Option<(&str, &str)> {
    let stage = detail.stages.iter().find(|stage| stage.state == State::Waiting)?;
    Some((&stage.name, stage.approval.as_ref().map_or("", |approval| approval.question.as_str())))
}

impl Answer {
    pub(crate) async fn run(self, global: &Global, yes: bool) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let detail = client.run(&run).await?;
        let asked = waiting(&detail);
        // The answer is to what was asked when this was looked up: should the run be asking for something else by
        // then, the server takes no answer.
        let stage = match (&self.stage, asked) {
            (Some(stage), _) => stage.clone(),
            (None, Some((stage, _))) => stage.to_owned(),
            (None, None) => {
                let words = format!("{run} is {} and waits for no answer", detail.summary.state);
                return Err(Failure::new(words).advise(format!("what it does: pondrix show '{run}'")));
            }
        };
        let summary = client.answer(&run, &stage, yes).await?;
        if global.json {
            output::json(&summary)?;
        } else {
            let done = if yes { "approved" } else { "rejected" };
            let question = asked.filter(|(name, _)| *name == stage).map(|(_, question)| format!(" ({question})"));
            output::line(&format!(
                "{} {done}: stage {stage}{}; it is {}",
                summary.run,
                question.unwrap_or_default(),
                output::state(summary.state)
            ));
        }
        Ok(ExitCode::SUCCESS)
    }
}
