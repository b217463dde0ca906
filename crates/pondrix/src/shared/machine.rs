//! What the commands share that stay and work: the server, with runners of its own, and a runner alone.

use std::ffi::OsString;
use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Args;
use pondrix_core::Size;
use pondrix_core::access::Network;
use pondrix_image::Platform;
use pondrix_runner::JobLimits;
use rustix::fs::Mode;
use rustix::process::umask;
use tracing_subscriber::EnvFilter;

/// What jobs may do on a machine, and how much of it images may take.
#[derive(Clone, Debug, Args)]
pub(crate) struct Allows {
    /// Let jobs use the machine's own network (`network "host"`).
    #[arg(long)]
    pub(crate) allow_host_network: bool,
    /// Let steps make namespaces of their own and mount in those, as browsers and tests of sandboxes do: much more of the
    /// kernel is then open to them.
    #[arg(long)]
    pub(crate) allow_namespaces: bool,
    /// Let jobs with an outbound network, and what their files name, reach this address or network besides public ones, as
    /// in 10.20.0.0/16; may be given more than once. The machine's own addresses and the server's are each opened by
    /// themselves.
    #[arg(long, value_name = "NETWORK")]
    pub(crate) reach: Vec<Network>,
    /// Have this resolver answer names for jobs with an outbound network, in place of those that the machine asks
    /// (`/etc/resolv.conf`); an address, or one and a port. May be given more than once: each is asked where the one before
    /// is silent.
    #[arg(long, value_name = "ADDRESS", value_parser = resolver)]
    pub(crate) resolver: Vec<SocketAddr>,
    /// The most memory that a job may use, with its services and builds; where nothing is said, nine tenths of the
    /// machine's, divided by its slots.
    #[arg(long, value_name = "SIZE", conflicts_with = "without_limits")]
    pub(crate) job_memory: Option<Size>,
    /// The most processes and threads that a job may have at once.
    #[arg(long, value_name = "COUNT", conflicts_with = "without_limits", default_value_t = DEFAULT_PROCESSES)]
    pub(crate) job_processes: u32,
    /// The most processors that a job may use, as in 1.5; all of them where nothing is said.
    #[arg(long, value_name = "COUNT", conflicts_with = "without_limits", value_parser = processors)]
    pub(crate) job_cpu: Option<u32>,
    /// The most that the files of a job of commands may take of the disk, or all commands of a build write.
    #[arg(long, value_name = "SIZE", conflicts_with = "without_limits")]
    pub(crate) job_disk: Option<Size>,
    /// Work although this machine lets the runner limit nothing: a job may then take all of its memory and processes.
    #[arg(long)]
    pub(crate) without_limits: bool,
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

/// How many processes and threads a job may have where nothing is said.
const DEFAULT_PROCESSES: u32 = 4096;

/// Where names are asked for (RFC 1035, section 4.2).
const NAMES_PORT: u16 = 53;

/// Where a resolver is.
fn resolver(text: &str) -> Result<SocketAddr, String> {
    let at_port = text.parse().ok();
    let address = at_port.or_else(|| Some(SocketAddr::new(text.parse().ok()?, NAMES_PORT)));
    address.ok_or_else(|| format!("`{text}` is no address of a resolver, as 10.0.0.53 or 127.0.0.1:5353 is"))
}

/// A number of processors, as thousandths.
fn processors(text: &str) -> Result<u32, String> {
    let count: f64 = text.parse().map_err(|_| format!("`{text}` is no number of processors, as 2 or 1.5 is"))?;
    if !(0.01..=4096.0).contains(&count) {
        return Err(format!("a job uses 0.01 to 4096 processors, and not {text}"));
    }
    Ok((count * 1000.0).round() as u32)
}

impl Allows {
    /// The most that a job may use where so many are done at once; nothing where there are to be no limits.
    pub(crate) fn job_limits(&self, slots: usize) -> Option<JobLimits> {
        if self.without_limits {
            return None;
        }
        let machine = rustix::system::sysinfo();
        let memory = machine.totalram * u64::from(machine.mem_unit);
        let share = memory / 10 * 9 / slots.max(1) as u64;
        Some(JobLimits {
            memory: self.job_memory.unwrap_or(Size::from_bytes(share)),
            processes: self.job_processes,
            cpu: self.job_cpu,
            disk: self.job_disk,
        })
    }

    /// The same as arguments of `runner join`.
    pub(crate) fn arguments(&self) -> Vec<OsString> {
        let mut all: Vec<OsString> = vec!["--store-limit".into(), self.store_limit.to_string().into()];
        let mut say = |name: &str, value: Option<String>| {
            all.extend(value.into_iter().flat_map(|value| [name.into(), value.into()]));
        };
        say("--keep-free", self.keep_free.map(|size| size.to_string()));
        self.reach.iter().for_each(|network| say("--reach", Some(network.to_string())));
        self.resolver.iter().for_each(|address| say("--resolver", Some(address.to_string())));
        self.emulates.iter().for_each(|platform| say("--emulates", Some(platform.to_string())));
        if !self.without_limits {
            say("--job-memory", self.job_memory.map(|size| size.to_string()));
            say("--job-processes", Some(self.job_processes.to_string()));
            say("--job-cpu", self.job_cpu.map(|thousandths| (f64::from(thousandths) / 1000.0).to_string()));
            say("--job-disk", self.job_disk.map(|size| size.to_string()));
        }
        all.extend(self.without_limits.then(|| "--without-limits".into()));
        all.extend(self.allow_host_network.then(|| "--allow-host-network".into()));
        all.extend(self.allow_namespaces.then(|| "--allow-namespaces".into()));
        all.extend(self.readable.iter().flat_map(|folder| ["--readable".into(), folder.into()]));
        all
    }
}

/// How much of images a runner keeps where nothing is said.
const DEFAULT_STORE: Size = Size::from_bytes(50 << 30);

impl Default for Allows {
    fn default() -> Self {
        Self {
            allow_host_network: false,
            allow_namespaces: false,
            reach: Vec::new(),
            resolver: Vec::new(),
            job_memory: None,
            job_processes: DEFAULT_PROCESSES,
            job_cpu: None,
            job_disk: None,
            without_limits: false,
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

/// Keeps what a program that stays has in memory and writes to itself: nothing of it is written down when it breaks, and
/// its files are others' only where that is said.
pub(crate) fn keep_to_oneself() {
    // A process that may not even lower the limit has none.
    let _ = pondrix_sandbox::forbid_core_files();
    umask(Mode::RWXG | Mode::RWXO);
}

/// As others expect files that are made for jobs: who may read them is said for each.
pub(crate) fn make_files_for_jobs() {
    umask(Mode::WGRP | Mode::WOTH);
}
