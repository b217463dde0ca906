//! TLS of the server's own: a certificate and its key, read anew when they change.

use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use anyhow::Context;
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use tokio_util::sync::CancellationToken;
use tracing::{error, info};

use crate::off_thread::off_thread;

/// How often is looked whether the files are others.
const LOOK_EVERY: Duration = Duration::from_secs(10);

/// The files of a certificate, in PEM (RFC 7468).
#[derive(Clone, Debug)]
pub struct TlsFiles {
    /// The certificate, and those between it and an authority that is known.
    pub certificate: PathBuf,
    /// Its private key.
    pub key: PathBuf,
}

/// When the files were changed.
type Changed = [Option<SystemTime>; 2];

/// A server's side of TLS.
#[derive(Clone)]
pub(crate) struct Tls {
    files: TlsFiles,
    config: Arc<RwLock<Arc<ServerConfig>>>,
}

impl TlsFiles {
    /// Checks that the files can be read and belong together.
    ///
    /// # Errors
    /// If they cannot, with the file and the reason.
    pub fn check(&self) -> anyhow::Result<()> {
        self.read().map(drop)
    }

    fn read(&self) -> anyhow::Result<Arc<ServerConfig>> {
        let told = |file: &Path| file.display().to_string();
        let certificates = CertificateDer::pem_file_iter(&self.certificate)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .with_context(|| told(&self.certificate))?;
        anyhow::ensure!(!certificates.is_empty(), "{} has no certificate in it", self.certificate.display());
        let mode = self.key.metadata().with_context(|| told(&self.key))?.permissions().mode();
        anyhow::ensure!(mode & 0o007 == 0, "everybody can read {}: chmod o= {0}", self.key.display());
        let key = PrivateKeyDer::from_pem_file(&self.key).with_context(|| told(&self.key))?;
        let builder = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()));
        let mut config = builder
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(certificates, key)
            .with_context(|| format!("{} and {}", self.certificate.display(), self.key.display()))?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }

    fn changed(&self) -> Changed {
        [&self.certificate, &self.key].map(|file| file.metadata().and_then(|data| data.modified()).ok())
    }
}

impl Tls {
    /// With these files.
    ///
    /// # Errors
    /// When they cannot be read, or are no certificate and its key.
    pub(crate) fn new(files: TlsFiles) -> anyhow::Result<Self> {
        let config = files.read()?;
        Ok(Self { files, config: Arc::new(RwLock::new(config)) })
    }

    /// Agrees on TLS with whoever connected.
    pub(crate) async fn accept(&self, stream: TcpStream) -> io::Result<TlsStream<TcpStream>> {
        let config = self.config.read().unwrap_or_else(PoisonError::into_inner).clone();
        TlsAcceptor::from(config).accept(stream).await
    }

    /// Reads the files anew when they change, until `shutdown`. What cannot be used is told, and the one before stays.
    pub(crate) async fn keep_fresh(self, shutdown: CancellationToken) {
        let mut known = self.files.changed();
        loop {
            tokio::select! {
                () = tokio::time::sleep(LOOK_EVERY) => {}
                () = shutdown.cancelled() => return,
            }
            let files = self.files.clone();
            let (changed, read) = off_thread(move || {
                let changed = files.changed();
                (changed, (changed != known).then(|| files.read()))
            })
            .await;
            match read {
                None => continue,
                Some(Ok(config)) => {
                    *self.config.write().unwrap_or_else(PoisonError::into_inner) = config;
                    info!(certificate = %self.files.certificate.display(), "another certificate is used");
                }
                Some(Err(error)) => error!(error = format!("{error:#}"), "the certificate before is still used"),
            }
            known = changed;
        }
    }
}
