//! `pondrix quota`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{QuotaChange, QuotaView};
use pondrix_core::quota::Quota;
use pondrix_core::{ProjectName, Size};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, settings};

/// How much of what all share a project may have: room for artifacts and logs, minutes of jobs, caches on runners.
#[derive(Debug, Subcommand)]
pub(crate) enum QuotaCommand {
    Set(Set),
    Show(Show),
}

/// Say how much a project may have. What is not said is not limited, but by what is said for all.
///
/// A run of a project that has all of it does not begin; a job's log is cut and its artifact refused where there is no more
/// room; caches of builds that are over it go, those first that were not used for longest.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The project; `'*'` for each that says nothing itself.
    #[arg(value_name = "PROJECT")]
    of: String,
    /// What its artifacts may take on the server, as in 20GiB.
    #[arg(long, value_name = "SIZE")]
    artifacts: Option<Size>,
    /// What its logs may take there.
    #[arg(long, value_name = "SIZE")]
    logs: Option<Size>,
    /// How many minutes its jobs may take, together, in 30 days.
    #[arg(long, value_name = "COUNT")]
    minutes: Option<u32>,
    /// What the caches that its builds mount may take on each runner.
    #[arg(long, value_name = "SIZE")]
    runner_caches: Option<Size>,
}

/// Show how much projects have, and may have.
#[derive(Debug, Args)]
pub(crate) struct Show {
    /// Only this project.
    project: Option<ProjectName>,
}

impl QuotaCommand {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Set(Set { of, artifacts, logs, minutes, runner_caches }) => {
                let project = match of.as_str() {
                    "*" => None,
                    name => Some(name.parse::<ProjectName>().map_err(|error| Failure::usage(error.to_string()))?),
                };
                let quota = Quota { artifacts, logs, minutes, runner_caches };
                client.set_quota(&QuotaChange { project: project.clone(), quota }).await?;
                if !global.json {
                    let whom = project
                        .map_or_else(|| "each project that says nothing itself".to_owned(), |name| name.to_string());
                    output::line(&format!("{} may have {}", output::strong(&whom), told(&quota)));
                }
            }
            Self::Show(Show { project }) => {
                let mut list = client.quotas().await?;
                list.projects.retain(|one| project.as_ref().is_none_or(|wanted| one.project == *wanted));
                if global.json {
                    output::json(&list)?;
                } else {
                    let rows: Vec<_> = list.projects.iter().map(row).collect();
                    output::table(
                        &["PROJECT", "ARTIFACTS", "LOGS", "MINUTES IN 30 DAYS", "CACHES ON EACH RUNNER"],
                        &rows,
                    );
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn told(quota: &Quota) -> String {
    let said = [
        quota.artifacts.map(|most| format!("{most} of artifacts")),
        quota.logs.map(|most| format!("{most} of logs")),
        quota.minutes.map(|most| format!("{most} minutes in 30 days")),
        quota.runner_caches.map(|most| format!("{most} of caches on each runner")),
    ];
    let said: Vec<_> = said.into_iter().flatten().collect();
    if said.is_empty() { "as much as there is".to_owned() } else { said.join(", ") }
}

fn row(QuotaView { project, quota, used }: &QuotaView) -> Vec<String> {
    let of = |used: String, most: Option<String>| most.map_or_else(|| used.clone(), |most| format!("{used} of {most}"));
    vec![
        project.to_string(),
        of(output::bytes(used.artifacts), quota.artifacts.map(|most| most.to_string())),
        of(output::bytes(used.logs), quota.logs.map(|most| most.to_string())),
        of((used.millis / 60_000).to_string(), quota.minutes.map(|most| most.to_string())),
        quota.runner_caches.map_or_else(|| "not limited".to_owned(), |most| format!("at most {most}")),
    ]
}
