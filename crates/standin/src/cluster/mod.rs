//! A cluster of one machine that speaks enough of the Kubernetes API: Deployments with rolling
//! replacement, ReplicaSets, Pods, Services, Namespaces, Events, and watches on all of them.
//!
//! Pods really run: each in a sandbox of its own, with a network of its own. A Service is a port on
//! the loopback interface that spreads connections over the pods that are ready.

mod api;
mod controller;
mod node;
mod objects;
mod probe;
mod proxy;
mod rolling;

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::serve::ListenerExt;
use pondrix_core::image::Registries;
use pondrix_image::Store;
use pondrix_sandbox::Launcher;
use serde_json::json;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

use node::Node;
use objects::Objects;
use proxy::Proxies;

/// A cluster.
#[derive(Debug)]
pub struct Cluster {
    objects: Arc<Objects>,
    node: Arc<Node>,
    proxies: Arc<Proxies>,
    folder: PathBuf,
}

impl Cluster {
    /// A cluster that keeps images and logs in a folder, pulls from registries at these addresses, and
    /// has these namespaces.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn new(
        folder: &Path,
        registries: Registries,
        launcher: Launcher,
        namespaces: &[&str],
    ) -> anyhow::Result<Arc<Self>> {
        std::fs::create_dir_all(folder.join("pods"))?;
        let store = Store::open(&folder.join("images"), launcher.ids())?;
        let objects = Arc::new(Objects::default());
        for name in ["default"].iter().chain(namespaces) {
            let namespace = json!({ "apiVersion": "v1", "kind": "Namespace", "metadata": { "name": name },
                "status": { "phase": "Active" } });
            objects.create(&objects::Key::new("namespaces", "", name), namespace);
        }
        let node = Node::new(Arc::clone(&objects), store, registries, launcher, folder.join("pods"));
        let proxies = Proxies::new(Arc::clone(&objects), Arc::clone(&node));
        Ok(Arc::new(Self { objects, node, proxies, folder: folder.to_owned() }))
    }

    /// Opens a service's port before the service is there, so that its address is known.
    ///
    /// # Errors
    /// When no port can be opened.
    pub async fn reserve(&self, namespace: &str, service: &str) -> std::io::Result<SocketAddr> {
        self.proxies.reserve(namespace, service).await
    }

    /// Answers on `listener` and runs pods until `shutdown`; then ends every pod.
    ///
    /// # Errors
    /// When the listener breaks.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, shutdown: CancellationToken) -> std::io::Result<()> {
        let controller = tokio::spawn(controller::run(Arc::clone(&self.objects), shutdown.clone()));
        let node = tokio::spawn(Arc::clone(&self.node).run(shutdown.clone()));
        let proxies = tokio::spawn(Arc::clone(&self.proxies).run(shutdown.clone()));
        let router = api::router(Arc::clone(&self.objects), Arc::clone(&self.node), shutdown.clone());
        let listener = listener.tap_io(|stream| drop(stream.set_nodelay(true)));
        axum::serve(listener, router).with_graceful_shutdown(shutdown.cancelled_owned()).await?;
        let _ = tokio::join!(controller, node, proxies);
        Ok(())
    }

    /// Writes a file that tells clients how to reach the cluster at this address.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn write_kubeconfig(&self, address: SocketAddr, namespace: &str) -> std::io::Result<PathBuf> {
        let path = self.folder.join(format!("{namespace}.kubeconfig"));
        let config = json!({
            "apiVersion": "v1", "kind": "Config", "current-context": "standin",
            "clusters": [{ "name": "standin", "cluster": { "server": format!("http://{address}") } }],
            "contexts": [{ "name": "standin", "context": { "cluster": "standin", "user": "anybody", "namespace": namespace } }],
            "users": [{ "name": "anybody", "user": {} }],
        });
        std::fs::write(&path, serde_json::to_vec_pretty(&config)?)?;
        Ok(path)
    }
}
