//! Runners: who is one, what each may work for, and what it is given.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use pondrix_api::{
    Hello, InvitationMade, InvitationView, NewInvitation, NewRunner, PauseView, RunnerBounds, RunnerMade, RunnerView,
    Welcome,
};
use pondrix_core::access::Need;
use pondrix_core::queue::RunnerFacts;
use pondrix_core::run::{Event, Outcome};

use super::settings::{invalid, is_name};
use super::{Asker, Engine, EngineError};
use crate::access;
use crate::audit;
use crate::private::write_private;
use crate::scheduler::Greeting;
use crate::store::{self, RunnerRow, StoreError};

/// Who made the server's own runners known.
const OWN: &str = "the server";
/// The pool of those.
const OWN_POOL: &str = "pond";
/// How long a token of a runner is good after another took its place.
const ROTATION: i64 = 3600 * 1000;
const HOUR: i64 = 3600 * 1000;
/// For how many machines, and how many hours, an invitation may be good.
const MACHINES: std::ops::RangeInclusive<u32> = 1..=1000;
const HOURS: std::ops::RangeInclusive<u32> = 1..=8760;

/// What a runner may work for, for people.
fn told(bounds: &RunnerBounds) -> String {
    let RunnerBounds { pool, projects, tools } = bounds;
    let list = |all: Vec<String>| all.join(", ");
    let projects = match projects.as_slice() {
        [] => "all projects".to_owned(),
        some => list(some.iter().map(ToString::to_string).collect()),
    };
    let tools = if tools.is_empty() { String::new() } else { format!(", with {}", list(tools.clone())) };
    format!("pool {pool}, for {projects}{tools}")
}

fn check(bounds: &RunnerBounds) -> Result<(), EngineError> {
    is_name(&bounds.pool, "a pool's name")?;
    match bounds.tools.iter().find(|tool| tool.is_empty() || tool.contains(char::is_whitespace)) {
        Some(tool) => invalid(format!("`{tool}` cannot be the name of a program")),
        None => Ok(()),
    }
}

fn unknown(name: &str) -> EngineError {
    EngineError::Invalid(format!("there is no runner `{name}`; see `pondrix runner list`"))
}

impl Engine {
    /// Makes a runner known, with a token that is told this once.
    pub(crate) async fn add_runner(&self, new: NewRunner, by: &Asker) -> Result<RunnerMade, EngineError> {
        let NewRunner { name, bounds } = new;
        audit::about(&name);
        audit::words(told(&bounds));
        is_name(&name, "a runner's name")?;
        check(&bounds)?;
        let is_own = by.must_set(Need::Administer, Some(&name), None, &bounds.projects)?;
        let (token, now) = (access::new_token()?, self.clock.now());
        let row = RunnerRow { name: name.clone(), bounds: bounds.clone(), by: by.name.clone(), is_own };
        let hash = access::hash(&token);
        self.store.write_noted(now, move |c| store::add_runner(c, &row, hash, now)).await?;
        Ok(RunnerMade { name, bounds, token })
    }

    /// A runner, where whoever asks may change it.
    pub(crate) async fn runner_of(&self, name: &str, by: &Asker) -> Result<RunnerRow, EngineError> {
        let row = self.runner(name).await?;
        let (is_own, projects) = row.as_ref().map_or((false, &[][..]), |row| (row.is_own, &row.bounds.projects));
        by.must_set(Need::Administer, Some(name), Some((is_own, projects)), projects)?;
        row.ok_or_else(|| unknown(name))
    }

    /// Gives a runner another token; that of before is good for an hour more.
    pub(crate) async fn rotate_runner(&self, name: &str, by: &Asker) -> Result<RunnerMade, EngineError> {
        self.runner_of(name, by).await?;
        let (token, now) = (access::new_token()?, self.clock.now());
        let (hash, wanted) = (access::hash(&token), name.to_owned());
        let known = self.known_tokens.clone();
        let rotate = move |c: &rusqlite::Connection| {
            let row = store::runner(c, &wanted)?;
            store::replace_runner_token(c, &wanted, hash, now, now.plus_millis(ROTATION))?;
            Ok(row)
        };
        if self.runner(name).await?.is_some_and(|row| row.by == OWN) {
            let words = format!("`{name}` is the server's own, which gives it its token itself");
            return Err(EngineError::Conflict(words));
        }
        let row = self.store.write_noted_and(now, rotate, move |_| known.forget()).await?;
        let RunnerRow { name, bounds, .. } = row.ok_or_else(|| unknown(name))?;
        Ok(RunnerMade { name, bounds, token })
    }

    /// Makes an invitation: a token with which machines make themselves runners.
    pub(crate) async fn invite_runners(&self, new: NewInvitation, by: &Asker) -> Result<InvitationMade, EngineError> {
        let NewInvitation { bounds, machines, hours } = new;
        audit::words(format!("{}; good for {machines} machines and {hours} hours", told(&bounds)));
        check(&bounds)?;
        if !MACHINES.contains(&machines) || !HOURS.contains(&hours) {
            return invalid("an invitation is good for 1 to 1000 machines, and for 1 to 8760 hours");
        }
        let (token, now) = (access::new_token()?, self.clock.now());
        let ends = now.plus_millis(i64::from(hours) * HOUR);
        let (hash, by) = (access::hash(&token), by.name.clone());
        let view = InvitationView { id: 0, bounds, machines, ends, by };
        let kept = view.clone();
        let id = self.store.write_noted(now, move |c| store::put_invitation(c, hash, &kept, now)).await?;
        Ok(InvitationMade { invitation: InvitationView { id, ..view }, token })
    }

    /// The invitations that are good.
    pub(crate) async fn invitations(&self) -> Result<Vec<InvitationView>, StoreError> {
        let now = self.clock.now();
        self.store.read(move |c| store::invitations(c, now)).await
    }

    /// Takes an invitation back; says whether it was good.
    pub(crate) async fn withdraw_invitation(&self, id: i64) -> Result<bool, StoreError> {
        let now = self.clock.now();
        self.store.write_noted(now, move |c| store::remove_invitation(c, id, now)).await
    }

    /// Makes a machine a runner that shows an invitation; answers its own token, or nothing where that is not good.
    pub(crate) async fn join_runner(&self, invitation: &str, name: String) -> Result<Option<String>, EngineError> {
        audit::about(&name);
        is_name(&name, "a runner's name")?;
        let (token, now) = (access::new_token()?, self.clock.now());
        let (shown, hash) = (access::hash(invitation), access::hash(&token));
        if let Some((id, bounds)) = self.store.read(move |c| store::invitation(c, &shown, now)).await? {
            audit::by(&format!("invitation {id}"));
            audit::words(told(&bounds));
        }
        let join = move |c: &rusqlite::Connection| store::use_invitation(c, &shown, &name, hash, now);
        Ok(self.store.write_noted(now, join).await?.map(|_| token))
    }

    /// The file with the token of a runner of the server's own, which is made known and given one where it has none.
    ///
    /// # Errors
    /// When the records or the file cannot be written.
    pub(crate) async fn own_runner(&self, folder: &Path, name: &str) -> anyhow::Result<PathBuf> {
        let file = folder.join(format!("{name}.token"));
        let now = self.clock.now();
        if let Ok(token) = std::fs::read_to_string(&file) {
            let shown = self.shown_by(access::hash(token.trim())).await?;
            if shown.is_some_and(|shown| shown.kind == store::TokenKind::Runner && shown.name == name) {
                return Ok(file);
            }
        }
        // Written before it holds: a server killed in between makes another one.
        let token = access::new_token()?;
        write_private(&file, token.as_bytes())?;
        let bounds = RunnerBounds { pool: OWN_POOL.to_owned(), ..RunnerBounds::default() };
        let row = RunnerRow { name: name.to_owned(), bounds, by: OWN.to_owned(), is_own: false };
        let hash = access::hash(&token);
        let put = move |c: &rusqlite::Connection| match store::replace_runner_token(c, &row.name, hash, now, now)? {
            true => Ok(()),
            false => store::add_runner(c, &row, hash, now),
        };
        self.store.write(put).await?;
        Ok(file)
    }

    /// A runner introduces itself. One that was started anew has lost the jobs that it had.
    pub(crate) async fn greet(self: &Arc<Self>, row: RunnerRow, hello: Hello) -> Welcome {
        let RunnerRow { name, bounds: RunnerBounds { pool, projects, tools }, .. } = row;
        let Hello { slots, stuck, tools: said, host_network, platforms, version, instance } = hello;
        let tools =
            if tools.is_empty() { said } else { said.into_iter().filter(|tool| tools.contains(tool)).collect() };
        let welcome = Welcome { runner: name.clone(), pool: pool.clone() };
        let facts = RunnerFacts { name, pool, projects, tools, host_network, platforms, is_paused: false };
        let greeting = Greeting { facts, slots, stuck: stuck.min(slots), version, instance };
        let forgotten = self.scheduler.greet(greeting, self.clock.now()).await;
        self.give_up_forgotten(forgotten).await;
        welcome
    }

    /// What a runner may work for, by its token's name.
    pub(crate) async fn runner(&self, name: &str) -> Result<Option<RunnerRow>, StoreError> {
        let name = name.to_owned();
        self.store.read(move |c| store::runner(c, &name)).await
    }

    /// Every runner that is known, for people: with what it does now, where it was seen since the server began.
    pub(crate) async fn runner_views(&self) -> Result<Vec<RunnerView>, StoreError> {
        let (rows, mut seen) = tokio::join!(self.store.read(store::runners), self.scheduler.runners());
        let paused = self.store.read(store::paused_runners).await?;
        let view = |row: RunnerRow| {
            let RunnerBounds { pool, projects, .. } = row.bounds;
            match seen.iter().position(|one| one.name == row.name) {
                Some(at) => seen.swap_remove(at),
                None => RunnerView {
                    paused: paused.iter().find(|(name, _)| *name == row.name).map(|(_, pause)| pause.clone()),
                    name: row.name,
                    pool,
                    projects,
                    slots: 0,
                    busy: 0,
                    stuck: 0,
                    here: false,
                    last_seen: None,
                    version: String::new(),
                },
            }
        };
        Ok(rows?.into_iter().map(view).collect())
    }

    /// Gives a runner no more jobs.
    pub(crate) async fn pause_runner(&self, name: String, pause: PauseView) -> Result<(), StoreError> {
        audit::words(pause.reason.as_deref().unwrap_or_default());
        self.store.write_noted(self.clock.now(), move |c| store::pause_runner(c, &(name, pause))).await?;
        self.read_paused().await
    }

    /// Gives a runner jobs again. Answers whether it was paused.
    pub(crate) async fn resume_runner(&self, name: &str) -> Result<bool, StoreError> {
        let name = name.to_owned();
        let was_paused = self.store.write_noted(self.clock.now(), move |c| store::resume_runner(c, &name)).await?;
        self.read_paused().await?;
        Ok(was_paused)
    }

    /// Reads anew from the records which runners are paused.
    pub(super) async fn read_paused(&self) -> Result<(), StoreError> {
        self.scheduler.pause(self.store.read(store::paused_runners).await?.into_iter().collect());
        Ok(())
    }

    /// Forgets a runner: its token is good no more, and the jobs that it has are lost. One that is here is forgotten
    /// `now` only.
    ///
    /// # Errors
    /// When it is here, or the server's own, or not known.
    pub(crate) async fn remove_runner(self: &Arc<Self>, name: &str, now: bool, by: &Asker) -> Result<(), EngineError> {
        let row = self.runner_of(name, by).await?;
        let is_here = self.runner_views().await?.into_iter().any(|one| one.name == name && one.here);
        if is_here && row.by == OWN {
            let words = format!("`{name}` is the server's own; it is started without it: pondrix serve --runners 0");
            return Err(EngineError::Conflict(words));
        }
        if is_here && !now {
            let words = format!(
                "runner `{name}` is here: end it on its machine, or pause it: pondrix runner pause {name}; --now takes its jobs from it"
            );
            return Err(EngineError::Conflict(words));
        }
        let (wanted, known) = (name.to_owned(), self.known_tokens.clone());
        let remove = move |c: &rusqlite::Connection| store::remove_runner(c, &wanted);
        self.store.write_noted_and(self.clock.now(), remove, move |_| known.forget()).await?;
        self.read_paused().await?;
        for lease in self.scheduler.forget_runner(name).await {
            let reason = Some(format!("runner {name} was removed"));
            let lost = Event::JobEnded { job: lease.job.clone(), outcome: Outcome::Lost, reason, usage: None };
            self.give_up(&lease, lost).await;
        }
        Ok(())
    }
}
