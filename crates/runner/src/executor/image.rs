//! An image job: build, tag, push.

use std::collections::BTreeMap;
use std::path::Path;

use pondrix_api::{BaseFacts, ImageRecord, LayerDigests, LayerView};
use pondrix_core::image::{Digest, Package, Registries, SPDX, Tag, spdx};
use pondrix_core::pipeline::{Fault, LayerForm};
use pondrix_core::run::{BaseImage, JobResult, StepEnd};
use pondrix_core::work::{ImageWork, PushWork};
use pondrix_image::build::{self, BuildError, BuildInput, Built, Realm, Secret, SecretKey, StepRecord};
use pondrix_image::inventory::{self, LayerFacts};
use pondrix_image::recipe::{Ignore, Recipe};
use pondrix_image::registry::{Attachment, Elsewhere, PushRequest, Registry, RegistryError, push_and_ask, push_index};
use pondrix_image::{Compression, Descriptor, Index, Platform, media};

use super::agent::Agent;
use super::context::{End, JobExecutor};
use super::error::{Doing, JobError};
use super::leaks::layers_hold_none;
use super::push::{log_tags, may_set, push_everywhere, tags_are_free, tell_index, why_ended};
use super::site::Site;
use crate::sources::Claim;

/// How long a recipe or an ignore file may be, in bytes.
const LONGEST_RECIPE: u64 = 1 << 20;

pub(crate) fn carry_out(executor: &JobExecutor, work: &ImageWork) -> End {
    executor.step_started(0);
    let (facts, is_trusted) = (&executor.assignment.facts, executor.assignment.is_trusted);
    if !is_trusted && !facts.is_try && !work.pushes.is_empty() {
        executor.log.say(&format!(
            "this run is of no protected branch or tag: tags of its images begin with {} (which are protected says \
             pondrix project set {} --protect)",
            facts.own_tags(false),
            facts.id.project
        ));
    }
    let made = tags_are_free(executor, work).and_then(|()| build(executor, work));
    let built = match made {
        Ok(built) => built,
        Err(error) => {
            let end = why_ended(executor).unwrap_or(StepEnd::Exit(1));
            executor.step_ended(0, end);
            return match end {
                StepEnd::TimedOut => End::failed(executor.time_words()),
                _ => End::because(&error),
            };
        }
    };
    executor.step_ended(0, StepEnd::Exit(0));
    push_everywhere(executor, work, |target| send(executor, work, target, &built))
}

/// Pushes what was built for every platform, and gives it its tags.
fn send(executor: &JobExecutor, work: &ImageWork, target: &PushWork, built: &[Built]) -> Result<JobResult, JobError> {
    let (registries, store) = (executor.registries_to_push(&target.repository)?, &executor.folder.store);
    let [first, ..] = built else { return Err(JobError::asked("nothing was built")) };
    let is_index = built.len() > 1;
    let mut index = Index { annotations: first.image.manifest.annotations.clone(), ..Index::default() };
    let mut platforms = Vec::new();
    let ask = async |tag: &Tag, moves| may_set(executor, target, tag, moves).await;
    let mut set = Vec::new();
    for one in built {
        let record = record(executor, target, one)?;
        let pushed = executor.talk(push_and_ask(&request(one, target, is_index), &registries, store, ask))?;
        executor.log.say(&format!(
            "pushed {}@{}: {} sent ({} bytes), {} there already",
            target.repository, one.image.digest, pushed.sent, pushed.bytes, pushed.there
        ));
        set = pushed.tags;
        attach(executor, work, (target, &registries), one, &record.packages);
        index.manifests.push(Descriptor { platform: Some(one.platform.clone()), ..descriptor(executor, one)? });
        platforms.push(one.platform.to_string());
    }
    let mut digest = first.image.digest.clone();
    if is_index {
        let pushed = push_index(&index, &target.repository, &target.tags, &target.moving, &registries, ask);
        (digest, set) = executor.talk(pushed)?;
        executor.log.say(&format!("pushed {}@{digest}, an index for {}", target.repository, platforms.join(", ")));
        tell_index(executor, target, &digest, &first.image.digest)?;
    } else {
        platforms.clear();
    }
    log_tags(executor, &set);
    Ok(JobResult::Image { repository: target.repository.clone(), digest, tags: set, base: built_on(first), platforms })
}

/// An image of an index has no tags of its own.
fn request<'a>(built: &'a Built, target: &'a PushWork, of_index: bool) -> PushRequest<'a> {
    PushRequest {
        image: &built.image,
        repository: &target.repository,
        tags: if of_index { &[] } else { &target.tags },
        moving: if of_index { &[] } else { &target.moving },
        base: built.base.as_ref().map(|(name, _)| &name.repository),
    }
}

fn descriptor(executor: &JobExecutor, built: &Built) -> Result<Descriptor, JobError> {
    let manifest = executor.folder.store.read_blob(&built.image.digest)?;
    Ok(Descriptor {
        media_type: media::MANIFEST.to_owned(),
        digest: built.image.digest.clone(),
        size: manifest.len() as u64,
        platform: None,
        annotations: BTreeMap::new(),
        artifact_type: None,
    })
}

/// Tells the server what is in the image. Answers that.
fn record(executor: &JobExecutor, target: &PushWork, built: &Built) -> Result<ImageRecord, JobError> {
    let doing = || "what is in the image could not be told".to_owned();
    let store = &executor.folder.store;
    let facts = inventory::layers(&built.image);
    let view = |(place, layer): (usize, LayerFacts)| LayerView {
        digest: layer.digest,
        diff_id: layer.diff_id,
        size: layer.size,
        made_by: layer.made_by,
        of_base: place < built.base_layers,
    };
    let layers: Vec<LayerView> = facts.into_iter().enumerate().map(view).collect();
    let asked = LayerDigests { layers: layers.iter().map(|layer| layer.diff_id.clone()).collect() };
    let unlisted = executor.ask(async |client, assignment| client.unlisted(assignment, &asked).await).doing(doing)?;
    let tell_files = |layer: &Digest| {
        let files = store.listing(&built.image, layer).doing(doing)?;
        executor.ask(async |client, assignment| client.put_listing(assignment, layer, &files).await).doing(doing)
    };
    // Both take long where there are very many files.
    let (packages, told) = std::thread::scope(|scope| {
        let packages = scope.spawn(|| store.packages(&built.image));
        let told = unlisted.layers.iter().try_for_each(tell_files);
        (packages.join().unwrap_or_else(|broke| std::panic::resume_unwind(broke)), told)
    });
    told?;
    let packages = packages.doing(doing)?;
    let record = ImageRecord {
        repository: target.repository.clone(),
        digest: built.image.digest.clone(),
        base: built.base.as_ref().map(|(name, digest)| (name.to_string(), digest.clone())),
        layers,
        packages,
        labels: built.image.config.config.labels.clone().unwrap_or_default(),
        of_base: built.base.as_ref().and_then(|(_, digest)| store.image(digest).ok()).map(|base| BaseFacts {
            created: base.config.created,
            labels: base.config.config.labels.unwrap_or_default(),
        }),
    };
    tell(executor, &record)?;
    Ok(record)
}

fn tell(executor: &JobExecutor, record: &ImageRecord) -> Result<(), JobError> {
    let told = executor.ask(async |client, assignment| client.put_image(assignment, record).await);
    told.doing(|| "what is in the image could not be told".to_owned())
}

/// Attaches a software bill of materials (SBOM) to the image. A registry that does not take it has the image all the same.
fn attach(
    executor: &JobExecutor,
    work: &ImageWork,
    (target, registries): (&PushWork, &Registries),
    built: &Built,
    packages: &[Package],
) {
    let store = &executor.folder.store;
    let repository = &target.repository;
    let bill = spdx(repository, &built.image.digest, packages, work.moment).to_string();
    let Ok(subject) = descriptor(executor, built) else { return };
    let attached = async {
        let created = ("org.opencontainers.image.created".to_owned(), work.moment.to_string());
        // Not on the image: the same commit gives the same image in every run.
        let run = ("pondrix.run".to_owned(), executor.assignment.facts.id.to_string());
        let address = ("pondrix.run.address".to_owned(), executor.assignment.address.clone());
        let attachment = Attachment { kind: SPDX, bytes: bill.as_bytes(), annotations: [created, run, address].into() };
        let registry = Registry::new(repository.host(), registries)?;
        // An image that was pushed before has its bill already.
        let image = repository.at(built.image.digest.clone());
        let there = registry.attached(&image, &built.image.digest, SPDX, store).await?;
        if there.as_deref() != Some(bill.as_bytes()) {
            registry.attach(repository, &subject, &attachment, store).await?;
        }
        Ok::<_, RegistryError>(())
    };
    match executor.talk(attached) {
        Ok(()) => executor.log.say(&format!("attached an SBOM with {} packages", packages.len())),
        Err(error) => executor.log.say(&format!("warning: no SBOM is attached: {error}")),
    }
}

/// What an image was built on.
fn built_on(built: &Built) -> Option<BaseImage> {
    built.base.clone().map(|(name, digest)| BaseImage { name: name.to_string(), digest })
}

/// Builds for every platform that is asked for.
fn build(executor: &JobExecutor, work: &ImageWork) -> Result<Vec<Built>, JobError> {
    let source = executor.keep_source()?;
    let read = |path: &str| {
        let file = build::plain_path(&source.files, Path::new(path));
        let file = file.filter(|file| file.symlink_metadata().is_ok_and(|data| data.is_file()));
        let Some(file) = file else { return Ok(None) };
        if file.symlink_metadata()?.len() > LONGEST_RECIPE {
            return Err(JobError::Asked(format!("{path} is longer than {} KiB", LONGEST_RECIPE >> 10)));
        }
        std::fs::read_to_string(file).doing(|| path.to_owned()).map(Some)
    };
    let missing = |what: &str, path: &str| {
        JobError::Asked(format!("the commit has no file {path}, which the pipeline names as the {what}"))
    };
    let text = read(&work.recipe)?.ok_or_else(|| missing("recipe", &work.recipe))?;
    let context = build::plain_path(&source.files, Path::new(&work.context))
        .filter(|folder| folder.symlink_metadata().is_ok_and(|data| data.is_dir()))
        .ok_or_else(|| {
            JobError::Asked(format!(
                "the commit has no folder {}, which the pipeline names as the context",
                work.context
            ))
        })?;
    let rules_at = work.ignore.clone().unwrap_or_else(|| format!("{}.ignore", work.recipe));
    let rules = match (read(&rules_at)?, &work.ignore) {
        (None, Some(_)) => return Err(missing("ignore file", &rules_at)),
        (None, None) => String::new(),
        (Some(rules), _) => rules,
    };
    let ignore = Ignore::read(&rules).map_err(|faults| JobError::Asked(shown(executor, &rules_at, &faults)))?;
    let recipe = Recipe::read(&text).map_err(|faults| JobError::Asked(shown(executor, &work.recipe, &faults)))?;
    for warning in &recipe.warnings {
        executor.log.say(warning.render(&work.recipe).replacen("fault:", "warning:", 1).trim_end());
    }
    let declared = recipe.declared();
    for name in work.args.keys().filter(|name| !declared.contains(name.as_str()) && !build::is_known_argument(name)) {
        executor.log.say(&format!("warning: the pipeline gives the argument {name}, which the recipe has no ARG for"));
    }
    let given = |id: &str, name: &str| {
        let secret = executor.assignment.secrets.iter().find(|secret| secret.name == name);
        let secret = secret.ok_or_else(|| JobError::Asked(format!("the server did not give the secret `{name}`")))?;
        Ok::<_, JobError>((id.to_owned(), secret.value.clone()))
    };
    let mut secrets = BTreeMap::new();
    for secret in &work.secrets {
        let (id, value) = given(&secret.id, &secret.name.value)?;
        secrets.insert(id, Secret(value));
    }
    let mut agents = Vec::new();
    for key in &work.keys {
        let (id, value) = given(&key.id, &key.name.value)?;
        agents.push((id, Agent::start(&value, &executor.launcher)?));
    }
    let (project, is_trusted) = (&executor.assignment.facts.id.project, executor.assignment.is_trusted);
    // A job of a matrix has `:` in its name, which no tag may have. A job's name has no underscore.
    let of_whom = if is_trusted { "" } else { "_untrusted" };
    let tag: Tag = format!("steps-{}{of_whom}", executor.assignment.job.job().replace(':', "-"))
        .parse()
        .map_err(|error| JobError::Asked(format!("{error}")))?;
    let site = Site::new(executor, work.network, elsewhere(executor, work))?;
    let platforms = work.platforms.iter().map(|text| text.parse().map_err(|error| JobError::Asked(format!("{error}"))));
    let mut platforms = platforms.collect::<Result<Vec<Platform>, JobError>>()?;
    if platforms.is_empty() {
        platforms.push(Platform::here());
    }
    executor.is_prepared();
    let mut all = Vec::new();
    for (number, platform) in platforms.into_iter().enumerate() {
        let scratch = executor.scratch.path().join(format!("build-{number}"));
        std::fs::create_dir(&scratch).doing(|| "there is no room for a build".to_owned())?;
        let input = BuildInput {
            recipe_path: work.recipe.clone(),
            recipe: recipe.clone(),
            target: work.target.clone(),
            context: context.clone(),
            ignore: ignore.clone(),
            own_times: true,
            seen: source.claim.as_ref().map(Claim::seen),
            args: work.args.clone(),
            annotations: work.annotations.clone(),
            moment: u64::try_from(work.moment.millis() / 1000).unwrap_or(0),
            platform,
            emulated: executor.emulated.clone(),
            secrets: secrets.clone(),
            agents: agents.iter().map(|(id, agent)| (id.clone(), agent.socket.clone())).collect(),
            secret_key: SecretKey(executor.assignment.hash_key.0),
            caches: executor.folder.build_caches(project, is_trusted),
            realm: Realm::of(project, is_trusted),
            compression: compression(executor, work),
            scratch,
        };
        let built = build::build(&input, &executor.folder.store, &site).map_err(|error| match error {
            BuildError::Recipe(faults) => JobError::Asked(shown(executor, &work.recipe, &faults)),
            other => JobError::Asked(format!("{}: {other}", work.recipe)),
        })?;
        layers_hold_none(executor, work, &built)?;
        // What it made is its own, here and where it is pushed to.
        built.image.parts().try_for_each(|part| executor.folder.store.let_have(Some(project), &part))?;
        let what = if work.platforms.len() > 1 {
            format!("{} for {}", built.image.digest, built.platform)
        } else {
            built.image.digest.to_string()
        };
        executor.log.say(&format!("built {what}: {} of {} steps from cache", built.known, built.steps));
        all.push(built);
    }
    let made: Vec<StepRecord> = all.iter().flat_map(|built| built.made.iter().cloned()).collect();
    site.keep(&tag, &made);
    Ok(all)
}

/// What other runners made, where the pipeline says where. A registry that does not tell is no reason not to build.
fn elsewhere(executor: &JobExecutor, work: &ImageWork) -> Option<Elsewhere> {
    let repository = work.cache.as_ref()?;
    let (store, lists) = (&executor.folder.store, &executor.assignment.step_lists);
    match executor.talk(Elsewhere::read(repository, lists, &executor.registries(), store)) {
        Ok(elsewhere) => {
            executor.log.say(&format!("{} steps are cached in {repository}", elsewhere.count()));
            Some(elsewhere)
        }
        Err(error) => {
            executor.log.say(&format!("warning: the cache in {repository} cannot be read: {error}"));
            None
        }
    }
}

/// As the pipeline says, else as the registry does that the image is pushed to first.
fn compression(executor: &JobExecutor, work: &ImageWork) -> Compression {
    let registries = executor.registries();
    let of_registry = || registries.access(work.pushes.first()?.repository.host()).layers;
    match work.layers.or_else(of_registry) {
        Some(LayerForm::Zstd) => Compression::Zstd,
        Some(LayerForm::Gzip) | None => Compression::Gzip,
    }
}

/// Shows faults in the log, and answers the first in a line.
fn shown(executor: &JobExecutor, file: &str, faults: &[Fault]) -> String {
    for fault in faults {
        executor.log.say(fault.render(file).trim_end());
    }
    let Some(first) = faults.first() else { return format!("{file} is faulty") };
    let more = match faults.len() {
        1 => String::new(),
        count => format!(" (and {} more)", count - 1),
    };
    format!("{file}:{}: {}, in `{}`{more}", first.place.line, first.message, first.source.trim())
}
