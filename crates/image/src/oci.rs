//! The documents of the OCI Image specification 1.1.

use std::collections::BTreeMap;

use pondrix_core::image::Digest;
use serde::{Deserialize, Deserializer, Serialize};

/// Media types (OCI Image specification, "Media Types"), and those of older clients that mean the same.
pub mod media {
    /// An image manifest.
    pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
    /// An image index.
    pub const INDEX: &str = "application/vnd.oci.image.index.v1+json";
    /// An image configuration.
    pub const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
    /// A layer: tar, compressed with gzip.
    pub const LAYER_GZIP: &str = "application/vnd.oci.image.layer.v1.tar+gzip";
    /// A layer: tar, compressed with zstd.
    pub const LAYER_ZSTD: &str = "application/vnd.oci.image.layer.v1.tar+zstd";
    /// A layer that is not compressed.
    pub const LAYER: &str = "application/vnd.oci.image.layer.v1.tar";
    /// The configuration of what is no image.
    pub const EMPTY: &str = "application/vnd.oci.empty.v1+json";
    /// A manifest as older clients push it.
    pub const OLD_MANIFEST: &str = "application/vnd.docker.distribution.manifest.v2+json";
    /// An index as older clients push it.
    pub const OLD_INDEX: &str = "application/vnd.docker.distribution.manifest.list.v2+json";

    /// What a kind of layer, as older clients push it, is called in a manifest of the specification, which knows no
    /// other names.
    #[must_use]
    pub fn of_layer(kind: &str) -> &str {
        match kind {
            "application/vnd.docker.image.rootfs.diff.tar.gzip" => LAYER_GZIP,
            "application/vnd.docker.image.rootfs.diff.tar.zstd" => LAYER_ZSTD,
            "application/vnd.docker.image.rootfs.diff.tar" => LAYER,
            "application/vnd.docker.image.rootfs.foreign.diff.tar.gzip" => {
                "application/vnd.oci.image.layer.nondistributable.v1.tar+gzip"
            }
            other => other,
        }
    }
}

/// Some programs write `null` where there is nothing.
fn or_nothing<'d, D: Deserializer<'d>, T: Default + Deserialize<'d>>(from: D) -> Result<T, D::Error> {
    Option::deserialize(from).map(Option::unwrap_or_default)
}

/// Points at content (OCI Image specification, "Content Descriptors").
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What the content is.
    pub media_type: String,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// The platform, in an index.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<Platform>,
    /// Notes.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
    /// What the document is that it points at, where that is no image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub artifact_type: Option<String>,
}

/// A machine that an image is for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// The processor, in the words of the specification: `amd64`, `arm64`.
    pub architecture: String,
    /// The operating system.
    pub os: String,
    /// The processor's variant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
}

/// An image (OCI Image specification, "Image Manifest").
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Manifest {
    /// Always 2.
    pub schema_version: u32,
    /// What this document is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub media_type: Option<String>,
    /// What it is, where it is no image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub artifact_type: Option<String>,
    /// The configuration.
    pub config: Descriptor,
    /// The layers, the lowest first.
    pub layers: Vec<Descriptor>,
    /// The manifest that this one is attached to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<Descriptor>,
    /// Notes.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// Images for several platforms (OCI Image specification, "Image Index").
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Index {
    /// Always 2.
    pub schema_version: u32,
    /// What this document is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub media_type: Option<String>,
    /// The manifests.
    pub manifests: Vec<Descriptor>,
    /// Notes.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

impl Default for Index {
    fn default() -> Self {
        let media_type = Some(media::INDEX.to_owned());
        Self { schema_version: 2, media_type, manifests: Vec::new(), annotations: BTreeMap::new() }
    }
}

/// An image's configuration (OCI Image specification, "Image Configuration").
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Config {
    /// When it was made, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub created: Option<String>,
    /// Who made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub author: Option<String>,
    /// The processor.
    pub architecture: String,
    /// The processor's variant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
    /// The operating system.
    pub os: String,
    /// How it runs.
    #[serde(default, deserialize_with = "or_nothing")]
    pub config: RunConfig,
    /// The layers' content.
    pub rootfs: RootfsIds,
    /// How each layer came to be.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "Vec::is_empty")]
    pub history: Vec<History>,
}

/// The digests of the layers' uncompressed bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RootfsIds {
    /// Always `layers`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The lowest first.
    pub diff_ids: Vec<Digest>,
}

/// How a container of the image runs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub struct RunConfig {
    /// Who.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "String::is_empty")]
    pub user: String,
    /// Ports it listens on, as keys: `8080/tcp`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exposed_ports: Option<BTreeMap<String, serde_json::Value>>,
    /// Variables, `NAME=VALUE`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub env: Option<Vec<String>>,
    /// The program.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entrypoint: Option<Vec<String>>,
    /// Its arguments, or the program where there is no entrypoint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cmd: Option<Vec<String>>,
    /// Where it begins.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "String::is_empty")]
    pub working_dir: String,
    /// Folders that containers keep elsewhere, as keys.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volumes: Option<BTreeMap<String, serde_json::Value>>,
    /// The signal that asks a container to end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_signal: Option<String>,
    /// How is seen whether a container is well. This and the next two are of no specification, which keeps
    /// their names for what they mean everywhere (OCI Image specification, "Image Configuration").
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub healthcheck: Option<HealthConfig>,
    /// What runs commands in shell form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<Vec<String>>,
    /// Instructions for the images that are built on this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_build: Option<Vec<String>>,
    /// Labels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub labels: Option<BTreeMap<String, String>>,
}

/// How is seen whether a container is well. Times are nanoseconds.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub struct HealthConfig {
    /// `NONE`; or `CMD` and a program with its arguments; or `CMD-SHELL` and a line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub test: Option<Vec<String>>,
    /// From one to the next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<u64>,
    /// How long one may take.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout: Option<u64>,
    /// How long after the beginning failures do not count.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_period: Option<u64>,
    /// From one to the next meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_interval: Option<u64>,
    /// How many failures in a row mean that it is not well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retries: Option<u32>,
}

/// How a layer came to be.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct History {
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub created: Option<String>,
    /// By what instruction.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub created_by: Option<String>,
    /// By whom.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub author: Option<String>,
    /// What else was said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Whether it changed no file and so has no layer.
    #[serde(default, deserialize_with = "or_nothing", skip_serializing_if = "std::ops::Not::not")]
    pub empty_layer: bool,
}

impl Platform {
    /// The machine this program runs on.
    #[must_use]
    pub fn here() -> Self {
        let architecture = match std::env::consts::ARCH {
            "x86_64" => "amd64",
            "aarch64" => "arm64",
            "x86" => "386",
            other => other,
        };
        Self { architecture: architecture.to_owned(), os: std::env::consts::OS.to_owned(), variant: None }
    }
}

impl std::fmt::Display for Platform {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.os, self.architecture)?;
        self.variant.as_ref().map_or(Ok(()), |variant| write!(f, "/{variant}"))
    }
}

/// Why a text is not a platform.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a platform: write OS/ARCHITECTURE, as in linux/arm64")]
pub struct PlatformError(String);

impl std::str::FromStr for Platform {
    type Err = PlatformError;

    fn from_str(text: &str) -> Result<Self, PlatformError> {
        let mut parts = text.split('/').map(str::to_owned);
        let (os, architecture, variant) = (parts.next(), parts.next(), parts.next());
        match (os, architecture, parts.next()) {
            (Some(os), Some(architecture), None) if !os.is_empty() && !architecture.is_empty() => {
                Ok(Self { architecture, os, variant })
            }
            _ => Err(PlatformError(text.to_owned())),
        }
    }
}

impl Config {
    /// The configuration of an image without anything.
    #[must_use]
    pub fn empty(platform: &Platform) -> Self {
        let Platform { architecture, os, variant } = platform.clone();
        Self {
            created: None,
            author: None,
            architecture,
            variant,
            os,
            config: RunConfig::default(),
            rootfs: RootfsIds { kind: "layers".to_owned(), diff_ids: Vec::new() },
            history: Vec::new(),
        }
    }
}

impl RunConfig {
    /// The variables as a map.
    #[must_use]
    pub fn variables(&self) -> BTreeMap<String, String> {
        let pairs = self.env.iter().flatten().filter_map(|pair| pair.split_once('='));
        pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect()
    }

    /// Sets a variable, in its place where it is there already.
    pub fn set_variable(&mut self, name: &str, value: &str) {
        let env = self.env.get_or_insert_default();
        let pair = format!("{name}={value}");
        match env.iter_mut().find(|old| old.split_once('=').is_some_and(|(old, _)| old == name)) {
            Some(old) => *old = pair,
            None => env.push(pair),
        }
    }

    /// The whole command: entrypoint and arguments.
    #[must_use]
    pub fn command(&self) -> Vec<String> {
        self.entrypoint.iter().flatten().chain(self.cmd.iter().flatten()).cloned().collect()
    }
}
