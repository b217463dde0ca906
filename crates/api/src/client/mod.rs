//! The HTTP client.

mod audit;
mod events;
mod keys;
mod openid;
mod people;
mod person;
mod quotas;
mod registries;
mod runner;
mod runners;
mod secrets;
mod segment;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use reqwest::header::RETRY_AFTER;
use reqwest::{ClientBuilder, RequestBuilder, Response};
use serde::de::DeserializeOwned;

use crate::Problem;

pub use events::ServerEvent;
pub use person::{Client, RunsWanted};
pub use runner::RunnerClient;

/// Why a request was not done.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// No answer.
    #[error("the server at {address} could not be reached: {words}")]
    Unreachable {
        /// Its address.
        address: String,
        /// What the connection said.
        words: String,
    },
    /// The server, or what stands before it, cannot answer now (RFC 9110, sections 15.6.3 to 15.6.5; RFC 6585,
    /// section 4).
    #[error("the server at {address} cannot answer now: {words}")]
    Unavailable {
        /// Its address.
        address: String,
        /// What was answered instead.
        words: String,
        /// How long it asks to be left alone, where it says so.
        retry_after: Option<Duration>,
    },
    /// The server said no.
    #[error("{}", .0.detail)]
    Problem(Problem),
    /// An answer that makes no sense.
    #[error("the server at {address} gave an answer that is not understood: {words}")]
    Nonsense {
        /// Its address.
        address: String,
        /// Why.
        words: String,
    },
}

impl ClientError {
    /// Whether the same may be answered a little later.
    #[must_use]
    pub const fn is_transient(&self) -> bool {
        matches!(self, Self::Unreachable { .. } | Self::Unavailable { .. })
    }

    /// How long whoever asks again is to wait before it: as long as the server asks for, where it does, and at the
    /// most a minute.
    #[must_use]
    pub fn pause(&self, usual: Duration) -> Duration {
        match self {
            Self::Unavailable { retry_after: Some(asked), .. } => (*asked).clamp(usual, LONGEST_PAUSE.max(usual)),
            _ => usual,
        }
    }
}

/// The longest pause that a server may ask for.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// What both clients need: an address, a token, and connections.
#[derive(Clone)]
pub(crate) struct Wire {
    address: Arc<dyn Fn() -> String + Send + Sync>,
    token: String,
    http: reqwest::Client,
}

impl fmt::Debug for Wire {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Wire").field("address", &self.address()).finish_non_exhaustive()
    }
}

/// How long a connection is kept that nothing is asked on: not as long as the server does.
const IDLE: Duration = Duration::from_secs(20);

impl Wire {
    /// `address` is asked before each request: a server may be at another one when it starts again.
    fn new(address: impl Fn() -> String + Send + Sync + 'static, token: &str) -> Self {
        let options = |builder: ClientBuilder| builder.connect_timeout(Duration::from_secs(10)).pool_idle_timeout(IDLE);
        let http = pondrix_http::client(options).expect("these options are valid on every machine");
        Self { address: Arc::new(address), token: token.to_owned(), http }
    }

    fn address(&self) -> String {
        (self.address)().trim_end_matches('/').to_owned()
    }

    fn url(&self, path: &str) -> String {
        format!("{}{path}", self.address())
    }

    /// Sends a request; an answer that says no becomes a [`ClientError::Problem`].
    async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        // Whoever has none yet shows something else.
        let request = if self.token.is_empty() { request } else { request.bearer_auth(&self.token) };
        let response = request.send().await.map_err(|error| self.unreachable(&error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        // A moment in time, which the header may be too, is what no server of ours and hardly a proxy says.
        let retry_after = response.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.parse().ok());
        let body = response.bytes().await.unwrap_or_default();
        if matches!(status.as_u16(), 429 | 502..=504) {
            let problem = serde_json::from_slice::<Problem>(&body);
            return Err(ClientError::Unavailable {
                address: self.address(),
                words: problem.map_or_else(|_| status.to_string(), |problem| problem.detail),
                retry_after: retry_after.map(Duration::from_secs),
            });
        }
        let problem = serde_json::from_slice(&body).unwrap_or_else(|_| Problem {
            title: status.canonical_reason().unwrap_or("").to_owned(),
            status: status.as_u16(),
            detail: format!("{} answered {status}", self.address()),
            ..Problem::default()
        });
        Err(ClientError::Problem(problem))
    }

    async fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        let body = self.send(request).await?.bytes().await.map_err(|error| self.unreachable(&error))?;
        serde_json::from_slice(&body)
            .map_err(|error| ClientError::Nonsense { address: self.address(), words: error.to_string() })
    }

    fn unreachable(&self, error: &reqwest::Error) -> ClientError {
        ClientError::Unreachable { address: self.address(), words: pondrix_http::innermost(error) }
    }
}
