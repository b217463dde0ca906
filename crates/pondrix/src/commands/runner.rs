//! `pondrix runner`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{PauseRequest, RunnerView};
use pondrix_core::access::Reach;
use pondrix_image::Room;
use pondrix_runner::{FolderTaken, RunnerConfig, ServerAddress};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::own_runners::FOLDER_TAKEN;
use crate::shared::machine::{Allows, log_to_standard_error, usual_slots};
use crate::{output, settings, signals};

/// Runners: the machines that do the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Runner {
    Join(Box<Join>),
    List(List),
    Pause(Pause),
    Resume(Resume),
    Remove(Remove),
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

/// Forget a runner that is gone. One that is here is ended on its own machine.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The runner.
    name: String,
}

/// List the runners, and what each is doing.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Make this machine a runner: take jobs from a server and do them here, until it is ended.
#[derive(Debug, Args)]
pub(crate) struct Join {
    /// The runner's name, shown with its jobs; the machine's name by default.
    #[arg(long)]
    name: Option<String>,
    /// The pool that it is of; a job may ask for one.
    #[arg(long, default_value = "pond", value_name = "NAME")]
    pool: String,
    /// The folder for images and jobs. No other runner may use it.
    #[arg(long, default_value = "pondrix-runner", value_name = "FOLDER")]
    data: PathBuf,
    /// The server's address.
    #[arg(long, value_name = "URL", required_unless_present = "server_file", conflicts_with = "server_file")]
    server: Option<String>,
    /// A file with the server's address, read again whenever the server does not answer.
    #[arg(long, value_name = "FILE")]
    server_file: Option<PathBuf>,
    /// A file with the token for runners: `runner.token` in the server's folder.
    #[arg(long, value_name = "FILE")]
    token_file: PathBuf,
    /// How many jobs to do at once; as many as there are cores by default.
    #[arg(long, value_name = "COUNT")]
    slots: Option<usize>,
    #[command(flatten)]
    allows: Allows,
    /// Leave after so long without the server; by default it stays.
    #[arg(long, value_name = "TIME")]
    alone_for: Option<pondrix_core::Duration>,
}

impl Runner {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::Join(join) => join.run().await,
            Self::List(_) => list(global).await,
            Self::Pause(pause) => pause.run(global).await,
            Self::Resume(Resume { name }) => {
                settings::client(global)?.resume_runner(&name).await?;
                done(global, &format!("Runner {} is given jobs again.", output::strong(&name)))
            }
            Self::Remove(Remove { name }) => {
                settings::client(global)?.remove_runner(&name).await?;
                done(global, &format!("Runner {} is forgotten.", output::strong(&name)))
            }
        }
    }
}

/// Where a runner stands, in words.
fn state(runner: &RunnerView) -> String {
    if !runner.here {
        return format!("gone, last seen {}", output::ago(runner.last_seen));
    }
    let Some(pause) = &runner.paused else { return "here".to_owned() };
    let reason = pause.reason.as_deref().map_or_else(String::new, |reason| format!(": {}", output::plain(reason)));
    format!("paused {} by {}{reason}", output::ago(pause.at), output::plain(&pause.by))
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
        output::line("No runners yet. Make a machine one: pondrix runner join --server URL --token-file FILE");
    } else {
        let rows: Vec<_> = list
            .runners
            .iter()
            .map(|runner| {
                let jobs = format!("{} of {}", runner.busy, runner.slots);
                vec![runner.name.clone(), runner.pool.clone(), jobs, state(runner), runner.version.clone()]
            })
            .collect();
        output::table(&["RUNNER", "POOL", "JOBS", "STATE", "VERSION"], &rows);
    }
    for pool in &list.pools {
        if let Some(limit) = pool.limit {
            output::line(&format!("Pool {}: at most {limit} jobs at once", output::strong(&pool.name)));
        }
    }
    Ok(ExitCode::SUCCESS)
}

impl Join {
    async fn run(self) -> Outcome {
        log_to_standard_error();
        let token = std::fs::read_to_string(&self.token_file)
            .map_err(|error| Failure::usage(format!("{}: {error}", self.token_file.display())))?;
        let server = match (self.server, self.server_file) {
            (Some(address), _) => ServerAddress::Fixed(address),
            (None, Some(file)) => ServerAddress::File(file),
            (None, None) => return Err(Failure::usage("neither --server nor --server-file is given")),
        };
        let machine = || rustix::system::uname().nodename().to_string_lossy().into_owned();
        let slots = self.slots.unwrap_or_else(usual_slots);
        let limits = self.allows.job_limits(slots);
        let config = RunnerConfig {
            name: self.name.unwrap_or_else(machine),
            pool: self.pool,
            data: self.data,
            server,
            token: token.trim().to_owned(),
            slots,
            limits,
            host_network: self.allows.allow_host_network,
            reach: Reach::with(self.allows.reach),
            shown: self.allows.readable,
            emulated: self.allows.emulates,
            room: Room {
                limit: self.allows.store_limit.bytes(),
                keep_free: self.allows.keep_free.map(pondrix_core::Size::bytes),
            },
            alone_for: self.alone_for.map(pondrix_core::Duration::to_std),
        };
        match pondrix_runner::run(config, signals::shutdown()?).await {
            Err(error) if error.is::<FolderTaken>() => {
                tracing::info!(%error, "not started");
                Ok(ExitCode::from(FOLDER_TAKEN))
            }
            other => other.map(|()| ExitCode::SUCCESS).map_err(Failure::from),
        }
    }
}
