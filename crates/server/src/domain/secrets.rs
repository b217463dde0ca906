//! Secrets: setting them, and finding which one a job gets.

use std::collections::BTreeMap;

use pondrix_api::{MissingSecret, NamedSecret, SecretList, SecretValue, SecretView, SharedSecret, SharedSecretName};
use pondrix_core::access::{Need, SecretScope, TwoEnvironments, nearest};
use pondrix_core::audit::Deed;
use pondrix_core::pipeline::{JobKind, SecretName};
use pondrix_core::plan::PlannedJob;
use pondrix_core::{JobKey, ProjectName, RunId, mask};
use rusqlite::Connection;

use super::settings::invalid;
use super::{Asker, Engine, EngineError, LiveRun, NotAdmitted, Standing, environments, own_deed};
use crate::audit;
use crate::ports::NotProvided;
use crate::seal::KeyOwner;
use crate::store::{self, EnvironmentRow, Owner, Project, RunFilter, SealedSecret, StoreError};

/// The longest secret, in bytes: a program can be given it as a variable (execve(2), "Limits on size of arguments and
/// environment").
const LONGEST_SECRET: usize = 64 * 1024;

/// Why a job does not get a secret that it names.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotGiven {
    #[error("{project} has no secret `{name}`; set it: pondrix secret set {project} {name}")]
    None { project: ProjectName, name: String },
    #[error("`{name}` is set for the environments {} and {}, and the stage goes to both: have it go to one", .two.one, .two.other)]
    Two { name: String, two: TwoEnvironments },
    #[error("the secret `{name}` is for runs of protected refs, and this one {carries}")]
    Protected { name: String, carries: String },
    #[error("the secret `{name}` is of the environment {}: {refused}", .refused.environment)]
    Environment { name: String, refused: NotAdmitted },
    #[error("the secret `{name}` cannot be read: {words}")]
    Sealed { name: String, words: String },
    #[error("the secret `{name}`: {why}")]
    Provider { name: String, why: NotProvided },
}

/// A secret that a job gets.
#[derive(Debug)]
pub(crate) struct Found {
    pub(crate) owner: Owner,
    pub(crate) secret: SealedSecret,
}

/// What a value is sealed for, so that it opens nowhere else.
fn place(scope: &SecretScope, name: &str) -> String {
    format!("{scope}/{name}")
}

/// The names of the secrets that a job names.
pub(crate) fn named(job: &PlannedJob) -> impl Iterator<Item = &str> {
    let (steps, image) = match &job.kind {
        JobKind::Steps(steps) => (Some(steps), None),
        JobKind::Image(image) => (None, Some(image)),
        JobKind::Rollout(_) => (None, None),
    };
    let of_steps = steps.into_iter().flat_map(|steps| &steps.secrets).map(|secret| &secret.name.value);
    let of_image = image.into_iter().flat_map(|image| image.secrets.iter().chain(&image.keys));
    of_steps.chain(of_image.map(|secret| &secret.name.value)).map(String::as_str)
}

/// The secret of a name that a job of a project gets whose stage goes to these environments.
pub(crate) fn find(
    records: &Connection,
    project: &ProjectName,
    environments: &[String],
    name: &str,
) -> Result<Result<Found, NotGiven>, StoreError> {
    let own = store::project(records, project.as_str())?;
    let shared = environments.iter().cloned().map(SecretScope::Environment).chain([SecretScope::Everywhere]);
    let owners = shared.map(Owner::Shared).chain(own.map(|own| Owner::Project(own.id, own.name)));
    let mut all = Vec::new();
    for owner in owners {
        if let Some(secret) = store::sealed(records, &owner, name)? {
            all.push((owner.scope(), Found { owner, secret }));
        }
    }
    let name = name.to_owned();
    Ok(match nearest(all) {
        Ok(Some((_, found))) => Ok(found),
        Ok(None) => Err(NotGiven::None { project: project.clone(), name }),
        Err(two) => Err(NotGiven::Two { name, two }),
    })
}

impl LiveRun {
    /// The environments that a job's stage goes to.
    pub(crate) fn environments_of(&self, job: &JobKey) -> Vec<String> {
        let stage = self.row.plan.stages.iter().find(|stage| stage.name == job.stage());
        let mut all: Vec<_> = stage.into_iter().flat_map(environments::goes_to).map(str::to_owned).collect();
        all.sort();
        all.dedup();
        all
    }
}

/// A secret as it is to be stored.
struct New {
    name: SecretName,
    value: Vec<u8>,
    provider: Option<String>,
    protected: Option<bool>,
}

impl New {
    fn checked(name: &str, secret: SecretValue) -> Result<Self, EngineError> {
        let value = secret.bytes().map_err(|error| EngineError::Invalid(error.to_string()))?;
        let SecretValue { protected, provider, .. } = secret;
        let name: SecretName = name.parse().map_err(|error| EngineError::Invalid(format!("{error}")))?;
        if provider.is_none() && value.trim_ascii().len() < mask::SHORTEST {
            let least = mask::SHORTEST;
            return invalid(format!("a secret has at least {least} letters, so that it can be hidden in logs"));
        }
        if value.len() > LONGEST_SECRET {
            return invalid(format!("a secret has at most {} KiB", LONGEST_SECRET / 1024));
        }
        Ok(Self { name, value, provider, protected })
    }
}

impl Engine {
    /// Sets a project's secret. Nobody can read it again but a job that names it.
    pub(crate) async fn set_secret(
        &self,
        project: &Project,
        name: &str,
        secret: SecretValue,
        by: Asker,
    ) -> Result<SecretView, EngineError> {
        let owner = Owner::Project(project.id, project.name.clone());
        self.put_secret(owner, New::checked(name, secret)?, by).await
    }

    /// Sets a secret that is no project's.
    pub(crate) async fn set_shared_secret(&self, secret: SharedSecret, by: Asker) -> Result<SecretView, EngineError> {
        let SharedSecret { scope, name, value } = secret;
        audit::about(format!("{name} for {scope}"));
        if let SecretScope::Project(project) = &scope {
            return invalid(format!("{project} is a project: its secrets are set as its own"));
        }
        if !self.must_set_secrets(&scope, &by).await?
            && let Some(environment) = scope.environment()
        {
            return invalid(format!("there is no environment `{environment}`; see `pondrix environment list`"));
        }
        self.put_secret(Owner::Shared(scope), New::checked(&name, value)?, by).await
    }

    /// Refuses the secrets of a scope to whom they are not: those of an environment, whoever may change it sets, too. Answers
    /// whether there is such an environment.
    async fn must_set_secrets(&self, scope: &SecretScope, by: &Asker) -> Result<bool, EngineError> {
        let Some(environment) = scope.environment().map(str::to_owned) else {
            by.must(Need::Secrets, None)?;
            return Ok(false);
        };
        match self.store.read(move |c| store::environment(c, &environment)).await? {
            Some(row) => Self::must_change(&row, Need::Secrets, by).map(|_| true),
            None => by.must(Need::Secrets, None).map(|()| false),
        }
    }

    async fn put_secret(&self, owner: Owner, new: New, by: Asker) -> Result<SecretView, EngineError> {
        let New { name, value, provider, protected } = new;
        let scope = owner.scope();
        if let Some(provider) = provider.as_ref().filter(|wanted| !self.providers.names().any(|name| name == *wanted)) {
            return invalid(format!("the server has no provider `{provider}`; it has: {}", self.providers));
        }
        let of = match &owner {
            Owner::Project(id, _) => KeyOwner::Project(*id),
            Owner::Shared(_) => KeyOwner::Server,
        };
        let sealed = match &provider {
            None => self.sealed(of, &place(&scope, name.as_str()), &value).await?,
            Some(_) => Vec::new(),
        };
        let (whose, wanted) = (owner.clone(), name.to_string());
        let known = move |c: &Connection| {
            Ok(store::secrets(c, &whose)?.into_iter().find(|known| known.name == wanted).map(|known| known.protected))
        };
        let protected = match protected {
            Some(said) => said,
            None => self.store.read(known).await?.unwrap_or_else(|| scope.is_protected()),
        };
        let whose = if protected { "for protected refs only" } else { "for any ref" };
        audit::words(provider.as_ref().map_or_else(|| whose.to_owned(), |from| format!("{whose}, kept by {from}")));
        let set = self.clock.now();
        let put = move |c: &Connection| {
            let known = store::secrets(c, &owner)?.into_iter().find(|known| known.name == name.as_str());
            let (used, used_by) = known.map(|known| (known.used, known.used_by)).unwrap_or_default();
            let view = SecretView {
                name: name.to_string(),
                scope,
                set,
                by: by.name.clone(),
                protected,
                used,
                used_by,
                provider,
            };
            store::put_secret(c, &owner, &view, &sealed).map(|()| view)
        };
        Ok(self.store.write_noted(set, put).await?)
    }

    /// Removes a project's secret; says whether there was one.
    pub(crate) async fn remove_secret(&self, project: &Project, name: String) -> Result<bool, EngineError> {
        let owner = Owner::Project(project.id, project.name.clone());
        Ok(self.store.write_noted(self.clock.now(), move |c| store::remove_secret(c, &owner, &name)).await?)
    }

    /// Removes a secret that is no project's; says whether there was one.
    pub(crate) async fn remove_shared_secret(&self, which: SharedSecretName, by: &Asker) -> Result<bool, EngineError> {
        let SharedSecretName { scope, name } = which;
        audit::about(format!("{name} for {scope}"));
        self.must_set_secrets(&scope, by).await?;
        let owner = Owner::Shared(scope);
        Ok(self.store.write_noted(self.clock.now(), move |c| store::remove_secret(c, &owner, &name)).await?)
    }

    /// The secrets that are no project's, of those that somebody may set.
    pub(crate) async fn shared_secrets(&self, by: &Asker) -> Result<SecretList, StoreError> {
        let (mut secrets, environments) =
            self.store.read(|c| Ok((store::shared_secrets(c)?, store::environments(c)?))).await?;
        let is_own = |secret: &SecretView| {
            let row = environments.iter().find(|row| Some(row.view.name.as_str()) == secret.scope.environment());
            row.is_some_and(|row| Self::must_change(row, Need::Secrets, by).is_ok())
        };
        secrets.retain(|secret| by.rights.allow(Need::Secrets, None) || is_own(secret));
        Ok(SecretList { secrets, missing: Vec::new() })
    }

    /// A project's secrets, then those that it shares with others; and what its newest run names and is not set.
    pub(crate) async fn secrets(&self, project: &Project) -> Result<SecretList, StoreError> {
        let (id, name) = (project.id, project.name.clone());
        let read = move |c: &Connection| {
            let mut secrets = store::secrets(c, &Owner::Project(id, name.clone()))?;
            let goes_to = |row: &EnvironmentRow| {
                let projects = &row.view.rules.projects;
                projects.is_empty() || projects.iter().any(|projects| projects.matches(name.as_str()))
            };
            let own: Vec<_> = store::environments(c)?.into_iter().filter(goes_to).map(|row| row.view.name).collect();
            let is_shared = |secret: &SecretView| {
                secret.scope.environment().is_none_or(|environment| own.iter().any(|name| name == environment))
            };
            secrets.extend(store::shared_secrets(c)?.into_iter().filter(is_shared));
            let filter = RunFilter { project: Some(name.to_string()), ..RunFilter::default() };
            let newest = store::page(c, &filter, None, 1)?.pop().map(|(_, run)| run.number);
            Ok((secrets, newest.map(|number| RunId { project: name, number })))
        };
        let (secrets, newest) = self.store.read(read).await?;
        let mut missing = Vec::new();
        // One that cannot be read names nothing.
        if let Some(run) = newest
            && let Ok(Some(live)) = self.find(&run).await
        {
            missing = self.missing_secrets(&live).await?;
        }
        Ok(SecretList { secrets, missing })
    }

    /// The secrets that a run's pipeline names and that are not set, each with the first job that names it.
    async fn missing_secrets(&self, live: &LiveRun) -> Result<Vec<MissingSecret>, StoreError> {
        let mut wanted: BTreeMap<String, (JobKey, Vec<String>)> = BTreeMap::new();
        for job in live.row.plan.jobs() {
            for name in named(job) {
                wanted.entry(name.to_owned()).or_insert_with(|| (job.key.clone(), live.environments_of(&job.key)));
            }
        }
        let project = live.row.facts.id.project.clone();
        let read = move |c: &Connection| {
            let mut missing = Vec::new();
            for (name, (job, environments)) in wanted {
                if let Err(NotGiven::None { .. }) = find(c, &project, &environments, &name)? {
                    missing.push((name, job));
                }
            }
            Ok(missing)
        };
        let run = live.row.facts.id.to_string();
        let missing = self.store.read(read).await?.into_iter();
        Ok(missing.map(|(name, job)| MissingSecret { name, job: job.to_string(), run: run.clone() }).collect())
    }

    /// The values of the secrets that a job names, and of no other; that it is given them is noted before it is.
    pub(super) async fn secrets_for(
        &self,
        live: &LiveRun,
        job: &JobKey,
        names: Vec<String>,
        runner: &str,
    ) -> Result<Result<Vec<NamedSecret>, NotGiven>, StoreError> {
        if names.is_empty() {
            return Ok(Ok(Vec::new()));
        }
        let facts = live.row.facts.clone();
        let (environments, by) = (live.environments_of(job), live.row.summary.by.clone());
        let (project, now, is_in_ref) = (facts.id.project.clone(), self.clock.now(), self.is_in_ref(&facts).await?);
        let read = move |c: &Connection| {
            let standing = Standing::read(c, project.as_str(), by.as_deref())?;
            let candidate = standing.candidate(&facts, is_in_ref);
            let mut all = Vec::new();
            for name in names {
                let found = match find(c, &project, &environments, &name)? {
                    Ok(found) => found,
                    Err(why) => return Ok(Err(why)),
                };
                // Looked at once more where it goes out: what is protected, and what an environment takes, may have
                // changed since the preflight.
                if found.secret.protected && !candidate.is_trusted() {
                    return Ok(Err(NotGiven::Protected { name, carries: candidate.carries() }));
                }
                let environment = match found.owner.scope().environment() {
                    Some(environment) => store::environment(c, environment)?,
                    None => None,
                };
                if let Some(row) = environment
                    && let Err(refused) = Self::admitted(&row.view, &candidate, Some(now))
                {
                    return Ok(Err(NotGiven::Environment { name, refused }));
                }
                all.push((name, found));
            }
            Ok(Ok(all))
        };
        let found = match self.store.read(read).await? {
            Ok(found) => found,
            Err(why) => return Ok(Err(why)),
        };
        let mut given = Vec::new();
        let mut owners = Vec::new();
        for (name, Found { owner, secret }) in found {
            match self.opened(&name, &owner, &secret).await {
                Ok(value) => given.push(NamedSecret { name: name.clone(), value }),
                Err(why) => return Ok(Err(why)),
            }
            owners.push((owner, name));
        }
        self.note_given(&live.row.facts.id, job, runner, owners).await?;
        Ok(Ok(given))
    }

    /// The value of a secret, which is asked for where it is kept elsewhere.
    pub(crate) async fn opened(&self, name: &str, owner: &Owner, secret: &SealedSecret) -> Result<Vec<u8>, NotGiven> {
        let scope = owner.scope();
        let name = name.to_owned();
        match &secret.provider {
            Some(provider) => {
                let read = self.providers.read(provider, &scope, &name, LONGEST_SECRET).await;
                read.map_err(|why| NotGiven::Provider { name, why })
            }
            None => {
                let opened = self.seal.unseal(&place(&scope, &name), &secret.sealed);
                opened.map_err(|error| NotGiven::Sealed { name, words: error.to_string() })
            }
        }
    }

    /// Notes that a job is given secrets: in the audit, and with each of them.
    async fn note_given(
        &self,
        run: &RunId,
        job: &JobKey,
        runner: &str,
        owners: Vec<(Owner, String)>,
    ) -> Result<(), StoreError> {
        let told = |(owner, name): &(Owner, String)| match owner {
            Owner::Project(..) => name.clone(),
            Owner::Shared(scope) => format!("{name} for {scope}"),
        };
        let names: Vec<_> = owners.iter().map(told).collect();
        let deed = Deed {
            words: format!("to {job} of #{} on {runner}", run.number),
            ..own_deed("secret give", names.join(", "), Some(run.project.as_str()))
        };
        let (run, now) = (run.clone(), self.clock.now());
        // What cannot be noted is not given.
        self.write_until_stored("that a job is given secrets", move |c| {
            store::note(c, now, deed.clone())?;
            owners.iter().try_for_each(|(owner, name)| store::secret_used(c, owner, name, now, &run))
        })
        .await
    }
}
