//! `pondrix runs`

use std::process::ExitCode;

use clap::Args;
use futures_util::StreamExt;
use pondrix_api::{Change, RunSummary, RunsWanted};
use pondrix_core::{ProjectName, State};

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// List runs, the newest first.
#[derive(Debug, Args)]
pub(crate) struct Runs {
    /// Only this project's.
    project: Option<ProjectName>,
    /// Only those that stand so: queued, waiting, running, passed, failed, stopped.
    #[arg(long, value_name = "STATE")]
    state: Option<State>,
    /// Only those of a commit of this branch.
    #[arg(long, value_name = "BRANCH")]
    branch: Option<String>,
    /// Only those of a commit that this person made; capitals do not matter.
    #[arg(long, value_name = "NAME")]
    author: Option<String>,
    /// How many at the most, up to 200.
    #[arg(long, default_value_t = 20, value_name = "COUNT")]
    limit: usize,
    /// Go on with the page that an earlier answer named.
    #[arg(long, value_name = "PAGE")]
    before: Option<String>,
    /// Stay, and print every change as it happens.
    #[arg(long)]
    watch: bool,
}

fn row(run: &RunSummary) -> Vec<String> {
    vec![
        run.run.clone(),
        output::state(run.state),
        output::ago(run.created),
        output::took(run.started, run.ended),
        output::cut(&output::place(run), 24),
        output::cut(&output::plain(&run.title), 40),
        output::cut(&output::plain(run.note.as_deref().unwrap_or_default()), 60),
    ]
}

impl Runs {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let Self { project, state, branch, author, .. } = self;
        let wanted = RunsWanted { project, state, branch, author };
        let page = client.find_runs(&wanted, self.limit, self.before.as_deref()).await?;
        if global.json {
            output::json(&page)?;
        } else if page.runs.is_empty() && wanted.says_something() {
            output::line("No such runs");
        } else if page.runs.is_empty() {
            output::line("No runs yet. Push a commit, or start one: pondrix start PROJECT");
        } else {
            output::table(
                &["RUN", "STATE", "CREATED", "TOOK", "BRANCH", "COMMIT", "NOTE"],
                &page.runs.iter().map(row).collect::<Vec<_>>(),
            );
            if let Some(next) = &page.next {
                output::line(&output::faint(&format!("older: pondrix runs --before {next}")));
            }
        }
        if self.watch {
            let mut changes = std::pin::pin!(client.follow_runs("").await?);
            while let Some(event) = changes.next().await {
                let event = event?;
                let Ok(Change { run }) = serde_json::from_str(&event.data) else { continue };
                if !wanted.fits(&run) {
                    continue;
                }
                if global.json {
                    output::line(&event.data);
                } else {
                    let [name, state, _, took, _, title, note] = &row(&run)[..] else { continue };
                    output::line(&[name, state, took, title, note].map(String::as_str).join("  "));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
