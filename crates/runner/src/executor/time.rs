//! How long a job may take.

use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use pondrix_files::Watch;

use crate::contact::Contact;

/// How long everything may take that comes before the first step: the commit's files, images, services, caches.
const PREPARE_TIME: Duration = Duration::from_secs(30 * 60);

/// The time of a job. It has three parts, each with a limit: getting ready; its steps; and, when these are over, keeping
/// what they leave, which may take as long as they.
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
    /// Of a job that was taken now.
    pub(crate) fn new(limit: pondrix_core::Duration) -> Self {
        let parts = Parts { limit, taken: Instant::now(), prepared: OnceLock::new(), leaving: OnceLock::new() };
        Self(Arc::new(parts))
    }

    /// Everything is ready for the first step. Answers whether that is new.
    pub(crate) fn is_prepared(&self) -> bool {
        self.0.prepared.set(Instant::now()).is_ok()
    }

    /// The steps are over.
    pub(crate) fn begin_leaving(&self) {
        let _ = self.0.leaving.set(Instant::now());
    }

    /// When the part began in which the job is, and how long that may take.
    fn part(&self) -> (Instant, Duration) {
        let limit = self.0.limit.to_std();
        match (self.0.leaving.get(), self.0.prepared.get()) {
            (Some(leaving), _) => (*leaving, limit),
            (None, Some(prepared)) => (*prepared, limit),
            (None, None) => (self.0.taken, PREPARE_TIME),
        }
    }

    /// Whether the job has taken longer than it may.
    pub(crate) fn is_over(&self) -> bool {
        let (begun, limit) = self.part();
        begun.elapsed() >= limit
    }

    /// The words for a job that has taken longer than it may.
    pub(crate) fn words(&self) -> String {
        let limit = self.0.limit;
        match (self.0.leaving.get(), self.0.prepared.get()) {
            (Some(_), _) => format!(
                "keeping what the job leaves took longer than {limit}, the job's limit, which counts anew after its steps"
            ),
            (None, Some(_)) => format!("the job took longer than its limit of {limit}"),
            (None, None) => format!(
                "getting ready for the job took longer than {} minutes, which is its limit everywhere",
                PREPARE_TIME.as_secs() / 60
            ),
        }
    }

    /// Ends long work when the job is to end, or has taken longer than it may.
    pub(crate) fn watch(&self, contact: &Contact) -> Watch {
        let (time, contact) = (self.clone(), contact.clone());
        Watch::new(move || match contact.ending() {
            Some(_) => Some("the job was ended".to_owned()),
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
        assert!(over.words().starts_with("keeping what the job leaves took longer than"));
        assert_eq!(over.watch(&contact).check().unwrap_err().to_string(), over.words());
        contact.end(Ending::Halted);
        assert_eq!(watch.check().unwrap_err().to_string(), "the job was ended");
    }
}
