//! Reading the configuration again on SIGHUP, as `systemctl reload` sends it.

use tokio::signal::unix::{SignalKind, signal};
use tracing::{error, info, warn};

use super::layers::{ParseError, parse};
use super::{ConfigurationArgs, EffectiveOption};
use crate::cli::Cli;

/// Reads the options again on each SIGHUP, and gives the command to `apply`. `select` takes the command out of the command
/// line. Options in `live` take effect at once; a change of another is logged, because it needs a restart. An invalid
/// configuration is logged and changes nothing.
///
/// # Errors
/// If the signal cannot be received.
pub(crate) fn reloads<T: Send>(
    running: &ConfigurationArgs,
    live: &'static [&'static str],
    select: impl Fn(Cli) -> Option<(T, ConfigurationArgs)> + Send + 'static,
    mut apply: impl FnMut(T) + Send + 'static,
) -> std::io::Result<()> {
    let mut hangup = signal(SignalKind::hangup())?;
    let mut running = running.options.clone();
    tokio::spawn(async move {
        while hangup.recv().await.is_some() {
            match tokio::task::block_in_place(parse) {
                Ok(cli) => {
                    let Some((command, configuration)) = select(cli) else { continue };
                    apply(command);
                    report(&mut running, configuration.options, live);
                }
                Err(ParseError::Configuration(failure)) => {
                    error!("the configuration was not reloaded: {}", failure.message());
                }
                Err(ParseError::CommandLine(error)) => error!("the configuration was not reloaded: {error}"),
            }
        }
    });
    Ok(())
}

/// Logs the options that a reload changed, and updates `running` to the effective options.
fn report(running: &mut [EffectiveOption], read: Vec<EffectiveOption>, live: &[&str]) {
    for (running, read) in running.iter_mut().zip(read) {
        if running.values == read.values {
            continue;
        }
        let (option, from, to) = (&read.option, running.values.join(" "), read.values.join(" "));
        if live.contains(&option.as_str()) {
            info!(option, from, to, "the option has changed");
            *running = read;
        } else {
            warn!(option, from, to, "the option takes effect after a restart");
        }
    }
    info!("the configuration was reloaded");
}
