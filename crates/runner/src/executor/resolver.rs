//! Answers what is asked for names inside a job: asks the machine's resolvers, and passes nothing on that has an address
//! which the job does not reach (RFC 1035, section 4.2; RFC 7766).

use std::collections::HashSet;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use pondrix_core::access::{Heard, NameQuestion, Network};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::runtime::Handle;
use tokio::sync::Semaphore;
use tokio::task::{JoinHandle, JoinSet};
use tokio::time::timeout;

/// How long one resolver has to answer, and how often each is asked.
const ANSWER_TIME: Duration = Duration::from_secs(2);
const TRIES: usize = 2;
/// How long somebody may be silent over a stream.
const IDLE_TIME: Duration = Duration::from_secs(10);
/// How many questions are answered at once, and how many streams; who has more waits.
const AT_ONCE: usize = 64;
const STREAMS: usize = 16;
/// The longest message.
const LONGEST: usize = u16::MAX as usize;
/// The port at which resolvers are asked.
const PORT: u16 = 53;
/// How many resolvers are asked: as many as other programs of the machine ask (resolv.conf(5)).
const MOST_RESOLVERS: usize = 3;
/// Of how many names is told that they are closed.
const MOST_TOLD: usize = 20;

/// Who tells of a name that is not answered.
type Tell = Box<dyn Fn(&str) + Send + Sync>;

/// What questions are answered by.
struct Resolvers {
    asked: Vec<SocketAddr>,
    closed: Vec<Network>,
    tell: Tell,
    told: Mutex<HashSet<String>>,
}

/// How a question came, and is asked further.
#[derive(Clone, Copy)]
enum Way {
    Datagram,
    Stream,
}

/// The answering of names. Dropped, it ends.
pub(crate) struct Answering([JoinHandle<()>; 2]);

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.iter().for_each(JoinHandle::abort);
    }
}

impl Answering {
    /// Begins to answer what is asked at these sockets, by these resolvers, where these networks are closed. What is kept
    /// back is told once for each name.
    pub(crate) fn begin(
        handle: &Handle,
        (datagrams, streams): (std::net::UdpSocket, std::net::TcpListener),
        asked: Vec<SocketAddr>,
        closed: Vec<Network>,
        tell: impl Fn(&str) + Send + Sync + 'static,
    ) -> io::Result<Self> {
        let resolvers = Arc::new(Resolvers { asked, closed, tell: Box::new(tell), told: Mutex::default() });
        datagrams.set_nonblocking(true)?;
        streams.set_nonblocking(true)?;
        let _entered = handle.enter();
        let (datagrams, streams) = (UdpSocket::from_std(datagrams)?, TcpListener::from_std(streams)?);
        Ok(Self([
            handle.spawn(Arc::clone(&resolvers).answer_datagrams(datagrams)),
            handle.spawn(resolvers.answer_streams(streams)),
        ]))
    }
}

impl Resolvers {
    async fn answer_datagrams(self: Arc<Self>, socket: UdpSocket) {
        let (socket, room) = (Arc::new(socket), Arc::new(Semaphore::new(AT_ONCE)));
        let mut buffer = vec![0; LONGEST];
        let mut answers = JoinSet::new();
        while let Ok(permit) = Arc::clone(&room).acquire_owned().await
            && let Ok((count, from)) = socket.recv_from(&mut buffer).await
        {
            while answers.try_join_next().is_some() {}
            let (own, socket, question) = (Arc::clone(&self), Arc::clone(&socket), buffer[..count].to_vec());
            answers.spawn(async move {
                if let Some(answer) = own.answer(&question, Way::Datagram).await {
                    // Who is gone needs none.
                    let _ = socket.send_to(&answer, from).await;
                }
                drop(permit);
            });
        }
    }

    async fn answer_streams(self: Arc<Self>, listener: TcpListener) {
        let room = Arc::new(Semaphore::new(STREAMS));
        let mut streams = JoinSet::new();
        while let Ok(permit) = Arc::clone(&room).acquire_owned().await
            && let Ok((stream, _)) = listener.accept().await
        {
            while streams.try_join_next().is_some() {}
            let own = Arc::clone(&self);
            streams.spawn(async move {
                // One that breaks off has had its answers.
                let _ = own.answer_stream(stream).await;
                drop(permit);
            });
        }
    }

    async fn answer_stream(&self, mut stream: TcpStream) -> io::Result<()> {
        while let Ok(question) = timeout(IDLE_TIME, next(&mut stream)).await {
            let Some(answer) = self.answer(&question?, Way::Stream).await else { break };
            timeout(IDLE_TIME, say(&mut stream, &answer)).await??;
        }
        Ok(())
    }

    /// The answer to a question; nothing where it is none.
    async fn answer(&self, message: &[u8], way: Way) -> Option<Vec<u8>> {
        let question = NameQuestion::read(message)?;
        if let Some(answer) = question.answer_here(&self.closed) {
            return Some(answer);
        }
        for resolver in self.asked.iter().cycle().take(TRIES * self.asked.len()) {
            let answer = timeout(ANSWER_TIME, self.ask(*resolver, message, &question, way)).await;
            let Ok(Ok((answer, heard))) = answer else { continue };
            if let Heard::Closed(address) = heard {
                self.tell_of(&question.name(), address);
                return Some(question.nothing());
            }
            return Some(answer);
        }
        Some(question.failed())
    }

    /// Asks one resolver, and waits for its answer.
    async fn ask(
        &self,
        resolver: SocketAddr,
        message: &[u8],
        question: &NameQuestion<'_>,
        way: Way,
    ) -> io::Result<(Vec<u8>, Heard)> {
        match way {
            Way::Datagram => {
                let own = if resolver.is_ipv4() {
                    IpAddr::V4(Ipv4Addr::UNSPECIFIED)
                } else {
                    IpAddr::V6(Ipv6Addr::UNSPECIFIED)
                };
                // Another port for each question: who would answer in its place has to guess it.
                let socket = UdpSocket::bind((own, 0)).await?;
                socket.connect(resolver).await?;
                socket.send(message).await?;
                let mut buffer = vec![0; LONGEST];
                loop {
                    let count = socket.recv(&mut buffer).await?;
                    match question.heard(&buffer[..count], &self.closed) {
                        Heard::Other => {}
                        heard => return Ok((buffer[..count].to_vec(), heard)),
                    }
                }
            }
            Way::Stream => {
                let mut stream = TcpStream::connect(resolver).await?;
                say(&mut stream, message).await?;
                let answer = next(&mut stream).await?;
                match question.heard(&answer, &self.closed) {
                    Heard::Other => Err(io::ErrorKind::InvalidData.into()),
                    heard => Ok((answer, heard)),
                }
            }
        }
    }

    fn tell_of(&self, name: &str, address: Ipv4Addr) {
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        if told.len() < MOST_TOLD && told.insert(name.to_owned()) {
            (self.tell)(&format!(
                "the name {name} leads to {address}, which jobs of this runner do not reach: it is not answered \
                 (its owner opens networks with --reach)"
            ));
        }
    }
}

/// The next message of a stream: its length stands before it.
async fn next(stream: &mut TcpStream) -> io::Result<Vec<u8>> {
    let mut message = vec![0; stream.read_u16().await?.into()];
    stream.read_exact(&mut message).await?;
    Ok(message)
}

async fn say(stream: &mut TcpStream, message: &[u8]) -> io::Result<()> {
    let length = u16::try_from(message.len()).map_err(|_| io::ErrorKind::InvalidData)?;
    stream.write_all(&[&length.to_be_bytes()[..], message].concat()).await
}

/// The resolvers that a machine asks (resolv.conf(5)).
pub(crate) fn resolvers_of(machine: &str) -> Vec<SocketAddr> {
    let named = machine.lines().filter_map(|line| line.trim().strip_prefix("nameserver"));
    let addresses = named.filter_map(|rest| rest.split_whitespace().next()?.parse::<IpAddr>().ok());
    addresses.map(|address| SocketAddr::new(address, PORT)).take(MOST_RESOLVERS).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc;

    use super::*;

    /// A question for the addresses of a name (RFC 1035, section 4.1), of one label.
    fn question(name: &str) -> Vec<u8> {
        let mut message = vec![0x12, 0x34, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0, u8::try_from(name.len()).unwrap()];
        message.extend(name.bytes());
        message.extend([0, 0, 1, 0, 1]);
        message
    }

    /// What a resolver answers: one address.
    fn answer(question: &[u8], address: [u8; 4]) -> Vec<u8> {
        let mut message = question.to_vec();
        message[2] |= 0x80;
        message[7] = 1;
        message.extend([0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4]);
        message.extend(address);
        message
    }

    /// A resolver that knows one name as public and every other as private, over both ways at one port. Before what it
    /// has to say by datagram it says what was asked of somebody else.
    async fn resolver() -> SocketAddr {
        let streams = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = streams.local_addr().unwrap();
        let datagrams = UdpSocket::bind(at).await.unwrap();
        let said = |question: &[u8]| {
            let is_public = question[13..].starts_with(b"public");
            answer(question, if is_public { [8, 8, 8, 8] } else { [10, 20, 0, 7] })
        };
        tokio::spawn(async move {
            let mut buffer = vec![0; LONGEST];
            while let Ok((count, from)) = datagrams.recv_from(&mut buffer).await {
                let mut other = said(&buffer[..count]);
                other[0] ^= 1;
                datagrams.send_to(&other, from).await.unwrap();
                datagrams.send_to(&said(&buffer[..count]), from).await.unwrap();
            }
        });
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = streams.accept().await {
                let question = next(&mut stream).await.unwrap();
                say(&mut stream, &said(&question)).await.unwrap();
            }
        });
        at
    }

    /// Answers as in a job, with the address at which it is asked, and what it tells.
    fn answering(asked: Vec<SocketAddr>) -> (Answering, SocketAddr, mpsc::Receiver<String>) {
        let streams = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let at = streams.local_addr().unwrap();
        let datagrams = std::net::UdpSocket::bind(at).unwrap();
        let (tell, told) = mpsc::channel();
        let closed = pondrix_core::access::Reach::default().closed(&[]);
        let tell = move |words: &str| tell.send(words.to_owned()).unwrap();
        (Answering::begin(&Handle::current(), (datagrams, streams), asked, closed, tell).unwrap(), at, told)
    }

    async fn by_datagram(at: SocketAddr, message: &[u8]) -> Vec<u8> {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        socket.send_to(message, at).await.unwrap();
        let mut buffer = vec![0; LONGEST];
        let count = socket.recv(&mut buffer).await.unwrap();
        buffer[..count].to_vec()
    }

    #[tokio::test]
    async fn what_a_resolver_says_is_passed_on_but_for_what_is_closed_which_is_told_once() {
        let (public, private) = (question("public"), question("inner"));
        let silent = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let (_waiting, at, _) = answering(vec![silent.local_addr().unwrap(), resolver().await]);
        assert_eq!(
            by_datagram(at, &public).await,
            answer(&public, [8, 8, 8, 8]),
            "the second where the first is silent"
        );
        let (_answering, at, told) = answering(vec![resolver().await]);
        let mut stream = TcpStream::connect(at).await.unwrap();
        for _ in 0..2 {
            let kept = by_datagram(at, &private).await;
            assert_eq!((&kept[..2], kept[3] & 0xf, kept[7]), (&private[..2], 0, 0), "no address, and no error");
            say(&mut stream, &private).await.unwrap();
            assert_eq!(next(&mut stream).await.unwrap(), kept, "over one stream as by datagram");
        }
        say(&mut stream, &public).await.unwrap();
        assert_eq!(next(&mut stream).await.unwrap(), answer(&public, [8, 8, 8, 8]));
        let words = told.try_iter().collect::<Vec<_>>();
        assert!(words.len() == 1 && words[0].starts_with("the name inner leads to 10.20.0.7, which"), "{words:?}");
    }

    #[tokio::test]
    async fn who_has_nobody_to_ask_says_so_and_what_is_no_question_ends_a_stream() {
        let (answering, at, _told) = answering(Vec::new());
        let answer = by_datagram(at, &question("public")).await;
        assert_eq!(answer[3] & 0xf, 2, "a failure of the server");
        let mut stream = TcpStream::connect(at).await.unwrap();
        say(&mut stream, b"no question").await.unwrap();
        assert!(next(&mut stream).await.is_err());
        // It ends with what it belongs to.
        drop(answering);
        while TcpStream::connect(at).await.is_ok() {
            tokio::task::yield_now().await;
        }
    }

    #[test]
    fn the_machines_resolvers_are_those_of_its_file() {
        let file =
            "# made by hand\nsearch pond.test\nnameserver 10.0.0.53\n nameserver\t::1\nnameserver fe80::1%eth0\n";
        let named: Vec<_> = resolvers_of(file).iter().map(ToString::to_string).collect();
        assert_eq!(named, ["10.0.0.53:53", "[::1]:53"]);
    }
}
