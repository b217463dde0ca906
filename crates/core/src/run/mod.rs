//! A run as a state machine.
//!
//! [`Run::apply`] is the only way a run changes: an [`Event`] comes in with the moment it happened,
//! the state changes, and [`Effect`]s say what is now to be done. The server stores the event
//! before it acts on the effects, and finds the effects that were still owed with
//! [`Run::outstanding`] when it starts again.

mod event;
mod jobs;
mod machine;
mod model;

pub use event::{BaseImage, Effect, Event, JobResult, JobUsage, Outcome, PreflightFault, StepEnd};
pub use jobs::Jobs;
pub use machine::Refused;
pub use model::{Answer, Attempt, Hold, JobRun, Run, StageRun, StepRun};
