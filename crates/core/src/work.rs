//! What a runner is given to do: a job with every name filled in.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::image::{Digest, Reference, ReferenceError, Repository, Tag};
use crate::pipeline::{
    Beside, BuildSecret, HASH, INPUT, ImageJob, JOB, JobKind, Keep, LayerForm, Limits, MATRIX, Network, Output, Ready,
    SecretUse, StartKind, Step, StepsJob,
};
use crate::plan::PlannedJob;
use crate::run::{BaseImage, Product, Run};
use crate::template::{self, Part, TemplateError};
use crate::{Duration, JobKey, RunId, Time};

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
    /// What was said to each `ask`.
    pub inputs: BTreeMap<String, String>,
    /// Whether it runs files that are not committed. What it pushes is then marked as its own.
    #[serde(default)]
    pub is_try: bool,
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
    pub inside: Option<Reference>,
    /// What the steps can reach.
    #[serde(default)]
    pub network: Network,
    /// Services that run beside the steps.
    #[serde(default)]
    pub besides: Vec<BesideWork>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// Every variable that the steps see, but for those with secrets.
    pub env: BTreeMap<String, String>,
    /// How the steps see secrets.
    #[serde(default)]
    pub secrets: Vec<SecretUse>,
    /// Files that it finds again; the keys have hashes still to be filled in.
    #[serde(default)]
    pub caches: Vec<CacheWork>,
    /// Files that it leaves.
    #[serde(default)]
    pub keeps: Vec<Keep>,
    /// Texts that it hands on.
    #[serde(default)]
    pub outputs: Vec<Output>,
    /// Patterns of the paths of its test reports.
    #[serde(default)]
    pub reports: Vec<String>,
    /// How long all steps together may take.
    pub time: Duration,
    /// How much of the runner each step may use.
    #[serde(default)]
    pub limits: Limits,
}

/// A service that runs beside the steps.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BesideWork {
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
    /// Beginnings of keys that will do, the best first.
    pub fallbacks: Vec<Vec<KeyPart>>,
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
    /// A job that builds for one platform pushed no image.
    #[error("{0} pushed no image")]
    Part(JobKey),
}

impl RunFacts {
    /// The first twelve digits of the commit's id.
    #[must_use]
    pub fn commit_short(&self) -> &str {
        self.commit.get(..12).unwrap_or(&self.commit)
    }

    /// The values that the templates of a job may name ([`crate::pipeline::VARIABLES`]).
    #[must_use]
    pub fn values(&self, job: &PlannedJob, outputs: &Outputs) -> BTreeMap<String, String> {
        // A branch may have letters that no tag may have; a template's value must fit everywhere.
        let branch = self.branch.chars().map(|c| if Tag::may_contain(c.encode_utf8(&mut [0; 4])) { c } else { '-' });
        let fixed = [
            ("commit", self.commit.clone()),
            ("commit.short", self.commit_short().to_owned()),
            ("branch", branch.collect()),
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
    /// A job with commands, ready for a runner, the `attempt`th time that it is tried.
    ///
    /// # Errors
    /// When the image's name cannot be filled in, or is not one then.
    pub fn new(
        job: &PlannedJob,
        steps: &StepsJob,
        facts: &RunFacts,
        attempt: u32,
        outputs: &Outputs,
    ) -> Result<Self, WorkError> {
        let mut env = steps.env.clone();
        env.extend(facts.variables(job, attempt, outputs));
        let values = facts.values(job, outputs);
        let image = |text: &str| -> Result<Reference, WorkError> { Ok(template::fill(text, &values)?.parse()?) };
        let inside = if steps.is_on_host() { None } else { Some(image(&steps.inside.value)?) };
        let beside = |beside: &Beside| {
            let Beside { name, image: named, command, env, ready, within } = beside.clone();
            Ok(BesideWork { name: name.value, image: image(&named.value)?, command, env, ready, within })
        };
        let besides = steps.besides.iter().map(beside).collect::<Result<_, WorkError>>()?;
        let mut caches = Vec::new();
        for cache in &steps.caches {
            let fallbacks = cache.fallbacks.iter().map(|text| key(&text.value, &values)).collect::<Result<_, _>>()?;
            caches.push(CacheWork { path: cache.path.clone(), key: key(&cache.key.value, &values)?, fallbacks });
        }
        Ok(Self {
            inside,
            network: steps.network,
            besides,
            steps: steps.steps.clone(),
            env,
            secrets: steps.secrets.clone(),
            caches,
            keeps: steps.keeps.clone(),
            outputs: steps.outputs.clone(),
            reports: steps.reports.clone(),
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
        outputs: &Outputs,
    ) -> Result<Self, WorkError> {
        let values = facts.values(planned, outputs);
        let fill = |text: &str| template::fill(text, &values);
        let tags = |templates: &[crate::pipeline::Spanned<String>]| -> Result<Vec<Tag>, WorkError> {
            let own = if facts.is_try { format!("try-{}-", facts.id.number) } else { String::new() };
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
            let products = run.job(key).map_or(&[][..], |job| &job.products);
            let part = products.iter().find_map(|product| match product {
                Product::Image { digest, base, .. } => {
                    Some(Self { platform: platform.clone(), digest: digest.clone(), base: base.clone() })
                }
                _ => None,
            });
            part.ok_or_else(|| WorkError::Part(key.clone()))
        };
        planned.parts.iter().zip(&image.platforms).map(part).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline;
    use crate::plan::{Plan, Start};

    fn facts(branch: &str) -> RunFacts {
        RunFacts {
            id: "visitor-desk#7".parse().unwrap(),
            commit: "0123456789abcdef0123456789abcdef01234567".into(),
            branch: branch.into(),
            tag: None,
            commit_time: Time::from_millis(1_790_000_000_000),
            start: StartKind::Hand,
            inputs: [("extra-tag".to_owned(), "{run}".to_owned())].into(),
            is_try: false,
        }
    }

    fn jobs(text: &str) -> Vec<PlannedJob> {
        let start =
            Start { kind: StartKind::Hand, branch: "main".into(), tag: None, changed: None, inputs: BTreeMap::new() };
        let pipeline = pipeline::read(text).unwrap_or_else(|faults| panic!("{faults:#?}"));
        Plan::new(&pipeline, &start).jobs().cloned().collect()
    }

    #[test]
    fn tags_are_filled_in_for_the_run_even_on_a_branch_no_tag_could_hold() {
        let text =
            r#"stage "p" { image "desk" { push "x.test/desk" { tag "{branch}-{commit.short}"; moving "{branch}" } } }"#;
        let planned = &jobs(text)[0];
        let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
        let work = ImageWork::new(planned, job, &facts("fix/; rm -rf /"), "ssh://x", &Outputs::new()).unwrap();
        assert_eq!(work.pushes[0].tags[0].as_str(), "fix---rm--rf---0123456789ab");
        assert_eq!(work.pushes[0].moving[0].as_str(), "fix---rm--rf--");
        assert_eq!(work.annotations["org.opencontainers.image.created"], "2026-09-21T14:13:20.000Z");
    }

    #[test]
    fn a_run_of_files_that_are_not_committed_pushes_under_tags_of_its_own_only() {
        let text = r#"stage "p" { image "desk" { push "x.test/desk" { tag "{commit.short}"; moving "edge" } } }"#;
        let planned = &jobs(text)[0];
        let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
        let facts = RunFacts { is_try: true, ..facts("main") };
        let push = ImageWork::new(planned, job, &facts, "", &Outputs::new()).unwrap().pushes.remove(0);
        assert_eq!((push.tags[0].as_str(), push.moving[0].as_str()), ("try-7-0123456789ab", "try-7-edge"));
    }

    #[test]
    fn an_index_is_made_of_what_each_of_its_jobs_pushed_and_of_nothing_while_one_pushed_nothing() {
        let text = r#"stage "p" { image "desk" { platform "linux/amd64" "linux/arm64" runner="each"; push "x.test/desk" { tag "{run}" } } }"#;
        let planned = jobs(text);
        assert!(ImagePart::all(&planned[0], &Run::new(&Plan::default())).unwrap().is_empty());
        let start =
            Start { kind: StartKind::Hand, branch: "main".into(), tag: None, changed: None, inputs: BTreeMap::new() };
        let mut run = Run::new(&Plan::new(&pipeline::read(text).unwrap(), &start));
        let digest = |letter: char| format!("sha256:{}", letter.to_string().repeat(64)).parse::<Digest>().unwrap();
        for (at, letter) in [(0, 'a'), (1, 'b')] {
            let refused = ImagePart::all(&planned[2], &run).unwrap_err().to_string();
            assert_eq!(refused, format!("{} pushed no image", planned[at].key));
            run.stages[0].jobs[at].products.push(Product::Image {
                repository: "x.test/desk".parse().unwrap(),
                digest: digest(letter),
                tags: Vec::new(),
                base: None,
                platforms: Vec::new(),
            });
        }
        let parts = ImagePart::all(&planned[2], &run).unwrap();
        let told: Vec<_> = parts.into_iter().map(|part| (part.platform, part.digest)).collect();
        assert_eq!(told, [("linux/amd64".to_owned(), digest('a')), ("linux/arm64".to_owned(), digest('b'))]);
    }

    #[test]
    fn an_input_may_be_several_tags_or_none() {
        let text = "ask \"extra-tag\"\nstage \"p\" { image \"d\" { push \"x.test/d\" { tag \"{commit.short}\" \"{input.extra-tag}\" } } }";
        let planned = &jobs(text)[0];
        let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
        let tags = |said: &str| {
            let facts = RunFacts { inputs: [("extra-tag".to_owned(), said.to_owned())].into(), ..facts("main") };
            let work = ImageWork::new(planned, job, &facts, "", &Outputs::new());
            work.map(|work| work.pushes[0].tags.iter().map(Tag::to_string).collect::<Vec<_>>())
        };
        assert_eq!(tags("").unwrap(), ["0123456789ab"]);
        assert_eq!(tags(" v1  v1.2 v1 ").unwrap(), ["0123456789ab", "v1", "v1.2"]);
        assert!(matches!(tags("v1 -x"), Err(WorkError::Tag(_))));
    }

    #[test]
    fn commands_see_values_as_variables_and_stay_as_they_were_written() {
        let text = r#"stage "v" { job "u" { inside "x.test/y:1"; env A="1"; step "echo {branch}" } }"#;
        let planned = &jobs(text)[0];
        let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
        let outputs = Outputs::from([(("unit-a".to_owned(), "version".to_owned()), "1.2".to_owned())]);
        let work = StepsWork::new(planned, job, &facts("; rm -rf /"), 2, &outputs).unwrap();
        assert_eq!(work.steps[0].command, "echo {branch}");
        assert_eq!(work.env["PONDRIX_BRANCH"], "; rm -rf /");
        assert_eq!((work.env["A"].as_str(), work.env["SOURCE_DATE_EPOCH"].as_str()), ("1", "1790000000"));
        assert_eq!(
            (work.env["PONDRIX_INPUT_EXTRA_TAG"].as_str(), work.env["PONDRIX_ATTEMPT"].as_str()),
            ("{run}", "2")
        );
    }

    #[test]
    fn a_job_of_a_matrix_sees_its_own_values() {
        let text =
            r#"stage "v" { job "u" { matrix { base "shell" "web" }; inside "x.test/{matrix.base}:1"; step "x" } }"#;
        let planned = jobs(text);
        let images = planned.iter().map(|planned| {
            let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
            let work = StepsWork::new(planned, job, &facts("main"), 1, &Outputs::new()).unwrap();
            (work.inside.unwrap().to_string(), work.env["PONDRIX_MATRIX_BASE"].clone(), work.env["PONDRIX_JOB"].clone())
        });
        let expected = ["shell", "web"].map(|base| (format!("x.test/{base}:1"), base.to_owned(), format!("u:{base}")));
        assert_eq!(images.collect::<Vec<_>>(), expected);
    }

    #[test]
    fn an_input_cannot_become_a_name_that_no_image_has() {
        let text = "ask \"base\"\nstage \"v\" { job \"u\" { inside \"x.test/{input.base}:1\"; step \"x\" } }";
        let planned = &jobs(text)[0];
        let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
        let facts = RunFacts { inputs: [("base".to_owned(), "../../etc".to_owned())].into(), ..facts("main") };
        assert!(matches!(StepsWork::new(planned, job, &facts, 1, &Outputs::new()), Err(WorkError::Tag(_))));
    }
}
