//! What a runner is told when it starts.

use std::fmt::Display;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use pondrix_core::Size;
use pondrix_core::access::Reach;
use pondrix_core::pipeline::Limits as Asked;
use pondrix_image::{Platform, Room};
use pondrix_sandbox::{Launcher, Limits, NoControlGroups, StartError, settle};

/// The most that a job may use.
#[derive(Clone, Copy, Debug)]
pub struct JobLimits {
    /// Memory. What would need more is ended.
    pub memory: Size,
    /// Processes and threads at once.
    pub processes: u32,
    /// Processors, in thousandths; all where nothing is said.
    pub cpu: Option<u32>,
    /// What its files may take of the disk, where it is one of commands; as much as there is, where nothing is said.
    pub disk: Option<Size>,
}

impl JobLimits {
    /// Those that the kernel keeps, for a job of a project with this weight.
    pub(crate) fn of_kernel(&self, weight: u32) -> Limits {
        let (memory, processes) = (Some(self.memory.bytes()), Some(self.processes));
        Limits { memory, processes, cpu: self.cpu, weight: Some(weight) }
    }

    /// Why a job that asks for limits of its own asks for more than it may have.
    pub(crate) fn exceeded_by(&self, asked: &Asked) -> Option<String> {
        let over = |what: &str, asked: &dyn Display, most: &dyn Display| {
            Some(format!(
                "the job asks for {asked} {what}, and jobs of this runner may use {most}; ask for less, or for another pool"
            ))
        };
        let cores = |thousandths: u32| f64::from(thousandths) / 1000.0;
        let Self { memory, processes, cpu, disk } = self;
        match asked {
            Asked { memory: Some(asked), .. } if asked > memory => over("of memory", asked, memory),
            Asked { processes: Some(asked), .. } if asked > processes => over("processes", asked, processes),
            Asked { cpu: Some(asked), .. } if cpu.is_some_and(|most| *asked > most) => {
                over("processors", &cores(*asked), &cores(cpu.unwrap_or_default()))
            }
            Asked { disk: Some(asked), .. } if disk.is_some_and(|most| *asked > most) => {
                over("of the disk", asked, &disk.unwrap_or(*asked))
            }
            _ => None,
        }
    }
}

/// Checks that this machine lets a runner limit what jobs use: moves this process into a control group of its own if that
/// has not been done, and makes a group with limits.
///
/// # Errors
/// If the machine does not, with what to do about it.
pub fn limits_are_usable() -> Result<(), NoLimits> {
    let some = Limits { memory: Some(64 << 20), processes: Some(64), ..Limits::default() };
    settle()?;
    Launcher::new().limited(&some).map(drop)?;
    Ok(())
}

/// A machine that lets a runner limit nothing.
#[derive(Debug, thiserror::Error)]
#[error("the memory and processes of jobs cannot be limited here: {0}. To run jobs without limits: --without-limits")]
pub enum NoLimits {
    /// No control groups can be made.
    Groups(#[from] NoControlGroups),
    /// One cannot be made.
    Group(#[from] StartError),
}

/// How a runner works.
#[derive(Clone, Debug)]
pub struct RunnerConfig {
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
    /// Whether steps may make namespaces of their own, and mount in those.
    pub namespaces: bool,
    /// The most that a job may use, all its commands together; nothing where the machine's owner wants no limits.
    pub limits: Option<JobLimits>,
    /// What of the network jobs reach that have a way out, and what is fetched that their files name.
    pub reach: Reach,
    /// Who is asked for names by jobs that have a way out; those whom the machine asks where nobody is named.
    pub resolvers: Vec<SocketAddr>,
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
