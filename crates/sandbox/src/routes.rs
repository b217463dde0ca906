//! Closing networks: routes that lead nowhere, which nothing inside can take away.

use std::io;
use std::net::Ipv4Addr;

use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, recv, send, socket_with};

/// What a message is about, and how it is answered (netlink(7), rtnetlink(7)).
const NEW_ROUTE: u16 = libc::RTM_NEWROUTE;
const FLAGS: u16 = (libc::NLM_F_REQUEST | libc::NLM_F_ACK | libc::NLM_F_CREATE | libc::NLM_F_EXCL) as u16;
/// How long a message's head is, that of a route, and the address behind both.
const HEAD: usize = 16;
const ROUTE: usize = 12;
const ADDRESS: usize = 8;
const LENGTH: usize = HEAD + ROUTE + ADDRESS;

/// Has the network namespace of this thread reach none of these networks (each an address, and with how many bits of it
/// theirs begin): who calls there is told that there is no way.
///
/// # Errors
/// When the kernel refuses a route.
pub(crate) fn close(networks: &[(Ipv4Addr, u8)]) -> io::Result<()> {
    // Without a word more it is NETLINK_ROUTE.
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, None)?;
    for (network, number) in networks.iter().zip(1..) {
        send(&socket, &message(*network, number), SendFlags::empty())?;
        let mut answer = [0; 512];
        let (_, count) = recv(&socket, &mut answer[..], RecvFlags::empty())?;
        // A kind of message, and what went wrong as a negative number; zero is that nothing did.
        let told = answer.get(HEAD..HEAD + 4).filter(|_| count >= HEAD + 4).and_then(|bytes| bytes.try_into().ok());
        match told.map(i32::from_ne_bytes) {
            Some(0) => {}
            Some(error) => return Err(io::Error::from_raw_os_error(-error)),
            None => return Err(io::Error::other("the kernel's answer is cut")),
        }
    }
    Ok(())
}

/// A message that asks for a route of the main table to nowhere.
fn message((address, bits): (Ipv4Addr, u8), number: u32) -> [u8; LENGTH] {
    let mut message = [0; LENGTH];
    let mut place = 0;
    let mut put = |bytes: &[u8]| {
        message[place..place + bytes.len()].copy_from_slice(bytes);
        place += bytes.len();
    };
    put(&(LENGTH as u32).to_ne_bytes());
    put(&NEW_ROUTE.to_ne_bytes());
    put(&FLAGS.to_ne_bytes());
    put(&number.to_ne_bytes());
    put(&0_u32.to_ne_bytes());
    // Family, bits of the destination, bits of the source, kind of service; table, who made it, scope, kind; flags.
    put(&[libc::AF_INET as u8, bits, 0, 0]);
    put(&[libc::RT_TABLE_MAIN, libc::RTPROT_STATIC, libc::RT_SCOPE_UNIVERSE, libc::RTN_UNREACHABLE]);
    put(&0_u32.to_ne_bytes());
    put(&(ADDRESS as u16).to_ne_bytes());
    put(&libc::RTA_DST.to_ne_bytes());
    put(&address.octets());
    message
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_route_is_asked_for_as_the_kernel_reads_it() {
        let message = message((Ipv4Addr::new(10, 20, 0, 0), 16), 7);
        let number = |at: usize| u32::from_ne_bytes(message[at..at + 4].try_into().unwrap());
        assert_eq!((number(0), number(8)), (36, 7));
        assert_eq!(message[16..24], [2, 16, 0, 0, 254, 4, 0, 7]);
        assert_eq!(message[32..], [10, 20, 0, 0]);
    }
}
