//! What people set: projects, secrets, environments, registries, pools. What cannot be used is refused here, and not
//! when a run needs it.

use pondrix_api::{GitCredential, NewProject, PoolView, ProjectChange};
use pondrix_core::ProjectName;
use pondrix_core::access::{Need, RepositoryHost, is_public};
use pondrix_core::queue::Share;

use super::keys::{add_project, credential_place};
use super::{Asker, Engine, EngineError};
use crate::access;
use crate::audit;
use crate::ports::git::Credential;
use crate::seal::KeyOwner;
use crate::store::{self, Project};

/// The shares of the runners that a project may have.
const WEIGHTS: std::ops::RangeInclusive<u32> = 1..=100;

pub(super) fn invalid<T>(words: impl Into<String>) -> Result<T, EngineError> {
    Err(EngineError::Invalid(words.into()))
}

/// Refuses what is no name by the rule that projects, pools, environments and namespaces follow.
pub(super) fn is_name(name: &str, of: &str) -> Result<(), EngineError> {
    match name.parse::<ProjectName>() {
        Ok(_) => Ok(()),
        Err(_) => invalid(format!(
            "`{name}` cannot be {of}: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends"
        )),
    }
}

/// An address without the name and password that may stand in it.
pub(super) fn without_password(address: &str) -> String {
    match address.split_once("://") {
        Some((scheme, rest)) => {
            let (host, path) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
            format!("{scheme}://{}{path}", host.rsplit('@').next().unwrap_or_default())
        }
        None => address.to_owned(),
    }
}

/// Whether a password stands in an address.
fn has_password(address: &str) -> bool {
    let place = address.split_once("://").map(|(_, rest)| rest.split('/').next().unwrap_or_default());
    place.and_then(|place| place.rsplit_once('@')).is_some_and(|(who, _)| who.contains(':'))
}

/// What signs in at a repository, as it is sealed; nothing where nobody does.
fn credential(said: &GitCredential, repository: &str) -> Result<Option<Vec<u8>>, EngineError> {
    let is_web = repository.starts_with("https://") || repository.starts_with("http://");
    let credential = match said {
        GitCredential::None => return Ok(None),
        GitCredential::Password { user, password } => {
            if !is_web {
                return invalid("a name and a password are for a repository at https://…; ssh takes a key");
            }
            let is_line = |text: &str| !text.is_empty() && !text.contains(['\n', '\r', '\0']);
            if !is_line(user) || !is_line(password) {
                return invalid("a name and a password are a line each, with something in it");
            }
            Credential::Password { user: user.clone(), password: password.clone() }
        }
        GitCredential::Key { key } => {
            if is_web {
                return invalid(
                    "a key is for a repository that is reached with ssh; https takes a name and a password",
                );
            }
            if !key.contains("PRIVATE KEY-----") {
                return invalid("this is no private key: it begins with -----BEGIN … PRIVATE KEY-----");
            }
            // ssh reads none that does not end with a line.
            Credential::Key(format!("{}\n", key.trim_end()))
        }
    };
    Ok(Some(serde_json::to_vec(&credential).map_err(anyhow::Error::from)?))
}

pub(super) fn is_http(address: &str) -> Result<(), EngineError> {
    let rest = address.strip_prefix("http://").or_else(|| address.strip_prefix("https://"));
    match rest.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('/')) {
        true => Ok(()),
        false => invalid(format!("`{address}` is not an address: write http://… or https://…")),
    }
}

/// Refuses a repository of this machine, or of a network that is not public.
async fn is_elsewhere(repository: &str) -> Result<(), EngineError> {
    let refused = |why: String| {
        let words =
            "repositories of the server's machine and of networks of its own are added by whoever administers it";
        EngineError::Forbidden(format!("`{repository}`: {why}; {words}: pondrix role list"))
    };
    let RepositoryHost { host, port } = RepositoryHost::of(repository).map_err(|why| refused(why.to_string()))?;
    let found = tokio::net::lookup_host((host.as_str(), port)).await;
    let found = found.map_err(|error| EngineError::Invalid(format!("`{repository}`: {host} is not found: {error}")))?;
    match found.map(|address| address.ip()).find(|address| !is_public(*address)) {
        Some(address) => Err(refused(format!("{host} is {address}, which is not of the public network"))),
        None => Ok(()),
    }
}

impl Engine {
    /// Makes a repository known.
    ///
    /// Git reaches it as the server: one of this machine, or of a network of its own, is for whoever administers all to name.
    pub(crate) async fn add_project(&self, new: NewProject, by: &Asker) -> Result<Project, EngineError> {
        audit::of_project(&new.name);
        by.must(Need::Add, Some(&new.name))?;
        let name: ProjectName = new.name.parse().map_err(|error| EngineError::Invalid(format!("{error}")))?;
        let repository = new.repository.trim().to_owned();
        if repository.is_empty() || repository.starts_with('-') {
            return invalid("name a repository as git reaches it: an address with https or ssh, or a path");
        }
        let is_trusted = by.rights.allow(Need::Administer, None);
        if has_password(&repository) {
            let words = "an address has no password in it, which everybody would read: say who signs in with --user";
            return invalid(words);
        }
        if !is_trusted {
            is_elsewhere(&repository).await?;
        }
        let credential = new.credential.as_ref().map(|said| credential(said, &repository)).transpose()?.flatten();
        let (secret, now) = (access::new_secret()?, self.clock.now());
        audit::words(without_password(&repository));
        let seal = self.seal.clone();
        let add = move |c: &rusqlite::Connection| {
            add_project(c, &seal, &name, (&repository, is_trusted), &secret, credential.as_deref(), now)
        };
        let _turn = self.seal.turn().await;
        let (project, (id, key)) = self.store.write_noted(now, add).await?;
        self.seal.learn(id, key);
        self.read_limits().await?;
        Ok(project)
    }

    /// Changes what is said of a project.
    pub(crate) async fn change_project(&self, project: &Project, change: ProjectChange) -> Result<(), EngineError> {
        if let Some(weight) = change.weight.filter(|weight| !WEIGHTS.contains(weight)) {
            return invalid(format!("{weight} cannot be a weight: write a number from 1 to 100"));
        }
        if let Some(spaced) =
            change.protected.iter().flatten().find(|one| one.to_string().contains(char::is_whitespace))
        {
            return invalid(format!("`{spaced}` names no branch or tag: no name has a space in it"));
        }
        let protected = change.protected.as_ref().map(|refs| {
            let refs = refs.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
            if refs.is_empty() { "protects its default branch".to_owned() } else { format!("protects {refs}") }
        });
        let said = [
            change.weight.map(|weight| format!("weight {weight}")),
            change.limit.map(|limit| format!("at most {limit} jobs at once")),
            change.templates.map(|yes| if yes { "gives templates away" } else { "gives no templates away" }.to_owned()),
            protected,
            change.credential.as_ref().map(|said| match said {
                GitCredential::None => "nobody signs in at its repository".to_owned(),
                GitCredential::Password { user, .. } => format!("{user} signs in at its repository"),
                GitCredential::Key { .. } => "a key signs in at its repository".to_owned(),
            }),
        ];
        audit::words(said.into_iter().flatten().collect::<Vec<_>>().join("; "));
        let id = project.id;
        let sealed = match &change.credential {
            None => None,
            Some(said) => Some(match credential(said, &project.repository)? {
                None => None,
                Some(value) => {
                    let place = credential_place(project.name.as_str());
                    Some(self.sealed(KeyOwner::Project(id), &place, &value).await?)
                }
            }),
        };
        let set = move |c: &rusqlite::Connection| {
            let all = store::projects(c)?;
            let share = all.into_iter().find(|row| row.project.id == id).map(|row| row.share).unwrap_or_default();
            let limit = change.limit.map_or(share.limit, |limit| Some(limit).filter(|limit| *limit > 0));
            if let Some(yes) = change.templates {
                store::put_has_templates(c, id, yes)?;
            }
            if let Some(sealed) = &sealed {
                store::put_credential(c, id, sealed.as_deref())?;
            }
            if let Some(refs) = &change.protected {
                store::put_protected(c, id, refs)?;
            }
            store::put_share(c, id, Share { weight: change.weight.unwrap_or(share.weight), limit })
        };
        self.store.write_noted(self.clock.now(), set).await?;
        Ok(self.read_limits().await?)
    }

    /// Sets how many jobs may run at once in a pool; where it says 0 or nothing, as many as there are.
    pub(crate) async fn set_pool(&self, pool: PoolView) -> Result<(), EngineError> {
        is_name(&pool.name, "a pool's name")?;
        audit::about(&pool.name);
        let limit = pool.limit.filter(|limit| *limit > 0);
        audit::words(limit.map_or_else(|| "no limit".to_owned(), |limit| format!("at most {limit} jobs at once")));
        self.store.write_noted(self.clock.now(), move |c| store::put_pool(c, &pool.name, limit)).await?;
        Ok(self.read_limits().await?)
    }
}
