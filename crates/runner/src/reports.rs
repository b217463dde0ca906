//! Reports, delivered in order, each until the server has it.

use std::time::Duration;

use pondrix_api::{Assignment, JobReport, RunnerClient};
use tokio::sync::mpsc;
use tracing::warn;

use crate::contact::Contact;

/// The most reports that are sent together: what comes while others are on their way waits for the next of them.
const MOST_TOGETHER: usize = 32;

/// How long the end of a step waits for what comes with it.
const COMPANY: Duration = Duration::from_millis(5);

/// Takes reports; they are delivered by [`deliver`].
#[derive(Clone, Debug)]
pub(crate) struct Reports(mpsc::UnboundedSender<JobReport>);

impl Reports {
    pub(crate) fn new() -> (Self, mpsc::UnboundedReceiver<JobReport>) {
        let (sender, receiver) = mpsc::unbounded_channel();
        (Self(sender), receiver)
    }

    /// Queues a report. Nobody takes it any more only when the job is no longer ours.
    pub(crate) fn send(&self, report: JobReport) {
        let _ = self.0.send(report);
    }
}

/// Delivers until every [`Reports`] is dropped and all is delivered. Answers whether all was.
pub(crate) async fn deliver(
    client: &RunnerClient,
    contact: &Contact,
    assignment: &Assignment,
    mut reports: mpsc::UnboundedReceiver<JobReport>,
) -> bool {
    while let Some(first) = reports.recv().await {
        let mut together = vec![first];
        // A result may be long: it goes alone, or at the end of others.
        while together.len() < MOST_TOGETHER
            && !matches!(together.last(), Some(JobReport::Result { .. }))
            && let Ok(next) = reports.try_recv()
        {
            together.push(next);
        }
        // What a step's end brings with it, the next one or the end of the job, mostly comes in a moment.
        if matches!(together.last(), Some(JobReport::StepEnded { .. }))
            && let Ok(Some(next)) = tokio::time::timeout(COMPANY, reports.recv()).await
        {
            together.push(next);
        }
        if let Err(error) = contact.ask(|| true, || client.report(assignment, &together)).await {
            warn!(%error, "the server refused a report");
            return false;
        }
    }
    true
}
