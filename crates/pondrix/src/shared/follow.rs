//! Following a whole run: the logs of its jobs as they grow, to the end.

use std::collections::BTreeSet;
use std::io::{BufRead, IsTerminal, Write};
use std::process::ExitCode;

use pondrix_api::{Client, RunDetail, ServerEvent};
use pondrix_core::terminal::final_line;
use pondrix_core::{RunId, State};
use tokio::task::JoinSet;

use super::{run_view, streams};
use crate::cli::Global;
use crate::failure::{FAILED, Failure, Outcome};
use crate::output;

/// What somebody who pressed Ctrl-C wants.
enum Wish {
    Stop,
    Leave,
}

/// Follows a run. The exit status tells whether it passed. On Ctrl-C a person is asked whether to stop it
/// or to leave it running.
pub(crate) async fn run(client: &Client, run: &RunId, global: &Global) -> Outcome {
    let ended = tokio::select! {
        ended = to_end(client, run, global) => ended?,
        interrupted = tokio::signal::ctrl_c() => {
            interrupted?;
            return leave_or_stop(client, run).await;
        }
    };
    if global.json {
        output::json(&ended)?
    } else {
        run_view::print(client, &ended).await
    }
    Ok(if ended.summary.state == State::Passed { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

async fn to_end(client: &Client, run: &RunId, global: &Global) -> Result<RunDetail, Failure> {
    let mut followed = BTreeSet::new();
    let mut logs = JoinSet::new();
    let ended = streams::run(client, run, |detail| {
        let jobs: Vec<_> = detail.stages.iter().flat_map(|stage| &stage.jobs).collect();
        for job in jobs.iter().filter(|job| job.started.is_some() && !global.json) {
            if followed.insert(job.job.clone()) {
                let label = if jobs.len() > 1 { format!("{} | ", job.job) } else { String::new() };
                logs.spawn(log(client.clone(), run.clone(), job.job.clone(), label));
            }
        }
    });
    let ended = ended.await?;
    // Everything that was said is shown before the end is.
    while let Some(log) = logs.join_next().await {
        if let Ok(Err(failure)) = log {
            eprintln!("pondrix: a log was not shown whole: {}", failure.message());
        }
    }
    Ok(ended)
}

/// Prints a job's log line by line, each with a label, until the job is over.
async fn log(client: Client, run: RunId, job: String, label: String) -> Result<(), Failure> {
    let mut line = String::new();
    let take = |event: &ServerEvent, text: &str| {
        line.push_str(text);
        let is_end = event.kind == "end";
        while let Some(end) = line.find('\n').or((is_end && !line.is_empty()).then_some(line.len())) {
            let whole: String = line.drain(..(end + 1).min(line.len())).collect();
            let shown = final_line(whole.trim_end_matches('\n'));
            output::line(&format!("{}{shown}", output::faint(&label)));
        }
        Ok(())
    };
    streams::log(&client, &run, &job, take).await.map(|_| ())
}

async fn leave_or_stop(client: &Client, run: &RunId) -> Outcome {
    let wish = if std::io::stdin().is_terminal() {
        tokio::task::spawn_blocking(ask).await.map_err(|error| Failure::new(error.to_string()))?
    } else {
        Wish::Leave
    };
    match wish {
        Wish::Stop => {
            client.stop(run).await?;
            eprintln!("{run} is being stopped");
        }
        Wish::Leave => eprintln!("{run} goes on; follow it again: pondrix log '{run}' --follow"),
    }
    Ok(ExitCode::from(FAILED))
}

fn ask() -> Wish {
    eprint!("\nStop the run, or leave it running? [s/L] ");
    let _ = std::io::stderr().flush();
    let mut answer = String::new();
    let read = std::io::stdin().lock().read_line(&mut answer);
    if read.is_ok() && answer.trim().eq_ignore_ascii_case("s") { Wish::Stop } else { Wish::Leave }
}
