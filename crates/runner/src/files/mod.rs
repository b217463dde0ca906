//! Files of jobs beside the commit's: what they keep and take, find again, hand on, and report.

mod cache;
mod collect;
mod keep;
mod store;
mod take;
mod walk;

pub(crate) use cache::{restore, save};
pub(crate) use collect::{outputs, reports};
pub(crate) use keep::keep;
pub(crate) use store::Contents;
pub(crate) use take::take;
