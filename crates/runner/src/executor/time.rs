//! Time limits of a job.

use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use pondrix_files::Watch;

use crate::contact::Contact;

/// Time limit of the preparation: the commit's files, images, services, caches.
const PREPARE_TIME: Duration = Duration::from_secs(30 * 60);

/// The time of a job. Three phases have a limit each: preparation, steps, and storing results. The limit of the steps applies
/// once more to storing results.
#[derive(Clone, Debug)]
pub(crate) struct JobTime(Arc<Parts>);

#[derive(Debug)]
struct Parts {
    limit: pondrix_core::Duration,
    taken: Instant,
    prepared: OnceLock<Instant>,
    leaving: OnceLock<Instant>,
}

impl JobTime {
    /// Starts the preparation phase.
    pub(crate) fn new(limit: pondrix_core::Duration) -> Self {
        let parts = Parts { limit, taken: Instant::now(), prepared: OnceLock::new(), leaving: OnceLock::new() };
        Self(Arc::new(parts))
    }

    /// Starts the phase of the steps. Returns false if it has started before.
    pub(crate) fn is_prepared(&self) -> bool {
        self.0.prepared.set(Instant::now()).is_ok()
    }

    /// Starts the phase of storing results.
    pub(crate) fn begin_leaving(&self) {
        let _ = self.0.leaving.set(Instant::now());
    }

    /// Start and limit of the current phase.
    fn part(&self) -> (Instant, Duration) {
        let limit = self.0.limit.to_std();
        match (self.0.leaving.get(), self.0.prepared.get()) {
            (Some(leaving), _) => (*leaving, limit),
            (None, Some(prepared)) => (*prepared, limit),
            (None, None) => (self.0.taken, PREPARE_TIME),
        }
    }

    /// Returns true if the current phase exceeds its limit.
    pub(crate) fn is_over(&self) -> bool {
        let (begun, limit) = self.part();
        begun.elapsed() >= limit
    }

    /// The message for a job that exceeds its limit.
    pub(crate) fn words(&self) -> String {
        let limit = self.0.limit;
        match (self.0.leaving.get(), self.0.prepared.get()) {
            (Some(_), _) => format!(
                "storing the job's artifacts, caches and reports took longer than {limit} (the job's time limit, which starts again \
                 after the last step)"
            ),
            (None, Some(_)) => format!("the job took longer than its limit of {limit}"),
            (None, None) => format!(
                "getting ready for the job took longer than {} minutes, which is its limit everywhere",
                PREPARE_TIME.as_secs() / 60
            ),
        }
    }

    /// Cancels long operations when the job is stopped or exceeds its limit.
    pub(crate) fn watch(&self, contact: &Contact) -> Watch {
        let (time, contact) = (self.clone(), contact.clone());
        Watch::new(move || match contact.ending() {
            Some(_) => Some("the job was stopped".to_owned()),
            None => time.is_over().then(|| time.words()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contact::Ending;

    #[test]
    fn each_part_of_a_job_has_a_limit_and_the_last_begins_anew() {
        let time = JobTime::new(pondrix_core::Duration::from_seconds(60));
        let contact = Contact::new(Duration::from_secs(30));
        let watch = time.watch(&contact);
        assert!(!time.is_over() && watch.check().is_ok());
        assert!(time.is_prepared() && !time.is_prepared());
        let over = JobTime::new(pondrix_core::Duration::from_seconds(0));
        over.is_prepared();
        assert!(over.is_over());
        assert!(over.words().starts_with("the job took longer than its limit of"));
        over.begin_leaving();
        assert!(over.words().starts_with("storing the job's artifacts, caches and reports took longer than"));
        assert_eq!(over.watch(&contact).check().unwrap_err().to_string(), over.words());
        contact.end(Ending::Halted);
        assert_eq!(watch.check().unwrap_err().to_string(), "the job was stopped");
    }
}
