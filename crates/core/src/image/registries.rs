//! How registries are reached.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::{Reference, Repository};
use crate::ProjectName;
use crate::access::{Projects, Reach};
use crate::pipeline::{LayerForm, Pattern};

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
    /// Who signs in, for which repositories.
    #[serde(default)]
    pub accounts: Vec<Account>,
    /// Whether somebody signs in at it, be it for other jobs: what is known of its images is then asked for anew by
    /// each, as who may not see them is not to have them from somebody who may.
    #[serde(default)]
    pub is_private: bool,
    /// Where name and password are shown besides the registry itself: the address of what gives tokens for it.
    #[serde(default)]
    pub realm: Option<String>,
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

/// Somebody who signs in: a name, and a password or a token that stands for one; and for what.
#[derive(Clone, PartialEq, Serialize, Deserialize)]
pub struct Account {
    /// Who.
    pub user: String,
    /// The password.
    pub password: String,
    /// Whom the job's identity is for that signs in instead of a stored password; it is then the password, and good for a
    /// while only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// For which repositories, by their paths in the registry; for all of them where none is named.
    #[serde(default)]
    pub repositories: Vec<Pattern>,
    /// For which projects; for all of them where none is named. No runner is told.
    #[serde(skip)]
    pub projects: Vec<Projects>,
}

impl fmt::Debug for Account {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Account").field("user", &self.user).finish_non_exhaustive()
    }
}

impl Account {
    /// How closely it names a repository, the higher the closer; nothing where it is not for that.
    fn fits(&self, repository: &Repository) -> Option<usize> {
        if self.repositories.is_empty() {
            return Some(0);
        }
        let fitting = self.repositories.iter().filter(|pattern| pattern.matches(repository.path()));
        fitting.map(|pattern| 1 + pattern.as_str().len()).max()
    }

    fn is_for(&self, project: &ProjectName) -> bool {
        self.projects.is_empty() || self.projects.iter().any(|projects| projects.matches(project.as_str()))
    }
}

impl Access {
    /// Who signs in for a repository: of those who may, the one whose pattern names it most closely (the longest).
    #[must_use]
    pub fn account(&self, repository: &Repository) -> Option<&Account> {
        let fitting = self.accounts.iter().filter_map(|account| Some((account.fits(repository)?, account)));
        fitting.max_by(|(one, a), (other, b)| one.cmp(other).then_with(|| b.user.cmp(&a.user))).map(|(_, found)| found)
    }
}

impl Access {
    /// Whether somebody signs in with a job's identity for this audience, however it is spelled.
    #[must_use]
    pub fn takes_identity_for(&self, audience: &str) -> bool {
        self.accounts
            .iter()
            .filter_map(|account| account.audience.as_deref())
            .any(|own| folded(own) == folded(audience))
    }
}

/// An audience without what a registry may overlook when it compares: the case of letters, a scheme and its usual port,
/// and what ends an address.
fn folded(audience: &str) -> String {
    let plain = audience.trim().to_ascii_lowercase();
    let plain = plain.rsplit_once("://").map_or(plain.as_str(), |(_, rest)| rest);
    let ends = ['/', '.', '?', '#'];
    let plain = plain.trim_end_matches(ends);
    let plain = [":443", ":80"].into_iter().find_map(|port| plain.strip_suffix(port)).unwrap_or(plain);
    plain.trim_matches(ends).to_owned()
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

    /// The same for the jobs of a project: only those sign in who may for it.
    #[must_use]
    pub fn of(&self, project: &ProjectName) -> Self {
        let mut own = self.clone();
        for access in own.by_host.values_mut() {
            access.accounts.retain(|account| account.is_for(project));
        }
        own
    }

    /// The same with the identities that `identity` gives for an audience; who would sign in with one that is not given
    /// does not.
    #[must_use]
    pub fn identified(&self, identity: impl Fn(&str) -> Option<String>) -> Self {
        let mut own = self.clone();
        for access in own.by_host.values_mut() {
            access.accounts.retain_mut(|account| match &account.audience {
                None => true,
                Some(audience) => {
                    let given = identity(audience);
                    let is_given = given.is_some();
                    account.password = given.unwrap_or_default();
                    is_given
                }
            });
        }
        own
    }

    /// Whether somebody signs in with a job's identity.
    #[must_use]
    pub fn asks_for_identities(&self) -> bool {
        self.by_host.values().flat_map(|access| &access.accounts).any(|account| account.audience.is_some())
    }

    /// The same for what is done with these repositories: only those sign in who do so for one of them.
    #[must_use]
    pub fn for_repositories<'a>(&self, repositories: impl IntoIterator<Item = &'a Repository> + Clone) -> Self {
        let mut own = self.clone();
        for (host, access) in &mut own.by_host {
            let here = repositories.clone().into_iter().filter(|repository| repository.host() == host);
            let needed: Vec<_> = here.filter_map(|repository| access.account(repository)).cloned().collect();
            access.accounts.retain(|account| needed.contains(account));
        }
        own
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

    fn account(user: &str, repositories: &[&str], projects: &[&str]) -> Account {
        Account {
            user: user.to_owned(),
            password: "s3cret".to_owned(),
            audience: None,
            repositories: repositories.iter().map(|text| Pattern::new(text).unwrap()).collect(),
            projects: projects.iter().map(|text| text.parse().unwrap()).collect(),
        }
    }

    #[test]
    fn who_signs_in_is_who_may_for_the_project_and_names_the_repository_most_closely() {
        let mut registries = Registries::at([("pond.test", "http://127.0.0.1:1")]);
        registries.by_host.get_mut("pond.test").unwrap().accounts = vec![
            account("reader", &[], &[]),
            account("garden", &["garden/**"], &["garden-*"]),
            account("desk", &["garden/desk", "visitor/*"], &["desk"]),
        ];
        let who = |project: &str, repository: &str| {
            let own = registries.of(&project.parse().unwrap());
            let repository = format!("pond.test/{repository}").parse().unwrap();
            own.access("pond.test").account(&repository).map(|account| account.user.clone()).unwrap()
        };
        assert_eq!(who("desk", "garden/desk"), "desk");
        assert_eq!(who("desk", "garden/labels"), "reader");
        assert_eq!(who("garden-labels", "garden/desk"), "garden");
        assert_eq!(who("garden-labels", "garden/deep/below"), "garden");
        assert_eq!(who("labels", "garden/desk"), "reader");
        assert_eq!(who("desk", "visitor/desk"), "desk");
        assert_eq!(who("desk", "visitor/deep/below"), "reader");
    }

    #[test]
    fn a_job_has_nobody_sign_in_but_for_its_repositories() {
        let mut registries = Registries::at([("pond.test", "http://127.0.0.1:1"), ("lake.test", "http://127.0.0.1:2")]);
        registries.by_host.get_mut("pond.test").unwrap().accounts =
            vec![account("desk", &["desk/*"], &[]), account("labels", &["labels/*"], &[])];
        registries.by_host.get_mut("lake.test").unwrap().accounts = vec![account("all", &[], &[])];
        let repository: Repository = "pond.test/desk/web".parse().unwrap();
        let own = registries.for_repositories([&repository]);
        assert_eq!(own.access("pond.test").accounts, [account("desk", &["desk/*"], &[])]);
        assert!(own.access("lake.test").accounts.is_empty());
        assert_eq!(own.address("lake.test"), "http://127.0.0.1:2", "where it is, is no secret");
    }

    #[test]
    fn an_identity_signs_in_where_one_is_given_and_nobody_does_where_none_is() {
        let mut registries = Registries::at([("pond.test", "http://127.0.0.1:1")]);
        let by_identity =
            Account { audience: Some("pond".to_owned()), password: String::new(), ..account("desk", &[], &[]) };
        let accounts = vec![account("reader", &[], &[]), by_identity.clone()];
        registries.by_host.get_mut("pond.test").unwrap().accounts = accounts;
        assert!(registries.asks_for_identities());
        assert!(registries.access("pond.test").takes_identity_for("pond"));
        for spelled in ["Pond", "pond/", "https://pond", "HTTPS://POND:443/", "http://pond:80//", "pond."] {
            assert!(registries.access("pond.test").takes_identity_for(spelled), "{spelled}");
        }
        for other in ["vault", "pond.test", "ponds", "pond:5000", "https://pond/garden"] {
            assert!(!registries.access("pond.test").takes_identity_for(other), "{other}");
        }
        let given = registries.identified(|audience| Some(format!("token for {audience}")));
        let expected = Account { password: "token for pond".to_owned(), ..by_identity };
        assert_eq!(given.access("pond.test").accounts, [account("reader", &[], &[]), expected]);
        let kept = registries.identified(|_| None);
        assert_eq!(kept.access("pond.test").accounts, [account("reader", &[], &[])]);
        assert!(!kept.asks_for_identities());
    }

    #[test]
    fn a_runner_is_told_no_password_that_is_printed_and_no_projects() {
        let account = account("ines", &[], &["desk"]);
        assert!(!format!("{account:?}").contains("s3cret"));
        assert!(!serde_json::to_string(&account).unwrap().contains("desk"));
    }
}
