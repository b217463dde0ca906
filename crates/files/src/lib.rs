//! Files that somebody else made: what a job, an image, a repository or a cache left on this machine.
//!
//! Such a folder may be 100,000 levels deep, hold a million files, have links to anywhere, and files of terabytes that
//! take no room. Whoever reads, counts or removes it here does so by handles of open folders, follows no link, needs no
//! more stack for a deeper folder, keeps a fixed number of descriptors open, and can be told to give up.

mod folder;
mod remove;
mod temporary;
mod usage;
mod walk;
mod watch;

pub use remove::{move_aside, remove, remove_at};
pub use temporary::TemporaryFolder;
pub use usage::usage;
pub use walk::{Bounds, DEEPEST, Found, LONGEST_PATH, Order, beginning, walk};
pub use watch::{GivenUp, Watch, Watched};
