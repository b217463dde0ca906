//! What a job's steps have around them: a network, names in it, and services that they talk to.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, ToSocketAddrs};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use pondrix_core::access::Network as Reached;
use pondrix_core::pipeline::{Network, Ready};
use pondrix_core::work::ServiceWork;
use pondrix_image::Platform;
use pondrix_image::registry::Wanted;
use pondrix_sandbox::{self as sandbox, Bind, Exit, NAMES_AT, Rootfs, Running, SharedNetwork, Spec, StartError};

use super::context::JobExecutor;
use super::error::{Doing, JobError};
use super::resolver::{Answering, resolvers_of};
use crate::log::Piece;

/// Where programs are looked for when the image does not say.
pub(crate) const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// How often is looked whether a service is ready.
const PAUSE: Duration = Duration::from_millis(25);
/// How long a command that shows whether a service is ready may take.
const QUESTION_TIME: Duration = Duration::from_secs(10);

/// The surroundings. Services end before the network does: fields are dropped in their order.
pub(crate) struct Surroundings {
    services: Vec<Service>,
    names: Option<Answering>,
    shared: Option<SharedNetwork>,
    binds: Vec<Bind>,
    network: sandbox::Network,
}

/// A service that runs.
struct Service {
    name: String,
    running: Running,
    output: Option<Piece>,
    told: bool,
}

impl Surroundings {
    /// Makes the network, and starts the services one after the other, each when the one before can be used.
    pub(crate) fn new(executor: &JobExecutor, reach: Network, services: &[ServiceWork]) -> Result<Self, JobError> {
        let mut around = Self {
            services: Vec::new(),
            names: None,
            shared: None,
            binds: names(executor, reach, services)?,
            network: match reach {
                Network::Host => sandbox::Network::Host,
                Network::None | Network::Outbound => sandbox::Network::Loopback,
            },
        };
        if reach == Network::Outbound || !services.is_empty() {
            let closed = match reach {
                Network::Outbound => {
                    closed(executor).doing(|| "what is closed to the job could not be told".to_owned())?
                }
                Network::None | Network::Host => Vec::new(),
            };
            let addresses = closed.iter().map(|network| (network.address(), network.bits())).collect();
            let mut network = executor.launcher.share_network(addresses)?;
            if reach == Network::Outbound {
                network.open_way_out()?;
                around.names = Some(answering(executor, &network, closed)?);
            }
            around.shared = Some(network);
        }
        for service in services {
            around.begin(executor, service)?;
        }
        Ok(around)
    }

    /// Starts a command in these surroundings.
    pub(crate) fn start(&self, executor: &JobExecutor, spec: &Spec, output: OwnedFd) -> Result<Running, StartError> {
        let spec = Spec {
            binds: spec.binds.iter().chain(&self.binds).cloned().collect(),
            network: self.network,
            ..spec.clone()
        };
        match &self.shared {
            Some(network) => executor.launcher.start_in(network, &spec, output),
            None => executor.launcher.start(&spec, output),
        }
    }

    /// Says of services that have ended since that they have.
    pub(crate) fn look_after(&mut self, executor: &JobExecutor) {
        for service in self.services.iter_mut().filter(|service| !service.told) {
            if let Some(exit) = service.running.wait_at_most(Duration::ZERO) {
                service.told = true;
                let memory = if service.running.was_out_of_memory() { HUNGRY } else { "" };
                executor.log.say(&format!("the service `{}` {}{memory}", service.name, words(&exit)));
            }
        }
    }

    fn begin(&mut self, executor: &JobExecutor, service: &ServiceWork) -> Result<(), JobError> {
        let name = &service.name;
        let doing = || format!("the service `{name}` could not be started");
        let store = &executor.folder.store;
        let image = executor.pull(&service.image, &Platform::here(), Wanted::Files).doing(doing)?;
        let layers = store.layers(&image).doing(doing)?;
        let run = &image.config.config;
        let mut env: BTreeMap<_, _> = [("PATH".to_owned(), PATH.to_owned())].into();
        env.extend(run.variables());
        env.extend(service.env.clone());
        let folder = |what: &str| executor.room().join(service_folder(name, what));
        let spec = Spec {
            argv: service.command.as_deref().map_or_else(|| run.command(), shell),
            env,
            folder: if run.working_dir.is_empty() { "/".to_owned() } else { run.working_dir.clone() },
            user: run.user.clone(),
            hostname: name.clone(),
            ..Spec::new(Rootfs::new(layers.clone(), folder("root")))
        };
        let output = executor.log.piece_of(name).doing(doing)?;
        let writer = output.writer().doing(doing)?;
        let mut running = self.start(executor, &spec, writer).doing(doing)?;
        let since = Instant::now();
        let question = |command: &str| Spec {
            argv: shell(command),
            ..Spec { root: Rootfs::new(layers.clone(), folder("question")), ..spec.clone() }
        };
        let problem = loop {
            if let Some(exit) = running.wait_at_most(PAUSE) {
                let memory = if running.was_out_of_memory() { HUNGRY } else { "" };
                break Some(format!("{} before it was ready{memory}", words(&exit)));
            }
            let is_ready = match &service.ready {
                None => true,
                Some(Ready::Tcp(port)) => {
                    self.shared.as_ref().is_some_and(|network| network.connector().connect(*port).is_ok())
                }
                Some(Ready::Command(command)) => self.answers(executor, &question(command)),
            };
            if is_ready {
                break None;
            }
            if executor.is_halted() || executor.is_out_of_time() {
                break Some("was given up before it was ready".to_owned());
            }
            if since.elapsed() > service.within.to_std() {
                break Some(format!("was not ready within {}", service.within));
            }
        };
        if let Some(problem) = problem {
            running.kill();
            output.finish();
            return Err(JobError::Asked(format!("the service `{name}` {problem}")));
        }
        self.services.push(Service { name: name.clone(), running, output: Some(output), told: false });
        Ok(())
    }

    /// Whether a command passes that asks a service for a sign of life.
    fn answers(&self, executor: &JobExecutor, spec: &Spec) -> bool {
        let Ok(null) = fs::File::options().write(true).open("/dev/null") else { return false };
        let Ok(mut running) = self.start(executor, spec, null.into()) else { return false };
        matches!(running.wait_at_most(QUESTION_TIME), Some(Exit::Status(0)))
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.running.kill();
        if let Some(output) = self.output.take() {
            output.finish();
        }
    }
}

/// The files that say which names there are in a network (hosts(5), resolv.conf(5)).
pub(crate) const NETWORK_FILES: [&str; 2] = ["/etc/hosts", "/etc/resolv.conf"];

/// The folder of a service's root file system, in that of all that the job writes.
pub(crate) fn service_folder(service: &str, what: &str) -> String {
    format!("service-{service}-{what}")
}

/// What is said of a service that was ended for want of memory.
const HUNGRY: &str = ": it needed more memory than the job may use";

fn shell(command: &str) -> Vec<String> {
    ["/bin/sh", "-c", command].map(str::to_owned).into()
}

/// How something ended, in words.
fn words(exit: &Exit) -> String {
    match exit {
        Exit::Status(status) => format!("ended with status {status}"),
        Exit::Signal(signal) => format!("ended by signal {signal}"),
        Exit::Failed(words) => words.clone(),
        Exit::Killed => "was ended".to_owned(),
    }
}

/// The networks that the job does not reach: what is not public, this machine and the server, where the runner's owner
/// has not opened them.
fn closed(executor: &JobExecutor) -> std::io::Result<Vec<Reached>> {
    let mut own = own_addresses(&fs::read_to_string("/proc/net/fib_trie")?);
    if let Some((host, port)) = executor.client.host() {
        // A name that means nothing now is no way either.
        let found = (host.as_str(), port).to_socket_addrs().into_iter().flatten();
        own.extend(found.filter_map(|address| match address.ip().to_canonical() {
            IpAddr::V4(address) => Some(address),
            IpAddr::V6(_) => None,
        }));
    }
    Ok(executor.reach.closed(&own))
}

/// Begins to answer what is asked inside for names.
fn answering(executor: &JobExecutor, network: &SharedNetwork, closed: Vec<Reached>) -> Result<Answering, JobError> {
    let doing = || "names could not be answered in the job's network".to_owned();
    let asked = match executor.resolvers.as_slice() {
        // A machine without that file asks nobody either.
        [] => resolvers_of(&fs::read_to_string("/etc/resolv.conf").unwrap_or_default()),
        named => named.to_vec(),
    };
    let log = executor.log.clone();
    let sockets = network.listen_for_names().doing(doing)?;
    Answering::begin(&executor.handle, sockets, asked, closed, move |words| log.say(words)).doing(doing)
}

/// The addresses of this machine, of the kernel's table of routes (proc(5), `/proc/net/fib_trie`): behind each stands what
/// it is.
fn own_addresses(table: &str) -> Vec<Ipv4Addr> {
    let (mut own, mut last) = (BTreeSet::new(), None::<Ipv4Addr>);
    for line in table.lines().map(str::trim) {
        if let Some(address) = line.strip_prefix("|-- ") {
            last = address.parse().ok();
        } else if line == "/32 host LOCAL" {
            own.extend(last);
        }
    }
    own.into_iter().collect()
}

/// What is shown at [`NETWORK_FILES`].
fn names(executor: &JobExecutor, reach: Network, services: &[ServiceWork]) -> Result<Vec<Bind>, JobError> {
    let shown = |from: PathBuf, to: &str| Bind { from, to: to.to_owned(), read_only: true };
    if reach == Network::Host {
        let machines = NETWORK_FILES.into_iter().filter(|path| fs::exists(path).unwrap_or(false));
        return Ok(machines.map(|path| shown(path.into(), path)).collect());
    }
    let mut hosts = "127.0.0.1\tlocalhost\n::1\tlocalhost\n".to_owned();
    for service in services {
        let _ = writeln!(hosts, "127.0.0.1\t{}", service.name);
    }
    let resolver = match reach {
        Network::Outbound => format!("nameserver {NAMES_AT}\n"),
        Network::None | Network::Host => String::new(),
    };
    let mut binds = Vec::new();
    for (at, text) in NETWORK_FILES.into_iter().zip([hosts, resolver]) {
        let path = executor.scratch.path().join(at.trim_start_matches("/etc/"));
        fs::write(&path, text).doing(|| format!("could not write the job's {at}"))?;
        binds.push(shown(path, at));
    }
    Ok(binds)
}
