//! The server: API and console, the engine that carries runs through their pipelines, the watchers
//! of repositories, the rollout controller, and the records.
//!
//! [`Server::open`] reads the records; [`Server::serve`] answers on a listener until it is told to
//! stop. An event is stored before anything acts on it, so that the process may be killed at any
//! moment: what was stored goes on when it starts again, and what was not had not happened.

mod access;
mod archives;
mod audit;
mod backoff;
mod backup;
mod connections;
mod console;
mod contents;
mod domain;
mod http;
mod logs;
mod off_thread;
mod ports;
mod private;
mod queries;
mod scheduler;
mod seal;
mod serve;
mod store;
#[cfg(test)]
mod testing;
mod tries;
mod tuning;
mod workers;

pub use backup::{BackupError, Checked, Restored, check_backup, restore};
pub use connections::TlsFiles;
pub use domain::KeySources;
pub use http::{openapi_document, rights_table};
pub use ports::{NoProvider, SecretProvider};
pub use seal::{MasterSource, NoMasterSource};
pub use serve::{Server, ServerConfig, Tokens};
pub use tuning::{CurrentTuning, Tuning};
