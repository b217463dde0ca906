//! Sockets from the service manager, and reports to it (sd_listen_fds(3), sd_notify(3)).

use listenfd::ListenFd;
use sd_notify::NotifyState;
use tokio::net::TcpListener;

use crate::failure::Failure;

/// Environment variables for this process that its children must not have.
pub(crate) const OWN_VARIABLES: [&str; 5] =
    ["NOTIFY_SOCKET", "LISTEN_FDS", "LISTEN_PID", "LISTEN_FDNAMES", "CREDENTIALS_DIRECTORY"];

/// The listening socket that a socket unit passes. Connections wait in it while the service restarts.
///
/// # Errors
/// If more than one socket is passed, or a socket that is not TCP.
pub(crate) fn passed_listener() -> Result<Option<TcpListener>, Failure> {
    let mut passed = ListenFd::from_env();
    let wrong = |words: &str| {
        Failure::usage(words.to_owned())
            .advise("the socket unit needs one line, for example `ListenStream=127.0.0.1:7733`")
    };
    if passed.len() > 1 {
        return Err(wrong("the socket unit passes more than one socket"));
    }
    let listener = passed.take_tcp_listener(0).map_err(|error| wrong(&format!("the passed socket: {error}")))?;
    let Some(listener) = listener else { return Ok(None) };
    listener.set_nonblocking(true)?;
    Ok(Some(TcpListener::from_std(listener)?))
}

/// Reports that the service is started.
pub(crate) fn report_ready() {
    report(&[NotifyState::Ready]);
}

/// Reports that the service is ending.
pub(crate) fn report_stopping() {
    report(&[NotifyState::Stopping]);
}

fn report(states: &[NotifyState<'_>]) {
    // Without a service manager there is nobody to tell.
    if let Err(error) = sd_notify::notify(states) {
        tracing::debug!(%error, "the service manager could not be told");
    }
}
