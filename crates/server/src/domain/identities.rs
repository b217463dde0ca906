//! Tokens that say which job somebody is, and the keys that sign them.

use std::collections::BTreeMap;

use pondrix_core::audit::Deed;
use pondrix_core::identity::{Claims, Made, Occasion, Standing as Known};
use pondrix_core::image::Registries;
use pondrix_core::pipeline::{IdentityUse, JobKind};
use pondrix_core::{JobKey, ProjectName, Time};
use pondrix_identity::{PublicKeys, SigningKey};
use rusqlite::Connection;
use tracing::warn;

use super::{Engine, EngineError, LiveRun, Standing, own_deed};
use crate::access;
use crate::audit;
use crate::seal::KeyOwner;
use crate::store::{self, SigningKeyRow, StoreError};

/// How long an identity is good for that signs in at a registry.
const SIGN_IN_TIME: u32 = 15 * 60;

/// Whom an identity speaks of.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Speaker<'a> {
    /// A job of a run.
    Job(&'a LiveRun, &'a JobKey),
    /// A project, for which the server itself asks.
    Project(&'a ProjectName),
}

/// What a key that signs is sealed for.
fn place(id: &str) -> String {
    format!("signing key {id}")
}

impl Engine {
    /// The keys that sign, the oldest first: another one is made where it is time for it, and those go that signed nothing
    /// which is still good.
    async fn signing_keys(&self) -> Result<Vec<(Time, SigningKey)>, EngineError> {
        let now = self.clock.now();
        let mut keys = self.opened_signing_keys().await?;
        let made: Vec<Time> = keys.iter().map(|(made, _)| *made).collect();
        let over: Vec<_> = keys.drain(..Made(&made).are_over(now)).map(|(_, key)| key.id().to_owned()).collect();
        if !over.is_empty() {
            self.store.write(move |c| over.iter().try_for_each(|id| store::remove_signing_key(c, id))).await?;
        }
        if Made(&made).needs_another(now) {
            keys.push(self.add_signing_key(now).await?);
        }
        Ok(keys)
    }

    async fn opened_signing_keys(&self) -> Result<Vec<(Time, SigningKey)>, EngineError> {
        let rows = self.store.read(store::signing_keys).await?;
        let (mut keys, mut lost) = (Vec::new(), Vec::new());
        for SigningKeyRow { id, sealed, made } in rows {
            let key = self.seal.unseal(&place(&id), &sealed).ok().and_then(|key| SigningKey::open(&key).ok());
            match key {
                Some(key) => keys.push((made, key)),
                None => lost.push(id),
            }
        }
        if !lost.is_empty() {
            // It signs nothing any more; another one is made.
            warn!(count = lost.len(), "keys that sign are lost: with another master key nobody opens them");
            self.store.write(move |c| lost.iter().try_for_each(|id| store::remove_signing_key(c, id))).await?;
        }
        Ok(keys)
    }

    async fn add_signing_key(&self, now: Time) -> Result<(Time, SigningKey), EngineError> {
        let (key, row) = self.new_signing_key(now).await?;
        self.store.write(move |c| store::put_signing_key(c, &row)).await?;
        Ok((now, key))
    }

    async fn new_signing_key(&self, now: Time) -> Result<(SigningKey, SigningKeyRow), EngineError> {
        let made = SigningKey::generate().map_err(anyhow::Error::from)?;
        let key = SigningKey::open(&made).map_err(anyhow::Error::from)?;
        let sealed = self.sealed(KeyOwner::Server, &place(key.id()), &made).await?;
        let row = SigningKeyRow { id: key.id().to_owned(), sealed, made: now };
        Ok((key, row))
    }

    /// What identities are checked with.
    pub(crate) async fn identity_keys(&self) -> Result<PublicKeys, EngineError> {
        let keys = self.signing_keys().await?;
        Ok(PublicKeys { keys: keys.into_iter().map(|(_, key)| key.public().clone()).collect() })
    }

    /// Makes another key that signs from now on. What those before it signed is believed no more.
    pub(crate) async fn renew_identity_keys(&self) -> Result<(), EngineError> {
        let now = self.clock.now();
        let (key, row) = self.new_signing_key(now).await?;
        audit::about(key.id());
        let put = move |c: &Connection| {
            for known in store::signing_keys(c)? {
                store::remove_signing_key(c, &known.id)?;
            }
            store::put_signing_key(c, &row)
        };
        Ok(self.store.write_noted(now, put).await?)
    }

    /// The identity of a job for one of those whom its pipeline names.
    pub(crate) async fn identity_for(
        &self,
        live: &LiveRun,
        job: &JobKey,
        audience: &str,
        runner: &str,
    ) -> Result<String, EngineError> {
        let uses: &[IdentityUse] = match live.planned(job).map(|planned| &planned.kind) {
            Some(JobKind::Steps(steps)) => &steps.identities,
            _ => &[],
        };
        let Some(wanted) = uses.iter().find(|wanted| wanted.audience.value == audience) else {
            return Err(EngineError::Forbidden(format!("{job} names no identity for {audience}")));
        };
        // What signs in at a registry pushes whatever it likes there, under the names of releases too.
        let registries = self.registries().await?;
        if let Some((host, _)) = registries.by_host.iter().find(|(_, access)| access.takes_identity_for(audience)) {
            return Err(EngineError::Forbidden(format!(
                "{audience} is whom identities are for that sign in at {host}, and no job of commands is given one: push \
                 there from an `image` of the pipeline"
            )));
        }
        self.note_identity(live, job, audience, &format!(" on {runner}")).await?;
        let keys = self.signing_keys().await?;
        self.signed(&keys, Speaker::Job(live, job), audience, wanted.lasts.seconds()).await
    }

    /// Registries with the identities that sign in there.
    pub(crate) async fn identified(
        &self,
        registries: Registries,
        speaker: Speaker<'_>,
    ) -> Result<Registries, EngineError> {
        if !registries.asks_for_identities() {
            return Ok(registries);
        }
        let keys = self.signing_keys().await?;
        let accounts = registries.by_host.values().flat_map(|access| &access.accounts);
        let mut given = BTreeMap::new();
        for audience in accounts.filter_map(|account| account.audience.clone()) {
            if let Speaker::Job(live, job) = speaker {
                self.note_identity(live, job, &audience, "").await?;
            }
            let token = self.signed(&keys, speaker, &audience, SIGN_IN_TIME).await?;
            given.insert(audience, token);
        }
        Ok(registries.identified(|audience| given.get(audience).cloned()))
    }

    /// A token for an audience.
    async fn signed(
        &self,
        keys: &[(Time, SigningKey)],
        speaker: Speaker<'_>,
        audience: &str,
        seconds: u32,
    ) -> Result<String, EngineError> {
        let now = self.clock.now();
        let made: Vec<Time> = keys.iter().map(|(made, _)| *made).collect();
        let (_, key) = Made(&made).signs(now).and_then(|at| keys.get(at)).ok_or(EngineError::Broke)?;
        let occasion = Occasion { issuer: self.issuer(), audience, now, seconds, number: access::new_secret()? };
        let claims = match speaker {
            Speaker::Project(project) => Claims::of_project(project, occasion),
            Speaker::Job(live, job) => {
                let known = self.known_of(live, job, now).await?;
                Claims::of_job(&live.row.facts, job, known, occasion)
            }
        };
        Ok(key.sign(&claims).map_err(anyhow::Error::from)?)
    }

    /// What is said of a job besides what its run says. An environment is named where its rules let the run go there.
    async fn known_of(&self, live: &LiveRun, job: &JobKey, now: Time) -> Result<Known, StoreError> {
        let (facts, environments) = (live.row.facts.clone(), live.environments_of(job));
        let (by, is_in_ref) = (live.row.summary.by.clone(), self.is_in_ref(&facts).await?);
        let read = move |c: &Connection| {
            let standing = Standing::read(c, facts.id.project.as_str(), by.as_deref())?;
            let candidate = standing.candidate(&facts, is_in_ref);
            let environment = match &environments[..] {
                [only] => store::environment(c, only)?,
                _ => None,
            };
            let may_go = environment.filter(|row| Self::admitted(&row.view, &candidate, Some(now)).is_ok());
            Ok(Known { protected: candidate.is_trusted(), is_in_ref, environment: may_go.map(|row| row.view.name) })
        };
        self.store.read(read).await
    }

    async fn note_identity(
        &self,
        live: &LiveRun,
        job: &JobKey,
        audience: &str,
        runner: &str,
    ) -> Result<(), StoreError> {
        let run = &live.row.facts.id;
        let words = format!("to {job} of #{}{runner}", run.number);
        let deed = own_deed("identity give", audience.to_owned(), Some(run.project.as_str()));
        self.note_until_stored(Deed { words, ..deed }).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{World, in_scripted_time};

    const DAY: i64 = 24 * 3600 * 1000;

    #[test]
    fn another_key_is_seen_before_it_signs_and_the_one_before_as_long_as_what_it_signed_is_good() {
        in_scripted_time(async {
            let world = World::new(1).await;
            world.start().await;
            let engine = world.engine();
            let listed = async || {
                let keys = engine.identity_keys().await.unwrap().keys;
                keys.into_iter().filter_map(|key| key.kid).collect::<Vec<_>>()
            };
            let signs = async || {
                let keys = engine.signing_keys().await.unwrap();
                let project = "pond".parse().unwrap();
                let token = engine.signed(&keys, Speaker::Project(&project), "vault", 60).await.unwrap();
                let expected = pondrix_identity::Expected { issuer: "", audience: "vault", now: engine.clock.now() };
                let known = engine.identity_keys().await.unwrap();
                pondrix_identity::check(&token, &known, expected).unwrap();
                let of = |key: &&pondrix_identity::PublicKey| {
                    let alone = PublicKeys { keys: vec![(*key).clone()] };
                    pondrix_identity::check(&token, &alone, expected).is_ok()
                };
                known.keys.iter().find(of).and_then(|key| key.kid.clone()).unwrap()
            };
            let first = listed().await;
            assert_eq!((first.len(), signs().await), (1, first[0].clone()));
            world.jump(31 * DAY);
            let both = listed().await;
            assert_eq!((both.len(), signs().await), (2, first[0].clone()), "whoever looks daily has not seen it yet");
            world.jump(DAY + 1000);
            assert_eq!((listed().await, signs().await), (both.clone(), both[1].clone()));
            world.jump(2 * DAY);
            assert_eq!(listed().await, both[1..]);
            // They are the same after a start, and none is in the records as it is.
            let rows = world.records().read(store::signing_keys).await.unwrap();
            assert_eq!(rows.iter().map(|row| row.id.clone()).collect::<Vec<_>>(), both[1..]);
            assert!(rows.iter().all(|row| SigningKey::open(&row.sealed).is_err()));
        });
    }
}
