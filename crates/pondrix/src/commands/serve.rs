//! `pondrix serve`

use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use pondrix_core::access::Reach;
use pondrix_runner::{require, shown_through};
use pondrix_server::{KeySources, MasterSource, SecretProvider, Server, ServerConfig, TlsFiles};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use tracing::info;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::own_runners::{OwnRunner, end_further};
use crate::shared::machine::{Allows, keep_to_oneself, log_to_standard_error, usual_slots};
use crate::shared::machine_check;
use crate::{output, signals};

/// Run the server: API, console, watchers of repositories, and a runner of its own.
#[derive(Debug, Args)]
pub(crate) struct Serve {
    /// The folder for records, copies of repositories, logs and images.
    #[arg(long, default_value = "pondrix-data", value_name = "FOLDER")]
    data: PathBuf,
    /// Where to listen.
    #[arg(long, default_value = "127.0.0.1:7733", value_name = "HOST:PORT")]
    listen: SocketAddr,
    /// Speak TLS: with this certificate (PEM, with those between it and an authority), and its key. Both are read anew
    /// when they change.
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    tls_certificate: Option<PathBuf>,
    /// The certificate's private key (PEM).
    #[arg(long, value_name = "FILE", requires = "tls_certificate")]
    tls_key: Option<PathBuf>,
    /// How many requests a second one token may make, or one address that shows none; ten times as many at once, and of
    /// runners. 0 for any number.
    #[arg(long, default_value_t = 200, value_name = "COUNT")]
    request_limit: u32,
    /// The address that people and hooks use, when it is another (behind a proxy with TLS).
    #[arg(long, value_name = "URL")]
    public_url: Option<String>,
    /// A proxy in front of the server that is believed when it says whom it asks for (X-Forwarded-For). Several times for
    /// several.
    #[arg(long, value_name = "ADDRESS")]
    trusted_proxy: Vec<IpAddr>,
    /// Where the master key comes from that secrets are sealed under: file:PATH, credential:NAME (of systemd), or
    /// command:LINE, whose output it is; `secrets.key` in the server's folder, where nothing is said.
    #[arg(long, value_name = "FROM")]
    master_key: Option<MasterSource>,
    /// The master key before it: what is sealed under that is sealed under the new one from now on.
    #[arg(long, value_name = "FROM")]
    former_master_key: Option<MasterSource>,
    /// Go on though the master key is lost. Every secret, password and kubeconfig has to be set again.
    #[arg(long)]
    lose_secrets: bool,
    /// Where secrets are read that are kept elsewhere (`pondrix secret set --from NAME`): NAME=folder:PATH, a folder of
    /// folders whose files are values (FOR/SECRET), or NAME=command:LINE, which prints $SECRET_NAME of $SECRET_FOR; may be
    /// given more than once.
    #[arg(long, value_name = "PROVIDER")]
    secret_provider: Vec<SecretProvider>,
    /// How many runners of its own to start; 0 for none.
    #[arg(long, default_value_t = 1, value_name = "COUNT")]
    runners: usize,
    /// How many jobs each of them does at once; as many as there are cores by default.
    #[arg(long, value_name = "COUNT")]
    slots: Option<usize>,
    #[command(flatten)]
    allows: Allows,
    /// How often repositories are looked at without a hook.
    #[arg(long, default_value = "30s", value_name = "TIME")]
    look_every: pondrix_core::Duration,
    /// The most that `pondrix try` may send, when compressed.
    #[arg(long, default_value = "256MiB", value_name = "SIZE")]
    try_limit: pondrix_core::Size,
    /// The most that is kept of a job's log; of what is longer, the end of each step is kept as well.
    #[arg(long, default_value = "64MiB", value_name = "SIZE")]
    log_limit: pondrix_core::Size,
    /// The most that is taken of a repository at once: what git writes into one file.
    #[arg(long, value_name = "SIZE", default_value = "16GiB")]
    repository_limit: pondrix_core::Size,
    /// The largest artifact: what all its files take together.
    #[arg(long, value_name = "SIZE", default_value = "16GiB")]
    artifact_limit: pondrix_core::Size,
}

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
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        log_to_standard_error();
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
        let is_tls = self.tls_certificate.is_some();
        let config = ServerConfig {
            data: data.clone(),
            look_every: self.look_every.to_std(),
            public_url: self.public_url,
            try_limit: self.try_limit.bytes(),
            log_limit: self.log_limit.bytes(),
            repository_limit: self.repository_limit.bytes(),
            artifact_limit: self.artifact_limit.bytes(),
            tls: self.tls_certificate.zip(self.tls_key).map(|(certificate, key)| TlsFiles { certificate, key }),
            request_limit: Some(self.request_limit).filter(|limit| *limit > 0),
            keys: KeySources {
                master: self.master_key.unwrap_or_else(|| MasterSource::File(data.join("secrets.key"))),
                former: self.former_master_key,
                lose_secrets: self.lose_secrets,
            },
            providers: self.secret_provider,
            trusted_proxies: self.trusted_proxy.iter().map(IpAddr::to_canonical).collect(),
            reach: Reach::with(self.allows.reach.clone()),
        };
        if self.runners > 0 {
            require(&data, !self.allows.without_limits).map_err(|unfit| machine_check::failure(&unfit))?;
        }
        // First of all: a token that is made and told once must not be lost because nothing can be served.
        let listener = listen(self.listen).await?;
        let (server, tokens) = Server::open(config).await?;
        let scheme = if is_tls { "https" } else { "http" };
        let address = format!("{scheme}://{}", listener.local_addr()?);
        if global.json {
            output::json(&serde_json::json!({ "url": address, "admin_token": tokens.admin }))?;
        } else {
            output::line(&format!("Pondrix serves at {address}"));
            if let Some(token) = &tokens.admin {
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
        let serving = server.serve(listener, close.clone());
        tokio::pin!(serving);
        tokio::select! {
            ended = &mut serving => {
                shutdown.cancel();
                while runners.join_next().await.is_some() {}
                ended?;
            }
            () = async { shutdown.cancelled().await; while runners.join_next().await.is_some() {} } => {
                close.cancel();
                serving.await?;
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
