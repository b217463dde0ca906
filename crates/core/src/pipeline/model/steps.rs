//! Jobs of commands.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Artifact, Cache, Fetch, Output, Spanned};
use crate::{Duration, Size};

/// Commands in an image, or on the runner's machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StepsJob {
    /// Whose file system the steps see.
    pub file_system: FileSystem,
    /// The steps, in order, at least one.
    pub steps: Vec<Step>,
    /// Variables for every step.
    pub env: BTreeMap<String, String>,
    /// What the steps can reach.
    #[serde(default)]
    pub network: Network,
    /// Services that the steps talk to.
    #[serde(default)]
    pub services: Vec<Service>,
    /// The secrets that every step sees.
    #[serde(default)]
    pub secrets: Vec<SecretUse>,
    /// The signed tokens that every step is given, which say which job it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub identities: Vec<IdentityUse>,
    /// Artifacts that it asks for.
    #[serde(default)]
    pub fetches: Vec<Fetch>,
    /// Files that it finds again.
    #[serde(default)]
    pub caches: Vec<Cache>,
    /// Files that it leaves.
    #[serde(default)]
    pub artifacts: Vec<Artifact>,
    /// Texts that it hands on.
    #[serde(default)]
    pub outputs: Vec<Output>,
    /// Patterns of the paths of its test reports.
    #[serde(default)]
    pub test_reports: Vec<String>,
    /// How long all steps together may take.
    pub time: Duration,
    /// How much of the runner each step may use.
    #[serde(default)]
    pub limits: Limits,
}

/// Whose file system the steps of a job see.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileSystem {
    /// That of an image: a template of its name.
    Image(Spanned<String>),
    /// That of the image which an image job of an earlier stage built, by the job's name.
    Built(Spanned<String>),
    /// That of the runner's machine.
    Host,
}

impl FileSystem {
    /// The image job whose image it is, where it is one's.
    #[must_use]
    pub const fn image_job(&self) -> Option<&Spanned<String>> {
        match self {
            Self::Built(job) => Some(job),
            Self::Image(_) | Self::Host => None,
        }
    }
}

impl StepsJob {
    /// Every image that it names: templates, with the place where each is named.
    pub fn images(&self) -> impl Iterator<Item = &Spanned<String>> {
        let own = if let FileSystem::Image(image) = &self.file_system { Some(image) } else { None };
        own.into_iter().chain(self.services.iter().map(|service| &service.image))
    }
}

/// What the steps of a job can reach.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Network {
    /// Each other and the job's services, and nothing else.
    #[default]
    None,
    /// Also what the runner's machine can reach, which cannot reach them.
    Outbound,
    /// The machine's own network, where the runner allows that.
    Host,
}

impl Network {
    /// How each is written.
    pub const WORDS: [(&'static str, Self); 3] =
        [("none", Self::None), ("outbound", Self::Outbound), ("host", Self::Host)];
}

/// A service that the steps of a job talk to, in their network.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Service {
    /// Its name, under which the steps reach it.
    pub name: Spanned<String>,
    /// Its image: a template.
    pub image: Spanned<String>,
    /// What a shell is given to run; what the image says, where nothing is said.
    pub command: Option<String>,
    /// Variables for it.
    pub env: BTreeMap<String, String>,
    /// What shows that it can be used; nothing: that it was started.
    pub ready: Option<Ready>,
    /// How long it may take until then.
    pub within: Duration,
}

/// What shows that a service can be used.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ready {
    /// Something listens at this TCP port.
    Tcp(u16),
    /// This command, in a copy of its image and in its network, passes.
    Command(String),
}

/// How much of a runner's machine a step may use; as much as there is, where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Limits {
    /// Memory. A step that needs more is ended.
    pub memory: Option<Size>,
    /// Processes and threads at once.
    pub processes: Option<u32>,
    /// Processors, in thousandths.
    pub cpu: Option<u32>,
    /// What all steps together may write.
    pub disk: Option<Size>,
}

/// A secret, and how steps see it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SecretUse {
    /// Its name in the project.
    pub name: Spanned<String>,
    /// The variable that has its value, or the path of its file.
    pub variable: String,
    /// The file's name in [`SECRET_FOLDER`]; the variable itself has the value, where nothing is said.
    pub file: Option<String>,
}

/// A signed token that says which job it is, and how steps see it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct IdentityUse {
    /// Whom it is for: whoever takes it looks that this is its own name.
    pub audience: Spanned<String>,
    /// The variable that has it, or the path of its file.
    pub variable: String,
    /// The file's name in [`SECRET_FOLDER`]; the variable itself has the token, where nothing is said.
    pub file: Option<String>,
    /// How long it is good for, from the beginning of each step.
    pub lasts: Duration,
}

impl IdentityUse {
    /// The variable that has it where nothing is said.
    pub const VARIABLE: &str = "PONDRIX_IDENTITY";
    /// How long it is good for where nothing is said.
    pub const USUAL: Duration = Duration::from_seconds(15 * 60);
    /// How long it may be good for: whoever steals one has it for so long.
    pub const LONGEST: Duration = Duration::from_seconds(60 * 60);
    /// The longest audience, in letters.
    pub const LONGEST_AUDIENCE: usize = 256;
}

/// Where files with secrets are, in memory.
pub const SECRET_FOLDER: &str = "/run/pondrix";

/// One command.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Step {
    /// Its name: the one given, else its first line.
    pub name: String,
    /// What a shell is given to run.
    pub command: String,
    /// The folder that it begins in, from the root of the commit's files; that root, where nothing is said.
    #[serde(default)]
    pub folder: Option<String>,
    /// Variables for it alone.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// How long it may take; the job's time counts all the same.
    #[serde(default)]
    pub time: Option<Duration>,
    /// Whether the job goes on when it fails.
    #[serde(default)]
    pub may_fail: bool,
}
