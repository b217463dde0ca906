//! Approvals: people's answers, and answers that never come.

use std::sync::Arc;

use pondrix_core::State;
use pondrix_core::pipeline::Approval;
use pondrix_core::run::{Event, Run};
use tracing::warn;

use super::{Engine, EngineError, LiveRun, locked};
use crate::clock::now;

/// The stage of a run that waits for an answer.
pub(crate) fn asking(run: &Run) -> Option<&str> {
    run.stages.iter().find(|stage| stage.state == State::Waiting).map(|stage| stage.name.as_str())
}

/// What it asks.
pub(crate) fn asked(run: &Run) -> Option<&Approval> {
    run.stages.iter().find(|stage| stage.state == State::Waiting)?.approval.as_ref()
}

impl Engine {
    /// Answers the approval that a run waits for. Answers the stage; nothing when it waits for none.
    pub(crate) async fn answer(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        yes: bool,
        by: &str,
    ) -> Result<Option<String>, EngineError> {
        let stage = asking(&live.state.lock().await.run).map(str::to_owned);
        let Some(stage) = stage else { return Ok(None) };
        let answered = Event::Answered { stage: stage.clone(), yes, by: by.to_owned() };
        self.record(live, &answered).await?;
        Ok(Some(stage))
    }

    /// Takes it as a no where nobody answered in time.
    pub(crate) async fn give_up_unanswered(self: &Arc<Self>) {
        let all: Vec<_> = locked(&self.live).values().cloned().collect();
        for live in all {
            let late = {
                let state = live.state.lock().await;
                state.run.stages.iter().any(|stage| {
                    let limit = stage.approval.as_ref().and_then(|approval| approval.within);
                    stage.state == State::Waiting
                        && stage
                            .asked
                            .zip(limit)
                            .is_some_and(|(asked, limit)| now().since(asked) > u64::from(limit.seconds()) * 1000)
                })
            };
            if late && let Err(error) = self.answer(&live, false, "nobody").await {
                warn!(run = %live.row.facts.id, %error, "an approval could not be given up");
            }
        }
    }
}
