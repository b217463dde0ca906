//! The pipeline language: `pondrix.kdl`, in KDL 2.
//!
//! [`read`] turns a text into a [`Pipeline`] or into all its faults at once, each with the place it
//! stands at. [`Fault::render`] shows a fault as a compiler would.

mod check;
mod fault;
mod model;
mod nodes;
mod pattern;
mod read;
mod secret_name;
mod tree;
mod variables;

pub(crate) use fault::help_for_unknown;
pub use fault::{Fault, Place, Span, nearest};
pub use model::{
    Approval, Ask, AskKind, Axis, Beside, BuildSecret, Cache, Condition, Conditions, Destination, Earlier, ImageJob,
    Job, JobKind, Keep, LayerForm, Limits, Matrix, Needs, Network, ON_HOST, Output, Pipeline, Push, Ready, Retry,
    RolloutJob, SECRET_FOLDER, SecretUse, Spanned, Stage, StartKind, StartRule, Step, StepsJob, Take, TemplateName,
    Templates,
};
pub use pattern::Pattern;
pub use read::{fault_at, read, read_with, uses, words};
pub use secret_name::{SecretName, SecretNameError};
pub use variables::{HASH, INPUT, JOB, MATRIX, VARIABLES};

/// The pipeline file's name at the root of a repository.
pub const FILE_NAME: &str = "pondrix.kdl";
