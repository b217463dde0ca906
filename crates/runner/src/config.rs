//! What a runner is told when it starts.

use std::path::PathBuf;
use std::time::Duration;

use pondrix_core::access::Reach;
use pondrix_image::{Platform, Room};

/// How a runner works.
#[derive(Clone, Debug)]
pub struct RunnerConfig {
    /// Its name, shown with its jobs.
    pub name: String,
    /// The pool that it is of.
    pub pool: String,
    /// Its folder, which no other runner may use.
    pub data: PathBuf,
    /// Where the server is.
    pub server: ServerAddress,
    /// The token for runners.
    pub token: String,
    /// How many jobs it does at once.
    pub slots: usize,
    /// Whether jobs may use the machine's own network.
    pub host_network: bool,
    /// What of the network jobs reach that have a way out, and what is fetched that their files name.
    pub reach: Reach,
    /// Platforms whose programs the machine runs with an emulator, besides those of its own kind.
    pub emulated: Vec<Platform>,
    /// Folders of the machine that jobs may read that run on it and in no image, besides those of its system.
    pub shown: Vec<PathBuf>,
    /// How much of images the runner keeps.
    pub room: Room,
    /// After how long without the server it leaves; never when nothing is said.
    pub alone_for: Option<Duration>,
}

/// Where the server is.
#[derive(Clone, Debug)]
pub enum ServerAddress {
    /// At this address.
    Fixed(String),
    /// At the address that stands in this file, which the server writes when it starts.
    File(PathBuf),
}

impl ServerAddress {
    /// The address now.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn resolve(&self) -> std::io::Result<String> {
        match self {
            Self::Fixed(address) => Ok(address.clone()),
            Self::File(path) => Ok(std::fs::read_to_string(path)?.trim().to_owned()),
        }
    }
}

impl RunnerConfig {
    /// How long a runner that was told to leave waits for its last reports to be taken.
    pub(crate) const fn grace(&self) -> Duration {
        Duration::from_secs(2)
    }
}
