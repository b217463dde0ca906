//! `pondrix log`

use std::io::Write;
use std::process::ExitCode;

use clap::Args;
use pondrix_api::{Client, RunDetail, ServerEvent};
use pondrix_core::terminal::final_text;
use pondrix_core::{RunId, State};
use serde_json::json;

use crate::cli::Global;
use crate::failure::{FAILED, Failure, Outcome};
use crate::shared::{run_name, streams};
use crate::{output, settings};

/// Print the log of a run's jobs.
#[derive(Debug, Args)]
pub(crate) struct Log {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// Only this job's: STAGE/JOB, or JOB where that is unambiguous.
    job: Option<String>,
    /// Stay until the run, or the one job, is over; exit with 1 when it did not pass.
    #[arg(long)]
    follow: bool,
}

/// The keys of the jobs that a word means.
fn jobs_meant(detail: &RunDetail, wanted: Option<&str>) -> Result<Vec<String>, Failure> {
    let all: Vec<_> = detail.stages.iter().flat_map(|stage| stage.jobs.iter().map(|job| job.job.clone())).collect();
    let Some(wanted) = wanted else { return Ok(all) };
    let fits = |key: &&String| *key == wanted || key.split_once('/').is_some_and(|(_, job)| job == wanted);
    let found: Vec<_> = all.iter().filter(fits).cloned().collect();
    match found.len() {
        1 => Ok(found),
        0 => Err(Failure::usage(format!("{} has no job `{wanted}`; it has {}", detail.summary.run, all.join(", ")))),
        _ => Err(Failure::usage(format!("`{wanted}` may be {}; name the stage too", found.join(" or ")))),
    }
}

impl Log {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let detail = client.run(&run).await?;
        let jobs = jobs_meant(&detail, self.job.as_deref())?;
        let heading = jobs.len() > 1 && !global.json;
        let mut worst = State::Passed;
        for job in jobs {
            if self.follow {
                worst = State::of_parts([worst, follow(&client, &run, &job, heading, global.json).await?]);
                continue;
            }
            let log = client.log(&run, &job).await?;
            if global.json {
                output::json(&json!({ "job": job, "log": String::from_utf8_lossy(&log) }))?;
            } else if !log.is_empty() {
                head(&job, heading);
                write(&mut String::from_utf8_lossy(&log).into_owned(), true)?;
            }
        }
        let passed = matches!(worst, State::Passed | State::Skipped);
        Ok(if passed { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
    }
}

fn head(job: &str, wanted: bool) {
    if wanted {
        output::line(&output::strong(job));
    }
}

/// Prints lines as a terminal shows them in the end; what is behind the last end of a line stays in `text`.
fn write(text: &mut String, is_end: bool) -> Result<(), Failure> {
    let whole = if is_end { text.len() } else { text.rfind('\n').map_or(0, |end| end + 1) };
    let lines: String = text.drain(..whole).collect();
    let mut out = std::io::stdout().lock();
    Ok(out.write_all(final_text(&lines).as_bytes()).and_then(|()| out.flush())?)
}

/// Follows one job to its end, over lost connections too.
async fn follow(client: &Client, run: &RunId, job: &str, heading: bool, as_json: bool) -> Result<State, Failure> {
    let mut begun = false;
    let mut rest = String::new();
    let take = |event: &ServerEvent, text: &str| {
        if as_json {
            output::line(&json!({ "job": job, "event": event.kind, "data": event.data }).to_string());
            return Ok(());
        }
        if !begun && event.kind != "end" {
            head(job, heading);
            begun = true;
        }
        rest.push_str(text);
        write(&mut rest, event.kind == "end")
    };
    streams::log(client, run, job, take).await
}
