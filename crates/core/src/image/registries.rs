//! How registries are reached.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::{Reference, Repository};
use crate::access::Reach;
use crate::pipeline::LayerForm;

/// Registries that are reached in a way of their own. All others are reached at `https://HOST`, without
/// signing in.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Registries {
    /// By the host that image names begin with.
    #[serde(default)]
    pub by_host: BTreeMap<String, Access>,
    /// What of the network is reached at hosts that are none of these, which anybody may have named; all of it where
    /// nothing is said. Each machine says it for itself.
    #[serde(skip)]
    pub others: Option<Reach>,
}

/// How one registry is reached.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Access {
    /// Its address: `http[s]://HOST[:PORT]`.
    #[serde(default)]
    pub address: Option<String>,
    /// Who signs in.
    #[serde(default)]
    pub sign_in: Option<SignIn>,
    /// Certificates of authorities, in PEM (RFC 7468), that are believed for it besides the machine's own.
    #[serde(default)]
    pub certificates: Option<String>,
    /// How layers for it are compressed, where a pipeline does not say.
    #[serde(default)]
    pub layers: Option<LayerForm>,
    /// The path in it that names of images mean which name no registry; empty for names as they are. Nothing
    /// where it is not the one that they mean.
    #[serde(default)]
    pub bare_names: Option<String>,
}

/// A name and a password, or a token that stands for one.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignIn {
    /// Who.
    pub user: String,
    /// The password.
    pub password: String,
}

impl fmt::Debug for SignIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SignIn").field("user", &self.user).finish_non_exhaustive()
    }
}

/// Why a name without a registry names no image.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BareNameError {
    /// No registry was chosen for such names.
    #[error(
        "`{0}` names no registry, and none was chosen for such names; write HOST/{0}, or have one chosen: \
         pondrix registry add HOST --bare-names PATH"
    )]
    NoRegistry(String),
    /// Not a name, wherever it is looked for.
    #[error(transparent)]
    Reference(#[from] super::ReferenceError),
}

impl Registries {
    /// Registries at these addresses.
    #[must_use]
    pub fn at<H: Into<String>, A: Into<String>>(addresses: impl IntoIterator<Item = (H, A)>) -> Self {
        let access = |address: A| Access { address: Some(address.into()), ..Access::default() };
        let by_host = addresses.into_iter().map(|(host, address)| (host.into(), access(address))).collect();
        Self { by_host, others: None }
    }

    /// What of the network is reached at a host, and where it leads to; all of it where nothing is said.
    #[must_use]
    pub fn reach(&self, host: &str) -> Option<&Reach> {
        self.others.as_ref().filter(|_| !self.by_host.contains_key(host))
    }

    /// The address of a registry. Names on the loopback interface are reached without TLS.
    #[must_use]
    pub fn address(&self, host: &str) -> String {
        if let Some(address) = self.by_host.get(host).and_then(|access| access.address.as_ref()) {
            return address.trim_end_matches('/').to_owned();
        }
        let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
        let loopback = name == "localhost" || name.starts_with("127.");
        format!("{}://{host}", if loopback { "http" } else { "https" })
    }

    /// How a registry is reached.
    #[must_use]
    pub fn access(&self, host: &str) -> Access {
        self.by_host.get(host).cloned().unwrap_or_default()
    }

    /// The image that a name without a registry means: `web:1` is `HOST/PATH/web:1` of the registry that was
    /// chosen for such names.
    ///
    /// # Errors
    /// When none was chosen, or it is not a name.
    pub fn full_name(&self, short: &str) -> Result<Reference, BareNameError> {
        let chosen = self.by_host.iter().find_map(|(host, access)| Some((host, access.bare_names.as_ref()?)));
        let (host, path) = chosen.ok_or_else(|| BareNameError::NoRegistry(short.to_owned()))?;
        let path = path.trim_matches('/');
        let slash = if path.is_empty() { "" } else { "/" };
        Ok(format!("{host}/{path}{slash}{short}").parse()?)
    }

    /// Those that these repositories are in, and no other.
    #[must_use]
    pub fn only<'a>(&self, repositories: impl IntoIterator<Item = &'a Repository>) -> Self {
        let hosts: Vec<&str> = repositories.into_iter().map(Repository::host).collect();
        let mine = self.by_host.iter().filter(|(host, _)| hosts.contains(&host.as_str()));
        let by_host = mine.map(|(host, access)| (host.clone(), access.clone())).collect();
        Self { by_host, others: self.others.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_said_or_follows_from_the_host() {
        let registries = Registries::at([("registry.fernhollow.test", "http://127.0.0.1:5000/")]);
        assert_eq!(registries.address("registry.fernhollow.test"), "http://127.0.0.1:5000");
        assert_eq!(registries.address("other.test"), "https://other.test");
        assert_eq!(registries.address("localhost:5000"), "http://localhost:5000");
        assert_eq!(registries.address("127.0.0.1:1"), "http://127.0.0.1:1");
    }

    #[test]
    fn names_without_a_registry_mean_the_chosen_one() {
        let mut registries = Registries::at([("mirror.test", "http://127.0.0.1:1")]);
        assert_eq!(registries.full_name("web:1"), Err(BareNameError::NoRegistry("web:1".to_owned())));
        for (path, expected) in [("", "mirror.test/web:1"), ("common/base/", "mirror.test/common/base/web:1")] {
            let access = registries.by_host.get_mut("mirror.test").unwrap();
            access.bare_names = Some(path.to_owned());
            assert_eq!(registries.full_name("web:1").unwrap().to_string(), expected);
        }
        assert!(matches!(registries.full_name("web"), Err(BareNameError::Reference(_))));
    }

    #[test]
    fn a_password_is_not_told_by_accident() {
        let sign_in = SignIn { user: "ines".to_owned(), password: "s3cret".to_owned() };
        assert!(!format!("{sign_in:?}").contains("s3cret"));
    }
}
