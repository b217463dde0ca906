//! Reports, delivered in order, each until the server has it.

use pondrix_api::{Assignment, Report, RunnerClient};
use pondrix_core::run::Event;
use tokio::sync::mpsc;
use tracing::warn;

use crate::contact::Contact;

/// Takes reports; they are delivered by [`deliver`].
#[derive(Clone, Debug)]
pub(crate) struct Reports(mpsc::UnboundedSender<Event>);

impl Reports {
    pub(crate) fn new() -> (Self, mpsc::UnboundedReceiver<Event>) {
        let (sender, receiver) = mpsc::unbounded_channel();
        (Self(sender), receiver)
    }

    /// Queues a report. Nobody takes it any more only when the job is no longer ours.
    pub(crate) fn send(&self, event: Event) {
        let _ = self.0.send(event);
    }
}

/// Delivers until every [`Reports`] is dropped and all is delivered. Answers whether all was.
pub(crate) async fn deliver(
    client: &RunnerClient,
    contact: &Contact,
    assignment: &Assignment,
    mut reports: mpsc::UnboundedReceiver<Event>,
) -> bool {
    while let Some(event) = reports.recv().await {
        let report = Report { event };
        if let Err(error) = contact.ask(|| true, || client.report(assignment, &report)).await {
            warn!(%error, "the server refused a report");
            return false;
        }
    }
    true
}
