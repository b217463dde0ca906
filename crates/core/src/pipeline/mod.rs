//! The pipeline language: `pondrix.kdl`, in KDL 2.
//!
//! [`read`] turns a text into a [`Pipeline`] or into all its faults at once, each with the place it
//! stands at. [`Fault::render`] shows a fault as a compiler would.

mod check;
mod fault;
mod limits;
mod model;
mod nodes;
mod notation;
mod pattern;
mod read;
mod secret_name;
mod synonyms;
pub(crate) mod tree;
mod variables;

pub(crate) use fault::help_for_unknown;
pub use fault::{Fault, Place, Span, nearest};
pub use limits::LONGEST_FILE;
pub use model::{
    Allowed, Approval, Artifact, Axis, BuildSecret, Cache, Condition, Conditions, Destination, Fetch, FileSystem,
    IdentityUse, ImageJob, Input, InputKind, Job, JobKind, LayerForm, Limits, Matrix, Needs, Network, NoTemplate,
    OnFailure, Output, Pipeline, Push, Ready, RequiredResult, Retry, RolloutJob, SECRET_FOLDER, SecretUse, Service,
    Spanned, Stage, StartKind, StartRule, Step, StepsJob, TemplateName, TemplateNameError, Templates, UnknownStart,
};
pub use pattern::{Pattern, PatternError};
pub use read::{fault_at, is_plain, read, read_with, uses, words};
pub use secret_name::{SecretName, SecretNameError};
pub use variables::{HASH, INPUT, JOB, MATRIX, VARIABLES};

/// The pipeline file's name at the root of a repository.
pub const FILE_NAME: &str = "pondrix.kdl";
