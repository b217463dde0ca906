//! Images that runs pushed.

use std::collections::BTreeMap;

use pondrix_core::Time;
use pondrix_core::image::{Digest, FileChange, Package, PackageChange, Repository};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a runner tells of an image that it pushes.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ImageRecord {
    /// The repository.
    pub repository: Repository,
    /// The manifest's digest.
    pub digest: Digest,
    /// The image that it was built on, as its recipe names it, and the digest that this meant.
    pub base: Option<(String, Digest)>,
    /// Its layers, the lowest first.
    pub layers: Vec<LayerView>,
    /// The packages in it.
    pub packages: Vec<Package>,
    /// Its labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// What the image that it was built on says of itself.
    #[serde(default)]
    pub of_base: Option<BaseFacts>,
}

/// What an image says of itself that another one was built on: who builds on it may say something else.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BaseFacts {
    /// When it was made, RFC 3339.
    pub created: Option<String>,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
}

/// An index of images, before it is pushed.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct IndexRecord {
    /// The repository.
    pub repository: Repository,
    /// The index's digest.
    pub digest: Digest,
    /// One of its images, which the server was told of: what is told of the index is told of it.
    pub image: Digest,
}

/// Digests of layers.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LayerDigests {
    /// Of their uncompressed bytes.
    pub layers: Vec<Digest>,
}

/// A layer of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LayerView {
    /// The digest of its blob.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// The digest of its uncompressed bytes.
    #[schema(value_type = String)]
    pub diff_id: Digest,
    /// How long its blob is, in bytes.
    pub size: u64,
    /// The instruction that made it, where the image says.
    pub made_by: String,
    /// Whether it is the base's.
    pub of_base: bool,
}

/// An image.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ImageSummary {
    /// The repository: `HOST/PATH`.
    pub repository: String,
    /// The manifest's digest.
    pub digest: String,
    /// The tags that name it now.
    pub tags: Vec<String>,
    /// When it was pushed first.
    #[schema(value_type = String, format = DateTime)]
    pub created: Time,
    /// The run that pushed it first.
    pub run: String,
    /// The job of that run.
    pub job: String,
    /// The commit.
    pub commit: String,
    /// How long its layers are together, in bytes.
    pub size: u64,
    /// How many packages are in it.
    pub packages: u64,
    /// What it was built on, as its recipe names it.
    pub base: Option<String>,
    /// The digest that this name meant.
    pub base_digest: Option<String>,
    /// What it means now, where that is another one.
    pub base_now: Option<String>,
    /// Since when.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub behind_since: Option<Time>,
    /// The environments that run it now.
    pub runs_in: Vec<String>,
}

/// Images, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImageList {
    /// The images.
    pub images: Vec<ImageSummary>,
}

/// What a tag meant from a moment on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagChange {
    /// The tag.
    pub tag: String,
    /// What it meant then.
    pub digest: String,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub at: Time,
    /// The run that moved it.
    pub run: String,
}

/// An image with all that is known of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImageDetail {
    /// The image.
    pub summary: ImageSummary,
    /// Its layers, the lowest first.
    pub layers: Vec<LayerView>,
    /// The packages in it.
    pub packages: Vec<Package>,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What the image that it was built on says of itself.
    pub of_base: Option<BaseFacts>,
    /// What the tags of the repository meant, the newest first.
    pub tags: Vec<TagChange>,
}

/// How two images differ.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImageDifference {
    /// The first image: `REPOSITORY@DIGEST`.
    pub one: String,
    /// The other.
    pub other: String,
    /// The packages in which they differ.
    pub packages: Vec<PackageChange>,
    /// The files in which they differ; only the first of very many.
    pub files: Vec<FileChange>,
    /// How many more files differ.
    pub more_files: u64,
}

/// An image and those built on it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChainLink {
    /// How many bases of this server's making are below it.
    pub depth: u32,
    /// The project that builds it.
    pub project: String,
    /// The branch.
    pub branch: String,
    /// The job.
    pub job: String,
    /// The repository that it is pushed to.
    pub repository: String,
    /// The newest image.
    pub digest: String,
    /// The run that pushed it.
    pub run: String,
    /// What it was built on, as its recipe names it.
    pub base: Option<String>,
    /// `current`, `behind`, or `starting` where a run that brings it up is about to begin or under way.
    pub state: String,
    /// Since when it is behind.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub behind_since: Option<Time>,
}

/// The newest images of all branches, bases in front of those built on them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImageChain {
    /// In order.
    pub links: Vec<ChainLink>,
}
