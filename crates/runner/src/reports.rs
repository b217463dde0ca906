//! Reports, delivered in order, each until the server has it.

use std::time::Duration;

use pondrix_api::{Assignment, ClientError, Report, RunnerClient};
use pondrix_core::run::Event;
use tokio::sync::mpsc;
use tracing::warn;

/// How long to wait before sending again to a server that did not answer.
const PAUSE: Duration = Duration::from_millis(200);

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
    assignment: &Assignment,
    mut reports: mpsc::UnboundedReceiver<Event>,
) -> bool {
    while let Some(event) = reports.recv().await {
        let report = Report { event };
        loop {
            match client.report(assignment, &report).await {
                Ok(()) => break,
                Err(ClientError::Problem(problem)) if problem.status < 500 => {
                    warn!(problem = problem.detail, "the server refused a report");
                    return false;
                }
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    }
    true
}
