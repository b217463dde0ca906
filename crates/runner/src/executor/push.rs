//! Pushing what a job made: the tags, and what the server is told of them.

use std::time::Duration;

use pondrix_api::{IndexRecord, JobReport, TagAnswer, TagQuestion};
use pondrix_core::image::{Digest, Tag};
use pondrix_core::run::{JobResult, Outcome, StepEnd};
use pondrix_core::work::{ImageWork, PushWork};
use pondrix_image::registry::{Registry, RegistryError};

use super::context::{End, JobExecutor};
use super::error::{Doing, JobError};

/// How long is waited before it is asked again whether a tag may be set that another job is about to set.
const TAG_PAUSE: Duration = Duration::from_millis(200);

/// The second step: pushes what the first one made to every place that the pipeline names.
pub(crate) fn push_everywhere(
    executor: &JobExecutor,
    work: &ImageWork,
    send: impl Fn(&PushWork) -> Result<JobResult, JobError>,
) -> End {
    executor.step_started(1);
    for target in &work.pushes {
        if let Some(end) = why_ended(executor) {
            executor.step_ended(1, end);
            return End::failed("ended before the push");
        }
        match send(target) {
            Ok(result) => executor.report(JobReport::Result { result }),
            Err(error) => {
                executor.step_ended(1, StepEnd::Exit(1));
                return End::because(&error);
            }
        }
    }
    executor.step_ended(1, StepEnd::Exit(0));
    End { outcome: Outcome::Passed, reason: None }
}

/// Looks, before anything is built, whether a tag that is pushed once names an image of another commit already.
/// One of the same commit may be what is built now.
pub(crate) fn tags_are_free(executor: &JobExecutor, work: &ImageWork) -> Result<(), JobError> {
    let revision = work.annotations.get("org.opencontainers.image.revision");
    for target in &work.pushes {
        let registries = executor.registries();
        let registry = Registry::new(target.repository.host(), &registries)?;
        for tag in &target.tags {
            let found = executor.talk(registry.revision_of(&target.repository, tag))?;
            if let Some((digest, _)) = found.filter(|(_, of)| of.as_ref() != revision) {
                let taken = RegistryError::TagTaken {
                    tag: tag.to_string(),
                    repository: target.repository.to_string(),
                    found: digest.short(),
                };
                return Err(taken.into());
            }
        }
    }
    Ok(())
}

/// Asks the server, just before a tag is set, whether it may be: the job must still be this runner's, and a tag that
/// moves must not move back to an earlier commit.
pub(crate) async fn may_set(
    executor: &JobExecutor,
    target: &PushWork,
    tag: &Tag,
    moves: bool,
) -> Result<bool, RegistryError> {
    let question = TagQuestion { repository: target.repository.clone(), tag: tag.clone(), moves };
    let goes_on = || !executor.is_halted() && !executor.is_out_of_time();
    loop {
        let ask = || executor.client.may_tag(&executor.assignment, &question);
        let answer = executor.contact.ask(goes_on, ask).await;
        let unconfirmed = |words: String| RegistryError::Unconfirmed { tag: tag.to_string(), words };
        match answer.map_err(|error| unconfirmed(error.to_string()))? {
            TagAnswer::Set => return Ok(true),
            TagAnswer::Wait if goes_on() => tokio::time::sleep(TAG_PAUSE).await,
            TagAnswer::Wait => return Err(unconfirmed("another job is about to set it".to_owned())),
            TagAnswer::Leave { overtaken_by } => {
                executor.log.say(&format!(
                    "overtaken by {overtaken_by}, which carries a later commit: the tag {tag} is left as it is"
                ));
                return Ok(false);
            }
        }
    }
}

/// Tells of the tags that were set.
pub(crate) fn log_tags(executor: &JobExecutor, set: &[Tag]) {
    let names: Vec<_> = set.iter().map(ToString::to_string).collect();
    // An image that another job puts into an index has none.
    if !names.is_empty() {
        executor.log.say(&format!("tagged {}", names.join(", ")));
    }
}

/// Tells the server of an index. What is told of it is told of its first image.
pub(crate) fn tell_index(
    executor: &JobExecutor,
    target: &PushWork,
    index: &Digest,
    first: &Digest,
) -> Result<(), JobError> {
    let record = IndexRecord { repository: target.repository.clone(), digest: index.clone(), image: first.clone() };
    let told = executor.ask(async |client, assignment| client.put_index(assignment, &record).await);
    told.doing(|| "what is in the index could not be told".to_owned())
}

pub(crate) fn why_ended(executor: &JobExecutor) -> Option<StepEnd> {
    if executor.is_halted() {
        Some(StepEnd::Stopped)
    } else if executor.is_out_of_time() {
        Some(StepEnd::TimedOut)
    } else {
        None
    }
}
