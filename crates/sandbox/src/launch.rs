//! The caller's side.

use std::io::{self, Write};
use std::net::TcpStream;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;
use std::process::{Child, Command};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rustix::net::{AddressFamily, Shutdown, SocketFlags, SocketType, shutdown, socketpair};

use crate::cgroup::{DiskShares, Group, Usage};
use crate::enter::{ENTER_WORD, Entrance, What};
use crate::error::MachineError;
use crate::spec::{Exit, Limits, Rootfs, Spec, make_frame};
use crate::wire::{self, Order, Word};
use crate::{IdMap, PlaceIds};

/// Starts sandboxes.
#[derive(Clone, Debug)]
pub struct Launcher {
    helper: PathBuf,
    ids: IdMap,
    frame: Option<PathBuf>,
    apart: Option<(PlaceIds, Vec<PathBuf>)>,
    /// What all of its sandboxes are in together.
    within: Option<Arc<Group>>,
    disk_shares: Option<DiskShares>,
}

/// Why a sandbox was not started.
#[derive(Debug, thiserror::Error)]
#[error("could not {doing}: {source}")]
pub struct StartError {
    doing: &'static str,
    source: io::Error,
}

/// A command under way. Dropping it ends the command and everything it started.
#[derive(Debug)]
pub struct Running {
    control: Arc<OwnedFd>,
    helper: Child,
    ended: Receiver<Exit>,
    exit: Option<Exit>,
    killed: bool,
    connections: Connector,
    group: Option<Group>,
    /// The group of several that it is of, and how often that had been refused processes before.
    within: Option<(Arc<Group>, u64)>,
}

/// Reaches ports inside a sandbox; may be cloned and outlive the [`Running`].
#[derive(Clone, Debug)]
pub struct Connector {
    control: Arc<OwnedFd>,
    answers: Arc<Mutex<Receiver<io::Result<OwnedFd>>>>,
}

impl Launcher {
    /// A launcher that uses this very program as its helper; `main` must call
    /// [`crate::enter_if_asked`].
    #[must_use]
    pub fn new() -> Self {
        Self::with_helper("/proc/self/exe")
    }

    /// A launcher with another program as its helper.
    #[must_use]
    pub fn with_helper(helper: impl Into<PathBuf>) -> Self {
        let ids = IdMap::for_this_process();
        Self { helper: helper.into(), ids, frame: None, apart: None, within: None, disk_shares: None }
    }

    /// The same, whose sandboxes share what every root needs and no command changes, so that it need not be made and
    /// removed for each: a folder on the file system of their layers, made where it is not there.
    ///
    /// # Errors
    /// What the system says.
    pub fn sharing(self, frame: PathBuf) -> io::Result<Self> {
        make_frame(&frame, self.ids)?;
        Ok(Self { frame: Some(frame), ..self })
    }

    /// The same, whose processes have ids of their own; files in this folder, in which everything is that they see, stay
    /// stored as [`Launcher::ids`] says. The folder must not be behind a link.
    #[must_use]
    pub fn apart(&self, place: PlaceIds, folder: PathBuf) -> Self {
        Self { apart: Some((place, vec![folder])), ..self.clone() }
    }

    /// The same, whose sandboxes see a file system too that is mounted at a folder below that of [`Launcher::apart`].
    #[must_use]
    pub fn with_mount(&self, folder: PathBuf) -> Self {
        let mut launcher = self.clone();
        if let Some((_, folders)) = &mut launcher.apart {
            folders.push(folder);
        }
        launcher
    }

    /// The same, whose sandboxes share a busy disk with others by [`Limits::weight`]: what [`crate::disk_shares`] found.
    #[must_use]
    pub fn with_disk_shares(self, disk_shares: Option<DiskShares>) -> Self {
        Self { disk_shares, ..self }
    }

    /// The machine's ids for root inside, as processes have them.
    #[must_use]
    pub fn root_outside(&self) -> (u32, u32) {
        self.apart.as_ref().map_or_else(|| self.ids.to_machine(0, 0), |(place, _)| place.root())
    }

    /// The same, whose sandboxes together have no more than this of the machine.
    ///
    /// # Errors
    /// When this process may not limit that, with what to do about it.
    pub fn limited(&self, limits: &Limits) -> Result<Self, StartError> {
        let group = Group::of_several(limits, self.disk_shares)
            .map_err(|words| told("limit the commands")(io::Error::other(words)))?;
        Ok(Self { within: Some(Arc::new(group)), ..self.clone() })
    }

    /// What all sandboxes used that have limits together; nothing without [`Launcher::limited`].
    #[must_use]
    pub fn usage(&self) -> Option<Usage> {
        self.within.as_ref().map(|group| group.usage())
    }

    /// The ids that the files of its sandboxes are stored under.
    #[must_use]
    pub const fn ids(&self) -> IdMap {
        self.ids
    }

    /// Starts a command. What it prints goes to `output`; it reads nothing.
    ///
    /// # Errors
    /// When the helper cannot be started. What goes wrong later is told by [`Running::wait`].
    pub fn start(&self, spec: &Spec, output: OwnedFd) -> Result<Running, StartError> {
        self.run(What::Run(spec.clone()), spec, output, &[])
    }

    /// Starts a command in namespaces that are its own or given.
    pub(crate) fn run(
        &self,
        what: What,
        spec: &Spec,
        output: OwnedFd,
        namespaces: &[BorrowedFd<'_>],
    ) -> Result<Running, StartError> {
        // A root with mount points of its own has them in a skeleton of its own.
        let frame = self.frame.as_ref().filter(|_| spec.root.mount_points.is_empty());
        let prepared = if frame.is_some() { spec.root.prepare_changes(self.ids) } else { spec.root.prepare(self.ids) };
        prepared.map_err(told("make the folders of the root file system"))?;
        let frame = frame.unwrap_or(&spec.root.folder);
        let group = Group::new(&spec.limits, self.within.as_deref())
            .map_err(|words| told("limit the command")(io::Error::other(words)))?;
        let begun = self.begin(what, Some(frame), group.as_ref(), output)?;
        for namespace in namespaces {
            wire::send(&begun.control, &(), Some(*namespace))
                .map_err(|errno| told("name the network")(errno.into()))?;
        }
        let within = self.within.clone().map(|within| (Arc::clone(&within), within.processes_refused()));
        Ok(begun.listen(group, within))
    }

    /// Starts the helper and tells it what is wanted.
    pub(crate) fn begin(
        &self,
        what: What,
        frame: Option<&PathBuf>,
        group: Option<&Group>,
        output: OwnedFd,
    ) -> Result<Begun, StartError> {
        let doors = group.map(Group::doors).unwrap_or_default();
        let (ours, theirs) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)
            .map_err(|errno| told("make a pair of sockets")(errno.into()))?;
        let entrance = Entrance {
            what,
            frame: frame.cloned().unwrap_or_default(),
            ids: self.ids,
            apart: self.apart.clone(),
            doors,
        };
        let entrance = entrance_file(&entrance).map_err(told("write down what to run"))?;
        let errors = output.try_clone().map_err(told("share the output"))?;
        let helper = Command::new(&self.helper)
            .arg(ENTER_WORD)
            .env_clear()
            .stdin(theirs)
            .stdout(output)
            .stderr(errors)
            .spawn()
            .map_err(told("start the sandbox's helper"))?;
        wire::send(&ours, &(), Some(entrance.as_fd())).map_err(|errno| told("say what to run")(errno.into()))?;
        Ok(Begun { control: ours, helper })
    }
}

/// A helper that was told what is wanted.
pub(crate) struct Begun {
    pub(crate) control: OwnedFd,
    helper: Child,
}

impl Begun {
    pub(crate) fn listen(self, group: Option<Group>, within: Option<(Arc<Group>, u64)>) -> Running {
        let control = Arc::new(self.control);
        let (tell_ended, ended) = channel();
        let (tell_answer, answers) = channel();
        let listening = Arc::clone(&control);
        std::thread::spawn(move || listen(&listening, &tell_ended, &tell_answer));
        let connections = Connector { control: Arc::clone(&control), answers: Arc::new(Mutex::new(answers)) };
        Running { control, helper: self.helper, ended, exit: None, killed: false, connections, group, within }
    }
}

pub(crate) fn told(doing: &'static str) -> impl FnOnce(io::Error) -> StartError {
    move |source| StartError { doing, source }
}

impl Default for Launcher {
    fn default() -> Self {
        Self::new()
    }
}

/// A file in memory with what to run: it may be longer than one message can be.
fn entrance_file(entrance: &Entrance) -> io::Result<OwnedFd> {
    let fd = rustix::fs::memfd_create("entrance", rustix::fs::MemfdFlags::CLOEXEC)?;
    let mut file = std::fs::File::from(fd);
    file.write_all(&serde_json::to_vec(entrance)?)?;
    rustix::fs::seek(&file, rustix::fs::SeekFrom::Start(0))?;
    Ok(file.into())
}

fn listen(control: &OwnedFd, ended: &Sender<Exit>, answers: &Sender<io::Result<OwnedFd>>) {
    while let Ok(Some((word, fd))) = wire::receive::<Word>(control) {
        let _ = match (word, fd) {
            (Word::Started | Word::Users | Word::Network, _) => Ok(()),
            (Word::Ended(exit), _) => ended.send(exit).map_err(|_| ()),
            (Word::Socket, Some(fd)) => answers.send(Ok(fd)).map_err(|_| ()),
            (Word::Socket, None) => answers.send(Err(io::ErrorKind::InvalidData.into())).map_err(|_| ()),
            (Word::Refused(errno), _) => answers.send(Err(io::Error::from_raw_os_error(errno))).map_err(|_| ()),
        };
    }
    // The other side is gone, or says what makes no sense: with the conversation everything inside ends.
    let _ = shutdown(control, Shutdown::Both);
}

impl Running {
    /// Waits until the command has ended and nothing of it is alive.
    pub fn wait(&mut self) -> Exit {
        if self.exit.is_none() {
            let told = self.ended.recv().ok();
            self.finish(told);
        }
        self.exit.clone().unwrap_or(Exit::Killed)
    }

    /// Waits for at most so long; nothing when it still runs then.
    pub fn wait_at_most(&mut self, time: Duration) -> Option<Exit> {
        if self.exit.is_none() {
            match self.ended.recv_timeout(time) {
                Ok(exit) => self.finish(Some(exit)),
                Err(RecvTimeoutError::Disconnected) => self.finish(None),
                Err(RecvTimeoutError::Timeout) => return None,
            }
        }
        self.exit.clone()
    }

    /// Ends the command and everything it started, and waits until nothing of it is alive.
    pub fn kill(&mut self) -> Exit {
        self.killed = true;
        let _ = shutdown(&self.control, Shutdown::Both);
        if let Some(group) = &self.group {
            group.kill();
        }
        self.wait()
    }

    /// Sends the command, and the processes of its group, a signal by its number.
    pub fn signal(&self, number: i32) {
        let _ = wire::send(&self.control, &Order::Signal(number), None);
    }

    /// Whether anything inside was ended because it would have needed more memory than its limit.
    #[must_use]
    pub fn was_out_of_memory(&self) -> bool {
        self.group.as_ref().is_some_and(Group::was_out_of_memory)
    }

    /// Whether anything inside could not be started because it would have been more processes than its limit, or that of
    /// all sandboxes that it has it with: kernels tell the one or the other.
    #[must_use]
    pub fn was_out_of_processes(&self) -> bool {
        self.group.as_ref().is_some_and(|group| group.processes_refused() > 0)
            || self.within.as_ref().is_some_and(|(within, before)| within.processes_refused() > *before)
    }

    /// The way to ports inside.
    #[must_use]
    pub fn connector(&self) -> Connector {
        self.connections.clone()
    }

    fn finish(&mut self, told: Option<Exit>) {
        // The helper ends after init, and init's end is the end of every process inside. Where the helper was killed, the
        // others may still be ending.
        let _ = self.helper.wait();
        if let Some(group) = &self.group {
            group.wait_until_empty();
        }
        self.exit = Some(match told {
            Some(exit) => exit,
            None if self.killed => Exit::Killed,
            None => Exit::Failed("the sandbox was killed from outside".to_owned()),
        });
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if self.exit.is_none() {
            self.kill();
        }
    }
}

impl Connector {
    /// A connection to a port on the loopback interface inside.
    ///
    /// # Errors
    /// What the system says inside, or that the sandbox has ended.
    pub fn connect(&self, port: u16) -> io::Result<TcpStream> {
        let [stream] = self.sockets(&Order::Connect(port))?;
        Ok(stream.into())
    }

    /// The sockets that come for an order.
    pub(crate) fn sockets<const COUNT: usize>(&self, order: &Order) -> io::Result<[OwnedFd; COUNT]> {
        // One at a time: answers come in the order of the questions.
        let answers: MutexGuard<'_, _> = self.answers.lock().unwrap_or_else(PoisonError::into_inner);
        let gone = || io::Error::new(io::ErrorKind::NotConnected, "the sandbox has ended");
        wire::send(&self.control, order, None).map_err(|_| gone())?;
        // All of them before any is looked at: what is left would be taken for the next one's.
        let all: Result<Vec<_>, _> = (0..COUNT).map(|_| answers.recv()).collect();
        let sockets: Vec<OwnedFd> = all.map_err(|_| gone())?.into_iter().collect::<io::Result<_>>()?;
        sockets.try_into().map_err(|_| gone())
    }
}

/// Whether this machine can run sandboxes at all: enters one with nothing in it.
///
/// # Errors
/// When it cannot, with what to do about it.
pub fn check_machine(launcher: &Launcher, scratch: &std::path::Path) -> Result<(), MachineError> {
    let root = Rootfs::new(Vec::new(), scratch.to_owned());
    let spec = Spec { argv: vec!["/nothing".to_owned()], ..Spec::new(root) };
    let null = std::path::Path::new("/dev/null");
    let opened = std::fs::File::options().write(true).open(null);
    let opened = opened.map_err(|error| MachineError::File { path: null.to_owned(), error })?;
    let mut running = launcher.start(&spec, opened.into())?;
    match running.wait() {
        // It came as far as looking for the program, which is as far as an empty root goes.
        Exit::Failed(words) if words.contains("could not start `/nothing`") => Ok(()),
        Exit::Failed(words) => Err(MachineError::Sandbox(words)),
        other => Err(MachineError::Sandbox(format!("an empty sandbox ended unexpectedly: {other:?}"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_says_what_makes_no_sense_is_ended() {
        let (ours, theirs) =
            socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap();
        let (tell_ended, ended) = channel();
        let (tell_answer, _answers) = channel();
        let listening = std::thread::spawn(move || listen(&ours, &tell_ended, &tell_answer));
        wire::send(&theirs, &Word::Started, None).unwrap();
        wire::send(&theirs, &"not a word", None).unwrap();
        listening.join().unwrap();
        assert!(ended.recv().is_err(), "no end was told");
        // What init reads then is what ends it.
        assert!(matches!(wire::receive::<Word>(&theirs), Ok(None)));
    }
}
