//! A network that several commands share: nothing but a loopback interface, or also a way out.

use std::io::{self, Read};
use std::net::{Ipv4Addr, TcpListener, UdpSocket};
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{MemfdFlags, fstat, memfd_create};
use rustix::io::{FdFlags, fcntl_setfd};

use crate::enter::What;
use crate::launch::{Connector, Launcher, Running, StartError, told};
use crate::spec::Spec;
use crate::terminal::WithoutTerminal as _;
use crate::wire::{self, Order, Word};

/// The address inside at which the caller may answer questions for names ([`SharedNetwork::listen_for_names`]), and the
/// port that these are asked at (RFC 1035, section 4.2).
pub const NAMES_AT: Ipv4Addr = Ipv4Addr::new(127, 0, 0, 53);
pub(crate) const NAMES_PORT: u16 = 53;

/// The command's address where there is a way out, and where that begins. Nothing outside can have them (RFC 2544,
/// appendix C.2.2: addresses for measuring devices); of the network that they are of, nothing else can be reached by them.
const OWN: &str = "198.18.0.2";
const GATEWAY: &str = "198.18.0.1";
const OWN_BITS: &str = "29";

/// How long the way out may take to be set up, and how often is looked whether it is.
const PATIENCE: Duration = Duration::from_secs(10);
const PAUSE: Duration = Duration::from_millis(5);

/// A user and a network namespace for commands to join. Dropping it ends the way out; it should be dropped
/// after the commands.
#[derive(Debug)]
pub struct SharedNetwork {
    users: OwnedFd,
    network: OwnedFd,
    holder: Running,
    way_out: Option<WayOut>,
}

/// The process that carries connections out.
#[derive(Debug)]
struct WayOut(Child);

impl Launcher {
    /// Makes a network with a loopback interface that is up, and from which none of these networks is reached: each is an
    /// address, and with how many bits of it theirs begin. Where there is a way out later, they stay closed.
    ///
    /// # Errors
    /// When the machine refuses namespaces.
    pub fn share_network(&self, closed: Vec<(Ipv4Addr, u8)>) -> Result<SharedNetwork, StartError> {
        let null = std::fs::File::options().write(true).open("/dev/null").map_err(told("open /dev/null"))?;
        let begun = self.begin(What::Hold(closed), None, None, null.into())?;
        let users = next(&begun.control, |word| matches!(word, Word::Users))?;
        let network = next(&begun.control, |word| matches!(word, Word::Network))?;
        Ok(SharedNetwork { users, network, holder: begun.listen(None, None), way_out: None })
    }

    /// Starts a command in a network that it shares with others; [`Spec::network`] has no say then.
    ///
    /// # Errors
    /// As [`Launcher::start`].
    pub fn start_in(&self, network: &SharedNetwork, spec: &Spec, output: OwnedFd) -> Result<Running, StartError> {
        self.run(What::Join(spec.clone()), spec, output, &network.namespaces())
    }
}

/// Why a network has no way out.
#[derive(Debug, thiserror::Error)]
pub enum NetworkError {
    /// The program that gives it is not there.
    #[error("there is no program `pasta` on this machine; install the package `passt`")]
    Missing,
    /// It was not started.
    #[error("`pasta` could not be started: {0}")]
    Start(#[source] io::Error),
    /// It ended, with these words.
    #[error("`pasta` gives no way out: {0}")]
    Ended(String),
    /// It did not in this time.
    #[error("`pasta` gave no way out within {} s", .0.as_secs())]
    Silent(Duration),
}

/// The descriptor that comes with the word that is next.
fn next(control: &OwnedFd, is_it: impl Fn(&Word) -> bool) -> Result<OwnedFd, StartError> {
    let refused = |words: String| told("make a network")(io::Error::other(words));
    match wire::receive::<Word>(control) {
        Ok(Some((word, Some(fd)))) if is_it(&word) => Ok(fd),
        Ok(Some((Word::Ended(crate::Exit::Failed(words)), _))) => Err(refused(words)),
        Ok(other) => Err(refused(format!("the helper said {other:?}"))),
        Err(errno) => Err(refused(errno.to_string())),
    }
}

impl SharedNetwork {
    /// Lets commands inside reach what this machine can reach and is not closed, through `pasta` of the package `passt`,
    /// which needs no privilege. Nothing outside can reach in, and the machine's own loopback addresses are not
    /// those inside. Addresses are of version 4 only: what is closed is closed by those.
    ///
    /// # Errors
    /// When `pasta` is not there or fails.
    pub fn open_way_out(&mut self) -> Result<(), NetworkError> {
        // It is given descriptors: what is in other processes' `/proc` may be closed to it.
        let at = |fd: &OwnedFd| format!("/proc/self/fd/{}", fd.as_raw_fd());
        // It writes its number down when everything is set up.
        let number = memfd_create("number", MemfdFlags::CLOEXEC).map_err(|error| NetworkError::Start(error.into()))?;
        let mut pasta = Command::new("pasta");
        // An address that hides the machine's own, so that the machine can be reached as any other.
        pasta
            .args(["--foreground", "--quiet", "--ipv4-only", "--config-net", "--no-map-gw"])
            .args(["--address", OWN, "--netmask", OWN_BITS, "--gateway", GATEWAY])
            .args(["--tcp-ports", "none", "--udp-ports", "none", "--tcp-ns", "none", "--udp-ns", "none"])
            .args(["--userns", &at(&self.users), "--netns", &at(&self.network), "--pid", &at(&number)])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped());
        if rustix::process::geteuid().is_root() {
            // Anybody else could not open what is root's; it gives all of that up once it is inside.
            pasta.args(["--runas", "0:0"]);
        }
        pasta.without_terminal();
        let given = [self.users.as_raw_fd(), self.network.as_raw_fd(), number.as_raw_fd()];
        // SAFETY: between fork and exec only fcntl(2) is called, on descriptors that are open then.
        unsafe {
            pasta.pre_exec(move || {
                given.iter().try_for_each(|fd| fcntl_setfd(BorrowedFd::borrow_raw(*fd), FdFlags::empty()))?;
                Ok(())
            });
        }
        let child = pasta.spawn().map_err(|error| match error.kind() {
            io::ErrorKind::NotFound => NetworkError::Missing,
            _ => NetworkError::Start(error),
        })?;
        let mut way_out = WayOut(child);
        let since = Instant::now();
        while fstat(&number).is_ok_and(|data| data.st_size == 0) {
            if let Some(words) = way_out.last_words() {
                return Err(NetworkError::Ended(words));
            }
            if since.elapsed() > PATIENCE {
                return Err(NetworkError::Silent(PATIENCE));
            }
            std::thread::sleep(PAUSE);
        }
        self.way_out = Some(way_out);
        Ok(())
    }

    /// Sockets at which the caller hears the questions for names that are asked inside at [`NAMES_AT`], and answers them:
    /// with datagrams and over streams (RFC 7766).
    ///
    /// # Errors
    /// What the system says inside, or that the network has ended.
    pub fn listen_for_names(&self) -> io::Result<(UdpSocket, TcpListener)> {
        let [datagrams, streams] = self.holder.connector().sockets(&Order::Listen)?;
        Ok((datagrams.into(), streams.into()))
    }

    /// The way to ports inside.
    #[must_use]
    pub fn connector(&self) -> Connector {
        self.holder.connector()
    }

    fn namespaces(&self) -> [BorrowedFd<'_>; 2] {
        [self.users.as_fd(), self.network.as_fd()]
    }
}

impl WayOut {
    /// What it said, if it has ended.
    fn last_words(&mut self) -> Option<String> {
        self.0.try_wait().ok().flatten()?;
        let mut words = String::new();
        if let Some(mut errors) = self.0.stderr.take() {
            let _ = errors.read_to_string(&mut words);
        }
        // It complains first that there is no log of the system's.
        let telling = words.lines().map(str::trim).filter(|line| !line.is_empty() && !line.contains("syslog"));
        let words = telling.collect::<Vec<_>>().join("; ");
        let hint = if words.contains(" tun ") {
            "; whoever the runner runs as must be allowed to open /dev/net/tun"
        } else {
            ""
        };
        Some(words + hint)
    }
}

impl Drop for WayOut {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}
