//! Settings that the server applies while it runs.

use std::net::IpAddr;
use std::time::Duration;

use tokio::sync::watch;

/// Settings that can change without a restart. Each request, job or fetch that begins after a change uses the new values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tuning {
    /// How often repositories are polled.
    pub look_every: Duration,
    /// Maximum size of a compressed upload of `pondrix try`, in bytes.
    pub try_limit: u64,
    /// Maximum size of one fetch from a repository, in bytes.
    pub repository_limit: u64,
    /// Maximum size of an artifact, in bytes.
    pub artifact_limit: u64,
    /// Maximum requests per second of one token, or of one address without a token; no limit if `None`.
    pub request_limit: Option<u32>,
    /// Proxies whose `X-Forwarded-For` is trusted.
    pub trusted_proxies: Vec<IpAddr>,
}

/// Where the server reads the current [`Tuning`].
pub type CurrentTuning = watch::Receiver<Tuning>;

#[cfg(test)]
impl Tuning {
    /// Generous values that never change.
    pub(crate) fn for_tests() -> CurrentTuning {
        watch::channel(Self {
            look_every: Duration::from_secs(15),
            try_limit: 1 << 30,
            repository_limit: 1 << 34,
            artifact_limit: 1 << 30,
            request_limit: None,
            trusted_proxies: Vec::new(),
        })
        .1
    }
}
