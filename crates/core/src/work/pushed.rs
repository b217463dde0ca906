//! The image that an image job of a run pushed, for those that use it.

use super::WorkError;
use crate::State;
use crate::image::{Digest, Reference, Repository, Tag};
use crate::plan::Plan;
use crate::run::{JobResult, Run};

/// An image that a job of a run pushed, where it pushed it first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PushedImage {
    /// The repository.
    pub repository: Repository,
    /// Its digest.
    pub digest: Digest,
    /// The first of its tags there.
    pub tag: Option<Tag>,
}

impl PushedImage {
    /// The image of an image job, by the job's name in the file.
    ///
    /// # Errors
    /// When the plan has no such job, or the job did not pass.
    pub fn of_job(name: &str, plan: &Plan, run: &Run) -> Result<Self, WorkError> {
        let (planned, _) = plan.image_job(name).ok_or_else(|| WorkError::NoImageJob(name.to_owned()))?;
        let job = run.job(&planned.key).filter(|job| job.state == State::Passed);
        let image = job.map_or(&[][..], |job| &job.results).iter().find_map(|result| match result {
            JobResult::Image { repository, digest, tags, .. } => {
                Some(Self { repository: repository.clone(), digest: digest.clone(), tag: tags.first().cloned() })
            }
            _ => None,
        });
        image.ok_or_else(|| WorkError::NoImage(planned.key.clone()))
    }

    /// Its name, by digest.
    #[must_use]
    pub fn reference(&self) -> Reference {
        self.repository.at(self.digest.clone())
    }
}
