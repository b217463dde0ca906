//! One file a command: its arguments, and what it does. What several of them share is in [`crate::shared`].

pub(crate) mod answer;
pub(crate) mod artifact;
pub(crate) mod audit;
pub(crate) mod backup;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod draft;
pub(crate) mod environment;
pub(crate) mod image;
pub(crate) mod key;
pub(crate) mod log;
pub(crate) mod login;
pub(crate) mod openid;
pub(crate) mod plan;
pub(crate) mod pool;
pub(crate) mod project;
pub(crate) mod quota;
pub(crate) mod registry;
pub(crate) mod rerun;
pub(crate) mod restore;
pub(crate) mod retention;
pub(crate) mod role;
pub(crate) mod runner;
pub(crate) mod runs;
pub(crate) mod secret;
pub(crate) mod serve;
pub(crate) mod setup;
pub(crate) mod show;
pub(crate) mod start;
pub(crate) mod stop;
pub(crate) mod token;
pub(crate) mod try_out;
pub(crate) mod user;
pub(crate) mod whoami;

use crate::cli::{Cli, Command};
use crate::failure::Outcome;

/// Runs a command.
pub(crate) async fn run(cli: Cli) -> Outcome {
    let global = &cli.global;
    match cli.command {
        Command::Setup(command) => command.run(global).await,
        Command::Serve(command) => command.run(global).await,
        Command::Demo(command) => command.run().await,
        Command::Runner(command) => command.run(global).await,
        Command::Pool(command) => command.run(global).await,
        Command::Login(command) => command.run(global).await,
        Command::Whoami(command) => command.run(global).await,
        Command::Token(command) => command.run(global).await,
        Command::User(command) => command.run(global).await,
        Command::Openid(command) => command.run(global).await,
        Command::Role(command) => command.run(global).await,
        Command::Project(command) => command.run(global).await,
        Command::Registry(command) => command.run(global).await,
        Command::Image(command) => command.run(global).await,
        Command::Environment(command) => command.run(global).await,
        Command::Audit(command) => command.run(global).await,
        Command::Key(command) => command.run(global).await,
        Command::Backup(command) => command.run(global).await,
        Command::Restore(command) => command.run(global),
        Command::Retention(command) => command.run(global).await,
        Command::Quota(command) => command.run(global).await,
        Command::Secret(command) => command.run(global).await,
        Command::Check(command) => command.run(global).await,
        Command::Start(command) => command.run(global).await,
        Command::Runs(command) => command.run(global).await,
        Command::Show(command) => command.run(global).await,
        Command::Log(command) => command.run(global).await,
        Command::Stop(command) => command.run(global).await,
        Command::Artifact(command) => command.run(global).await,
        Command::Rerun(command) => command.run(global).await,
        Command::Try(command) => command.run(global).await,
        Command::Draft(command) => command.run(global).await,
        Command::Plan(command) => command.run(global).await,
        Command::Approve(command) => command.run(global, true).await,
        Command::Reject(command) => command.run(global, false).await,
        Command::Completions(command) => command.run(),
        Command::Manual(command) => command.run(),
    }
}
