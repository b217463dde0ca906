//! Fernhollow Botanic Garden, which does not exist: its repositories and its base image.

mod base;
mod repository;
mod samples;

pub use base::{BaseImages, REGISTRY, base_files, base_images};
pub use repository::Repository;
pub use samples::{GLASSHOUSE_BASE, PLANT_LABELS, SampleFile, VISITOR_DESK};
