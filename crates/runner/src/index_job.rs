//! An image job whose images other jobs built, each on a runner of its kind: puts an index over them, and tags it.

use std::collections::BTreeMap;

use pondrix_core::run::{Product, StepEnd};
use pondrix_core::work::{ImagePart, ImageWork, PushWork};
use pondrix_image::registry::{Registry, push_index};
use pondrix_image::{Descriptor, Index, Platform, media};

use crate::image_job::{push_everywhere, tags_are_free, tell_index, tell_tags, why_ended};
use crate::job::{End, Hands};

pub(crate) fn carry_out(hands: &Hands, work: &ImageWork) -> End {
    hands.step_started(0);
    let free = tags_are_free(hands, work);
    for part in &work.parts {
        hands.log.say(&format!("{} is {}", part.platform, part.digest));
    }
    if let Err(words) = free {
        hands.step_ended(0, why_ended(hands).unwrap_or(StepEnd::Exit(1)));
        return End::failed(words);
    }
    hands.step_ended(0, StepEnd::Exit(0));
    push_everywhere(hands, work, |target| send(hands, work, target))
}

/// Pushes the index, and gives it its tags.
fn send(hands: &Hands, work: &ImageWork, target: &PushWork) -> Result<Product, String> {
    let [first, ..] = &work.parts[..] else { return Err("there is nothing to put together".to_owned()) };
    let mut index = Index { annotations: work.annotations.clone(), ..Index::default() };
    if let Some(base) = &first.base {
        // As each of its images says of its own.
        let base = [("name", base.name.clone()), ("digest", base.digest.to_string())];
        index.annotations.extend(base.map(|(key, value)| (format!("org.opencontainers.image.base.{key}"), value)));
    }
    for part in &work.parts {
        index.manifests.push(entry(hands, target, part)?);
    }
    let registries = hands.registries();
    let pushed = push_index(&index, &target.repository, &target.tags, &target.moving, &registries);
    let digest = hands.block_on(pushed).map_err(|error| error.to_string())?;
    let platforms: Vec<_> = work.parts.iter().map(|part| part.platform.clone()).collect();
    hands.log.say(&format!("pushed {}@{digest}, an index for {}", target.repository, platforms.join(", ")));
    tell_index(hands, target, &digest, &first.digest)?;
    let tags = tell_tags(hands, target);
    Ok(Product::Image { repository: target.repository.clone(), digest, tags, base: first.base.clone(), platforms })
}

/// The entry of an image, which is in the registry since another job pushed it.
fn entry(hands: &Hands, target: &PushWork, part: &ImagePart) -> Result<Descriptor, String> {
    let platform: Platform = part.platform.parse().map_err(|error| format!("{error}"))?;
    let registries = hands.registries();
    let registry = Registry::new(target.repository.host(), &registries).map_err(|error| error.to_string())?;
    let found = hands.block_on(registry.manifest_size(&target.repository, &part.digest));
    let size = found.map_err(|error| error.to_string())?.ok_or_else(|| {
        format!("{} lost {} since it was pushed; start it again: pondrix rerun", target.repository, part.digest)
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
