//! What addresses are connected to, of those that anybody may have named: in a recipe, as a base, by a registry that is
//! not known. A name is looked up once, and what was looked at is what is connected to.

use std::error::Error;
use std::net::{IpAddr, SocketAddr};

use pondrix_core::access::Reach;
use reqwest::Url;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};

/// A host is at an address that is not reached from here.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{host} is at {address}, which is not of the public network{}", opened_by(*address))]
pub struct NotReached {
    /// The host, as it was named.
    pub host: String,
    /// Where it is.
    pub address: IpAddr,
}

/// Who can open it. Of version 6 nothing is opened.
fn opened_by(address: IpAddr) -> String {
    match address.to_canonical() {
        IpAddr::V4(address) => format!("; the owner of the machine that asks opens it with --reach {address}"),
        IpAddr::V6(_) => String::new(),
    }
}

impl NotReached {
    /// That, where it is why a request came to nothing.
    pub(super) fn why(error: &reqwest::Error) -> Option<Self> {
        let mut cause: Option<&(dyn Error + 'static)> = Some(error);
        while let Some(error) = cause {
            if let Some(found) = error.downcast_ref::<Self>() {
                return Some(found.clone());
            }
            cause = error.source();
        }
        None
    }

    /// Refuses an address of the Web whose host is itself an address that is not reached. Names are looked up later, by
    /// [`Guarded`].
    pub(super) fn check(url: &Url, reach: Option<&Reach>) -> Result<(), Self> {
        let host = url.host_str().unwrap_or_default();
        let address = host.trim_matches(['[', ']']).parse::<IpAddr>();
        match (address, reach) {
            (Ok(address), Some(reach)) if !reach.reaches(address) => Err(Self { host: host.to_owned(), address }),
            _ => Ok(()),
        }
    }
}

/// Looks names up, and answers nothing for those that lead to what is not reached.
#[derive(Clone, Debug)]
pub(super) struct Guarded(pub(super) Reach);

impl Resolve for Guarded {
    fn resolve(&self, name: Name) -> Resolving {
        let (reach, host) = (self.0.clone(), name.as_str().to_owned());
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((host.as_str(), 0)).await?.collect();
            // One that is closed among others is no mistake of theirs: such names are made to get in.
            if let Some(closed) = found.iter().find(|found| !reach.reaches(found.ip())) {
                return Err(NotReached { host, address: closed.ip() }.into());
            }
            Ok(Box::new(found.into_iter()) as Addrs)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_that_stands_for_itself_is_looked_at_in_all_its_forms() {
        let open = Reach::with(vec!["10.20.0.0/16".parse().unwrap()]);
        let check = |url: &str, reach: &Reach| NotReached::check(&Url::parse(url).unwrap(), Some(reach)).is_ok();
        for closed in [
            "http://127.0.0.1/",
            "http://2130706433/",
            "http://0x7f.1/",
            "http://169.254.169.254/latest",
            "http://10.20.0.1/",
            "http://[::1]/",
            "http://[::ffff:10.20.0.1]/",
            "http://[fd00::1]/",
        ] {
            assert!(!check(closed, &Reach::default()), "{closed}");
        }
        for reached in ["http://1.1.1.1/", "http://seeds.example.test/", "http://[2606:4700::1111]/"] {
            assert!(check(reached, &Reach::default()), "{reached}");
        }
        assert!(check("http://10.20.0.1/", &open) && !check("http://10.21.0.1/", &open));
        assert!(NotReached::check(&Url::parse("http://127.0.0.1/").unwrap(), None).is_ok());
    }
}
