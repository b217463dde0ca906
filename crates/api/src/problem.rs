//! Faults on the wire.

use pondrix_core::pipeline::Fault;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why a request was not done (RFC 9457, `application/problem+json`).
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What kind of problem: `about:blank`, since the status says it.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The status of HTTP.
    pub status: u16,
    /// What is wrong here, and what to do.
    pub detail: String,
    /// The request's id, which the server's log names too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
    /// Faults of a pipeline file, where that is the problem.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<Fault>,
}
