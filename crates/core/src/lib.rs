//! The computation of Pondrix: the pipeline language, the run as a state machine, text templates,
//! image names and tags, and the judgement of a rollout's health.
//!
//! Everything here is a pure function of its arguments: no I/O, no async, no clock. Time comes in
//! as [`Time`]; what should happen next goes out as plain data ([`run::Effect`]).

pub mod access;
mod allowance;
pub mod audit;
pub mod configuration;
pub mod draft;
mod duration;
pub mod file_times;
mod id;
pub mod identity;
pub mod image;
pub mod junit;
pub mod mask;
pub mod matcher;
pub mod object_name;
pub mod pipeline;
pub mod plan;
pub mod queue;
pub mod quota;
mod recent;
pub mod retention;
pub mod rollout;
pub mod run;
mod schedule;
pub mod secrets_file;
mod size;
mod state;
pub mod template;
pub mod terminal;
mod time;
pub mod work;

pub use allowance::{Allowance, Rate};
pub use duration::{Duration, DurationError};
pub use id::{JobKey, NameError, ProjectName, RunId};
pub use recent::Recent;
pub use schedule::{Schedule, ScheduleError};
pub use size::{Size, SizeError};
pub use state::{State, UnknownState};
pub use time::Time;
