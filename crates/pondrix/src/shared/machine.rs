//! What the commands share that stay and work: the server, with runners of its own, and a runner alone.

use std::path::PathBuf;

use clap::Args;
use pondrix_core::Size;
use pondrix_core::access::Network;
use pondrix_image::Platform;
use tracing_subscriber::EnvFilter;

/// What jobs may do on a machine, and how much of it images may take.
#[derive(Clone, Debug, Args)]
pub(crate) struct Allows {
    /// Let jobs use the machine's own network (`network "host"`).
    #[arg(long)]
    pub(crate) allow_host_network: bool,
    /// Let jobs with an outbound network, and what their files name, reach this address or network besides public ones, as
    /// in 10.20.0.0/16; may be given more than once. The machine's own addresses and the server's are each opened by
    /// themselves.
    #[arg(long, value_name = "NETWORK")]
    pub(crate) reach: Vec<Network>,
    /// Let jobs that run on the machine (`on-host`) read this folder, besides those of its system; may
    /// be given more than once.
    #[arg(long, value_name = "FOLDER")]
    pub(crate) readable: Vec<PathBuf>,
    /// Take jobs for this platform too, as in linux/arm64, because the machine has an emulator for its programs
    /// (binfmt_misc); may be given more than once.
    #[arg(long, value_name = "PLATFORM")]
    pub(crate) emulates: Vec<Platform>,
    /// Keep at most so much of images, layers and the caches that builds mount. What was used least recently
    /// goes first, and nothing that a running job uses.
    #[arg(long, value_name = "SIZE", default_value_t = DEFAULT_STORE)]
    pub(crate) store_limit: Size,
    /// Keep less where the disk would have less than this left; a tenth of it where nothing is said.
    #[arg(long, value_name = "SIZE")]
    pub(crate) keep_free: Option<Size>,
}

/// How much of images a runner keeps where nothing is said.
const DEFAULT_STORE: Size = Size::from_bytes(50 << 30);

impl Default for Allows {
    fn default() -> Self {
        Self {
            allow_host_network: false,
            reach: Vec::new(),
            readable: Vec::new(),
            emulates: Vec::new(),
            store_limit: DEFAULT_STORE,
            keep_free: None,
        }
    }
}

/// Writes the program's own log to standard error; `PONDRIX_LOG` says how much.
pub(crate) fn log_to_standard_error() {
    let filter = EnvFilter::try_from_env("PONDRIX_LOG").unwrap_or_else(|_| EnvFilter::new("info"));
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_target(false).init();
}

/// As many jobs at once as there are cores.
pub(crate) fn usual_slots() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}
