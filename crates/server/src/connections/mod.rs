//! Connections: taking them, with TLS or without, and ending those that keep others from being served.

mod tls;

use std::collections::HashMap;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use axum::http::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use rustix::net::sockopt::set_tcp_user_timeout;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_util::sync::CancellationToken;
use tower_service::Service;
use tracing::{debug, warn};

use crate::tuning::CurrentTuning;

pub(crate) use tls::Tls;
pub use tls::TlsFiles;

/// How long a request's headers may take, and how long a connection may say nothing between requests.
const HEADERS_TIME: Duration = Duration::from_secs(30);
/// How long may pass until what was sent has arrived, and until somebody reads on who does not. (In `less` somebody may
/// look at a log for a while.)
const UNREAD_TIME: Duration = Duration::from_secs(300);
/// How long it may take to agree on TLS.
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);
/// As many connections as there are at once.
const MOST: usize = 4096;
/// As many as one address has, but for this machine's and those of proxies, behind which many are.
const MOST_OF_ONE: usize = 256;
/// How long is waited when the machine gives no more connections.
const PAUSE: Duration = Duration::from_millis(100);

/// A request that came over TLS of the server's own.
#[derive(Clone, Copy, Debug)]
pub(crate) struct OverTls;

/// Connections as they are taken.
#[derive(Clone, Debug)]
pub(crate) struct Connections {
    router: Router,
    all: Arc<Semaphore>,
    by_address: Arc<Mutex<HashMap<IpAddr, usize>>>,
    tuning: CurrentTuning,
}

/// The place of a connection among those of its address.
struct Place {
    _one_of_all: OwnedSemaphorePermit,
    address: IpAddr,
    by_address: Arc<Mutex<HashMap<IpAddr, usize>>>,
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut all = self.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = all.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                all.remove(&self.address);
            }
        }
    }
}

impl Connections {
    pub(crate) fn new(router: Router, tuning: CurrentTuning) -> Self {
        Self { router, all: Arc::new(Semaphore::new(MOST)), by_address: Arc::default(), tuning }
    }

    /// The settings that the connections use.
    pub(crate) fn tuning(&self) -> CurrentTuning {
        self.tuning.clone()
    }

    /// The place of one more connection of an address; nothing where it has as many as it may.
    fn place(&self, one_of_all: OwnedSemaphorePermit, address: IpAddr) -> Option<Place> {
        let mut all = self.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        let count = all.entry(address).or_default();
        let is_shared = || address.is_loopback() || self.tuning.borrow().trusted_proxies.contains(&address);
        if *count >= MOST_OF_ONE && !is_shared() {
            return None;
        }
        *count += 1;
        Some(Place { _one_of_all: one_of_all, address, by_address: Arc::clone(&self.by_address) })
    }

    /// Takes connections until `shutdown`, and then waits for the answers that are under way.
    pub(crate) async fn serve(&self, listener: TcpListener, tls: Option<Tls>, shutdown: CancellationToken) {
        let graceful = GracefulShutdown::new();
        loop {
            let accepted = async {
                let place = Arc::clone(&self.all).acquire_owned().await;
                (place, listener.accept().await)
            };
            let (permit, accepted) = tokio::select! {
                accepted = accepted => accepted,
                () = shutdown.cancelled() => break,
            };
            let (stream, peer) = match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // Of one that was given up meanwhile nobody need hear; where there are no more descriptors, some
                    // come back.
                    warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(PAUSE).await;
                    continue;
                }
            };
            let Ok(permit) = permit else { break };
            let Some(place) = self.place(permit, peer.ip().to_canonical()) else {
                debug!(%peer, "too many connections of one address");
                continue;
            };
            let (this, tls, watcher) = (self.clone(), tls.clone(), graceful.watcher());
            tokio::spawn(async move {
                if let Err(error) = this.converse(stream, peer, tls, watcher).await {
                    debug!(%peer, %error, "a connection ended");
                }
                drop(place);
            });
        }
        drop(listener);
        graceful.shutdown().await;
    }

    async fn converse(
        &self,
        stream: TcpStream,
        peer: SocketAddr,
        tls: Option<Tls>,
        watcher: Watcher,
    ) -> anyhow::Result<()> {
        // Answers go out as they are written: waiting to fill a packet costs a reader 40 ms each.
        stream.set_nodelay(true)?;
        set_tcp_user_timeout(&stream, UNREAD_TIME.as_millis() as u32)?;
        match tls {
            None => self.answer(stream, peer, false, watcher).await,
            Some(tls) => {
                let stream = tokio::time::timeout(HANDSHAKE_TIME, tls.accept(stream)).await??;
                self.answer(stream, peer, true, watcher).await
            }
        }
    }

    /// Answers the requests of a connection.
    async fn answer<S>(&self, stream: S, peer: SocketAddr, is_tls: bool, watcher: Watcher) -> anyhow::Result<()>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let router = self.router.clone();
        let service = service_fn(move |request: Request<Incoming>| {
            let mut request = request.map(Body::new);
            request.extensions_mut().insert(ConnectInfo(peer));
            if is_tls {
                request.extensions_mut().insert(OverTls);
            }
            let mut router = router.clone();
            async move { Ok::<_, Infallible>(router.call(request).await.unwrap_or_else(|never| match never {})) }
        });
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(HEADERS_TIME)
            .serve_connection(TokioIo::new(stream), service);
        Ok(watcher.watch(connection).await?)
    }
}
