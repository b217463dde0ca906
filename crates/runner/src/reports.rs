//! Reports, delivered in order, each until the server has it.

use std::time::{Duration, Instant};

use pondrix_api::{Assignment, JobReport, RunnerClient, TimedReport};
use tokio::sync::mpsc;
use tracing::warn;

use crate::contact::Contact;

/// The most reports that are sent together: what comes while others are on their way waits for the next of them.
const MOST_TOGETHER: usize = 32;

/// How long the beginning of a step waits for what comes soon after it: a short command is told whole, in one request.
const AFTER_BEGINNING: Duration = Duration::from_millis(20);
/// How long the end of a step waits for what comes with it: mostly the next one or the end of the job, in a moment.
const AFTER_END: Duration = Duration::from_millis(5);
/// The longest that anything waits for what comes after it.
const LONGEST_WAIT: Duration = Duration::from_millis(25);

/// Takes reports; they are delivered by [`deliver`].
#[derive(Clone, Debug)]
pub(crate) struct Reports(mpsc::UnboundedSender<(JobReport, Instant)>);

impl Reports {
    pub(crate) fn new() -> (Self, mpsc::UnboundedReceiver<(JobReport, Instant)>) {
        let (sender, receiver) = mpsc::unbounded_channel();
        (Self(sender), receiver)
    }

    /// Queues a report. Nobody takes it any more only when the job is no longer ours.
    pub(crate) fn send(&self, report: JobReport) {
        let _ = self.0.send((report, Instant::now()));
    }
}

/// Delivers until every [`Reports`] is dropped and all is delivered. Answers whether all was.
pub(crate) async fn deliver(
    client: &RunnerClient,
    contact: &Contact,
    assignment: &Assignment,
    mut reports: mpsc::UnboundedReceiver<(JobReport, Instant)>,
) -> bool {
    while let Some(first) = reports.recv().await {
        let mut together = vec![first];
        let until = Instant::now() + LONGEST_WAIT;
        while together.len() < MOST_TOGETHER
            && let Some(next) = next(&mut reports, &together, until).await
        {
            together.push(next);
        }
        let timed = |(report, when): &(JobReport, Instant)| TimedReport {
            report: report.clone(),
            ago: u64::try_from(when.elapsed().as_millis()).unwrap_or(u64::MAX),
        };
        let report = || {
            let told: Vec<_> = together.iter().map(timed).collect();
            async move { client.report(assignment, &told).await }
        };
        if let Err(error) = contact.ask(|| true, report).await {
            warn!(%error, "the server refused a report");
            return false;
        }
    }
    true
}

/// What is told together with these reports, as far as it comes soon.
async fn next(
    reports: &mut mpsc::UnboundedReceiver<(JobReport, Instant)>,
    together: &[(JobReport, Instant)],
    until: Instant,
) -> Option<(JobReport, Instant)> {
    let company = match together.last()? {
        // A result may be long: it goes alone, or at the end of others.
        (JobReport::Result { .. }, _) => return None,
        (JobReport::StepStarted { .. }, _) => AFTER_BEGINNING,
        (JobReport::StepEnded { .. }, _) => AFTER_END,
        _ => Duration::ZERO,
    };
    if let Ok(next) = reports.try_recv() {
        return Some(next);
    }
    let wait = company.min(until.saturating_duration_since(Instant::now()));
    if wait.is_zero() {
        return None;
    }
    tokio::time::timeout(wait, reports.recv()).await.ok().flatten()
}
