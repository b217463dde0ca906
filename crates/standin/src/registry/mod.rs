//! A registry (OCI Distribution specification 1.1): blobs, uploads in one piece or several, mounts
//! across repositories, manifests by tag and digest, lists of tags.

mod guard;
mod handlers;
mod state;
mod trust;

use std::path::Path;
use std::sync::Arc;

use axum::Router;
use axum::routing::any;
use axum::serve::ListenerExt;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

pub use state::{Behaviour, Guard, Registry, Trip};
pub use trust::Trust;

impl Registry {
    /// A registry that keeps its blobs in a folder.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn new(folder: &Path) -> std::io::Result<Arc<Self>> {
        Ok(Arc::new(Self::in_folder(folder)?))
    }

    /// Answers on `listener` until `shutdown`.
    ///
    /// # Errors
    /// When the listener breaks.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, shutdown: CancellationToken) -> std::io::Result<()> {
        let router = Router::new().fallback(any(handlers::handle)).with_state(self);
        let listener = listener.tap_io(|stream| drop(stream.set_nodelay(true)));
        axum::serve(listener, router).with_graceful_shutdown(shutdown.cancelled_owned()).await
    }
}
