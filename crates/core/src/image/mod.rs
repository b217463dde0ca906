//! Names of images: references, digests and tags, by the OCI Distribution specification 1.1.

mod contents;
mod digest;
pub mod packages;
mod reference;
mod registries;
mod sbom;

pub use contents::{Entry, EntryKind, FileChange, PackageChange, file_changes, merge, package_changes};
pub use digest::{Digest, DigestError};
pub use packages::{Package, PackageKind};
pub use reference::{Reference, ReferenceError, Repository, Tag};
pub use registries::{Access, Account, BareNameError, Registries};
pub use sbom::{SPDX, spdx};
