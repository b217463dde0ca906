//! What goes wrong with registries, in their own words.

use pondrix_core::Size;
use pondrix_core::image::Digest;
use serde::Deserialize;

use super::guard::NotReached;
use crate::StoreError;

/// Why something was not pulled or pushed.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// No answer.
    #[error("the registry {host} did not answer while asked to {doing}: {words}")]
    Silent {
        /// The registry.
        host: String,
        /// What was asked.
        doing: String,
        /// What the connection said.
        words: String,
    },
    /// It is, or leads to, where nothing is reached that anybody may have named.
    #[error("the registry {host} is not asked: {closed}")]
    NotReached {
        /// The registry.
        host: String,
        /// What is not reached.
        closed: NotReached,
    },
    /// An answer that is a refusal.
    #[error("the registry {host} refused to {doing}: {status} {words}")]
    Refused {
        /// The registry.
        host: String,
        /// What was asked.
        doing: String,
        /// The status of HTTP.
        status: u16,
        /// The registry's own words.
        words: String,
    },
    /// It wants to know who asks, and does not take who does.
    #[error("the registry {host} refused to {doing}: {}", sign_in_words(host, *status, user.as_deref(), audience.as_deref()))]
    SignIn {
        /// The registry.
        host: String,
        /// What was asked.
        doing: String,
        /// The status of HTTP.
        status: u16,
        /// Who signed in, if anybody did.
        user: Option<String>,
        /// Whom the job's identity was for, where that signed in.
        audience: Option<String>,
    },
    /// Name and password are not shown where it sends those who sign in.
    #[error(
        "the registry {host} sends those who sign in to {realm}, and {}; if that is right: pondrix registry add {host} --signs-in-at {realm}",
        settled.as_ref().map_or_else(|| "nobody said that they may".to_owned(), |settled| format!("{settled} was settled"))
    )]
    OtherRealm {
        /// The registry.
        host: String,
        /// Where it sends them.
        realm: String,
        /// Where they may.
        settled: Option<String>,
    },
    /// The disk cannot take an image.
    #[error(
        "{image} has {needed} to fetch, and the disk of the store has {free} left; make room, or run the job elsewhere"
    )]
    NoRoom {
        /// The image.
        image: String,
        /// How much of it is not there yet.
        needed: Size,
        /// How much is free.
        free: Size,
    },
    /// What is known of it is of no use.
    #[error("the registry {host} cannot be asked: {words}")]
    Settings {
        /// The registry.
        host: String,
        /// Why.
        words: String,
    },
    /// Content that is not what its digest says.
    #[error("the registry {host} gave {found} where {wanted} was asked for; nothing of it was used")]
    WrongDigest {
        /// The registry.
        host: String,
        /// The digest asked for.
        wanted: Digest,
        /// The digest of what came, or what the registry says it has.
        found: String,
    },
    /// A document that makes no sense.
    #[error("the registry {host} gave something that is no {what}: {words}")]
    Nonsense {
        /// The registry.
        host: String,
        /// What it should be.
        what: String,
        /// Why it is not.
        words: String,
    },
    /// An image for other machines.
    #[error("{image} has no image for {wanted}; it has {found}")]
    Platform {
        /// The image.
        image: String,
        /// This machine.
        wanted: String,
        /// What there is.
        found: String,
    },
    /// A tag that may be pushed once, and was.
    #[error(
        "the tag {tag} of {repository} is {found} already, and a `tag` is never moved; choose another, or call it `moving`"
    )]
    TagTaken {
        /// The tag.
        tag: String,
        /// The repository.
        repository: String,
        /// What it names.
        found: String,
    },
    /// Whoever pushes may no longer.
    #[error("the tag {tag} was not set: {words}")]
    Unconfirmed {
        /// The tag.
        tag: String,
        /// Why.
        words: String,
    },
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl RegistryError {
    /// Whether the same may succeed a little later: nothing answered, or it was too much for the registry just then
    /// (RFC 9110, section 15.6; RFC 6585, section 4).
    #[must_use]
    pub const fn is_transient(&self) -> bool {
        match self {
            Self::Silent { .. } => true,
            Self::Refused { status, .. } => matches!(*status, 429 | 500 | 502 | 503 | 504),
            _ => false,
        }
    }
}

fn sign_in_words(host: &str, status: u16, user: Option<&str>, audience: Option<&str>) -> String {
    match user {
        Some(user) if let Some(audience) = audience => format!(
            "{status}, it does not take the job's identity for {audience}, as {user}, for this; have it believe this \
             server for the project"
        ),
        None => format!("{status}, it wants a name and a password; pondrix registry add {host} --user NAME"),
        Some(user) => format!(
            "{status}, it does not take the name {user} with its password for this; pondrix registry add {host} --user NAME sets them anew"
        ),
    }
}

/// The form of refusals (OCI Distribution 1.1, "Error Codes").
#[derive(Deserialize)]
struct Refusal {
    errors: Vec<RefusalEntry>,
}

#[derive(Deserialize)]
struct RefusalEntry {
    code: String,
    #[serde(default)]
    message: String,
    #[serde(default)]
    detail: serde_json::Value,
}

/// The words of a refusal's body, for people.
pub(super) fn words_of(body: &[u8]) -> String {
    if let Ok(refusal) = serde_json::from_slice::<Refusal>(body) {
        let told = refusal.errors.iter().map(|entry| {
            let detail = entry.detail.as_str().map(|detail| format!(" ({detail})")).unwrap_or_default();
            format!("{}: {}{detail}", entry.code, entry.message)
        });
        return told.collect::<Vec<_>>().join("; ");
    }
    let text: String = String::from_utf8_lossy(body).chars().take(300).collect();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
