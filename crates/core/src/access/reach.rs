//! What jobs reach of the network: what is public, and what the owner of their runner opens besides.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr};
use std::str::FromStr;

use super::is_public;

/// Addresses that begin with the same bits (RFC 4632, section 3.1): `10.20.0.0/16`, or one, `10.20.0.7`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Network {
    /// Without the bits behind the beginning.
    start: u32,
    bits: u8,
}

/// Why a text names no network.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no address of version 4 and no network of such, as 10.20.0.0/16 is")]
pub struct NoNetwork(String);

impl Network {
    /// The addresses that have so many bits at their beginning as this one; at most 32.
    #[must_use]
    pub const fn new(address: Ipv4Addr, bits: u8) -> Self {
        let bits = if bits > 32 { 32 } else { bits };
        Self { start: address.to_bits() & Self::mask(bits), bits }
    }

    /// One address.
    #[must_use]
    pub const fn one(address: Ipv4Addr) -> Self {
        Self::new(address, 32)
    }

    /// The first address.
    #[must_use]
    pub const fn address(self) -> Ipv4Addr {
        Ipv4Addr::from_bits(self.start)
    }

    /// How many bits all of its addresses begin with.
    #[must_use]
    pub const fn bits(self) -> u8 {
        self.bits
    }

    /// Whether an address is of it.
    #[must_use]
    pub const fn has(self, address: Ipv4Addr) -> bool {
        address.to_bits() & Self::mask(self.bits) == self.start
    }

    const fn mask(bits: u8) -> u32 {
        if bits == 0 { 0 } else { u32::MAX << (32 - bits) }
    }

    const fn is_within(self, other: Self) -> bool {
        self.bits >= other.bits && other.has(self.address())
    }

    /// What is left of it without another one.
    fn without(self, other: Self) -> Vec<Self> {
        if self.is_within(other) {
            return Vec::new();
        }
        if !other.is_within(self) {
            return vec![self];
        }
        // Both halves, of which one has nothing of the other.
        let bits = self.bits + 1;
        let upper = self.start | (1 << (32 - bits));
        [self.start, upper].into_iter().flat_map(|start| Self { start, bits }.without(other)).collect()
    }
}

impl FromStr for Network {
    type Err = NoNetwork;

    fn from_str(text: &str) -> Result<Self, NoNetwork> {
        let none = || NoNetwork(text.to_owned());
        let (address, bits) = match text.split_once('/') {
            Some((address, bits)) => (address, bits.parse().ok().filter(|bits| *bits <= 32).ok_or_else(none)?),
            None => (text, 32),
        };
        Ok(Self::new(address.parse().map_err(|_| none())?, bits))
    }
}

impl fmt::Display for Network {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.address(), self.bits)
    }
}

/// What is not public ([`is_public`]), but the loopback addresses, which each network has for itself.
const CLOSED: [Network; 13] = [
    Network::new(Ipv4Addr::new(0, 0, 0, 0), 8),
    Network::new(Ipv4Addr::new(10, 0, 0, 0), 8),
    Network::new(Ipv4Addr::new(100, 64, 0, 0), 10),
    Network::new(Ipv4Addr::new(169, 254, 0, 0), 16),
    Network::new(Ipv4Addr::new(172, 16, 0, 0), 12),
    Network::new(Ipv4Addr::new(192, 0, 0, 0), 24),
    Network::new(Ipv4Addr::new(192, 0, 2, 0), 24),
    Network::new(Ipv4Addr::new(192, 168, 0, 0), 16),
    Network::new(Ipv4Addr::new(198, 18, 0, 0), 15),
    Network::new(Ipv4Addr::new(198, 51, 100, 0), 24),
    Network::new(Ipv4Addr::new(203, 0, 113, 0), 24),
    Network::new(Ipv4Addr::new(224, 0, 0, 0), 4),
    Network::new(Ipv4Addr::new(240, 0, 0, 0), 4),
];

/// What is reached: what is public, and what is opened besides.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Reach {
    open: Vec<Network>,
}

impl Reach {
    /// What is public is reached, and these networks.
    #[must_use]
    pub const fn with(open: Vec<Network>) -> Self {
        Self { open }
    }

    /// The networks that are not reached, where these addresses are the machine's own: those are closed too, unless each
    /// is opened by itself. No address is in two of them.
    #[must_use]
    pub fn closed(&self, own: &[Ipv4Addr]) -> Vec<Network> {
        let mut closed = CLOSED.to_vec();
        for open in &self.open {
            closed = closed.into_iter().flat_map(|network| network.without(*open)).collect();
        }
        for own in own.iter().filter(|own| !own.is_loopback()) {
            let one = Network::one(*own);
            if !self.open.contains(&one) && !closed.iter().any(|network| network.has(*own)) {
                closed.push(one);
            }
        }
        closed
    }

    /// Whether an address is reached that is none of the machine's own.
    #[must_use]
    pub fn reaches(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        let is_open = |address| self.open.iter().any(|network| network.has(address));
        is_public(address) || matches!(address, IpAddr::V4(address) if is_open(address))
    }
}
