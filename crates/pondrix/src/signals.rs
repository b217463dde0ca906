//! Being told to end.

use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;

/// A token that is cancelled by Ctrl-C, or by SIGTERM.
pub(crate) fn shutdown() -> std::io::Result<CancellationToken> {
    let token = CancellationToken::new();
    let (mut interrupt, mut terminate) = (signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?);
    let told = token.clone();
    tokio::spawn(async move {
        tokio::select! {
            _ = interrupt.recv() => {}
            _ = terminate.recv() => {}
        }
        told.cancel();
    });
    Ok(token)
}
