//! An image job whose images other jobs built, each on a runner of its kind: puts an index over them, and tags it.

use std::collections::BTreeMap;

use pondrix_core::image::{Registries, Tag};
use pondrix_core::run::{JobResult, StepEnd};
use pondrix_core::work::{ImagePart, ImageWork, PushWork};
use pondrix_image::registry::{Registry, push_index};
use pondrix_image::{Descriptor, Index, Platform, media};

use super::context::{End, JobExecutor};
use super::error::JobError;
use super::push::{log_tags, may_set, push_everywhere, tags_are_free, tell_index, why_ended};

pub(crate) fn carry_out(executor: &JobExecutor, work: &ImageWork) -> End {
    executor.is_prepared();
    executor.step_started(0);
    let free = tags_are_free(executor, work);
    for part in &work.parts {
        executor.log.say(&format!("{} is {}", part.platform, part.digest));
    }
    if let Err(error) = free {
        executor.step_ended(0, why_ended(executor).unwrap_or(StepEnd::Exit(1)));
        return End::because(&error);
    }
    executor.step_ended(0, StepEnd::Exit(0));
    push_everywhere(executor, work, |target| send(executor, work, target))
}

/// Pushes the index, and gives it its tags.
fn send(executor: &JobExecutor, work: &ImageWork, target: &PushWork) -> Result<JobResult, JobError> {
    let [first, ..] = &work.parts[..] else { return Err(JobError::asked("there is nothing to put together")) };
    let mut index = Index { annotations: work.annotations.clone(), ..Index::default() };
    if let Some(base) = &first.base {
        // As each of its images says of its own.
        let base = [("name", base.name.clone()), ("digest", base.digest.to_string())];
        index.annotations.extend(base.map(|(key, value)| (format!("org.opencontainers.image.base.{key}"), value)));
    }
    let registries = executor.registries_to_push(&target.repository)?;
    for part in &work.parts {
        index.manifests.push(entry(executor, &registries, target, part)?);
    }
    let ask = async |tag: &Tag, moves| may_set(executor, target, tag, moves).await;
    let pushed = push_index(&index, &target.repository, &target.tags, &target.moving, &registries, ask);
    let (digest, tags) = executor.talk(pushed)?;
    let platforms: Vec<_> = work.parts.iter().map(|part| part.platform.clone()).collect();
    executor.log.say(&format!("pushed {}@{digest}, an index for {}", target.repository, platforms.join(", ")));
    tell_index(executor, target, &digest, &first.digest)?;
    log_tags(executor, &tags);
    Ok(JobResult::Image { repository: target.repository.clone(), digest, tags, base: first.base.clone(), platforms })
}

/// The entry of an image, which is in the registry since another job pushed it.
fn entry(
    executor: &JobExecutor,
    registries: &Registries,
    target: &PushWork,
    part: &ImagePart,
) -> Result<Descriptor, JobError> {
    let platform: Platform = part.platform.parse().map_err(|error| JobError::Asked(format!("{error}")))?;
    let registry = Registry::new(target.repository.host(), registries)?;
    let found = executor.talk(registry.manifest_size(&target.repository, &part.digest));
    let size = found?.ok_or_else(|| {
        JobError::Asked(format!(
            "{} lost {} since it was pushed; start it again: pondrix rerun",
            target.repository, part.digest
        ))
    })?;
    Ok(Descriptor {
        media_type: media::MANIFEST.to_owned(),
        digest: part.digest.clone(),
        size,
        platform: Some(platform),
        annotations: BTreeMap::new(),
        artifact_type: None,
    })
}
