//! Services: ports on the loopback interface that spread connections over ready pods.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;

use super::controller::{is_ready, key_of, selects};
use super::node::{Node, Pod};
use super::objects::{Key, Objects};
use super::probe::port_of;

/// What is said where no pod is ready.
const NOBODY: &[u8] =
    b"HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain\r\nConnection: close\r\n\r\nno replica is ready\n";

/// All services' ports.
#[derive(Debug)]
pub(super) struct Proxies {
    objects: Arc<Objects>,
    node: Arc<Node>,
    open: Mutex<HashMap<Key, SocketAddr>>,
    turn: AtomicUsize,
    /// Ends the listeners.
    stop: CancellationToken,
}

/// Counts a connection for as long as it lives.
struct Counted(Arc<Pod>);

impl Counted {
    fn new(pod: Arc<Pod>) -> Self {
        pod.connections.fetch_add(1, Ordering::SeqCst);
        Self(pod)
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.connections.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Proxies {
    pub(super) fn new(objects: Arc<Objects>, node: Arc<Node>) -> Arc<Self> {
        Arc::new(Self {
            objects,
            node,
            open: Mutex::default(),
            turn: AtomicUsize::new(0),
            stop: CancellationToken::new(),
        })
    }

    pub(super) async fn reserve(self: &Arc<Self>, namespace: &str, service: &str) -> std::io::Result<SocketAddr> {
        self.open(&Key::new("services", namespace, service)).await
    }

    async fn open(self: &Arc<Self>, key: &Key) -> std::io::Result<SocketAddr> {
        let known = self.open.lock().unwrap_or_else(PoisonError::into_inner).get(key).copied();
        if let Some(address) = known {
            return Ok(address);
        }
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        self.open.lock().unwrap_or_else(PoisonError::into_inner).insert(key.clone(), address);
        let (proxies, key) = (Arc::clone(self), key.clone());
        tokio::spawn(async move {
            loop {
                tokio::select! {
                    accepted = listener.accept() => {
                        let Ok((stream, _)) = accepted else { continue };
                        let (proxies, key) = (Arc::clone(&proxies), key.clone());
                        tokio::spawn(async move { proxies.carry(&key, stream).await });
                    }
                    () = proxies.stop.cancelled() => return,
                }
            }
        });
        Ok(address)
    }

    /// Opens a port for every service, until `shutdown`.
    pub(super) async fn run(self: Arc<Self>, shutdown: CancellationToken) {
        let mut changes = self.objects.changes();
        loop {
            changes.borrow_and_update();
            for service in self.objects.list("services", "") {
                let key = key_of("services", &service);
                if let Ok(address) = self.open(&key).await {
                    self.objects.update(&key, |service| {
                        service["spec"]["type"] = json!("NodePort");
                        service["spec"]["clusterIP"] = json!("127.0.0.1");
                        service["spec"]["ports"][0]["nodePort"] = json!(address.port());
                    });
                }
            }
            tokio::select! {
                _ = changes.changed() => {}
                () = shutdown.cancelled() => break,
            }
        }
        self.stop.cancel();
    }

    /// The ready pods of a service and the port they listen on, each pod's turn once.
    fn targets(&self, key: &Key) -> Vec<(Arc<Pod>, u16)> {
        let Some(service) = self.objects.get(key) else { return Vec::new() };
        let port = &service["spec"]["ports"][0];
        let target = port.get("targetPort").unwrap_or(&port["port"]);
        let ready = self.objects.list("pods", &key.namespace).into_iter();
        let ready =
            ready.filter(|pod| is_ready(pod) && selects(&service["spec"]["selector"], &pod["metadata"]["labels"]));
        let mut targets: Vec<_> = ready
            .filter_map(|pod: Value| {
                let port = port_of(target, &pod["spec"]["containers"][0])?;
                Some((self.node.pod(&key_of("pods", &pod))?, port))
            })
            .collect();
        if !targets.is_empty() {
            let turn = self.turn.fetch_add(1, Ordering::Relaxed) % targets.len();
            targets.rotate_left(turn);
        }
        targets
    }

    async fn carry(&self, key: &Key, mut stream: TcpStream) {
        for (pod, port) in self.targets(key) {
            // Counted before it is connected: a pod that leaves now waits for this connection.
            let counted = Counted::new(Arc::clone(&pod));
            let connected = tokio::task::spawn_blocking(move || pod.connect(port)).await;
            let inside = connected.map_err(std::io::Error::other).and_then(|stream| stream).and_then(|inside| {
                inside.set_nonblocking(true)?;
                TcpStream::from_std(inside)
            });
            if let Ok(mut inside) = inside {
                let _ = tokio::io::copy_bidirectional(&mut stream, &mut inside).await;
                drop(counted);
                return;
            }
        }
        let _ = stream.write_all(NOBODY).await;
        let _ = stream.shutdown().await;
    }
}
