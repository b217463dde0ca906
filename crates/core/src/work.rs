//! What a runner is given to do: a job with every name filled in.

mod pushed;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::image::{Digest, Reference, ReferenceError, Repository, Tag};
use crate::pipeline::{
    Artifact, BuildSecret, FileSystem, HASH, INPUT, IdentityUse, ImageJob, JOB, JobKind, LayerForm, Limits, MATRIX,
    Network, Output, Ready, SecretUse, Service, StartKind, Step, StepsJob,
};
use crate::plan::PlannedJob;
use crate::run::{BaseImage, JobResult, Run};
use crate::template::{self, Part, TemplateError};
use crate::{Duration, JobKey, RunId, Time};

pub use pushed::PushedImage;

/// What is known of a run from its start.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunFacts {
    /// The run.
    pub id: RunId,
    /// The commit's full id.
    pub commit: String,
    /// The branch; empty for a run that a tag started.
    pub branch: String,
    /// The tag that started it.
    pub tag: Option<String>,
    /// The commit's time, the moment that everything built from it carries.
    pub commit_time: Time,
    /// Why it began.
    pub start: StartKind,
    /// The value of each input.
    pub inputs: BTreeMap<String, String>,
    /// Whether it runs files that are not committed. What it pushes is then marked as its own.
    #[serde(default)]
    pub is_try: bool,
    /// Whether, when the run was made, its project protected the branch or tag and the commit was in it. What a project
    /// protects later makes no earlier run trusted.
    #[serde(default)]
    pub was_trusted: bool,
}

/// A job as a runner does it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Work {
    /// Commands.
    Steps(Box<StepsWork>),
    /// Build, tag, push.
    Image(Box<ImageWork>),
}

/// Commands in an image, or on the runner's machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StepsWork {
    /// The image whose file system the steps see; the runner's own programs where nothing is said.
    pub image: Option<Reference>,
    /// What the steps can reach.
    #[serde(default)]
    pub network: Network,
    /// Services that the steps talk to.
    #[serde(default)]
    pub services: Vec<ServiceWork>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// Every variable that the steps see, but for those with secrets.
    pub env: BTreeMap<String, String>,
    /// How the steps see secrets.
    #[serde(default)]
    pub secrets: Vec<SecretUse>,
    /// How the steps see tokens that say which job it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub identities: Vec<IdentityUse>,
    /// Files that it finds again; the keys have hashes still to be filled in.
    #[serde(default)]
    pub caches: Vec<CacheWork>,
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

/// A service that the steps talk to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ServiceWork {
    /// Its name, under which the steps reach it.
    pub name: String,
    /// Its image.
    pub image: Reference,
    /// What a shell is given to run; what the image says, where nothing is said.
    pub command: Option<String>,
    /// Variables for it, besides those of its image.
    pub env: BTreeMap<String, String>,
    /// What shows that it can be used.
    pub ready: Option<Ready>,
    /// How long it may take until then.
    pub within: Duration,
}

/// Files that a job finds again.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CacheWork {
    /// Their path in the workspace.
    pub path: String,
    /// The key: text, and patterns of the files whose hash belongs into it.
    pub key: Vec<KeyPart>,
    /// Prefixes of keys: the newest that begins so will do, the best prefix first.
    pub newest: Vec<Vec<KeyPart>>,
}

/// A part of a key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum KeyPart {
    /// As it is.
    Text(String),
    /// The hash of the names and contents of the files that fit this pattern.
    Hash(String),
}

/// The outputs of earlier jobs that a job sees: by the job's name in the file and the output's.
pub type Outputs = BTreeMap<(String, String), String>;

/// Build, tag, push.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ImageWork {
    /// The recipe's path in the repository.
    pub recipe: String,
    /// The folder whose files the recipe may copy.
    pub context: String,
    /// The file that says what of the context is not seen.
    #[serde(default)]
    pub ignore: Option<String>,
    /// The stage that is built; the last, where nothing is said.
    #[serde(default)]
    pub target: Option<String>,
    /// The platforms that it is built for; the runner's own, where none is named.
    #[serde(default)]
    pub platforms: Vec<String>,
    /// The images that other jobs built for it, one for each platform: nothing is built then, and these are put
    /// together.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<ImagePart>,
    /// Values for the recipe's arguments.
    pub args: BTreeMap<String, String>,
    /// The secrets that the recipe may mount.
    #[serde(default)]
    pub secrets: Vec<BuildSecret>,
    /// The keys that the recipe may have an agent sign in with.
    #[serde(default)]
    pub keys: Vec<BuildSecret>,
    /// What the recipe's commands can reach.
    #[serde(default)]
    pub network: Network,
    /// Where what instructions make is kept for other runners.
    #[serde(default)]
    pub cache: Option<Repository>,
    /// Whether values of its secrets may be in its layers.
    #[serde(default)]
    pub holds_secrets: bool,
    /// How layers are compressed.
    #[serde(default)]
    pub layers: Option<LayerForm>,
    /// Where it goes.
    pub pushes: Vec<PushWork>,
    /// Labels and annotations (OCI Image specification, "Pre-Defined Annotation Keys").
    pub annotations: BTreeMap<String, String>,
    /// The moment that every file and the image carry.
    pub moment: Time,
    /// How long building and pushing may take.
    pub time: Duration,
}

/// An image for one platform, of an index.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ImagePart {
    /// The platform.
    pub platform: String,
    /// The image's digest, the same in every repository that it was pushed to.
    pub digest: Digest,
    /// What it was built on.
    pub base: Option<BaseImage>,
}

/// One repository that an image is pushed to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PushWork {
    /// The repository.
    pub repository: Repository,
    /// Tags that are pushed once and never move.
    pub tags: Vec<Tag>,
    /// Tags that move.
    pub moving: Vec<Tag>,
}

/// Why a job could not be made ready.
#[derive(Debug, thiserror::Error)]
pub enum WorkError {
    /// A template has no value for a name.
    #[error(transparent)]
    Template(#[from] TemplateError),
    /// A filled-in tag is not one.
    #[error(transparent)]
    Tag(#[from] ReferenceError),
    /// A job whose image another one needs pushed none.
    #[error("{0} pushed no image")]
    NoImage(JobKey),
    /// No job builds an image of this name.
    #[error("no job builds an image `{0}`")]
    NoImageJob(String),
}

/// A name in which letters stand for themselves that a tag of an image may have. A branch may have others, and a
/// template's value must fit everywhere.
fn fit_for_tags(name: &str) -> String {
    name.chars().map(|c| if Tag::may_contain(c.encode_utf8(&mut [0; 4])) { c } else { '-' }).collect()
}

/// As much of a name as stands in front of tags, which have at most 128 letters.
fn first_letters(name: &str) -> &str {
    /// There is room for a tag of as many.
    const MOST: usize = 56;
    name.get(..MOST).unwrap_or(name)
}

impl RunFacts {
    /// The first twelve digits of the commit's id.
    #[must_use]
    pub fn commit_short(&self) -> &str {
        self.commit.get(..12).unwrap_or(&self.commit)
    }

    /// What the tags begin with under which the run pushes images. What its project does not trust has tags of its own: no
    /// commit gives the name of a release to what it builds.
    #[must_use]
    pub fn own_tags(&self, is_trusted: bool) -> String {
        match &self.tag {
            _ if self.is_try => format!("try-{}-", self.id.number),
            _ if is_trusted => String::new(),
            Some(tag) => format!("tag-{}-", first_letters(&fit_for_tags(tag))),
            None => format!("branch-{}-", first_letters(&fit_for_tags(&self.branch))),
        }
    }

    /// The values that the templates of a job may name ([`crate::pipeline::VARIABLES`]).
    #[must_use]
    pub fn values(&self, job: &PlannedJob, outputs: &Outputs) -> BTreeMap<String, String> {
        let fixed = [
            ("commit", self.commit.clone()),
            ("commit.short", self.commit_short().to_owned()),
            ("branch", fit_for_tags(&self.branch)),
            ("project", self.id.project.to_string()),
            ("run", self.id.number.to_string()),
        ];
        let mut values: BTreeMap<_, _> = fixed.map(|(name, value)| (name.to_owned(), value)).into();
        values.extend(self.tag.iter().map(|tag| ("tag".to_owned(), tag.clone())));
        values.extend(self.inputs.iter().map(|(name, value)| (format!("{INPUT}{name}"), value.clone())));
        values.extend(job.matrix.iter().map(|(name, value)| (format!("{MATRIX}{name}"), value.clone())));
        values.extend(outputs.iter().map(|((job, name), value)| (format!("{JOB}{job}.{name}"), value.clone())));
        values
    }

    /// The variables that every command of a job sees, the `attempt`th time that it is tried.
    #[must_use]
    pub fn variables(&self, job: &PlannedJob, attempt: u32, outputs: &Outputs) -> BTreeMap<String, String> {
        let fixed = [
            ("CI", "true".to_owned()),
            ("SOURCE_DATE_EPOCH", (self.commit_time.millis() / 1000).to_string()),
            ("PONDRIX_PROJECT", self.id.project.to_string()),
            ("PONDRIX_RUN", self.id.number.to_string()),
            ("PONDRIX_COMMIT", self.commit.clone()),
            ("PONDRIX_BRANCH", self.branch.clone()),
            ("PONDRIX_TAG", self.tag.clone().unwrap_or_default()),
            ("PONDRIX_START", self.start.to_string()),
            ("PONDRIX_STAGE", job.key.stage().to_owned()),
            ("PONDRIX_JOB", job.key.job().to_owned()),
            ("PONDRIX_ATTEMPT", attempt.to_string()),
        ];
        let mut variables: BTreeMap<_, _> = fixed.map(|(name, value)| (name.to_owned(), value)).into();
        let named = |kind: &str, name: &str| format!("PONDRIX_{kind}_{}", name.to_ascii_uppercase().replace('-', "_"));
        variables.extend(self.inputs.iter().map(|(name, value)| (named("INPUT", name), value.clone())));
        variables.extend(job.matrix.iter().map(|(name, value)| (named("MATRIX", name), value.clone())));
        let output = |((job, name), value): (&(String, String), &String)| {
            (named("OUTPUT", &format!("{job}_{name}")), value.clone())
        };
        variables.extend(outputs.iter().map(output));
        variables
    }
}

impl StepsWork {
    /// A job with commands, ready for a runner, at its `attempt`th attempt. `built` is the image of the image
    /// job that it runs in, where it runs in one's.
    ///
    /// # Errors
    /// When the image's name cannot be filled in, or is not one then, or there is no such image.
    pub fn new(
        job: &PlannedJob,
        steps: &StepsJob,
        facts: &RunFacts,
        attempt: u32,
        outputs: &Outputs,
        built: Option<Reference>,
    ) -> Result<Self, WorkError> {
        let mut env = steps.env.clone();
        env.extend(facts.variables(job, attempt, outputs));
        let values = facts.values(job, outputs);
        let image = |text: &str| -> Result<Reference, WorkError> { Ok(template::fill(text, &values)?.parse()?) };
        let own_image = match &steps.file_system {
            FileSystem::Image(named) => Some(image(&named.value)?),
            FileSystem::Built(job) => Some(built.ok_or_else(|| WorkError::NoImageJob(job.value.clone()))?),
            FileSystem::Host => None,
        };
        let service = |service: &Service| {
            let Service { name, image: named, command, env, ready, within } = service.clone();
            Ok(ServiceWork { name: name.value, image: image(&named.value)?, command, env, ready, within })
        };
        let services = steps.services.iter().map(service).collect::<Result<_, WorkError>>()?;
        let mut caches = Vec::new();
        for cache in &steps.caches {
            let newest = cache.newest.iter().map(|text| key(&text.value, &values)).collect::<Result<_, _>>()?;
            caches.push(CacheWork { path: cache.path.clone(), key: key(&cache.key.value, &values)?, newest });
        }
        Ok(Self {
            image: own_image,
            network: steps.network,
            services,
            steps: steps.steps.clone(),
            env,
            secrets: steps.secrets.clone(),
            identities: steps.identities.clone(),
            caches,
            artifacts: steps.artifacts.clone(),
            outputs: steps.outputs.clone(),
            test_reports: steps.test_reports.clone(),
            time: steps.time,
            limits: steps.limits,
        })
    }
}

/// The parts of a key, with everything filled in but for hashes.
fn key(text: &str, values: &BTreeMap<String, String>) -> Result<Vec<KeyPart>, TemplateError> {
    let fill = |part: Part| match part {
        Part::Text(text) => Ok(KeyPart::Text(text)),
        Part::Name(name, _) => match name.strip_prefix(HASH) {
            Some(pattern) => Ok(KeyPart::Hash(pattern.trim().to_owned())),
            None => values.get(&name).cloned().map(KeyPart::Text).ok_or(TemplateError::Unknown(name)),
        },
    };
    template::parse(text)?.into_iter().map(fill).collect()
}

impl ImageWork {
    /// An image job, ready for a runner. `source` is the repository's address.
    ///
    /// # Errors
    /// When a template cannot be filled in, or a filled-in tag is not a tag.
    pub fn new(
        planned: &PlannedJob,
        job: &ImageJob,
        facts: &RunFacts,
        source: &str,
        is_trusted: bool,
        outputs: &Outputs,
    ) -> Result<Self, WorkError> {
        let values = facts.values(planned, outputs);
        let own = facts.own_tags(is_trusted);
        let fill = |text: &str| template::fill(text, &values);
        let tags = |templates: &[crate::pipeline::Spanned<String>]| -> Result<Vec<Tag>, WorkError> {
            let mut tags: Vec<Tag> = Vec::new();
            for text in templates {
                // An input may be several tags, or none.
                for word in fill(&text.value)?.split_whitespace() {
                    let tag = format!("{own}{word}").parse()?;
                    if !tags.contains(&tag) {
                        tags.push(tag);
                    }
                }
            }
            Ok(tags)
        };
        let mut pushes = Vec::new();
        for push in &job.pushes {
            let (tags, moving) = (tags(&push.tags)?, tags(&push.moving)?);
            pushes.push(PushWork { repository: push.repository.clone(), tags, moving });
        }
        let mut args = BTreeMap::new();
        for (name, text) in &job.args {
            args.insert(name.clone(), fill(&text.value)?);
        }
        let annotations = [
            ("revision", facts.commit.clone()),
            ("source", source.to_owned()),
            ("created", facts.commit_time.to_string()),
            ("version", facts.commit_short().to_owned()),
        ];
        Ok(Self {
            recipe: job.recipe.clone(),
            context: job.context.clone(),
            ignore: job.ignore.clone(),
            target: job.target.clone(),
            platforms: job.platforms.clone(),
            parts: Vec::new(),
            secrets: job.secrets.clone(),
            keys: job.keys.clone(),
            network: job.network,
            holds_secrets: job.holds_secrets,
            layers: job.layers,
            cache: job.cache.clone(),
            args,
            pushes,
            annotations: annotations.map(|(key, value)| (format!("org.opencontainers.image.{key}"), value)).into(),
            moment: facts.commit_time,
            time: job.time,
        })
    }
}

impl ImagePart {
    /// The images of the index that a job makes, as other jobs of its run pushed them; none, where it makes no index of
    /// theirs.
    ///
    /// # Errors
    /// When one of them pushed none.
    pub fn all(planned: &PlannedJob, run: &Run) -> Result<Vec<Self>, WorkError> {
        let JobKind::Image(image) = &planned.kind else { return Ok(Vec::new()) };
        let part = |(key, platform): (&JobKey, &String)| {
            let results = run.job(key).map_or(&[][..], |job| &job.results);
            let part = results.iter().find_map(|result| match result {
                JobResult::Image { digest, base, .. } => {
                    Some(Self { platform: platform.clone(), digest: digest.clone(), base: base.clone() })
                }
                _ => None,
            });
            part.ok_or_else(|| WorkError::NoImage(key.clone()))
        };
        planned.parts.iter().zip(&image.platforms).map(part).collect()
    }
}

#[cfg(test)]
mod tests;
