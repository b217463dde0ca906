//! Whether a run's commit is in the branch or tag that it is a run of.

use pondrix_core::work::RunFacts;
use tracing::error;

use super::{Engine, locked};
use crate::store::{self, StoreError};

/// How many answers are kept.
pub(super) const ANSWERS_KEPT: usize = 512;

impl Engine {
    /// Whether a run's branch or tag has its commit, in the server's copy of the repository as it was last fetched. If that
    /// cannot be found out, it does not.
    pub(crate) async fn is_in_ref(&self, facts: &RunFacts) -> Result<bool, StoreError> {
        let name = facts.id.project.clone();
        let project = self.store.read(move |c| store::project(c, name.as_str())).await?;
        let Some(project) = project.filter(|_| !facts.is_try) else { return Ok(false) };
        let reference = match &facts.tag {
            Some(tag) => format!("refs/tags/{tag}"),
            None => format!("refs/heads/{}", facts.branch),
        };
        // Only a fetch changes the copy. What was asked before the end of one is not what is asked after it.
        let fetches = locked(&self.fetches).get(&project.id).copied().unwrap_or(0);
        let question = format!("{} {fetches} {} {reference}", project.id, facts.commit);
        if let Some(known) = self.in_ref.get(&question) {
            return Ok(known);
        }
        match self.repository(&project).contains(&reference, &facts.commit).await {
            Ok(is_in) => {
                self.in_ref.keep(question, is_in);
                Ok(is_in)
            }
            Err(error) => {
                error!(run = %facts.id, reference, %error, "whether the commit is in it cannot be found out");
                Ok(false)
            }
        }
    }
}
