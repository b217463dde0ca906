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
    /// Let steps create namespaces and mount in them, as browsers and tests of sandboxes do. Much more of the kernel is then
    /// exposed to jobs.
    #[arg(long)]
    pub(crate) allow_namespaces: bool,
    /// Let jobs with an outbound network, and fetches that their files ask for, reach this private address or network, for
    /// example 10.20.0.0/16. The addresses of this machine and of the server each need an entry. May be repeated.
    #[arg(long, value_name = "NETWORK")]
    pub(crate) reach: Vec<Network>,
    /// Resolver for jobs with an outbound network, instead of those in `/etc/resolv.conf`: an address, or an address and a
    /// port. May be repeated: each is asked if the one before does not answer.
    #[arg(long, value_name = "ADDRESS", value_parser = resolver)]
    pub(crate) resolver: Vec<SocketAddr>,
    /// Memory limit of a job with its services and builds. The default is nine tenths of the machine's memory, divided by
    /// the slots.
    #[arg(long, value_name = "SIZE", conflicts_with = "without_limits")]
    pub(crate) job_memory: Option<Size>,
    /// Limit of processes and threads of a job.
    #[arg(long, value_name = "COUNT", conflicts_with = "without_limits", default_value_t = DEFAULT_PROCESSES)]
    pub(crate) job_processes: u32,
    /// CPU limit of a job, for example 1.5. The default is all CPUs.
    #[arg(long, value_name = "COUNT", conflicts_with = "without_limits", value_parser = processors)]
    pub(crate) job_cpu: Option<u32>,
    /// Disk limit: what the files of a job may take, or what all commands of a build may write. The default is no limit.
    #[arg(long, value_name = "SIZE", conflicts_with = "without_limits")]
    pub(crate) job_disk: Option<Size>,
    /// Run jobs without limits, if the machine has no control groups. A job can then take all memory and processes.
    #[arg(long)]
    pub(crate) without_limits: bool,
    /// Let jobs that run on the machine (`on-host`) read this folder. They can read the folders of its system always. May be
    /// repeated.
    #[arg(long, value_name = "FOLDER")]
    pub(crate) readable: Vec<PathBuf>,
    /// Take jobs for this platform too, for example linux/arm64. The machine needs an emulator for it (binfmt_misc). May be
    /// repeated.
    #[arg(long, value_name = "PLATFORM")]
    pub(crate) emulates: Vec<Platform>,
    /// Maximum size of images, layers and build caches. The least recently used are removed first, and nothing that a
    /// running job uses.
    #[arg(long, value_name = "SIZE", default_value_t = DEFAULT_STORE)]
    pub(crate) store_limit: Size,
    /// Free disk space to keep: more is removed if less is left. The default is a tenth of the disk.
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
