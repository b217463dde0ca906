//! The `pondrix` command: one file a command in `commands`, what they share in `shared`, the demo in `demo`.

mod cli;
mod commands;
mod configuration;
mod demo;
mod failure;
mod git;
mod output;
mod own_runners;
mod prompt;
mod settings;
mod shared;
mod signals;
mod systemd;

use std::process::ExitCode;

use cli::Command;
use commands::runner::Runner;
use configuration::ParseError;

/// Gives a command that runs jobs its place among the control groups, before it has threads or processes. If that fails,
/// the command reports it where it needs the groups.
fn settle(command: &Command) {
    let runs_jobs = match command {
        Command::Serve(serve) => serve.has_runners(),
        Command::Demo(_) | Command::Runner(Runner::Join(_)) => true,
        _ => false,
    };
    if runs_jobs
        && let Err(error) = pondrix_sandbox::settle()
        && matches!(command, Command::Demo(_))
    {
        shared::scope::enter(&error);
    }
}

fn main() -> ExitCode {
    // Before anything else: this same program is also the sandbox's helper, and must have one thread.
    pondrix_sandbox::enter_if_asked(pondrix_image::inventory::FUNCTIONS);
    let cli = match configuration::parse() {
        Ok(cli) => cli,
        Err(ParseError::CommandLine(error)) => error.exit(),
        Err(ParseError::Configuration(failure)) => return failure.report(),
    };
    settle(&cli.command);
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("pondrix: the machine gives no threads: {error}");
            return ExitCode::from(failure::FAILED);
        }
    };
    let ended = runtime.block_on(commands::run(cli));
    runtime.shutdown_background();
    match ended {
        Ok(status) => status,
        Err(failure) => failure.report(),
    }
}
