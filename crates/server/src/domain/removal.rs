//! Removing projects and environments, and telling what stays outside.

use std::sync::Arc;

use pondrix_api::{EnvironmentRemoved, ImageOutside, ProjectRemoved, ReleaseOutside};
use pondrix_core::State;
use pondrix_core::access::Need;
use pondrix_core::pipeline::JobKind;
use rusqlite::Connection;
use tracing::{info, warn};

use super::{Asker, Engine, EngineError, LiveRun, locked};
use crate::ports::git::copy_path;
use crate::seal::KeyOwner;
use crate::store::{self, Project, Running, StoreError};

/// How many runs of a project are removed in one write.
const PIECE: usize = 16;

/// What runs somewhere, with where its description is.
fn outside(records: &Connection, running: Running) -> Result<Option<ReleaseOutside>, StoreError> {
    let Running { environment, run, job, image } = running;
    let Some(place) = store::environment(records, &environment)? else { return Ok(None) };
    let row = store::by_id(records, run)?;
    let planned = row.as_ref().and_then(|row| row.plan.job(&job));
    let manifests = match planned.map(|job| &job.kind) {
        Some(JobKind::Rollout(rollout)) => rollout.manifests.clone(),
        _ => Vec::new(),
    };
    Ok(Some(ReleaseOutside {
        environment,
        namespace: place.view.namespace,
        cluster: place.view.cluster,
        project: row.map(|row| row.facts.id.project.to_string()).unwrap_or_default(),
        job: job.to_string(),
        image,
        manifests,
    }))
}

fn all_outside(
    records: &Connection,
    project: Option<i64>,
    environment: Option<&str>,
) -> Result<Vec<ReleaseOutside>, StoreError> {
    let mut releases = Vec::new();
    for running in store::running(records, project, environment)? {
        releases.extend(outside(records, running)?);
    }
    Ok(releases)
}

impl Engine {
    /// Removes a project with everything of it: from now on nobody sees it, its runs are stopped, and when they have
    /// ended all of it goes. `unwatch` has its repository looked at no more; it is called when they may. What was begun
    /// is ended even when whoever asked stops waiting, or the server ends.
    ///
    /// # Errors
    /// When the records cannot be read or written, or its folders not removed.
    pub(crate) async fn remove_project(
        self: &Arc<Self>,
        project: &Project,
        by: Asker,
        unwatch: impl FnOnce(),
    ) -> Result<ProjectRemoved, EngineError> {
        unwatch();
        let id = project.id;
        let (images, releases) =
            self.store.read(move |c| Ok((store::images_outside(c, id)?, all_outside(c, Some(id), None)?))).await?;
        let registries = self.registries().await?;
        let mut removed = ProjectRemoved { releases, ..ProjectRemoved::default() };
        for (repository, digest) in images {
            match removed.images.last_mut().filter(|last| last.repository == repository) {
                Some(last) => last.digests.push(digest),
                None => {
                    let host = repository.split('/').next().unwrap_or_default();
                    let address = registries.address(host);
                    removed.images.push(ImageOutside { repository, address, digests: vec![digest] });
                }
            }
        }
        info!(project = %project.name, by = by.name, "a project is being removed");
        let name = project.name.clone();
        let hide = move |c: &rusqlite::Connection| {
            store::remove_roles_in(c, name.as_str())?;
            store::hide_project(c, id)
        };
        let known = self.known_tokens.clone();
        self.store.write_noted_and(self.clock.now(), hide, move |_| known.forget()).await?;
        let (engine, project) = (Arc::clone(self), project.clone());
        let ended = tokio::spawn(async move { engine.finish_removal(project.id, project.name.as_str(), &by).await });
        removed.runs = ended.await.unwrap_or(Err(EngineError::Broke))?;
        self.read_limits().await?;
        Ok(removed)
    }

    /// Ends the removals that were begun before the server ended.
    pub(super) async fn finish_removals(self: &Arc<Self>) -> Result<(), EngineError> {
        for (id, name) in self.store.read(store::hidden_projects).await? {
            let by = Asker::server();
            self.finish_removal(id, name.as_str(), &by).await?;
        }
        Ok(())
    }

    /// Answers how many runs it had; none where somebody else has ended it: a new project may have its name by now.
    async fn finish_removal(self: &Arc<Self>, id: i64, name: &str, by: &Asker) -> Result<u64, EngineError> {
        let _one_at_a_time = self.removing.lock().await;
        if !self.store.read(store::hidden_projects).await?.iter().any(|(hidden, _)| *hidden == id) {
            return Ok(0);
        }
        // Whoever stores a run holds this: what is live after it is all that there will be.
        drop(self.admission.write().await);
        for live in self.all_live().into_iter().filter(|live| live.row.facts.id.project.as_str() == name) {
            self.end(&live, by).await?;
        }
        let mut runs = 0;
        loop {
            let removed = self.piece(self.store.write(move |c| store::remove_runs_of(c, id, PIECE))).await?;
            if removed == 0 {
                break;
            }
            runs += removed as u64;
        }
        let folders = [copy_path("".as_ref(), name).display().to_string(), format!("logs/{name}")];
        let left = folders.clone();
        self.store.write(move |c| left.iter().try_for_each(|path| store::leave(c, path))).await?;
        self.remove_leftovers().await?;
        // Before its name is free: what a new project of this name keeps must not be taken for this one's.
        if let Some(folder) = folders.iter().map(|path| self.data.join(path)).find(|path| path.exists()) {
            let words = format!("{} cannot be removed; it is tried again", folder.display());
            return Err(EngineError::Conflict(words));
        }
        locked(&self.fetching).remove(&id);
        locked(&self.finding_times).remove(&id);
        let seal = self.seal.clone();
        let remove = move |c: &rusqlite::Connection| {
            store::remove_project(c, id, &folders)?;
            // Before another project may have its number.
            seal.forget(KeyOwner::Project(id));
            Ok(())
        };
        self.store.write(remove).await?;
        info!(project = name, runs, "a project is removed");
        Ok(runs)
    }

    /// Stops a run, and waits until it has ended.
    async fn end(self: &Arc<Self>, live: &Arc<LiveRun>, by: &Asker) -> Result<(), EngineError> {
        match self.stop(live, by.clone()).await {
            // It is being stopped, or has ended.
            Ok(()) | Err(EngineError::Refused(_)) => {}
            Err(error) => return Err(error),
        }
        let mut changes = live.watch();
        loop {
            if changes.borrow_and_update().run.state.is_over() {
                return Ok(());
            }
            if changes.changed().await.is_err() {
                warn!(run = %live.row.facts.id, "nobody carries this run");
                return Ok(());
            }
        }
    }

    /// Removes an environment. What runs in it goes on running.
    ///
    /// # Errors
    /// When a run is rolling out there.
    pub(crate) async fn remove_environment(
        &self,
        name: &str,
        by: &Asker,
    ) -> Result<Option<EnvironmentRemoved>, EngineError> {
        let _turn = self.setting.lock().await;
        let wanted = name.to_owned();
        match self.store.read(move |c| store::environment(c, &wanted)).await? {
            Some(row) => Self::must_open(&row, by)?,
            None => by.must(Need::Administer, None)?,
        }
        for live in self.all_live() {
            let run = live.now();
            let goes_there = |kind: &JobKind| matches!(kind, JobKind::Rollout(rollout) if rollout.to.value == name);
            let mut jobs = live.row.plan.jobs().filter(|job| goes_there(&job.kind));
            let is_rolling = |key| run.job(key).is_some_and(|job| job.state == State::Running);
            if let Some(job) = jobs.find(|job| is_rolling(&job.key)) {
                let run = &live.row.facts.id;
                let words =
                    format!("{run} is rolling out there ({}); wait for it, or stop it: pondrix stop {run}", job.key);
                return Err(EngineError::Conflict(words));
            }
        }
        let name = name.to_owned();
        let removed = self.store.write_noted(self.clock.now(), move |c| {
            let releases = all_outside(c, None, Some(&name))?;
            Ok(store::remove_environment(c, &name)?.then_some(EnvironmentRemoved { releases }))
        });
        Ok(removed.await?)
    }
}
