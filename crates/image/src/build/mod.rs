//! Carrying out a recipe.
//!
//! The stages that the target needs are built side by side, each on a thread that waits for another stage
//! only where it needs it. Every instruction that changes files makes one layer: its changes are collected
//! in a folder as an overlay's upper folder holds them, packed, and the folder itself becomes the unpacked
//! layer for the instructions after it.
//!
//! What an instruction makes is a function of what it reads and of nothing else: the layers below it, its
//! words, the contents of its files. That is its key, under which the store remembers the layer; a layer
//! from the store has the bytes that building it anew would give. Times therefore are not those of the
//! commit: a file of the context has that of its own last change, and for what is made see [`MOMENT`].

mod alone;
mod archives;
mod below;
mod caches;
mod copied_files;
mod copied_keys;
mod copy;
mod finish;
mod graph;
mod key;
mod mounts;
mod owner;
mod run;
mod seen;
mod sources;
mod stage;
mod state;
mod whole;

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use pondrix_core::image::{Digest, Reference};
use pondrix_core::pipeline::Fault;
use pondrix_sandbox::{Running, Spec};

use crate::layer::Compression;
use crate::oci::{Descriptor, Platform};
use crate::recipe::{Ignore, Recipe, RunNetwork};
use crate::{Image, StoreError};

pub use crate::store::{Realm, Remembered as Step, StepRecord};
pub use alone::Alone;
pub(crate) use caches::{CacheUsers, forget as forget_cache};
pub use copied_files::plain_path;
pub use graph::{build, is_known_argument};

/// The time, in seconds since 1970, that files get which a build makes: the beginning of the year 2000.
///
/// The time of a commit would make every layer of every commit another one. A stage that declares
/// `ARG SOURCE_DATE_EPOCH` gets the commit's time, there and on its files.
pub const MOMENT: u64 = 946_684_800;
/// The argument that asks for the commit's time (reproducible-builds.org, "SOURCE_DATE_EPOCH specification").
pub(crate) const EPOCH: &str = "SOURCE_DATE_EPOCH";

/// What to build from.
#[derive(Clone, Debug)]
pub struct BuildInput {
    /// The recipe.
    pub recipe: Recipe,
    /// The recipe's path, for people.
    pub recipe_path: String,
    /// The stage to build: its name, or its number from 0; the last where none is named.
    pub target: Option<String>,
    /// The folder whose files may be copied.
    pub context: PathBuf,
    /// What of it is not seen.
    pub ignore: Ignore,
    /// Whether the times of its files tell when each was changed last, which is then a part of what is copied; else they
    /// mean nothing, and copies are of [`MOMENT`].
    pub own_times: bool,
    /// A file that remembers from build to build what is in the context's files, where the context is the same folder
    /// each time.
    pub seen: Option<PathBuf>,
    /// Values for ARG.
    pub args: BTreeMap<String, String>,
    /// Labels and annotations that the image gets; labels of the recipe come first.
    pub annotations: BTreeMap<String, String>,
    /// The commit's time, in seconds since 1970. The image carries it.
    pub moment: u64,
    /// What the image is for.
    pub platform: Platform,
    /// What else than its own kind of programs this machine runs, with an emulator.
    pub emulated: Vec<Platform>,
    /// Secrets that RUN may mount, by name.
    pub secrets: BTreeMap<String, Secret>,
    /// Sockets of agents that hold keys, by name, for RUN to mount.
    pub agents: BTreeMap<String, PathBuf>,
    /// What the values of secrets are hashed with, where what a command makes depends on one.
    pub secret_key: SecretKey,
    /// The folder of the project's cache mounts.
    pub caches: PathBuf,
    /// Whose steps are taken from the store, and for whom they are left there.
    pub realm: Realm,
    /// How layers are compressed.
    pub compression: Compression,
    /// A folder for what the build needs meanwhile, on the store's file system.
    pub scratch: PathBuf,
}

impl BuildInput {
    /// The last stage of a recipe over a context, for this machine's platform, with nothing else said. What the
    /// build needs meanwhile, and its caches, are in `scratch`.
    #[must_use]
    pub fn new(recipe: Recipe, context: &Path, scratch: &Path) -> Self {
        Self {
            recipe,
            recipe_path: "image.recipe".to_owned(),
            target: None,
            context: context.to_owned(),
            ignore: Ignore::default(),
            own_times: false,
            seen: None,
            args: BTreeMap::new(),
            annotations: BTreeMap::new(),
            moment: MOMENT,
            platform: Platform::here(),
            emulated: Vec::new(),
            secrets: BTreeMap::new(),
            agents: BTreeMap::new(),
            secret_key: SecretKey::default(),
            caches: scratch.join("caches"),
            realm: Realm::default(),
            compression: Compression::default(),
            scratch: scratch.to_owned(),
        }
    }
}

/// A key of hashes that tell nobody what was hashed.
#[derive(Clone, Default)]
pub struct SecretKey(pub [u8; 32]);

impl std::fmt::Debug for SecretKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretKey(..)")
    }
}

/// Something that nobody shall read.
#[derive(Clone)]
pub struct Secret(pub Vec<u8>);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(..)")
    }
}

/// Why something was not had from outside. A build only tells it on.
pub type OutsideError = Box<dyn std::error::Error + Send + Sync>;

/// What a build asks of those who know more than recipes and layers. Its methods are called from several
/// threads.
pub trait Outside: Sync {
    /// Brings an image into the store.
    ///
    /// # Errors
    /// When there is none.
    fn image(&self, name: &Reference, platform: &Platform) -> Result<Image, OutsideError>;

    /// The name of an image that is written without a registry: `web:1`.
    ///
    /// # Errors
    /// When no registry was named for such.
    fn full_name(&self, short: &str) -> Result<Reference, OutsideError>;

    /// Starts a command, in a network as the RUN asks for it.
    ///
    /// # Errors
    /// When it cannot be started, or the network is not allowed.
    fn start(&self, spec: &Spec, network: RunNetwork, output: OwnedFd) -> Result<Running, OutsideError>;

    /// The word for the network that a RUN has where it asks for none: what it makes may depend on it.
    fn network(&self) -> &'static str;

    /// The files that a command in such a network sees in place of the image's own. They are no part of what it makes.
    fn network_files(&self, network: RunNetwork) -> &'static [&'static str];

    /// Writes what an address of the Web gives into a file.
    ///
    /// # Errors
    /// When it gives nothing, or may not be asked.
    fn download(&self, address: &str, to: &Path) -> Result<(), OutsideError>;

    /// What the instruction with this key made somewhere else; nothing where that is not known.
    fn elsewhere(&self, key: &Digest) -> Option<Step>;

    /// Brings a layer that was made somewhere else into the store.
    ///
    /// # Errors
    /// When it cannot be had.
    fn bring(&self, layer: &Descriptor) -> Result<(), OutsideError>;

    /// Why nothing more may be written into this folder, in which a command makes a layer; asked again and again while it
    /// runs.
    fn too_much(&self, folder: &Path) -> Option<String>;

    /// A command has ended; what it wrote into this folder becomes a layer.
    fn has_written(&self, folder: &Path);

    /// A folder of limited size for the changes of commands, if there is one.
    fn room(&self) -> Option<&Path> {
        None
    }

    /// Tells a line of the build's own, of this stage where there are several.
    fn say(&self, stage: Option<&str>, line: &str);

    /// Where a command's output goes, each line with the stage's name in front where there are several.
    ///
    /// # Errors
    /// What the system says.
    fn output(&self, stage: Option<&str>) -> std::io::Result<Box<dyn Output>>;

    /// Whether the build is to end.
    fn is_halted(&self) -> bool;
}

/// Takes a command's output.
pub trait Output {
    /// A descriptor for a command to write to.
    ///
    /// # Errors
    /// What the system says.
    fn descriptor(&self) -> std::io::Result<OwnedFd>;

    /// Returns when everything that was written has been taken.
    fn finish(self: Box<Self>);
}

/// Why an image was not built.
#[derive(Debug, thiserror::Error)]
pub enum BuildError {
    /// Faults of the recipe, or instructions that failed.
    #[error("{}", .0.iter().map(|fault| format!("line {}: {}", fault.place.line, fault.message)).collect::<Vec<_>>().join("\n"))]
    Recipe(Vec<Fault>),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A layer that was made elsewhere.
    #[error(
        "a layer from the cache in the registry cannot be had: {0}; without `cache` in the pipeline file it is made here"
    )]
    Elsewhere(OutsideError),
    /// What the build was given makes no sense.
    #[error("{0}")]
    Input(String),
    /// The build was told to end.
    #[error("ended from outside")]
    Halted,
}

impl From<Fault> for BuildError {
    fn from(fault: Fault) -> Self {
        Self::Recipe(vec![fault])
    }
}

/// What was built.
#[derive(Clone, Debug)]
pub struct Built {
    /// The image, in the store.
    pub image: Image,
    /// What it is for.
    pub platform: Platform,
    /// The image that it is built on, as the recipe names it, and its digest; nothing on `scratch`.
    pub base: Option<(Reference, Digest)>,
    /// How many of its layers are the base's.
    pub base_layers: usize,
    /// How many instructions made a layer or would have.
    pub steps: usize,
    /// How many of them the store knew.
    pub known: usize,
    /// What each of them made, by its key.
    pub made: Vec<StepRecord>,
}
