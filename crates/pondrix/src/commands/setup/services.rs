//! The services of the packages, by way of systemd.

use std::net::SocketAddr;
use std::path::Path;
use std::process::Command;

use crate::failure::Failure;

/// Where an administrator's changes of the socket unit are.
const SOCKET_CHANGES: &str = "/etc/systemd/system/pondrix-server.socket.d";

fn systemctl(arguments: &[&str]) -> Result<(), Failure> {
    let line = format!("systemctl {}", arguments.join(" "));
    let failed = |words: &str| {
        Failure::new(format!("`{line}` failed: {words}")).advise("`systemctl status` and `journalctl -xe` show why")
    };
    if !Path::new("/run/systemd/system").is_dir() {
        return Err(Failure::new("systemd does not run on this machine")
            .advise("start the server by hand: pondrix serve --config /etc/pondrix/server.kdl"));
    }
    let output = Command::new("systemctl").args(arguments).output().map_err(|error| failed(&error.to_string()))?;
    if output.status.success() {
        return Ok(());
    }
    Err(failed(String::from_utf8_lossy(&output.stderr).trim()))
}

/// Has the socket unit listen on an address.
pub(super) fn listen(address: SocketAddr) -> Result<(), Failure> {
    let told = |error: std::io::Error| Failure::new(format!("{SOCKET_CHANGES}: {error}"));
    std::fs::create_dir_all(SOCKET_CHANGES).map_err(told)?;
    let text = format!("# Written by `pondrix setup --listen`.\n[Socket]\nListenStream=\nListenStream={address}\n");
    std::fs::write(Path::new(SOCKET_CHANGES).join("address.conf"), text).map_err(told)?;
    systemctl(&["daemon-reload"])?;
    // A socket can change its address only while its service does not run.
    systemctl(&["stop", "pondrix-server.service", "pondrix-server.socket"])
}

/// Starts the server, or starts it again if its configuration has changed.
pub(super) fn start_server(is_changed: bool) -> Result<(), Failure> {
    systemctl(&["enable", "pondrix-server.socket", "pondrix-server.service"])?;
    let verb = if is_changed { "restart" } else { "start" };
    systemctl(&["start", "pondrix-server.socket"])?;
    systemctl(&[verb, "pondrix-server.service"])
}

/// Starts the runner.
pub(super) fn start_runner() -> Result<(), Failure> {
    systemctl(&["enable", "--now", "pondrix-runner.service"])
}

/// The machine's name, as a runner's name may be.
pub(super) fn machine_name() -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().to_lowercase();
    let host: String = host.chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '-' }).collect();
    let name = host.trim_matches('-');
    if name.is_empty() { "runner".to_owned() } else { name.to_owned() }
}
