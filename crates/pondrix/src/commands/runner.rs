//! `pondrix runner`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{
    InvitationView, JoinRequest, Joined, NewInvitation, NewRunner, PauseRequest, RunnerBounds, RunnerClient, RunnerView,
};
use pondrix_core::access::{Projects, Reach};
use pondrix_image::Room;
use pondrix_runner::{FolderTaken, RunnerConfig, ServerAddress};
use serde::Serialize;
use tokio::sync::watch;

use crate::cli::{Cli, Command, Global};
use crate::configuration::{ConfigurationArgs, reloads};
use crate::failure::{Failure, Outcome};
use crate::own_runners::FOLDER_TAKEN;
use crate::shared::machine::{Allows, keep_to_oneself, log_to_standard_error, make_files_for_jobs, usual_slots};
use crate::shared::machine_check;
use crate::shared::token_file::TokenFile;
use crate::{output, settings, signals, systemd};

/// Runners: the machines that do the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Runner {
    Add(Add),
    Rotate(Rotate),
    Invite(Invite),
    Withdraw(Withdraw),
    Join(Box<Join>),
    Check(Check),
    List(List),
    Pause(Pause),
    Resume(Resume),
    Remove(Remove),
}

/// Test whether this machine can run jobs: control groups, namespaces, the data folder, the network.
///
/// Each test does what a job does. For each test that fails, the command prints the setting to change. Exit status 1 if no
/// job would run here.
#[derive(Debug, Args)]
pub(crate) struct Check {
    /// The runner's folder. The nearest existing folder is tested.
    #[arg(long, default_value = "pondrix-runner", value_name = "FOLDER")]
    data: PathBuf,
}

/// Give a runner no more jobs. Those that it has it does to their end.
#[derive(Debug, Args)]
pub(crate) struct Pause {
    /// The runner.
    name: String,
    /// Why, for others to see.
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
}

/// Give a runner jobs again.
#[derive(Debug, Args)]
pub(crate) struct Resume {
    /// The runner.
    name: String,
}

/// Forget a runner: its token is good no more. One that is here is ended on its own machine first.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The runner.
    name: String,
    /// Also where it is here: jobs that it has are lost to it at once.
    #[arg(long)]
    now: bool,
}

/// What a runner may work for. The server keeps it, whatever the machine says of itself.
#[derive(Debug, Args)]
struct Bounds {
    /// The pool that it is of; a job may ask for one.
    #[arg(long, default_value = "pond", value_name = "NAME")]
    pool: String,
    /// A project that it works for, or those whose names begin so (`garden-*`); may be given more than once. All, where
    /// none is named.
    #[arg(long, value_name = "PROJECT")]
    project: Vec<Projects>,
    /// A program that it is believed to have; may be given more than once. All that it says, where none is named.
    #[arg(long, value_name = "PROGRAM")]
    tool: Vec<String>,
}

/// Make a runner known. Prints its token, once.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// Its name, shown with its jobs.
    name: String,
    #[command(flatten)]
    bounds: Bounds,
    /// Write the token to this file, which only its owner may read, and do not print it.
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
}

/// Give a runner another token. That of before is good for an hour more.
#[derive(Debug, Args)]
pub(crate) struct Rotate {
    /// The runner.
    name: String,
    /// Write the token to this file, which only its owner may read, and do not print it.
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
}

/// Make an invitation: a token with which machines make themselves runners, each with a token of its own. Prints it, once.
#[derive(Debug, Args)]
pub(crate) struct Invite {
    #[command(flatten)]
    bounds: Bounds,
    /// For how many machines it is good.
    #[arg(long, default_value_t = 1, value_name = "COUNT")]
    machines: u32,
    /// For how many hours.
    #[arg(long, default_value_t = 24, value_name = "COUNT")]
    hours: u32,
    /// Write the token to this file, which only its owner may read, and do not print it.
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
}

/// Take an invitation back. Who is a runner by it stays one.
#[derive(Debug, Args)]
pub(crate) struct Withdraw {
    /// Its number, as `pondrix runner list` has it.
    number: i64,
}

/// List the runners, and what each is doing.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Make this machine a runner: take jobs from a server and do them here, until it is ended.
///
/// Each option can also be a line of a configuration file (`--config`), and an environment variable: `--slots 4` is
/// `slots 4` in the file and `PONDRIX_RUNNER_SLOTS=4`. The command line overrides the environment, and the environment
/// overrides the file. SIGHUP reads the file again. SIGUSR2 ends the runner after the jobs that it has.
#[derive(Debug, Args)]
pub(crate) struct Join {
    #[command(flatten)]
    pub(crate) configuration: ConfigurationArgs,
    /// Name of the runner, if an invitation is used. The default is the machine's host name.
    #[arg(long, conflicts_with = "token_file")]
    name: Option<String>,
    /// Folder for images and jobs. No other runner may use it.
    #[arg(long, default_value = "pondrix-runner", value_name = "FOLDER")]
    data: PathBuf,
    /// The server's address.
    #[arg(long, value_name = "URL", conflicts_with = "server_file")]
    server: Option<String>,
    /// File with the server's address. It is read again if the server does not answer.
    #[arg(long, value_name = "FILE")]
    server_file: Option<PathBuf>,
    /// File with the runner's token, which `pondrix runner add` prints.
    #[arg(long, value_name = "FILE", conflicts_with = "invitation_file")]
    token_file: Option<PathBuf>,
    /// File with an invitation, which `pondrix runner invite` prints. It is used once; the token received for it is kept in
    /// the data folder.
    #[arg(long, value_name = "FILE")]
    invitation_file: Option<PathBuf>,
    /// Jobs to do at once. The default is the number of CPUs.
    #[arg(long, value_name = "COUNT")]
    slots: Option<usize>,
    #[command(flatten)]
    allows: Allows,
    /// Exit if the server has been unreachable for this time. The default is to wait.
    #[arg(long, value_name = "TIME")]
    alone_for: Option<pondrix_core::Duration>,
}

/// Options that take effect at a reload, with the next job.
const LIVE: &[&str] = &[
    "allow-namespaces",
    "reach",
    "resolver",
    "job-memory",
    "job-processes",
    "job-cpu",
    "job-disk",
    "store-limit",
    "keep-free",
    "alone-for",
];

impl Runner {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Join(join) => join.run(global).await,
            Self::Check(check) => machine_check::run(&check.data, global),
            Self::List(_) => list(global).await,
            Self::Pause(pause) => pause.run(global).await,
            Self::Resume(Resume { name }) => {
                settings::client(global)?.resume_runner(&name).await?;
                done(global, &format!("Runner {} is given jobs again.", output::strong(&name)))
            }
            Self::Add(add) => add.run(global).await,
            Self::Rotate(Rotate { name, into }) => {
                let into = into.as_deref().map(TokenFile::new).transpose()?;
                let made = settings::client(global)?.rotate_runner(&name).await?;
                let words = format!(
                    "Runner {} has another token; that of before is good for an hour more.",
                    output::strong(&name)
                );
                told(global, &made, &words, &made.token, into, "--token-file")
            }
            Self::Invite(invite) => invite.run(global).await,
            Self::Withdraw(Withdraw { number }) => {
                settings::client(global)?.withdraw_invitation(number).await?;
                done(global, &format!("Invitation {number} is good no more."))
            }
            Self::Remove(Remove { name, now }) => {
                settings::client(global)?.remove_runner(&name, now).await?;
                done(global, &format!("Runner {} is forgotten.", output::strong(&name)))
            }
        }
    }
}

/// Tells of a token that was made: prints it, or writes it to its file.
fn told(
    global: &Global,
    made: &impl Serialize,
    words: &str,
    token: &str,
    mut into: Option<TokenFile>,
    option: &str,
) -> Outcome {
    if let Some(into) = &mut into {
        into.write(token)?;
    }
    if global.json {
        let mut made = serde_json::to_value(made).map_err(|error| Failure::new(error.to_string()))?;
        if let (Some(_), Some(fields)) = (&into, made.as_object_mut()) {
            fields.remove("token");
        }
        output::json(&made)?;
        return Ok(ExitCode::SUCCESS);
    }
    output::line(words);
    let file = match &into {
        Some(into) => into.path().display().to_string(),
        None => {
            output::line(&format!("Its token, told this once:\n  {token}"));
            "FILE".to_owned()
        }
    };
    let server = settings::client(global)?.address().to_owned();
    output::line(&format!("On the machine: pondrix runner join --server {server} {option} {file}"));
    Ok(ExitCode::SUCCESS)
}

impl Bounds {
    fn bounds(self) -> RunnerBounds {
        RunnerBounds { pool: self.pool, projects: self.project, tools: self.tool }
    }
}

impl Add {
    async fn run(self, global: &Global) -> Outcome {
        let new = NewRunner { name: self.name, bounds: self.bounds.bounds() };
        let into = self.into.as_deref().map(TokenFile::new).transpose()?;
        let made = settings::client(global)?.add_runner(&new).await?;
        let words = format!("Runner {} is known; it is of the pool {}.", output::strong(&made.name), made.bounds.pool);
        told(global, &made, &words, &made.token, into, "--token-file")
    }
}

impl Invite {
    async fn run(self, global: &Global) -> Outcome {
        let new = NewInvitation { bounds: self.bounds.bounds(), machines: self.machines, hours: self.hours };
        let into = self.into.as_deref().map(TokenFile::new).transpose()?;
        let made = settings::client(global)?.invite_runners(&new).await?;
        let machines =
            if self.machines == 1 { "one machine".to_owned() } else { format!("{} machines", self.machines) };
        let words = format!(
            "Invitation {} is good for {machines}, until {}.",
            output::strong(&made.invitation.id.to_string()),
            output::moment(made.invitation.ends)
        );
        told(global, &made, &words, &made.token, into, "--invitation-file")
    }
}

/// Where a runner stands, in words.
fn state(runner: &RunnerView) -> String {
    if !runner.here {
        let since = runner.last_seen.map(|seen| format!("gone, last seen {}", output::ago(seen)));
        return since.unwrap_or_else(|| "not seen yet".to_owned());
    }
    let stuck = match runner.stuck {
        0 => String::new(),
        1 => ", 1 slot is stuck: restart this runner".to_owned(),
        count => format!(", {count} slots are stuck: restart this runner"),
    };
    let Some(pause) = &runner.paused else { return format!("here{stuck}") };
    let reason = pause.reason.as_deref().map_or_else(String::new, |reason| format!(": {}", output::plain(reason)));
    format!("paused {} by {}{reason}{stuck}", output::ago(pause.at), output::plain(&pause.by))
}

fn done(global: &Global, words: &str) -> Outcome {
    if !global.json {
        output::line(words);
    }
    Ok(ExitCode::SUCCESS)
}

impl Pause {
    async fn run(self, global: &Global) -> Outcome {
        let request = PauseRequest { reason: self.reason };
        let runner = settings::client(global)?.pause_runner(&self.name, &request).await?;
        if global.json {
            output::json(&runner)?;
            return Ok(ExitCode::SUCCESS);
        }
        let name = output::strong(&runner.name);
        let rest = match runner.busy {
            0 => "It has none now.".to_owned(),
            1 => "It ends the one that it has.".to_owned(),
            count => format!("It ends the {count} that it has."),
        };
        done(global, &format!("Runner {name} is given no more jobs. {rest}"))
    }
}

async fn list(global: &Global) -> Outcome {
    let list = settings::client(global)?.runners().await?;
    if global.json {
        output::json(&list)?;
        return Ok(ExitCode::SUCCESS);
    }
    if list.runners.is_empty() {
        output::line("No runners yet. Make one known: pondrix runner add NAME");
    } else {
        let rows: Vec<_> = list
            .runners
            .iter()
            .map(|runner| {
                let jobs = format!("{} of {}", runner.busy, runner.slots);
                let projects: Vec<_> = runner.projects.iter().map(ToString::to_string).collect();
                let projects = if projects.is_empty() { "*".to_owned() } else { projects.join(" ") };
                vec![runner.name.clone(), runner.pool.clone(), projects, jobs, state(runner), runner.version.clone()]
            })
            .collect();
        output::table(&["RUNNER", "POOL", "PROJECTS", "JOBS", "STATE", "VERSION"], &rows);
    }
    for invitation in &list.invitations {
        let InvitationView { id, bounds, machines, ends, by } = invitation;
        let pool = &bounds.pool;
        output::line(&format!(
            "Invitation {}: for {machines} more in the pool {pool}, until {}, by {by}",
            output::strong(&id.to_string()),
            output::moment(*ends)
        ));
    }
    for pool in &list.pools {
        if let Some(limit) = pool.limit {
            output::line(&format!("Pool {}: at most {limit} jobs at once", output::strong(&pool.name)));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The token of a machine that was invited: the one that it has been given, or one that it is given now.
async fn joined(
    data: &Path,
    server: &ServerAddress,
    invitation: impl Fn() -> Result<String, Failure>,
    name: String,
) -> Result<String, Failure> {
    let file = data.join("own.token");
    match std::fs::read_to_string(&file) {
        Ok(token) if !token.trim().is_empty() => return Ok(token),
        // One that was ended before it had its token.
        Ok(_) => std::fs::remove_file(&file)?,
        Err(_) => {}
    }
    std::fs::create_dir_all(data).map_err(|error| Failure::new(format!("{}: {error}", data.display())))?;
    let address = server.resolve().unwrap_or_default();
    let client = RunnerClient::new(move || address.clone(), invitation()?.trim());
    let mut into = TokenFile::new(&file)?;
    let Joined { token } = client.join(&JoinRequest { runner: name }).await?;
    into.write(&token)?;
    Ok(token)
}

fn read(path: &Path) -> Result<String, Failure> {
    let text = std::fs::read_to_string(path);
    text.map_err(|error| Failure::usage(format!("{}: {error}", path.display())))
}

impl Join {
    fn server(&self) -> Result<ServerAddress, Failure> {
        match (&self.server, &self.server_file) {
            (Some(address), _) => Ok(ServerAddress::Fixed(address.clone())),
            (None, Some(file)) => Ok(ServerAddress::File(file.clone())),
            (None, None) => Err(Failure::usage("the server's address is missing")
                .advise("set `server URL` in the configuration file, or use --server URL")),
        }
    }

    /// The runner's token. An invitation is exchanged for one.
    async fn token(&self, server: &ServerAddress) -> Result<String, Failure> {
        match (&self.token_file, &self.invitation_file) {
            (Some(file), _) => read(file),
            (None, Some(file)) => {
                let machine = || rustix::system::uname().nodename().to_string_lossy().into_owned();
                let name = self.name.clone().unwrap_or_else(machine);
                joined(&self.data, server, || read(file), name).await
            }
            (None, None) => Err(Failure::usage("the runner's token is missing")
                .advise("set `token-file FILE` in the configuration file, or use --token-file FILE")),
        }
    }

    fn config(&self, server: ServerAddress, token: &str) -> RunnerConfig {
        let slots = self.slots.unwrap_or_else(usual_slots);
        RunnerConfig {
            data: self.data.clone(),
            server,
            token: token.trim().to_owned(),
            slots,
            limits: self.allows.job_limits(slots),
            host_network: self.allows.allow_host_network,
            namespaces: self.allows.allow_namespaces,
            reach: Reach::with(self.allows.reach.clone()),
            resolvers: self.allows.resolver.clone(),
            shown: self.allows.readable.clone(),
            emulated: self.allows.emulates.clone(),
            room: Room {
                limit: self.allows.store_limit.bytes(),
                keep_free: self.allows.keep_free.map(pondrix_core::Size::bytes),
            },
            alone_for: self.alone_for.map(pondrix_core::Duration::to_std),
        }
    }

    async fn run(self, global: &Global) -> Outcome {
        if let Some(shown) = self.configuration.show(global) {
            return shown;
        }
        let server = self.server()?;
        if self.configuration.check {
            if let Some(file) = self.token_file.as_ref().or(self.invitation_file.as_ref()) {
                read(file)?;
            }
            return self.configuration.report_valid(global);
        }
        log_to_standard_error();
        self.configuration.warn_of_unknown_variables();
        keep_to_oneself();
        make_files_for_jobs();
        let token = self.token(&server).await?;
        let (sender, current) = watch::channel(self.config(server.clone(), &token));
        let running = sender.borrow().clone();
        let select = |cli: Cli| match cli.command {
            Command::Runner(Runner::Join(join)) => {
                let configuration = join.configuration.clone();
                Some((join, configuration))
            }
            _ => None,
        };
        let apply = move |join: Box<Self>| {
            let read = join.config(server.clone(), &token);
            // The server has some of these values. Readable folders, and whether jobs can be limited, are checked at the start.
            let RunnerConfig { data, server, token, slots, host_network, emulated, shown, limits, .. } =
                running.clone();
            let limits = limits.map(|started_with| read.limits.unwrap_or(started_with));
            let kept = RunnerConfig { data, server, token, slots, host_network, emulated, shown, limits, ..read };
            sender.send_replace(kept);
        };
        reloads(&self.configuration, LIVE, select, apply)?;
        systemd::report_ready();
        match pondrix_runner::run(current, signals::drain()?, signals::shutdown()?).await {
            Err(error) if error.is::<FolderTaken>() => {
                tracing::info!(%error, "not started");
                Ok(ExitCode::from(FOLDER_TAKEN))
            }
            other => other.map(|()| ExitCode::SUCCESS).map_err(Failure::from),
        }
    }
}
