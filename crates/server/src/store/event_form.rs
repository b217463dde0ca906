//! Events as they are stored: a form of their own, with a version that is read.
//!
//! What is stored today is read by every later version of the server. The form may gain kinds and fields with a
//! default without becoming another version; whatever changes the meaning of what is there makes a new version, and
//! the old one stays readable.

use pondrix_core::run::{Event, JobResult, JobUsage, Outcome, PreflightFault, StepEnd};
use pondrix_core::{JobKey, RunId};
use serde::{Deserialize, Serialize};

use super::StoreError;

/// The version that is written. Version 1 had fewer kinds.
pub(super) const VERSION: i64 = 2;

/// An event of version 1 or 2.
#[derive(Debug, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
enum Stored {
    Carried {
        job: JobKey,
        from: RunId,
        results: Vec<JobResult>,
    },
    PreflightBegan,
    PreflightFailed {
        missing: Vec<PreflightFault>,
    },
    Began,
    JobTaken {
        job: JobKey,
        runner: String,
    },
    JobPrepared {
        job: JobKey,
    },
    JobReturned {
        job: JobKey,
    },
    StepStarted {
        job: JobKey,
        step: usize,
        log: u64,
    },
    StepEnded {
        job: JobKey,
        step: usize,
        end: StepEnd,
        log: u64,
    },
    ResultAdded {
        job: JobKey,
        result: JobResult,
    },
    JobEnded {
        job: JobKey,
        outcome: Outcome,
        reason: Option<String>,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        usage: Option<JobUsage>,
    },
    Answered {
        stage: String,
        yes: bool,
        by: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        teams: Option<Vec<String>>,
    },
    StopAsked {
        by: String,
    },
}

impl From<Event> for Stored {
    fn from(event: Event) -> Self {
        match event {
            Event::Carried { job, from, results } => Self::Carried { job, from, results },
            Event::PreflightBegan => Self::PreflightBegan,
            Event::PreflightFailed { missing } => Self::PreflightFailed { missing },
            Event::Began => Self::Began,
            Event::JobTaken { job, runner } => Self::JobTaken { job, runner },
            Event::JobPrepared { job } => Self::JobPrepared { job },
            Event::JobReturned { job } => Self::JobReturned { job },
            Event::StepStarted { job, step, log } => Self::StepStarted { job, step, log },
            Event::StepEnded { job, step, end, log } => Self::StepEnded { job, step, end, log },
            Event::ResultAdded { job, result } => Self::ResultAdded { job, result },
            Event::JobEnded { job, outcome, reason, usage } => Self::JobEnded { job, outcome, reason, usage },
            Event::Answered { stage, yes, by, teams } => Self::Answered { stage, yes, by, teams },
            Event::StopAsked { by } => Self::StopAsked { by },
        }
    }
}

impl From<Stored> for Event {
    fn from(stored: Stored) -> Self {
        match stored {
            Stored::Carried { job, from, results } => Self::Carried { job, from, results },
            Stored::PreflightBegan => Self::PreflightBegan,
            Stored::PreflightFailed { missing } => Self::PreflightFailed { missing },
            Stored::Began => Self::Began,
            Stored::JobTaken { job, runner } => Self::JobTaken { job, runner },
            Stored::JobPrepared { job } => Self::JobPrepared { job },
            Stored::JobReturned { job } => Self::JobReturned { job },
            Stored::StepStarted { job, step, log } => Self::StepStarted { job, step, log },
            Stored::StepEnded { job, step, end, log } => Self::StepEnded { job, step, end, log },
            Stored::ResultAdded { job, result } => Self::ResultAdded { job, result },
            Stored::JobEnded { job, outcome, reason, usage } => Self::JobEnded { job, outcome, reason, usage },
            Stored::Answered { stage, yes, by, teams } => Self::Answered { stage, yes, by, teams },
            Stored::StopAsked { by } => Self::StopAsked { by },
        }
    }
}

/// An event with the form in which it is stored: made before it is written, so that no other write waits for that.
#[derive(Clone, Debug)]
pub(crate) struct EncodedEvent {
    event: Event,
    document: String,
}

impl EncodedEvent {
    pub(crate) fn new(event: Event) -> Result<Self, StoreError> {
        Ok(Self { document: serde_json::to_string(&Stored::from(event.clone()))?, event })
    }

    pub(crate) const fn event(&self) -> &Event {
        &self.event
    }

    /// Its document, of version [`VERSION`].
    pub(super) fn document(&self) -> &str {
        &self.document
    }
}

/// The event of a document.
///
/// # Errors
/// When its version is a later one, or it does not parse.
pub(super) fn decode(version: i64, body: &str) -> Result<Event, StoreError> {
    match version {
        1 | VERSION => Ok(serde_json::from_str::<Stored>(body)?.into()),
        found => Err(StoreError::DocumentVersion { what: "event", found, known: VERSION }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// One document of each kind, as the first server of its version wrote it.
    const DOCUMENTS: [&str; 15] = [
        r#"{"event":"carried","job":"a/b","from":"pond#1","results":[{"kind":"output","name":"n","value":"v"}]}"#,
        r#"{"event":"preflight-began"}"#,
        r#"{"event":"preflight-failed","missing":[{"job":"a/b","what":"w","fix":"f"}]}"#,
        r#"{"event":"began"}"#,
        r#"{"event":"job-taken","job":"a/b","runner":"wren"}"#,
        r#"{"event":"job-prepared","job":"a/b"}"#,
        r#"{"event":"job-returned","job":"a/b"}"#,
        r#"{"event":"step-started","job":"a/b","step":0,"log":7}"#,
        r#"{"event":"step-ended","job":"a/b","step":0,"end":{"exit":3},"log":9}"#,
        r#"{"event":"step-ended","job":"a/b","step":1,"end":"timed-out","log":9}"#,
        r#"{"event":"result-added","job":"a/b","result":{"kind":"output","name":"n","value":"v"}}"#,
        r#"{"event":"job-ended","job":"a/b","outcome":"failed","reason":null}"#,
        r#"{"event":"answered","stage":"s","yes":true,"by":"ines"}"#,
        r#"{"event":"answered","stage":"s","yes":true,"by":"ines","teams":["keepers"]}"#,
        r#"{"event":"stop-asked","by":"otto"}"#,
    ];

    #[test]
    fn every_kind_of_event_is_read_and_written_as_it_always_was() {
        for document in DOCUMENTS {
            let event = decode(VERSION, document).unwrap();
            assert_eq!(EncodedEvent::new(event.clone()).unwrap().document(), document);
            assert_eq!(decode(1, document).unwrap(), event);
        }
    }

    #[test]
    fn a_document_of_a_later_version_is_told_from_one_that_makes_no_sense() {
        let later = decode(VERSION + 1, DOCUMENTS[0]).unwrap_err();
        assert_eq!(later.to_string(), "a stored event is of version 3, and this server knows 2");
        assert!(matches!(decode(VERSION, "{}"), Err(StoreError::Document(_))));
    }
}
