//! Watching repositories: comparing their branches with those seen last, now and then, and at once
//! when a hook says so.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use pondrix_core::Time;
use pondrix_core::image::Reference;
use pondrix_core::pipeline::StartKind;
use rusqlite::Connection;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use super::pace::{self, Pace, Reason};
use super::supervise;
use crate::domain::{Builds, Engine, StartError, Started, Wanted};
use crate::ports::git::{Refs, Repository};
use crate::store::{self, DueSchedule, Project, StoreError};
use crate::tuning::CurrentTuning;

/// How long after registries were asked what bases mean they are not asked again.
const BASES_PAUSE: Duration = Duration::from_secs(1);

/// A branch or a tag that is new or another.
enum Changed {
    /// It names a commit.
    Commit(Box<Wanted>),
    /// It names something else.
    NoCommit { tag: String },
}

/// A project that is watched.
#[derive(Debug)]
struct Watched {
    /// Told when it is to be looked at now.
    wake: Arc<Notify>,
    /// Ends its watch.
    end: CancellationToken,
}

/// Watches every project, each on its own, so that one that cannot be reached delays no other.
#[derive(Debug)]
pub(crate) struct Watcher {
    engine: Arc<Engine>,
    tuning: CurrentTuning,
    pace: Pace,
    shutdown: CancellationToken,
    watched: Mutex<HashMap<i64, Watched>>,
    /// Told when registries are to be asked now what bases mean.
    wake_bases: Notify,
}

impl Watcher {
    pub(crate) fn new(engine: Arc<Engine>, tuning: CurrentTuning, shutdown: CancellationToken) -> Arc<Self> {
        Arc::new(Self {
            engine,
            tuning,
            pace: Pace::new(),
            shutdown,
            watched: Mutex::default(),
            wake_bases: Notify::new(),
        })
    }

    /// How often repositories are polled.
    fn every(&self) -> Duration {
        self.tuning.borrow().look_every
    }

    /// Begins to watch a project.
    pub(crate) fn watch(self: &Arc<Self>, project: Project) {
        let wake = Arc::new(Notify::new());
        let end = self.shutdown.child_token();
        self.watched().insert(project.id, Watched { wake: Arc::clone(&wake), end: end.clone() });
        let watcher = Arc::clone(self);
        let turn = move || {
            let (watcher, project, wake) = (Arc::clone(&watcher), project.clone(), Arc::clone(&wake));
            async move {
                let (mut reason, mut is_hooked) = (Reason::Start, false);
                loop {
                    let has_changed = watcher.pace.turn(reason, watcher.look(&project, reason)).await;
                    if has_changed && let Err(error) = watcher.engine.repository(&project).tidy().await {
                        warn!(project = %project.name, %error, "the copy of the repository could not be tidied");
                    }
                    // A commit came, and no hook told of it: whatever called before is not to be relied on.
                    is_hooked &= !(has_changed && reason == Reason::Time);
                    let pause = pace::pause(watcher.every(), project.id, is_hooked);
                    reason = match tokio::time::timeout(pause, wake.notified()).await {
                        Ok(()) => Reason::Called,
                        Err(_) => Reason::Time,
                    };
                    is_hooked |= reason == Reason::Called;
                }
            }
        };
        tokio::spawn(supervise("a project's watch", end, turn));
    }

    /// Watches a project no longer. A look that goes on is broken off.
    pub(crate) fn unwatch(&self, project: i64) {
        if let Some(watched) = self.watched().remove(&project) {
            watched.end.cancel();
        }
    }

    fn watched(&self) -> MutexGuard<'_, HashMap<i64, Watched>> {
        self.watched.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Has a project looked at now, and registries asked what the bases of images mean: whoever calls may be a
    /// repository's server, or a registry's.
    pub(crate) fn wake(&self, project: i64) {
        self.wake_bases.notify_one();
        if let Some(watched) = self.watched().get(&project) {
            watched.wake.notify_one();
        }
    }

    /// Looks at a project that is new.
    pub(crate) async fn look_first(&self, project: &Project) {
        self.look(project, Reason::Start).await;
    }

    /// Looks, and keeps what was found or why nothing was; says whether there was anything new.
    async fn look(&self, project: &Project, reason: Reason) -> bool {
        let mut has_changed = false;
        let (note, faulty) = match self.look_inner(project, reason, &mut has_changed).await {
            Ok(note) => (note, false),
            Err(error) => {
                warn!(project = %project.name, %error, "the repository could not be looked at");
                (Some(format!("{error}; tried again every {} s", self.every().as_secs())), true)
            }
        };
        let (id, seen) = (project.id, (!faulty).then(|| self.engine.clock.now()));
        let kept = self
            .engine
            .store
            .write(move |c| {
                // A note stays until something newer is to be said.
                if note.is_some() || seen.is_none() {
                    store::see(c, id, seen, note.as_deref(), faulty)
                } else {
                    store::seen_well(c, id, seen)
                }
            })
            .await;
        if let Err(error) = kept {
            warn!(project = %project.name, %error, "what was seen could not be kept");
        }
        has_changed
    }

    async fn look_inner(
        &self,
        project: &Project,
        reason: Reason,
        has_changed: &mut bool,
    ) -> Result<Option<String>, StartError> {
        let repository = self.engine.repository(project);
        // Who calls has something new: it is fetched without asking first whether there is anything.
        let is_called = reason == Reason::Called;
        let mut there = if is_called { self.engine.fetch(project).await? } else { repository.refs().await? };
        let (id, now) = (project.id, self.engine.clock.now());
        let known = move |c: &rusqlite::Connection| {
            Ok((store::refs(c, id)?, store::was_seen(c, id)?, store::has_default_branch(c, id)?))
        };
        let (known, seen_before, has_default) = self.engine.store.read(known).await?;
        if !has_default {
            self.note_default_branch(project, &*repository).await;
        }
        if there == known {
            return Ok(None);
        }
        *has_changed = true;
        if !is_called {
            there = self.engine.fetch(project).await?;
        }
        if !seen_before {
            // What was there before the project was known starts nothing.
            info!(project = %project.name, branches = there.branches.len(), "seen for the first time");
            for (branch, commit) in &there.branches {
                self.engine.keep_schedules(project, branch, commit).await?;
            }
            self.engine.store.write(move |c| keep(c, id, &Refs::default(), &there, now)).await?;
            return Ok(None);
        }
        let mut note = None;
        let mut failed = None;
        let mut builds = Builds::new();
        let mut seen = there.clone();
        for wanted in self.changed(&*repository, &known, &there).await {
            let wanted = match wanted {
                Changed::Commit(wanted) => *wanted,
                Changed::NoCommit { tag } => {
                    note = Some(format!("the tag {tag} names no commit: it starts nothing"));
                    continue;
                }
            };
            let (branch, tag, commit) = (wanted.branch.clone(), wanted.tag.clone(), wanted.commit.clone());
            match self.engine.start(project, wanted, &mut builds).await {
                Ok(Started::Run(run)) => {
                    info!(run = run.run, branch, commit, "a commit starts a run");
                    note = None;
                }
                Ok(Started::Nothing(why)) => note = Some(why),
                // One that cannot be read now keeps no other from starting, and is looked at again.
                Err(error) => {
                    warn!(project = %project.name, branch, commit, %error, "a commit could not be looked at");
                    failed = Some(error);
                    let (before, now, name) = match &tag {
                        Some(tag) => (&known.tags, &mut seen.tags, tag),
                        None => (&known.branches, &mut seen.branches, &branch),
                    };
                    match before.get(name) {
                        Some(commit) => now.insert(name.clone(), commit.clone()),
                        None => now.remove(name),
                    };
                }
            }
        }
        // What started something was kept with it; what is left is gone.
        self.engine.store.write(move |c| keep(c, id, &known, &seen, now)).await?;
        // Whoever waits for a run does not wait for this.
        self.note_default_branch(project, &*repository).await;
        failed.map_or(Ok(note), Err)
    }

    /// Remembers which branch is the default one: projects that say nothing else protect that.
    async fn note_default_branch(&self, project: &Project, repository: &dyn Repository) {
        let id = project.id;
        let noted = match repository.default_branch().await {
            Ok(Some(branch)) => self
                .engine
                .store
                .write(move |c| store::put_default_branch(c, id, &branch))
                .await
                .map_err(|e| e.to_string()),
            Ok(None) => Ok(()),
            Err(error) => Err(error.to_string()),
        };
        if let Err(error) = noted {
            warn!(project = %project.name, error, "the repository's default branch is not known");
        }
    }

    /// The branches and tags that are new or have another commit now.
    async fn changed(&self, repository: &dyn Repository, known: &Refs, there: &Refs) -> Vec<Changed> {
        let mut changed = Vec::new();
        for (branch, commit) in &there.branches {
            let before = known.branches.get(branch);
            if before == Some(commit) {
                continue;
            }
            let wanted = Wanted { before: before.cloned(), ..Wanted::branch(StartKind::Commit, branch, commit) };
            changed.push(Changed::Commit(Box::new(wanted)));
        }
        for (tag, named) in there.tags.iter().filter(|(tag, commit)| known.tags.get(*tag) != Some(commit)) {
            // A tag may be on anything: a file, a folder.
            changed.push(match repository.commit(named).await {
                Some(_) => Changed::Commit(Box::new(Wanted::tag(StartKind::Commit, tag, named))),
                None => Changed::NoCommit { tag: tag.clone() },
            });
        }
        changed
    }

    /// Starts a run for every schedule whose moment has come.
    pub(crate) async fn start_what_is_due(self: Arc<Self>) {
        let now = self.engine.clock.now();
        let due = self.engine.store.read(move |c| store::due(c, now)).await;
        for schedule in due.unwrap_or_default() {
            let project = schedule.project.clone();
            if let Err(error) = self.start_by_schedule(schedule).await {
                // It stays due, and is tried again.
                warn!(project = %project.name, %error, "a schedule could not start its run");
            }
        }
    }

    /// Starts a run for every branch with an image whose base has moved, where its pipeline wants that.
    pub(crate) async fn start_on_moved_bases(self: Arc<Self>) {
        let moved = self.engine.store.read(store::base_starts).await;
        for (project, branch, base) in moved.unwrap_or_default() {
            if let Err(error) = self.start_on_moved_base(&project, &branch, &base).await {
                // It stays noted, and is tried again.
                warn!(project = %project.name, branch, base, %error, "a base has moved, and no run could start");
            }
        }
    }

    async fn start_on_moved_base(&self, project: &Project, branch: &str, base: &str) -> Result<(), StartError> {
        let id = project.id;
        let known = self.engine.store.read(move |c| store::refs(c, id)).await?;
        let Some(commit) = known.branches.get(branch) else {
            // The branch is gone, and what it built with it.
            let branch = branch.to_owned();
            self.engine.store.write(move |c| store::end_base_start(c, id, &branch)).await?;
            return Ok(());
        };
        let wanted = Wanted::branch(StartKind::BaseMoved, branch, commit);
        match self.engine.start(project, wanted, &mut Builds::new()).await? {
            Started::Run(run) => info!(run = run.run, base, "a base that moved starts a run"),
            Started::Nothing(why) => info!(project = %project.name, base, why, "a base that moved starts nothing"),
        }
        Ok(())
    }

    /// Asks registries what the bases of images mean now: as often as repositories are looked at, and when a hook
    /// calls.
    pub(crate) async fn watch_bases(self: Arc<Self>) {
        loop {
            tokio::select! {
                () = tokio::time::sleep(self.every()) => {}
                () = self.wake_bases.notified() => {}
                () = self.shutdown.cancelled() => return,
            }
            if let Err(error) = self.ask_for_bases().await {
                warn!(%error, "bases could not be asked for");
            }
            // Many hooks at once are one question.
            tokio::time::sleep(BASES_PAUSE).await;
        }
    }

    async fn ask_for_bases(&self) -> Result<(), StoreError> {
        let names = self.engine.store.read(store::bases).await?;
        // No job asks, and so nobody's identity signs in.
        let registries = self.engine.registries().await?.identified(|_| None);
        for name in names {
            let Ok(reference) = name.parse::<Reference>() else { continue };
            match self.engine.probe.digest_here(&reference, &registries).await {
                Ok(Some(digest)) => self.engine.store.write(move |c| store::base_is(c, &name, &digest)).await?,
                Ok(None) => {}
                // It is asked again; whoever builds on it will be told.
                Err(error) => info!(base = name, %error, "a base could not be asked for"),
            }
        }
        Ok(())
    }

    async fn start_by_schedule(&self, due: DueSchedule) -> Result<(), StartError> {
        let (project, id, branch) = (due.project.clone(), due.project.id, due.branch.clone());
        let known = self.engine.store.read(move |c| store::refs(c, id)).await?;
        let Some(commit) = known.branches.get(&branch) else {
            // The branch is gone, and its schedules with it.
            let now = self.engine.clock.now();
            self.engine.store.write(move |c| store::keep_schedules(c, id, &branch, &[], now)).await?;
            return Ok(());
        };
        let wanted = Wanted { schedule: Some(due), ..Wanted::branch(StartKind::Schedule, &branch, commit) };
        match self.engine.start(&project, wanted, &mut Builds::new()).await? {
            Started::Run(run) => info!(run = run.run, branch, "a schedule starts a run"),
            Started::Nothing(why) => info!(project = %project.name, why, "a schedule starts nothing"),
        }
        Ok(())
    }
}

/// Remembers branches and tags as they are now, where they differ from what was known.
fn keep(connection: &Connection, project: i64, known: &Refs, there: &Refs, now: Time) -> Result<(), StoreError> {
    for (is_tag, known, there) in [(false, &known.branches, &there.branches), (true, &known.tags, &there.tags)] {
        for (name, commit) in there.iter().filter(|(name, commit)| known.get(*name) != Some(commit)) {
            store::see_ref(connection, project, is_tag, name, Some(commit))?;
        }
        for gone in known.keys().filter(|name| !there.contains_key(*name)) {
            store::see_ref(connection, project, is_tag, gone, None)?;
            if !is_tag {
                store::keep_schedules(connection, project, gone, &[], now)?;
            }
        }
    }
    Ok(())
}
