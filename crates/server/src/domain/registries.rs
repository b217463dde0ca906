//! Registries as jobs and the server itself reach them, and how that is set.

use std::sync::Arc;
use std::time::Duration;

use pondrix_api::RegistryChange;
use pondrix_core::access::Need;
use pondrix_core::image::{Access, Account, Registries, Repository};
use pondrix_core::pipeline::{JobKind, LayerForm};
use pondrix_core::work::Work;
use pondrix_core::{JobKey, ProjectName, mask};
use pondrix_image::registry::Registry;
use rusqlite::Connection;
use tracing::error;

use super::identities::Speaker;
use super::settings::{invalid, is_http, without_password};
use super::{Asker, Engine, EngineError, LiveRun};
use crate::audit::{self, Change};
use crate::seal::KeyOwner;
use crate::store::{self, AccountRow, RegistryRow, StoreError};

/// How long a registry may take to say where one signs in.
const PATIENCE: Duration = Duration::from_secs(5);

impl Engine {
    /// All registries, with all who sign in at them. It stays in the server.
    pub(crate) async fn registries(&self) -> Result<Arc<Registries>, StoreError> {
        match self.known_registries.get() {
            Ok(known) => Ok(known),
            Err(before) => {
                let rows = self.store.read(store::registries).await?;
                let by_host = rows.into_iter().map(|row| (row.host.clone(), self.access(row))).collect();
                Ok(self.known_registries.keep(Registries { by_host, others: None }, before))
            }
        }
    }

    /// Changes what the records say of registries; what was known of them is known no more, also where nobody knows
    /// whether it was stored.
    async fn change_registries<T: Change + Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let known = self.known_registries.clone();
        let changed = self.store.write_noted_and(self.clock.now(), change, move |_| known.forget()).await;
        if changed.is_err() {
            self.known_registries.forget();
        }
        changed
    }

    /// How a registry is reached that is kept so.
    fn access(&self, row: RegistryRow) -> Access {
        let is_private = !row.accounts.is_empty();
        let accounts = row.accounts.into_iter().filter_map(|account| {
            let AccountRow { user, password, audience, repositories, projects, .. } = account;
            if audience.is_some() {
                return Some(Account { user, password: String::new(), audience, repositories, projects });
            }
            let opened = self.seal.unseal_text(&place(&row.host), &password);
            // Without it the registry refuses, and says so.
            let opened = opened.inspect_err(|error| error!(host = row.host, %error, "a registry's password is lost"));
            opened.ok().map(|password| Account { user, password, audience, repositories, projects })
        });
        let layers = row.layers.and_then(|word| serde_json::from_value(serde_json::Value::String(word)).ok());
        Access {
            accounts: accounts.collect(),
            is_private,
            address: row.address,
            realm: row.realm,
            certificates: row.certificates,
            layers,
            bare_names: row.bare_names,
        }
    }

    /// How a job of a project reaches registries. Only those sign in who do so for images that it names. What a recipe is
    /// built on only the recipe says: its runner asks for that.
    pub(super) fn registries_for(all: &Registries, project: &ProjectName, work: &Work) -> Registries {
        let own = all.of(project);
        match work {
            Work::Steps(work) => {
                let images = work.image.iter().chain(work.services.iter().map(|service| &service.image));
                own.for_repositories(images.map(|image| &image.repository))
            }
            Work::Image(work) => {
                own.for_repositories(work.pushes.iter().map(|push| &push.repository).chain(&work.cache))
            }
        }
    }

    /// Who signs in for a repository whose image a recipe names, for the project of the job that builds it.
    pub(crate) async fn account_for(
        &self,
        live: &LiveRun,
        job: &JobKey,
        repository: &Repository,
    ) -> Result<Option<Account>, EngineError> {
        if !live.planned(job).is_some_and(|planned| matches!(planned.kind, JobKind::Image(_))) {
            return Err(EngineError::Forbidden(format!("{job} builds no image: what it signs in for, it was given")));
        }
        let own = self.registries().await?.of(&live.row.facts.id.project).for_repositories([repository]);
        let own = self.identified(own, Speaker::Job(live, job)).await?;
        Ok(own.access(repository.host()).account(repository).cloned())
    }

    /// Says how a registry is reached, or changes it. What is not said stays as it is, but for passwords that were given
    /// for another place: they are forgotten. Answers also who signed in with those.
    pub(crate) async fn set_registry(
        &self,
        change: RegistryChange,
        by: &Asker,
    ) -> Result<(RegistryRow, Vec<String>), EngineError> {
        let host = change.host.clone();
        audit::about(&host);
        audit::words(told(&change));
        if format!("{host}/x").parse::<Repository>().is_err() {
            return invalid(format!("`{host}` is not a registry's host as image names begin with"));
        }
        let _turn = self.setting.lock().await;
        let wanted = host.clone();
        let there = self.store.read(move |c| store::registry(c, &wanted)).await?;
        let is_own = may_set(&change, there.as_ref(), by)?;
        let mut row = there.unwrap_or_else(|| RegistryRow { host: host.clone(), ..RegistryRow::default() });
        let before = (address_of(&row), row.certificates.clone());
        if let Some(address) = &change.address {
            is_http(address)?;
            row.address = Some(address.clone());
        }
        row.certificates = change.certificates.clone().or(row.certificates);
        let mut forgotten = Vec::new();
        // Whoever may change where a registry is would be sent the passwords otherwise.
        if (address_of(&row), row.certificates.clone()) != before {
            forgotten = std::mem::take(&mut row.accounts).into_iter().map(|account| account.user).collect();
            row.realm = None;
        }
        if let Some(realm) = &change.signs_in_at {
            is_http(realm)?;
            row.realm = Some(realm.trim_end_matches('/').to_owned());
        }
        if let Some(layers) = &change.layers {
            if !LayerForm::WORDS.iter().any(|(word, _)| word == layers) {
                return invalid(format!("`{layers}` is no way to compress layers: gzip or zstd"));
            }
            row.layers = Some(layers.clone());
        }
        if let Some(path) = &change.bare_names {
            let path = path.trim_matches('/').to_owned();
            if !path.is_empty() && format!("{host}/{path}").parse::<Repository>().is_err() {
                return invalid(format!("`{path}` is not a path in a registry"));
            }
            row.bare_names = Some(path);
        }
        let registries = Registries { by_host: [(host.clone(), self.access(row.clone()))].into(), others: None };
        let registry = Registry::new(&host, &registries).map_err(|error| EngineError::Invalid(error.to_string()))?;
        if let Some(user) = self.set_account(&mut row, change, is_own).await? {
            forgotten.retain(|other| *other != user);
            if row.realm.is_none() {
                // One that is silent is asked again when it is needed, and then says what to do.
                let asked = tokio::time::timeout(PATIENCE, registry.realm()).await;
                row.realm = asked.ok().and_then(Result::ok).flatten();
            }
        }
        let kept = row.clone();
        self.change_registries(move |c| store::put_registry(c, &kept)).await?;
        Ok((row, forgotten))
    }

    /// Sets who signs in, where a change says so. Answers whose password was given.
    async fn set_account(
        &self,
        row: &mut RegistryRow,
        change: RegistryChange,
        is_own: bool,
    ) -> Result<Option<String>, EngineError> {
        let RegistryChange { host, user, password, audience, repositories, projects, .. } = change;
        let Some(user) = user.filter(|user| !user.is_empty()) else {
            return match (password, audience, repositories, projects) {
                (None, None, None, None) => Ok(None),
                _ => invalid("a password, an identity, repositories and projects are somebody's: say who signs in"),
            };
        };
        let at = row.accounts.iter().position(|account| account.user == user);
        let before = at.map(|at| row.accounts.remove(at));
        if password.is_some() && audience.is_some() {
            return invalid(format!("{user} signs in with a password, or with the job's identity: not with both"));
        }
        // Of before it stays what it is, where nothing else is said.
        let known_audience = before.as_ref().filter(|_| password.is_none()).and_then(|before| before.audience.clone());
        let audience = audience.or(known_audience);
        let is_shown_anew = password.is_some() || audience.is_some();
        let sealed = match (&password, &before) {
            (None, _) if audience.is_some() => Vec::new(),
            (Some(password), _) if password.trim().len() < mask::SHORTEST => {
                let least = mask::SHORTEST;
                return invalid(format!("a password has at least {least} letters, so that it can be hidden in logs"));
            }
            (Some(password), _) => self.sealed(KeyOwner::Server, &place(&host), password.as_bytes()).await?,
            (None, Some(before)) => before.password.clone(),
            (None, None) => {
                return invalid(format!(
                    "{user} does not sign in at {host} yet: a name and a password belong together"
                ));
            }
        };
        let (known_repositories, known_projects) =
            before.map(|before| (before.repositories, before.projects)).unwrap_or_default();
        let account = AccountRow {
            user: user.clone(),
            password: sealed,
            audience,
            repositories: repositories.unwrap_or(known_repositories),
            projects: projects.unwrap_or(known_projects),
            is_own,
        };
        row.accounts.push(account);
        row.accounts.sort_by(|one, other| one.user.cmp(&other.user));
        Ok(is_shown_anew.then_some(user))
    }

    /// Forgets how a registry is reached, or only that somebody signs in at it; says whether that was known.
    pub(crate) async fn remove_registry(
        &self,
        host: String,
        user: Option<String>,
        by: &Asker,
    ) -> Result<bool, EngineError> {
        let _turn = self.setting.lock().await;
        let wanted = host.clone();
        let there = self.store.read(move |c| store::registry(c, &wanted)).await?;
        let account = there.iter().flat_map(|row| &row.accounts).find(|account| Some(&account.user) == user.as_ref());
        let before = account.map_or((false, &[][..]), |account| (account.is_own, account.projects.as_slice()));
        by.must_set(Need::Administer, None, Some(before), before.1)?;
        let removed = match user {
            Some(user) => {
                audit::words(format!("{user} signs in no more"));
                self.change_registries(move |c| store::remove_account(c, &host, &user)).await
            }
            None => self.change_registries(move |c| store::remove_registry(c, &host)).await,
        };
        Ok(removed?)
    }
}

/// Refuses a change to whom it is not ([`Asker::must_set`]): whoever may set what is for some projects only says who signs
/// in for those, with a password, at a registry that is known. Where that is, and whom it takes identities for, holds for
/// everybody.
fn may_set(change: &RegistryChange, there: Option<&RegistryRow>, by: &Asker) -> Result<bool, EngineError> {
    let RegistryChange { address, certificates, layers, bare_names, signs_in_at, audience, user, projects, .. } =
        change;
    let is_for_all =
        [address, certificates, layers, bare_names, signs_in_at, audience].into_iter().any(Option::is_some);
    let Some(there) = there.filter(|_| !is_for_all && user.is_some()) else {
        by.must(Need::Administer, None)?;
        return Ok(false);
    };
    let known = there.accounts.iter().find(|account| Some(&account.user) == user.as_ref());
    let before = known.map(|account| (account.is_own, account.projects.as_slice()));
    let after = projects.as_deref().or(before.map(|(_, projects)| projects)).unwrap_or_default();
    by.must_set(Need::Administer, None, before, after)
}

/// A change in words, without what is secret.
fn told(change: &RegistryChange) -> String {
    let listed = |what: &str, all: &[String]| match all {
        [] => format!("for all {what}"),
        some => format!("for {what} {}", some.join(" ")),
    };
    let names = |all: &[pondrix_core::pipeline::Pattern]| all.iter().map(ToString::to_string).collect::<Vec<_>>();
    let projects = |all: &[pondrix_core::access::Projects]| all.iter().map(ToString::to_string).collect::<Vec<_>>();
    let said = [
        change.address.as_ref().map(|address| format!("at {}", without_password(address))),
        change.certificates.as_ref().map(|_| "other certificates".to_owned()),
        change.signs_in_at.as_ref().map(|realm| format!("one signs in at {}", without_password(realm))),
        change.user.as_ref().map(|user| match change.password {
            Some(_) => format!("signs in as {user}"),
            None => format!("of {user}"),
        }),
        change.audience.as_ref().map(|audience| format!("with the job's identity for {audience}")),
        change.repositories.as_ref().map(|all| listed("repositories", &names(all))),
        change.projects.as_ref().map(|all| listed("projects", &projects(all))),
    ];
    said.into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// The place that a registry's passwords are sealed for. No project's secret has a place like it.
pub(super) fn place(host: &str) -> String {
    format!("registry {host}")
}

/// Where a registry is reached.
pub(crate) fn address_of(row: &RegistryRow) -> String {
    row.address.clone().unwrap_or_else(|| format!("https://{}", row.host))
}
