//! `pondrix serve`

use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use pondrix_core::access::Reach;
use pondrix_runner::{require, shown_through};
use pondrix_server::{KeySources, MasterSource, SecretProvider, Server, ServerConfig, TlsFiles, Tuning};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;
use tracing::info;

use crate::cli::{Cli, Command, Global};
use crate::configuration::{self, ConfigurationArgs, reloads};
use crate::failure::{Failure, Outcome};
use crate::own_runners::{OwnRunner, end_further};
use crate::shared::machine::{Allows, keep_to_oneself, log_to_standard_error, usual_slots};
use crate::shared::machine_check;
use crate::shared::token_file::TokenFile;
use crate::{output, signals, systemd};

/// Run the server: API, console, polling of repositories, and a runner of its own.
///
/// Each option can also be a line of a configuration file (`--config`), and an environment variable: `--request-limit 50`
/// is `request-limit 50` in the file and `PONDRIX_SERVER_REQUEST_LIMIT=50`. The command line overrides the environment,
/// and the environment overrides the file. SIGHUP reads the file again.
#[derive(Debug, Args)]
pub(crate) struct Serve {
    #[command(flatten)]
    pub(crate) configuration: ConfigurationArgs,
    /// Folder for records, copies of repositories, logs and images.
    #[arg(long, default_value = "pondrix-data", value_name = "FOLDER")]
    data: PathBuf,
    /// Address and port to listen on. A socket that systemd passes is used instead.
    #[arg(long, default_value = "127.0.0.1:7733", value_name = "HOST:PORT")]
    listen: SocketAddr,
    /// Serve TLS with this certificate chain (PEM). A changed file is used without a restart.
    #[arg(long, value_name = "FILE")]
    tls_certificate: Option<PathBuf>,
    /// The certificate's private key (PEM).
    #[arg(long, value_name = "FILE")]
    tls_key: Option<PathBuf>,
    /// Requests per second that one token may make, or one address without a token. A burst may have ten times as many,
    /// and a runner makes ten times as many. 0 for no limit.
    #[arg(long, default_value_t = 200, value_name = "COUNT")]
    request_limit: u32,
    /// Address that people and webhooks use, if it is not the listening address (for example behind a TLS proxy).
    #[arg(long, value_name = "URL")]
    public_url: Option<String>,
    /// Trust `X-Forwarded-For` from this proxy. May be repeated.
    #[arg(long, value_name = "ADDRESS")]
    trusted_proxy: Vec<IpAddr>,
    /// Source of the master key that encrypts secrets: file:PATH, credential:NAME (systemd), or command:LINE, which prints
    /// it. The default is `secrets.key` in the data folder.
    #[arg(long, value_name = "SOURCE")]
    master_key: Option<MasterSource>,
    /// Source of the previous master key. Secrets are encrypted again with the new one.
    #[arg(long, value_name = "SOURCE")]
    former_master_key: Option<MasterSource>,
    /// Start without the lost master key. Every secret, password and kubeconfig has to be set again.
    #[arg(long)]
    lose_secrets: bool,
    /// Source of secrets that are kept elsewhere (`pondrix secret set --from NAME`): NAME=folder:PATH, with the values in
    /// files FOR/SECRET, or NAME=command:LINE, which prints $SECRET_NAME of $SECRET_FOR. May be repeated.
    #[arg(long, value_name = "PROVIDER")]
    secret_provider: Vec<SecretProvider>,
    /// File for the first administrator's token. It is created at the first start, readable by its owner only. The token is
    /// printed if no file is set.
    #[arg(long, value_name = "FILE")]
    first_token_file: Option<PathBuf>,
    /// Runners that the server starts itself. 0 if all runners are started by `pondrix runner join`.
    #[arg(long, default_value_t = 1, value_name = "COUNT")]
    runners: usize,
    /// Jobs that each of these runners does at once. The default is the number of CPUs.
    #[arg(long, value_name = "COUNT")]
    slots: Option<usize>,
    #[command(flatten)]
    allows: Allows,
    /// Interval at which repositories are polled. Webhooks are faster.
    #[arg(long, default_value = "30s", value_name = "TIME")]
    look_every: pondrix_core::Duration,
    /// Maximum size of an upload of `pondrix try`, compressed.
    #[arg(long, default_value = "256MiB", value_name = "SIZE")]
    try_limit: pondrix_core::Size,
    /// Maximum size of a job's log. Of a longer log, the end of each step is kept too.
    #[arg(long, default_value = "64MiB", value_name = "SIZE")]
    log_limit: pondrix_core::Size,
    /// Maximum size of one fetch from a repository.
    #[arg(long, value_name = "SIZE", default_value = "16GiB")]
    repository_limit: pondrix_core::Size,
    /// Maximum size of an artifact, all its files together.
    #[arg(long, value_name = "SIZE", default_value = "16GiB")]
    artifact_limit: pondrix_core::Size,
}

/// Options that take effect at a reload.
const LIVE: &[&str] =
    &["look-every", "try-limit", "repository-limit", "artifact-limit", "request-limit", "trusted-proxy"];

/// How long an own runner goes on without a server.
const ALONE_FOR: Duration = Duration::from_secs(600);

/// How often an address that is taken is tried again, and how long is waited between.
const ADDRESS_TRIES: usize = 20;
const ADDRESS_PAUSE: Duration = Duration::from_millis(100);

/// Listens. What a server that was killed was about to start still has its address for a moment.
async fn listen(address: SocketAddr) -> Result<TcpListener, Failure> {
    for attempt in 1..ADDRESS_TRIES {
        match TcpListener::bind(address).await {
            Err(error) if error.kind() == ErrorKind::AddrInUse => {
                if attempt == 1 {
                    info!(%address, "the address is taken; it is tried again for a moment");
                }
                tokio::time::sleep(ADDRESS_PAUSE).await;
            }
            other => return other.map_err(|error| Failure::new(format!("cannot listen on {address}: {error}"))),
        }
    }
    TcpListener::bind(address).await.map_err(|error| {
        let failure = Failure::new(format!("cannot listen on {address}: {error}"));
        if error.kind() != ErrorKind::AddrInUse {
            return failure;
        }
        failure.advise("end the program that has this address, or choose another one: --listen HOST:PORT")
    })
}

impl Serve {
    /// The files of TLS, which have to be usable.
    fn tls(&self) -> Result<Option<TlsFiles>, Failure> {
        let files = match (self.tls_certificate.clone(), self.tls_key.clone()) {
            (None, None) => return Ok(None),
            (Some(_), None) => return Err(configuration::requires("tls-certificate", "tls-key")),
            (None, Some(_)) => return Err(configuration::requires("tls-key", "tls-certificate")),
            (Some(certificate), Some(key)) => TlsFiles { certificate, key },
        };
        files.check().map_err(|error| Failure::usage(format!("{error:#}")))?;
        Ok(Some(files))
    }

    /// Whether jobs run on this machine.
    pub(crate) fn has_runners(&self) -> bool {
        self.runners > 0
    }

    /// The settings that a reload changes.
    fn tuning(&self) -> Tuning {
        Tuning {
            look_every: self.look_every.to_std(),
            try_limit: self.try_limit.bytes(),
            repository_limit: self.repository_limit.bytes(),
            artifact_limit: self.artifact_limit.bytes(),
            request_limit: Some(self.request_limit).filter(|limit| *limit > 0),
            trusted_proxies: self.trusted_proxy.iter().map(IpAddr::to_canonical).collect(),
        }
    }

    pub(crate) async fn run(self, global: &Global) -> Outcome {
        if let Some(shown) = self.configuration.show(global) {
            return shown;
        }
        let tls = self.tls()?;
        machine_check::require_git()?;
        if self.configuration.check {
            return self.configuration.report_valid(global);
        }
        log_to_standard_error();
        self.configuration.warn_of_unknown_variables();
        let shutdown = signals::shutdown()?;
        std::fs::create_dir_all(&self.data)
            .map_err(|error| Failure::new(format!("{}: {error}", self.data.display())))?;
        // Its runners work below it as users of their own, who find their way through it.
        keep_to_oneself();
        let data = self.data.canonicalize()?;
        if let Some(through) = shown_through(&data, &self.allows.readable).filter(|_| self.runners > 0) {
            let words = format!(
                "{} cannot be the server's folder: jobs with `on-host` read all of {}",
                data.display(),
                through.display()
            );
            return Err(Failure::new(words).advise("choose another: --data FOLDER"));
        }
        let (tuning, current) = watch::channel(self.tuning());
        let select = |cli: Cli| match cli.command {
            Command::Serve(serve) => Some((serve.tuning(), serve.configuration)),
            _ => None,
        };
        reloads(&self.configuration, LIVE, select, move |read| drop(tuning.send_replace(read)))?;
        let config = ServerConfig {
            data: data.clone(),
            public_url: self.public_url,
            log_limit: self.log_limit.bytes(),
            tls: tls.clone(),
            keys: KeySources {
                master: self.master_key.unwrap_or_else(|| MasterSource::File(data.join("secrets.key"))),
                former: self.former_master_key,
                lose_secrets: self.lose_secrets,
            },
            providers: self.secret_provider,
            reach: Reach::with(self.allows.reach.clone()),
            tuning: current,
        };
        if self.runners > 0 {
            require(&data, !self.allows.without_limits).map_err(|unfit| machine_check::failure(&unfit))?;
        }
        // First of all: a token that is made and told once must not be lost because nothing can be served.
        let listener = match systemd::passed_listener()? {
            Some(listener) => {
                self.configuration.warn_of_passed_listener(&listener.local_addr()?.to_string());
                listener
            }
            None => listen(self.listen).await?,
        };
        let is_first_start = !data.join("records.db").exists();
        let token_file = self.first_token_file.as_deref().filter(|_| is_first_start).map(TokenFile::new).transpose()?;
        let (server, tokens) = Server::open(config).await?;
        let scheme = if tls.is_some() { "https" } else { "http" };
        let address = format!("{scheme}://{}", listener.local_addr()?);
        let (mut admin, mut first_token) = (tokens.admin, None);
        if let (Some(mut file), Some(token)) = (token_file, &admin) {
            file.write(token)?;
            admin = None;
            first_token = Some(file.path().to_owned());
        }
        if global.json {
            output::json(
                &serde_json::json!({ "url": address, "admin_token": admin, "first_token_file": first_token }),
            )?;
        } else {
            output::line(&format!("Pondrix serves at {address}"));
            if let Some(file) = first_token {
                output::line(&format!("The first administrator's token is in {}", file.display()));
            }
            if let Some(token) = &admin {
                output::line(&format!("The token to sign in with, told this once:\n  {token}"));
            }
        }
        let mut runners = tokio::task::JoinSet::new();
        for number in 1..=self.runners {
            let name = format!("own-{number}");
            let runner = OwnRunner {
                token_file: server.own_runner(&name).await?,
                name,
                data: data.join(format!("runner-{number}")),
                address_file: Server::address_file(&data),
                slots: self.slots.unwrap_or_else(usual_slots),
                allows: self.allows.clone(),
                alone_for: ALONE_FOR,
                log: None,
            };
            runners.spawn(runner.keep(shutdown.clone()));
        }
        runners.spawn(end_further(data.clone(), self.runners));
        // The server answers until its runners have left, so that their last words are heard.
        let close = CancellationToken::new();
        systemd::report_ready();
        let serving = server.serve(listener, close.clone());
        tokio::pin!(serving);
        tokio::select! {
            ended = &mut serving => {
                shutdown.cancel();
                while runners.join_next().await.is_some() {}
                ended?;
            }
            () = async { shutdown.cancelled().await; systemd::report_stopping(); while runners.join_next().await.is_some() {} } => {
                close.cancel();
                serving.await?;
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
