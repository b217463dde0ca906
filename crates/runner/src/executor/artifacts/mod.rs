//! Files of jobs beside the commit's: artifacts, caches, outputs, test reports.

mod cache;
mod fetch;
mod outputs;
mod upload;
mod walk;

pub(crate) use cache::{restore, save};
pub(crate) use fetch::fetch;
pub(crate) use outputs::{outputs, test_reports};
pub(crate) use upload::upload;
