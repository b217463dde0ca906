//! Places that somebody names: repositories by their addresses, and whether an address is one of the public network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Where a repository is reached, of an address as git takes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RepositoryHost {
    /// The host: a name, or an address.
    pub host: String,
    /// The port.
    pub port: u16,
}

/// Why an address of a repository is not one on another machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotRemote {
    /// A path of this machine, or `file:`.
    #[error("it is a path of the server's machine")]
    Path,
    /// Another way of reaching it.
    #[error("it is reached neither by https nor by ssh")]
    Scheme,
}

impl RepositoryHost {
    /// The host of `https://HOST/…`, `ssh://[USER@]HOST/…` or `[USER@]HOST:PATH` (git-clone(1), "GIT URLS").
    ///
    /// # Errors
    /// When it is something else.
    pub fn of(address: &str) -> Result<Self, NotRemote> {
        let (rest, port) = match address.split_once("://") {
            Some(("https", rest)) => (rest, 443),
            Some(("ssh", rest)) => (rest, 22),
            Some(("file", _)) => return Err(NotRemote::Path),
            // `ext::sh -c …` and the like have two colons.
            Some(_) => return Err(NotRemote::Scheme),
            None => return Self::of_short(address),
        };
        let place = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let place = place.rsplit_once('@').map_or(place, |(_, place)| place);
        let (host, port) = match place.strip_prefix('[').and_then(|inner| inner.split_once(']')) {
            Some((host, after)) => (host, after.strip_prefix(':').and_then(|port| port.parse().ok()).unwrap_or(port)),
            None => match place.rsplit_once(':') {
                Some((host, said)) => (host, said.parse().unwrap_or(port)),
                None => (place, port),
            },
        };
        if host.is_empty() { Err(NotRemote::Scheme) } else { Ok(Self { host: host.to_owned(), port }) }
    }

    /// Of the short form of ssh. A path with a colon in it has a slash in front of that.
    fn of_short(address: &str) -> Result<Self, NotRemote> {
        let (place, path) = address.split_once(':').ok_or(NotRemote::Path)?;
        if place.contains('/') || place.is_empty() {
            return Err(NotRemote::Path);
        }
        if path.starts_with(':') {
            return Err(NotRemote::Scheme);
        }
        let host = place.rsplit_once('@').map_or(place, |(_, host)| host).trim_matches(['[', ']']);
        Ok(Self { host: host.to_owned(), port: 22 })
    }
}

/// Whether an address is one of the public network: not of this machine, not of a network of one's own, and none that
/// stands for something else (RFC 6890, "Special-Purpose IP Address Registries").
#[must_use]
pub fn is_public(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_public_v4(address),
        IpAddr::V6(address) => is_public_v6(address),
    }
}

fn is_public_v4(address: Ipv4Addr) -> bool {
    let [first, second, third, _] = address.octets();
    let is_shared = first == 100 && (64..128).contains(&second);
    let is_benchmark = first == 198 && (second == 18 || second == 19);
    let is_protocol = first == 192 && second == 0 && third == 0;
    !(first == 0
        || first >= 240
        || address.is_loopback()
        || address.is_private()
        || address.is_link_local()
        || address.is_multicast()
        || address.is_documentation()
        || is_shared
        || is_benchmark
        || is_protocol)
}

fn is_public_v6(address: Ipv6Addr) -> bool {
    let segments = address.segments();
    // Addresses that carry one of version 4 are what that is: mapped, of NAT64, and of 6to4.
    let carried = match segments {
        [0, 0, 0, 0, 0, 0xffff, high, low] | [0x64, 0xff9b, 0, 0, 0, 0, high, low] | [0x2002, high, low, ..] => {
            Some(Ipv4Addr::from((u32::from(high) << 16) | u32::from(low)))
        }
        _ => None,
    };
    if let Some(carried) = carried {
        return is_public_v4(carried);
    }
    // Global unicast is 2000::/3; of that, some is for documentation and protocols.
    segments[0] & 0xe000 == 0x2000 && !(segments[0] == 0x2001 && (segments[1] < 0x200 || segments[1] == 0xdb8))
}
