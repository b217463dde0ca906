//! Makes and moves OCI images: a content-addressed [`Store`] on disk, recipes and their execution,
//! layers, and a [`registry`] client.
//!
//! The same commit gives the same bytes: files are sorted, times are those of the files or none, and
//! nothing of the machine gets in. It runs commands only in the sandbox, keeps no daemon, and never
//! believes a registry about a digest.

pub mod build;
mod garbage;
mod hash;
pub mod inventory;
pub mod layer;
mod oci;
mod once;
mod parallel;
pub mod recipe;
pub mod registry;
mod rootfs;
mod store;

pub use garbage::{Freed, InUse, Room};
pub use hash::digest_of;
pub use layer::Compression;
pub use oci::{Config, Descriptor, HealthConfig, History, Index, Manifest, Platform, PlatformError, RunConfig, media};
pub use store::{Image, Store, StoreError};
