//! The command line as a whole.

use clap::{Args, Parser, Subcommand};

use crate::commands;

/// Carries commits through pipelines: test, build, tag and push images, roll them out.
///
/// Exit status: 0 done, 1 the run or rollout failed, 2 wrong usage or a faulty pipeline file, 3 the
/// server could not be reached, 4 not allowed.
#[derive(Debug, Parser)]
#[command(
    name = "pondrix",
    version,
    max_term_width = 100,
    arg_required_else_help = true,
    disable_help_subcommand = true
)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) global: Global,
}

/// What every command understands.
#[derive(Clone, Debug, Args)]
pub(crate) struct Global {
    /// Print JSON, for programs.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// The server's address, instead of the one that `pondrix login` saved.
    #[arg(long, global = true, env = "PONDRIX_URL", value_name = "URL")]
    pub(crate) url: Option<String>,
    /// The token, instead of the one that `pondrix login` saved.
    #[arg(long, global = true, env = "PONDRIX_TOKEN", value_name = "TOKEN", hide_env_values = true, hide = true)]
    pub(crate) token: Option<String>,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Setup(Box<commands::setup::Setup>),
    Serve(Box<commands::serve::Serve>),
    Demo(commands::demo::Demo),
    #[command(subcommand)]
    Runner(commands::runner::Runner),
    #[command(subcommand)]
    Pool(commands::pool::Pool),
    Login(commands::login::Login),
    Whoami(commands::whoami::Whoami),
    #[command(subcommand)]
    Token(commands::token::Token),
    #[command(subcommand)]
    User(commands::user::User),
    #[command(subcommand)]
    Openid(commands::openid::OpenId),
    #[command(subcommand)]
    Role(commands::role::Role),
    #[command(subcommand)]
    Project(commands::project::Project),
    #[command(subcommand)]
    Registry(commands::registry::Registry),
    #[command(subcommand)]
    Image(commands::image::Image),
    #[command(subcommand)]
    Environment(commands::environment::Environment),
    #[command(subcommand)]
    Secret(commands::secret::Secret),
    #[command(subcommand)]
    Audit(commands::audit::Audit),
    #[command(subcommand)]
    Key(commands::key::Key),
    Backup(commands::backup::Backup),
    Restore(commands::restore::Restore),
    #[command(subcommand)]
    Retention(commands::retention::Retention),
    #[command(subcommand)]
    Quota(commands::quota::QuotaCommand),
    Check(commands::check::Check),
    Plan(commands::plan::Plan),
    Draft(commands::draft::Draft),
    Try(commands::try_out::Try),
    Start(commands::start::Start),
    Runs(commands::runs::Runs),
    Show(commands::show::Show),
    Log(commands::log::Log),
    #[command(subcommand)]
    Artifact(commands::artifact::ArtifactCommand),
    Rerun(commands::rerun::Rerun),
    Stop(commands::stop::Stop),
    /// Approve what a run waits for.
    Approve(commands::answer::Answer),
    /// Reject what a run waits for. The run is then stopped.
    Reject(commands::answer::Answer),
    Completions(commands::completions::Completions),
    #[command(hide = true)]
    Manual(commands::completions::Manual),
}
