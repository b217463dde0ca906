//! What the caller and the first process inside say to each other, over a pair of sequenced sockets.

use std::io::{IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;
use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage, SendFlags,
};
use serde::{Deserialize, Serialize, de::DeserializeOwned};

use crate::Exit;

/// From the caller inwards.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Order {
    /// Send the command this signal.
    Signal(i32),
    /// Connect to this port on the loopback interface inside, and hand the socket out.
    Connect(u16),
    /// Listen where names are asked for inside, and hand both sockets out: the one for datagrams first.
    Listen,
}

/// From inside to the caller.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Word {
    /// The user namespace comes with this word: the first word of a network that is to be shared.
    Users,
    /// The network namespace comes with this word: the second.
    Network,
    /// The command began.
    Started,
    /// The command ended. The last word.
    Ended(Exit),
    /// A socket that was asked for comes with this word.
    Socket,
    /// There is none, for there was nobody to connect to, or the address is taken: an error number of the system.
    Refused(i32),
}

/// The longest message: an [`Exit::Failed`] with its words.
const LONGEST: usize = 16 * 1024;

pub(crate) fn send(socket: impl AsFd, message: &impl Serialize, fd: Option<BorrowedFd<'_>>) -> Result<(), Errno> {
    let bytes = serde_json::to_vec(message).map_err(|_| Errno::INVAL)?;
    let bytes = &bytes[..bytes.len().min(LONGEST)];
    let fds: Vec<BorrowedFd<'_>> = fd.into_iter().collect();
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut ancillary = SendAncillaryBuffer::new(&mut space);
    if !fds.is_empty() {
        ancillary.push(SendAncillaryMessage::ScmRights(&fds));
    }
    rustix::net::sendmsg(socket, &[IoSlice::new(bytes)], &mut ancillary, SendFlags::NOSIGNAL)?;
    Ok(())
}

/// The next message, and the descriptor that came with it; nothing when the other side is gone.
pub(crate) fn receive<T: DeserializeOwned>(socket: impl AsFd) -> Result<Option<(T, Option<OwnedFd>)>, Errno> {
    let mut bytes = vec![0; LONGEST];
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut ancillary = RecvAncillaryBuffer::new(&mut space);
    let received = loop {
        let mut slices = [IoSliceMut::new(&mut bytes)];
        match rustix::net::recvmsg(&socket, &mut slices, &mut ancillary, RecvFlags::CMSG_CLOEXEC) {
            Err(Errno::INTR) => {}
            other => break other?,
        }
    };
    if received.bytes == 0 {
        return Ok(None);
    }
    let fd = ancillary.drain().find_map(|message| match message {
        RecvAncillaryMessage::ScmRights(mut fds) => fds.next(),
        _ => None,
    });
    let message = serde_json::from_slice(&bytes[..received.bytes]).map_err(|_| Errno::PROTO)?;
    Ok(Some((message, fd)))
}
