//! The audit: who did what to what, and with what result.

use pondrix_core::Time;
use pondrix_core::audit::{AuditResult, Link, Place};
use pondrix_core::image::Digest;
use pondrix_core::retention::Age;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which entries are wanted: those that are all of what is said.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AuditWanted {
    /// Only what this one did: a person, `runner NAME`, `hook of PROJECT`, `the server`, `nobody`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Only in this project.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// Only actions that begin with these words: `secret`, or `secret set`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<String>,
    /// Only with this result: `done`, `refused` or `failed`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// Only from this address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Only from this moment on.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<String>, format = DateTime)]
    pub since: Option<Time>,
    /// Only before this moment.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<String>, format = DateTime)]
    pub until: Option<Time>,
}

/// What somebody did, in its place in the chain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Its number: 1 for the first, and no gap.
    pub number: u64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Time,
    /// Who: a person, `runner NAME`, `hook of PROJECT`, `the server`; `nobody` where that is not known.
    pub who: String,
    /// The number of the token that they showed.
    pub token: Option<i64>,
    /// The address that they asked from.
    pub from: Option<String>,
    /// What was done: a thing, and what was done to it.
    pub action: String,
    /// To which.
    pub target: String,
    /// In which project.
    pub project: Option<String>,
    /// `done`, `refused` or `failed`.
    #[schema(value_type = String)]
    pub result: AuditResult,
    /// What else there is to say: what exactly was set, or why it was refused.
    pub words: String,
    /// The digest of the entry before.
    #[schema(value_type = String)]
    pub after: Digest,
    /// Its own: the SHA-256 of this as one line of JSON, as it is exported, without this field.
    #[schema(value_type = String)]
    pub chain: Digest,
}

impl From<Link> for AuditEntry {
    fn from(Link { entry, chain }: Link) -> Self {
        let (deed, number, at, after) = (entry.deed, entry.number, entry.at, entry.after);
        Self {
            number,
            at,
            who: deed.who,
            token: deed.token,
            from: deed.from,
            action: deed.action,
            target: deed.target,
            project: deed.project,
            result: deed.result,
            words: deed.words,
            after,
            chain,
        }
    }
}

/// Entries, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    /// The entries.
    pub entries: Vec<AuditEntry>,
    /// What to ask for as `before` to see older ones, where there are some.
    pub next: Option<u64>,
    /// How long entries are kept: a length of time as in `400d`, or `forever`.
    #[schema(value_type = String)]
    pub keep: Age,
}

/// How long entries are kept.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditKeep {
    /// A length of time as in `400d`, or `forever`.
    #[schema(value_type = String)]
    pub keep: Age,
}

/// Whether the chain is whole.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditProof {
    /// How many entries were looked at.
    pub entries: u64,
    /// The last entry that is kept no more: `NUMBER:DIGEST`, with 0 where all are.
    #[schema(value_type = String)]
    #[serde(with = "text")]
    pub start: Place,
    /// The last entry of which all before it is whole: `NUMBER:DIGEST`. Noted elsewhere, it proves later that nothing up
    /// to there was changed.
    #[schema(value_type = String)]
    #[serde(with = "text")]
    pub end: Place,
    /// Where the chain is broken first, in words; nothing where it is whole.
    pub broken: Option<String>,
}

mod text {
    use std::fmt::Display;
    use std::str::FromStr;

    use serde::{Deserialize, Deserializer, Serializer};

    pub(super) fn serialize<T: Display, S: Serializer>(value: &T, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(value)
    }

    pub(super) fn deserialize<'de, T: FromStr<Err: Display>, D: Deserializer<'de>>(from: D) -> Result<T, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}
