//! Readiness probes (Kubernetes API, `Probe`): a GET, or a connection.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use serde_json::Value;

use super::controller::{number, text};

/// What tells that a container is ready.
pub(super) struct Probe {
    port: u16,
    /// The path to get; nothing for a mere connection.
    path: Option<String>,
    pub(super) delay: Duration,
    pub(super) period: Duration,
    timeout: Duration,
}

/// A port by number, or by its name in a container.
pub(super) fn port_of(value: &Value, container: &Value) -> Option<u16> {
    if let Some(number) = value.as_u64() {
        return u16::try_from(number).ok();
    }
    let ports = container["ports"].as_array()?;
    let port = ports.iter().find(|port| port["name"] == *value)?;
    port["containerPort"].as_u64().and_then(|number| u16::try_from(number).ok())
}

impl Probe {
    /// A container's readiness probe; nothing when it has none.
    pub(super) fn of(container: &Value) -> Option<Self> {
        let probe = container.get("readinessProbe")?;
        let get = probe.get("httpGet");
        let port = get.or(probe.get("tcpSocket"))?.get("port")?;
        let seconds = |name: &str, otherwise| Duration::from_secs(number(probe, name, otherwise));
        Some(Self {
            port: port_of(port, container)?,
            path: get.map(|get| Some(text(get, "/path")).filter(|path| !path.is_empty()).unwrap_or("/").to_owned()),
            delay: seconds("/initialDelaySeconds", 0),
            period: seconds("/periodSeconds", 10),
            timeout: seconds("/timeoutSeconds", 1),
        })
    }

    /// Whether the container passes, reached through `connect`.
    pub(super) fn passes(&self, connect: impl FnOnce(u16) -> std::io::Result<TcpStream>) -> bool {
        let Ok(mut stream) = connect(self.port) else { return false };
        let Some(path) = &self.path else { return true };
        let timed =
            stream.set_read_timeout(Some(self.timeout)).and_then(|()| stream.set_write_timeout(Some(self.timeout)));
        let asked = timed.and_then(|()| write!(stream, "GET {path} HTTP/1.0\r\nHost: localhost\r\n\r\n"));
        let mut answer = [0; 12];
        // `HTTP/1.x NNN`: 200 to 399 is well (Kubernetes API, `HTTPGetAction`).
        asked.and_then(|()| stream.read_exact(&mut answer)).is_ok() && matches!(answer[9], b'2' | b'3')
    }
}
