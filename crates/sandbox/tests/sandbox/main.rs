//! What a sandbox shows, hides, limits and leaves behind, as root and as an ordinary user.
//!
//! Each test runs its check as whoever runs the tests and, when that is root, once more in a process
//! that has become an ordinary user.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod commands;
mod disk_weights;
mod functions;
mod limits;
mod mounts;
mod network;
mod place;
mod shared_mounts;
mod terminal;
