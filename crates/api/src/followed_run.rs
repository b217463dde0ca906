//! A run as its stream tells it.

use crate::{RunDetail, ServerEvent};

/// A run that is followed ([`Client::follow_run`](crate::Client::follow_run)): the stream tells it whole, and then what
/// changes of it.
#[derive(Clone, Debug, Default)]
pub struct FollowedRun(Option<RunDetail>);

impl FollowedRun {
    /// The run after an event; nothing where it has not been told yet.
    ///
    /// # Errors
    /// When the event makes no sense.
    pub fn take(&mut self, event: &ServerEvent) -> Result<Option<&RunDetail>, serde_json::Error> {
        match (event.kind.as_str(), &mut self.0) {
            ("run", _) => self.0 = Some(serde_json::from_str(&event.data)?),
            ("update", Some(run)) => run.update(serde_json::from_str(&event.data)?),
            _ => {}
        }
        Ok(self.0.as_ref())
    }

    /// The run as it was told last.
    #[must_use]
    pub fn into_last(self) -> Option<RunDetail> {
        self.0
    }
}
