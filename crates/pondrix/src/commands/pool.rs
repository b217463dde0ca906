//! `pondrix pool`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::PoolView;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Pools: named sets of runners.
#[derive(Debug, Subcommand)]
pub(crate) enum Pool {
    Set(Set),
    List(List),
}

/// Limit how many jobs run at once in a pool.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The pool.
    name: String,
    /// How many jobs at once; 0 for any number.
    #[arg(long, value_name = "COUNT")]
    limit: u32,
}

/// List the pools, with their runners and limits.
#[derive(Debug, Args)]
pub(crate) struct List {}

impl Pool {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Set(set) => {
                let limit = Some(set.limit).filter(|limit| *limit > 0);
                let pool = client.set_pool(&PoolView { name: set.name, limit }).await?;
                if global.json {
                    output::json(&pool)?;
                } else {
                    output::line(&format!("Pool {}: {}", output::strong(&pool.name), limit_words(pool.limit)));
                }
            }
            Self::List(_) => {
                let list = client.runners().await?;
                if global.json {
                    output::json(&list.pools)?;
                    return Ok(ExitCode::SUCCESS);
                }
                let mut names: Vec<_> = list.runners.iter().map(|runner| &runner.pool).collect();
                names.extend(list.pools.iter().map(|pool| &pool.name));
                names.sort();
                names.dedup();
                if names.is_empty() {
                    output::line("No pools yet: a runner says which one it is of (pondrix runner join --pool NAME).");
                    return Ok(ExitCode::SUCCESS);
                }
                let row = |name: &&String| {
                    let runners: Vec<_> = list.runners.iter().filter(|runner| runner.pool == **name).collect();
                    let busy: usize = runners.iter().map(|runner| runner.busy).sum();
                    let limit = list.pools.iter().find(|pool| pool.name == **name).and_then(|pool| pool.limit);
                    vec![(*name).clone(), runners.len().to_string(), busy.to_string(), limit_words(limit)]
                };
                output::table(&["POOL", "RUNNERS", "JOBS", "LIMIT"], &names.iter().map(row).collect::<Vec<_>>());
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn limit_words(limit: Option<u32>) -> String {
    limit.map_or_else(|| "any number of jobs at once".to_owned(), |limit| format!("{limit} jobs at once"))
}
