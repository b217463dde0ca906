//! `pondrix show`

use std::process::ExitCode;

use clap::Args;
use pondrix_api::Client;
use pondrix_core::{RunId, State};

use crate::cli::Global;
use crate::failure::{FAILED, Outcome};
use crate::shared::run_view::print;
use crate::shared::{run_name, streams};
use crate::{output, settings};

/// Show a run: what it did, what broke, and the command that tells more.
#[derive(Debug, Args)]
pub(crate) struct Show {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// Stay, tell every change of state, and show it when it is over; exit with 1 when it did not pass.
    #[arg(long)]
    follow: bool,
}

impl Show {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        if self.follow {
            return follow_and_show(&client, &run, global).await;
        }
        let detail = client.run(&run).await?;
        if global.json {
            output::json(&detail)?
        } else {
            print(&client, &detail).await;
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Tells how a run goes, a line for each change of state, and shows it when it is over; the exit status tells
/// whether it passed.
async fn follow_and_show(client: &Client, run: &RunId, global: &Global) -> Outcome {
    let mut told = String::new();
    let detail = streams::run(client, run, |detail| {
        let running = detail.summary.note.as_deref().map(output::plain).unwrap_or_default();
        let line = format!("{}  {} {running}", detail.summary.run, detail.summary.state);
        // Most events change nothing that is told here.
        if !global.json && line != told {
            eprintln!("{}", line.trim_end());
            told = line;
        }
    });
    let detail = detail.await?;
    if global.json {
        output::json(&detail)?
    } else {
        print(client, &detail).await;
    }
    Ok(if detail.summary.state == State::Passed { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}
