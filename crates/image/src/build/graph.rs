//! Which stages are needed, what each is built on, and their building side by side.

use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use pondrix_core::image::{Digest, Reference};
use pondrix_core::pipeline::Fault;

use super::finish::finish;
use super::seen::Seen;
use super::stage::StageBuild;
use super::state::State;
use super::whole::Build;
use super::{BuildError, BuildInput, Built, EPOCH, Outside, OutsideError, Step, StepRecord};
use crate::Store;
use crate::oci::Platform;
use crate::recipe::{Action, Instruction, Recipe, expand};

/// The tag that is meant where a recipe names none: what the trade's recipes rely on.
const LATEST: &str = "latest";
/// How often a stage that waits for another looks whether the build is to end.
const HALT_CHECK: Duration = Duration::from_millis(100);

/// What a stage is built on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Base {
    /// Nothing.
    Scratch,
    /// An earlier stage, by its place.
    Stage(usize),
    /// An image.
    Image(Named),
}

/// An image as a recipe names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Named {
    pub(super) reference: Reference,
    /// Whether the recipe says no tag and no digest, so that `latest` is meant.
    pub(super) is_open: bool,
}

/// Why a recipe's bases cannot be named.
#[derive(Debug, thiserror::Error)]
pub(super) enum BaseError {
    /// What FROM names is not an image, or a word cannot be filled in.
    #[error("{}", .0.message)]
    Fault(Box<Fault>),
    /// There is no such stage.
    #[error("{0}")]
    Target(String),
}

impl From<BaseError> for BuildError {
    fn from(error: BaseError) -> Self {
        match error {
            BaseError::Fault(fault) => Self::from(*fault),
            BaseError::Target(words) => Self::Input(words),
        }
    }
}

/// What is known before anything is built.
pub(super) struct Plan {
    /// Of each stage. One that nobody seems to need may be broken: that is told when it is needed all the same.
    pub(super) bases: Vec<Result<Base, Box<Fault>>>,
    /// Of each stage.
    pub(super) platforms: Vec<Platform>,
    /// Of each stage, whether the target needs it, as far as that can be told before anything is built: a stage may be
    /// named through an argument, and by what a base asks of those who take over from it.
    needed: Vec<bool>,
    pub(super) target: usize,
    /// The values of the arguments in front of the first FROM.
    pub(super) globals: BTreeMap<String, String>,
}

type Complaint = (String, Option<String>);

/// What the instruction takes files from, as it names it.
fn origins(instruction: &Instruction) -> Vec<&str> {
    match &instruction.action {
        Action::Copy(copy) => copy.from.as_deref().into_iter().collect(),
        Action::Run(run) => run.mounts.iter().filter_map(|mount| mount.option("from")).collect(),
        _ => Vec::new(),
    }
}

/// An image by the name that a recipe gives it: the trade's recipes often leave the registry out, and the tag.
fn named(name: &str, full_name: &dyn Fn(&str) -> Result<Reference, OutsideError>) -> Result<Named, Complaint> {
    use pondrix_core::image::ReferenceError;
    let is_open = !name.contains('@') && !name.rsplit('/').next().unwrap_or_default().contains(':');
    let whole = if is_open { format!("{name}:{LATEST}") } else { name.to_owned() };
    let reference = match whole.parse() {
        Ok(reference) => reference,
        // People know the name as they wrote it.
        Err(ReferenceError::NoHost(_)) => {
            full_name(&whole).map_err(|error| (error.to_string().replace(&whole, name), None))?
        }
        Err(other) => return Err((other.to_string(), None)),
    };
    Ok(Named { reference, is_open })
}

/// Arguments that every build knows.
fn platform_args(kind: &str, platform: &Platform) -> [(String, String); 4] {
    let named = |what: &str| format!("{kind}{what}");
    [
        (named("PLATFORM"), platform.to_string()),
        (named("OS"), platform.os.clone()),
        (named("ARCH"), platform.architecture.clone()),
        (named("VARIANT"), platform.variant.clone().unwrap_or_default()),
    ]
}

/// The arguments that every build knows, for a platform and a moment.
fn known_args(platform: &Platform, moment: u64) -> BTreeMap<String, String> {
    let mut all: BTreeMap<_, _> =
        platform_args("TARGET", platform).into_iter().chain(platform_args("BUILD", &Platform::here())).collect();
    all.insert(EPOCH.to_owned(), moment.to_string());
    all
}

/// Whether every build knows an argument of this name, or it says how the Web is reached.
#[must_use]
pub fn is_known_argument(name: &str) -> bool {
    known_args(&Platform::here(), 0).contains_key(name)
        || super::run::PROXIES.iter().any(|proxy| proxy.eq_ignore_ascii_case(name))
}

impl Plan {
    pub(super) fn new(
        recipe: &Recipe,
        target: Option<&str>,
        args: &BTreeMap<String, String>,
        moment: u64,
        platform: &Platform,
        full_name: &dyn Fn(&str) -> Result<Reference, OutsideError>,
    ) -> Result<Self, BaseError> {
        let fault = |at: &Instruction, words: String, help: Option<String>| {
            BaseError::Fault(Box::new(recipe.fault(at, words, help)))
        };
        let mut values = known_args(platform, moment);
        let mut globals = BTreeMap::new();
        for instruction in &recipe.globals {
            let Action::Arg(pairs) = &instruction.action else { continue };
            for (name, default) in pairs {
                let default = default.as_ref().map(|default| expand(default, &values, recipe.escape));
                let default = default.transpose().map_err(|error| fault(instruction, error.to_string(), None))?;
                let known = || values.get(name).cloned();
                if let Some(value) = args.get(name).cloned().or(default).or_else(known) {
                    values.insert(name.clone(), value.clone());
                    globals.insert(name.clone(), value);
                }
            }
        }
        let target = match target {
            None => recipe.stages.len() - 1,
            Some(name) => recipe.stage_named(name, recipe.stages.len()).ok_or_else(|| {
                let names: Vec<_> = recipe.stages.iter().filter_map(|stage| stage.name.as_deref()).collect();
                BaseError::Target(format!("the recipe has no stage `{name}`; it has {}", names.join(", ")))
            })?,
        };
        let (mut bases, mut platforms) = (Vec::new(), Vec::new());
        let mut needed = vec![false; recipe.stages.len()];
        for (number, stage) in recipe.stages.iter().enumerate().take(target + 1) {
            let fill = |word: &str| {
                expand(word, &values, recipe.escape).map_err(|error| fault(&stage.from, error.to_string(), None))
            };
            let said = stage.platform.as_deref().map(fill).transpose()?.filter(|said| !said.is_empty());
            let said = said.map(|said| {
                said.parse().map_err(|error: crate::PlatformError| fault(&stage.from, error.to_string(), None))
            });
            platforms.push(said.transpose()?.unwrap_or_else(|| platform.clone()));
            let name = fill(&stage.base)?;
            let base = if name.is_empty() {
                let help = "give the argument a value: ARG NAME=IMAGE in front of FROM, or arg NAME=\"IMAGE\" in the pipeline file";
                Err((format!("`{}` is empty here", stage.base), Some(help.to_owned())))
            } else if let Some(other) = recipe.base_stage(&name, number) {
                Ok(Base::Stage(other))
            } else if name == "scratch" {
                Ok(Base::Scratch)
            } else {
                named(&name, full_name).map(Base::Image)
            };
            bases.push((base, number));
        }
        let mut waiting = vec![target];
        while let Some(number) = waiting.pop() {
            if std::mem::replace(&mut needed[number], true) {
                continue;
            }
            if let (Ok(Base::Stage(other)), _) = &bases[number] {
                waiting.push(*other);
            }
            let named = recipe.stages[number].instructions.iter().flat_map(origins);
            waiting.extend(named.filter_map(|from| recipe.stage_named(from, number)));
        }
        let told = bases.into_iter().map(|(base, number)| {
            base.map_err(|(words, help)| Box::new(recipe.fault(&recipe.stages[number].from, words, help)))
        });
        let bases: Vec<_> = told.collect();
        let broken = bases.iter().zip(&needed).find_map(|(base, needed)| base.as_ref().err().filter(|_| *needed));
        if let Some(fault) = broken {
            return Err(BaseError::Fault(fault.clone()));
        }
        Ok(Self { bases, platforms, needed, target, globals })
    }

    /// Whether something that is needed reads or runs the files of a stage, as far as can be told before anything is
    /// built, once its instruction at this place has been carried out.
    pub(super) fn needs_files(&self, recipe: &Recipe, number: usize, place: usize) -> bool {
        let rest = recipe.stages[number].instructions.get(place + 1..).unwrap_or_default();
        rest.iter().any(|instruction| matches!(instruction.action, Action::Run(_)))
            || (number + 1..=self.target).filter(|other| self.needed[*other]).any(|other| {
                let instructions = &recipe.stages[other].instructions;
                let is_base = matches!(self.bases[other], Ok(Base::Stage(base)) if base == number);
                let runs = || instructions.iter().any(|one| matches!(one.action, Action::Run(_)));
                (is_base && (runs() || self.needs_files(recipe, other, instructions.len())))
                    || instructions.iter().flat_map(origins).any(|from| recipe.stage_named(from, other) == Some(number))
            })
    }

    /// How many stages are needed.
    pub(super) fn count(&self) -> usize {
        self.needed.iter().filter(|needed| **needed).count()
    }

    /// What an argument is given from outside the recipe.
    pub(super) fn given(&self, input: &BuildInput, name: &str) -> Option<String> {
        input.args.get(name).cloned().or_else(|| known_args(&input.platform, input.moment).remove(name))
    }

    /// An image by the name that a recipe gives it.
    pub(super) fn named(&self, outside: &dyn Outside, name: &str) -> Result<Named, Complaint> {
        named(name, &|short| outside.full_name(short))
    }
}

/// How far a stage is.
#[derive(Clone)]
enum Stage {
    /// Nobody builds it yet.
    Unbegun,
    /// Somebody does.
    Begun,
    /// It is built.
    Built(Box<State>),
}

/// How far the stages are.
pub(super) struct Progress {
    stages: Mutex<Vec<Stage>>,
    changed: Condvar,
    failed: AtomicBool,
    steps: AtomicUsize,
    known: AtomicUsize,
    /// What each instruction made, by its key.
    made: Mutex<Vec<StepRecord>>,
}

impl Progress {
    fn new(count: usize) -> Self {
        Self {
            stages: Mutex::new(vec![Stage::Unbegun; count]),
            changed: Condvar::new(),
            failed: AtomicBool::new(false),
            steps: AtomicUsize::new(0),
            known: AtomicUsize::new(0),
            made: Mutex::default(),
        }
    }

    fn stages(&self) -> MutexGuard<'_, Vec<Stage>> {
        self.stages.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn has_failed(&self) -> bool {
        self.failed.load(Ordering::Relaxed)
    }

    /// Whether whoever asks is to build a stage: nobody does yet.
    fn begin(&self, number: usize) -> bool {
        let stage = &mut self.stages()[number];
        let is_mine = matches!(stage, Stage::Unbegun);
        if is_mine {
            *stage = Stage::Begun;
        }
        is_mine
    }

    /// Waits until a stage is built that somebody builds.
    fn wait_for(&self, number: usize, is_halted: &dyn Fn() -> bool) -> Result<State, BuildError> {
        let mut stages = self.stages();
        loop {
            if let Stage::Built(state) = &stages[number] {
                return Ok(State::clone(state));
            }
            if is_halted() {
                return Err(BuildError::Halted);
            }
            stages = self.changed.wait_timeout(stages, HALT_CHECK).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    fn end(&self, number: usize, result: Result<State, BuildError>) -> Option<BuildError> {
        let error = match result {
            Ok(state) => {
                self.stages()[number] = Stage::Built(Box::new(state));
                None
            }
            Err(error) => {
                self.failed.store(true, Ordering::Relaxed);
                Some(error)
            }
        };
        self.changed.notify_all();
        error
    }

    pub(super) fn count_step(&self) {
        self.steps.fetch_add(1, Ordering::Relaxed);
    }

    pub(super) fn note(&self, key: &Digest, made: &Step) {
        let mut all = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        all.push(StepRecord { key: key.clone(), made: made.clone() });
    }

    pub(super) fn count_known(&self) {
        self.known.fetch_add(1, Ordering::Relaxed);
    }
}

/// Builds a stage, unless somebody does. One that breaks ends the build: nobody waits for it for ever.
fn build_stage(build: &Build<'_>, number: usize) -> Option<BuildError> {
    if !build.progress.begin(number) {
        return None;
    }
    let built = catch_unwind(AssertUnwindSafe(|| StageBuild::carry_out(build, number)));
    let broke = |_| Err(BuildError::Input("a part of the builder broke; the runner's log says where".to_owned()));
    build.progress.end(number, built.unwrap_or_else(broke))
}

/// A stage as it was built. It is built by whoever needs it, where that could not be told before.
pub(super) fn built_stage(build: &Build<'_>, number: usize) -> Result<State, BuildError> {
    match build_stage(build, number) {
        Some(error) => Err(error),
        None => build.progress.wait_for(number, &|| build.is_halted()),
    }
}

/// Builds an image into the store.
///
/// # Errors
/// See [`BuildError`].
pub fn build(input: &BuildInput, store: &Store, outside: &dyn Outside) -> Result<Built, BuildError> {
    let recipe = &input.recipe;
    let full_name = |short: &str| outside.full_name(short);
    let plan = Plan::new(recipe, input.target.as_deref(), &input.args, input.moment, &input.platform, &full_name)?;
    let (target, needed) = (plan.target, plan.needed.clone());
    let build = Build::new(input, store, outside, plan, Progress::new(recipe.stages.len()));
    let errors: Vec<BuildError> = std::thread::scope(|scope| {
        let numbers = needed.iter().enumerate().filter(|(_, needed)| **needed).map(|(number, _)| number);
        let build = &build;
        let stages: Vec<_> = numbers.map(|number| scope.spawn(move || build_stage(build, number))).collect();
        stages.into_iter().filter_map(|stage| stage.join().ok().flatten()).collect()
    });
    // Not worth failing for: the next build reads the files again.
    if let Some(Err(error)) = build.seen.as_ref().map(Seen::keep) {
        outside.say(None, &format!("warning: what is in the context's files could not be remembered: {error}"));
    }
    // A stage that was ended because another failed is not why.
    let is_halted = |error: &BuildError| matches!(error, BuildError::Halted);
    let mut errors = errors;
    errors.sort_by_key(is_halted);
    if let Some(error) = errors.into_iter().next() {
        return Err(error);
    }
    let state = built_stage(&build, target)?;
    state.layers.iter().try_for_each(|layer| build.bring(layer))?;
    let (steps, known) = (build.progress.steps.load(Ordering::Relaxed), build.progress.known.load(Ordering::Relaxed));
    let built = finish(input, store, state)?;
    let made = std::mem::take(&mut *build.progress.made.lock().unwrap_or_else(PoisonError::into_inner));
    Ok(Built { steps, known, made, ..built })
}
