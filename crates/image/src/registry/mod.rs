//! A client for registries (OCI Distribution specification 1.1).
//!
//! Nothing a registry says of a digest is believed: what comes is hashed, what went is asked back.
//! A tag is set last, when everything it names is there and was checked.

mod client;
mod error;
mod fetch;
mod guard;
mod pull;
mod push;
mod referrers;
mod sign_in;
mod steps;
mod upload;
mod wire;

pub use client::{DownloadError, download};
pub use error::RegistryError;
pub use guard::NotReached;
pub use pull::{Pull, Pulling, Wanted, pull, pull_and_tell, pull_for};
pub use push::{PushRequest, Pushed, push, push_and_ask, push_index};
pub use referrers::Attachment;
pub use steps::Elsewhere;
pub use wire::Registry;
