//! Walks, counts and removes untrusted folders: files from a job, an image, a repository or a cache.
//!
//! An untrusted folder may be 100,000 levels deep, hold a million files, contain links to any path, and contain sparse
//! files of terabytes. All functions here work on handles of open folders and never follow a link. They use loops, so
//! that depth does not cost stack, and a fixed number of file descriptors. Long operations stop when a [`Watch`] says so.

mod folder;
mod remove;
mod space;
mod temporary;
mod usage;
mod walk;
mod watch;

pub use remove::{move_aside, remove, remove_at};
pub use space::{FreeSpace, STAYS_FREE, copy, copy_with_holes, has_room};
pub use temporary::TemporaryFolder;
pub use usage::usage;
pub use walk::{Bounds, DEEPEST, Found, LONGEST_PATH, Order, beginning, walk};
pub use watch::{GivenUp, Watch, Watched};
