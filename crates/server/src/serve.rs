//! Opening the records, and answering until told to stop.

use std::fs::Permissions;
use std::net::Ipv4Addr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use pondrix_core::access::{Grant, Holder, Reach, Role};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use tracing::info;

use crate::access;
use crate::backup;
use crate::connections::{Connections, Tls, TlsFiles};
use crate::domain::{Engine, KeySources, PreflightOrders, remove_aside_of_before, unlock};
use crate::http::{self, App, Limits};
use crate::ports::{Clock, Ports, SecretProvider};
use crate::private::{create_private, write_private};
use crate::queries::Queries;
use crate::store::{self, Store, TokenKind, TokenRow};
use crate::tuning::CurrentTuning;
use crate::workers::{self, watcher::Watcher};

/// Who the first token is of.
const FIRST: &str = "admin";

/// How the server works.
#[derive(Clone, Debug)]
pub struct ServerConfig {
    /// Its folder: records, copies of repositories, logs.
    pub data: PathBuf,
    /// The address that people and hooks reach it at, when it is not the listener's.
    pub public_url: Option<String>,
    /// The certificate of its own, where it speaks TLS itself.
    pub tls: Option<TlsFiles>,
    /// Where the keys come from that secrets are sealed with.
    pub keys: KeySources,
    /// Where secrets are read that are kept elsewhere.
    pub providers: Vec<SecretProvider>,
    /// What of the network is reached at hosts that pipelines name, and nobody who administers the server.
    pub reach: Reach,
    /// Maximum size of a job's log, in bytes. It is fixed, because running jobs were told the limit.
    pub log_limit: u64,
    /// Settings that may change while the server runs.
    pub tuning: CurrentTuning,
}

/// Keeps other users of the machine out of what the server and its own runners read.
fn close_to_others(data: &Path) -> std::io::Result<()> {
    std::fs::set_permissions(data, Permissions::from_mode(0o700))?;
    for folder in ["repositories", "logs", "files", "tries"] {
        let folder = data.join(folder);
        std::fs::create_dir_all(&folder)?;
        std::fs::set_permissions(&folder, Permissions::from_mode(0o700))?;
    }
    let records = data.join("records.db");
    if !records.exists() {
        create_private(&records)?;
    }
    // The files that SQLite makes beside it are as it is; those of an earlier server may be there still.
    let beside =
        ["records.db-wal", "records.db-shm"].map(|name| data.join(name)).into_iter().filter(|file| file.exists());
    for file in std::iter::once(records).chain(beside) {
        std::fs::set_permissions(file, Permissions::from_mode(0o600))?;
    }
    Ok(())
}

/// Tokens as they are when the server is opened.
#[derive(Clone, Debug)]
pub struct Tokens {
    /// The token for everything people do; told only when it was made now.
    pub admin: Option<String>,
}

/// The server, with its records open.
pub struct Server {
    config: ServerConfig,
    store: Store,
    engine: Arc<Engine>,
    preflights: PreflightOrders,
}

impl Server {
    /// Opens the records and makes the tokens that are not there yet.
    ///
    /// # Errors
    /// When the folder or the records cannot be used.
    pub async fn open(config: ServerConfig) -> anyhow::Result<(Self, Tokens)> {
        let told = || format!("{} cannot be the server's folder", config.data.display());
        std::fs::create_dir_all(config.data.join("repositories")).with_context(told)?;
        close_to_others(&config.data).with_context(told)?;
        backup::remove_unfinished(&config.data);
        remove_aside_of_before(&config.data);
        let store = Store::open(&config.data.join("records.db")).with_context(told)?;
        let ports = Ports::real(config.reach.clone(), config.providers.clone(), config.tuning.clone());
        let admin = Self::new_admin_token(&store, &ports.clock).await?;
        // Of before: one for all runners, which is good no more.
        let _ = std::fs::remove_file(config.data.join("runner.token"));
        let seal = unlock(&store, &config.keys, ports.clock.now()).await?;
        let (engine, preflights) =
            Engine::new(store.clone(), ports, seal, config.data.clone(), config.log_limit, config.tuning.clone());
        Ok((Self { config, store, engine, preflights }, Tokens { admin }))
    }

    /// Makes a token for everything people do when there is none.
    async fn new_admin_token(store: &Store, clock: &Clock) -> anyhow::Result<Option<String>> {
        let token = access::new_token()?;
        let (hash, now) = (access::hash(&token), clock.now());
        let made = store.write(move |c| {
            if store::has_token(c, TokenKind::Person)? {
                return Ok(false);
            }
            store::add_user(c, FIRST, &[], now)?;
            let everything = Grant::everywhere(Role::Administer);
            store::give_role(c, &Holder::Person(FIRST.to_owned()), &everything, "server", now)?;
            store::put_token(c, &TokenRow::new(hash, TokenKind::Person, FIRST, now))?;
            Ok(true)
        });
        Ok(made.await?.then_some(token))
    }

    /// The file with the token of a runner of the server's own, in its folder; both are made where they are not there.
    ///
    /// # Errors
    /// When the records or the file cannot be written.
    pub async fn own_runner(&self, name: &str) -> anyhow::Result<PathBuf> {
        self.engine.own_runner(&self.config.data, name).await
    }

    /// The file that says where the server listens; written when it does.
    #[must_use]
    pub fn address_file(data: &Path) -> PathBuf {
        data.join("address")
    }

    /// Answers on `listener` until `shutdown`, and takes up what was not finished.
    ///
    /// # Errors
    /// When the records cannot be read, or the listener breaks.
    pub async fn serve(self, listener: TcpListener, shutdown: CancellationToken) -> anyhow::Result<()> {
        let tls = self.config.tls.clone().map(Tls::new).transpose()?;
        let scheme = if tls.is_some() { "https" } else { "http" };
        let address = format!("{scheme}://{}", listener.local_addr()?);
        let public_url = self.config.public_url.clone().unwrap_or_else(|| address.clone());
        self.engine.is_reached_at(&public_url);
        let watcher = Watcher::new(Arc::clone(&self.engine), self.config.tuning.clone(), shutdown.clone());
        self.engine.seal_files_of_environments().await?;
        self.engine.resume().await?;
        self.engine.tell_audit().await?;
        workers::start(&self.engine, &watcher, self.preflights, &shutdown);
        for row in self.store.read(store::projects).await? {
            watcher.watch(row.project);
        }
        let ServerConfig { data, tuning, .. } = self.config;
        let app = App {
            engine: self.engine,
            queries: Queries::new(self.store),
            watcher,
            public_url,
            limits: Limits::new(tuning.clone()),
            tuning: tuning.clone(),
            shutdown: shutdown.clone(),
        };
        let router = http::router(Arc::new(app));
        let connections = Connections::new(router.clone(), tuning);
        let own_address = Self::address_file(&data);
        info!(address, "serving");
        match tls {
            None => {
                write_private(&own_address, address.as_bytes())?;
                connections.serve(listener, None, shutdown).await;
            }
            Some(tls) => {
                // A certificate is for the server's name: its own runners speak to it on the loopback interface, without.
                let inside = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
                write_private(&own_address, format!("http://{}", inside.local_addr()?).as_bytes())?;
                tokio::spawn(tls.clone().keep_fresh(shutdown.clone()));
                // However many come from outside.
                let own = Connections::new(router, connections.tuning());
                tokio::join!(
                    own.serve(inside, None, shutdown.clone()),
                    connections.serve(listener, Some(tls), shutdown)
                );
            }
        }
        Ok(())
    }
}
