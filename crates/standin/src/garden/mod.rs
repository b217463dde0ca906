//! Fernhollow Botanic Garden, which does not exist: its repositories and its base image.

mod base;
mod repository;
mod samples;

pub use base::{REGISTRY, base_image};
pub use repository::Repository;
pub use samples::{GLASSHOUSE_BASE, PLANT_LABELS, SampleFile, VISITOR_DESK};
