//! From where somebody asks.

use std::net::{IpAddr, SocketAddr};

use axum::extract::ConnectInfo;
use axum::http::request::Parts;

/// From where a request comes, for its handler.
#[derive(Clone, Copy, Debug)]
pub(super) struct Caller(pub(super) Option<IpAddr>);

/// What a proxy says of whom it asks for; each that is passed adds whom it was asked by.
const FORWARDED_FOR: &str = "x-forwarded-for";

/// The address that a request comes from: of the connection, or, where that is a proxy's that is believed, the nearest one
/// that is none.
pub(super) fn address(parts: &Parts, proxies: &[IpAddr]) -> Option<IpAddr> {
    let ConnectInfo(peer) = parts.extensions.get::<ConnectInfo<SocketAddr>>()?;
    let peer = peer.ip().to_canonical();
    if !proxies.contains(&peer) {
        return Some(peer);
    }
    let told = parts.headers.get_all(FORWARDED_FOR).iter().filter_map(|value| value.to_str().ok());
    let told: Vec<&str> = told.flat_map(|value| value.split(',')).collect();
    let mut nearest = peer;
    // What stands further in front anybody may have written.
    for one in told.into_iter().rev() {
        let Ok(address) = one.trim().parse::<IpAddr>() else { break };
        nearest = address.to_canonical();
        if !proxies.contains(&nearest) {
            break;
        }
    }
    Some(nearest)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(peer: &str, told: &[&str]) -> String {
        let mut request = axum::http::Request::new(());
        request.extensions_mut().insert(ConnectInfo(SocketAddr::new(peer.parse().unwrap(), 1234)));
        for one in told {
            request.headers_mut().append(FORWARDED_FOR, one.parse().unwrap());
        }
        let proxies = ["10.0.0.1", "10.0.0.2"].map(|address| address.parse().unwrap());
        address(&request.into_parts().0, &proxies).unwrap().to_string()
    }

    #[test]
    fn a_proxy_is_believed_that_was_named_and_only_what_it_saw_itself() {
        assert_eq!(asked("192.0.2.7", &["198.51.100.1"]), "192.0.2.7", "nobody's proxy");
        assert_eq!(asked("10.0.0.1", &["198.51.100.1"]), "198.51.100.1");
        assert_eq!(asked("10.0.0.1", &["127.0.0.1, 198.51.100.1"]), "198.51.100.1", "what the caller wrote");
        assert_eq!(asked("10.0.0.1", &["127.0.0.1", "198.51.100.1, 10.0.0.2"]), "198.51.100.1", "two proxies");
        assert_eq!(asked("::ffff:10.0.0.1", &["2001:db8::1"]), "2001:db8::1");
        assert_eq!(asked("10.0.0.1", &[]), "10.0.0.1");
        assert_eq!(asked("10.0.0.1", &["198.51.100.1, nonsense"]), "10.0.0.1");
    }
}
