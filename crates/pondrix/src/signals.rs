//! Being told to end.

use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;

/// A token that is cancelled by SIGUSR2: a runner ends after the jobs that it has.
pub(crate) fn drain() -> std::io::Result<CancellationToken> {
    let token = CancellationToken::new();
    let mut asked = signal(SignalKind::user_defined2())?;
    let drain = token.clone();
    tokio::spawn(async move {
        asked.recv().await;
        tracing::info!("this runner takes no more jobs, and ends after those that it has");
        drain.cancel();
    });
    Ok(token)
}

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
