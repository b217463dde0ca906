//! How much of what all share a project may have.

use pondrix_api::{QuotaChange, QuotaView};
use pondrix_core::quota::{Quota, Used, UsedUp};
use pondrix_core::{ProjectName, Size};
use rusqlite::Connection;

use super::{Engine, EngineError, LiveRun};
use crate::audit;
use crate::logs::taken_by;
use crate::off_thread::off_thread;
use crate::store::{self, Project, StoreError};

/// The shortest that a log may be where there is hardly room for any, in bytes: what came last fits in.
const LEAST_LOG: u64 = 64 * 1024;

impl Engine {
    /// How much a project has, and may have.
    pub(crate) async fn quota(&self, project: &Project) -> Result<QuotaView, StoreError> {
        let (id, name, now) = (project.id, project.name.clone(), self.clock.now());
        let asked = name.to_string();
        let read = move |c: &Connection| {
            let quota = store::quota(c, &asked)?;
            Ok((quota, store::artifacts_used(c, id)?, store::time_used(c, id, now)?))
        };
        let (quota, artifacts, millis) = self.store.read(read).await?;
        let logs = self.logs_used(&name).await;
        Ok(QuotaView { project: name, quota, used: Used { artifacts, logs, millis } })
    }

    async fn logs_used(&self, project: &ProjectName) -> u64 {
        let folder = self.logs.folder_of_project(project);
        off_thread(move || taken_by(&folder)).await
    }

    /// The quotas of these projects.
    pub(crate) async fn quotas(&self, of: Vec<Project>) -> Result<Vec<QuotaView>, StoreError> {
        let mut all = Vec::new();
        for project in of {
            all.push(self.quota(&project).await?);
        }
        Ok(all)
    }

    /// Sets how much a project may have, or each that says nothing itself.
    pub(crate) async fn set_quota(&self, change: QuotaChange) -> Result<(), EngineError> {
        let QuotaChange { project, quota } = change;
        let of = project.as_ref().map_or(store::ALL_PROJECTS, ProjectName::as_str).to_owned();
        audit::about(&of);
        if let Some(project) = &project {
            audit::of_project(project.as_str());
            let asked = of.clone();
            if self.store.read(move |c| store::project(c, &asked)).await?.is_none() {
                return Err(EngineError::Invalid(format!("there is no project {project}; see `pondrix project list`")));
            }
        }
        audit::words(told(&quota));
        Ok(self.store.write_noted(self.clock.now(), move |c| store::put_quota(c, &of, &quota)).await?)
    }

    /// What a project has all of, before a run of it begins.
    pub(crate) async fn used_up(&self, project: &ProjectName) -> Result<Vec<UsedUp>, StoreError> {
        let asked = project.to_string();
        let read = move |c: &Connection| Ok((store::quota(c, &asked)?, store::project(c, &asked)?));
        let (quota, project) = self.store.read(read).await?;
        // Whoever has none is not counted.
        let Some(project) = project.filter(|_| quota != Quota::default()) else { return Ok(Vec::new()) };
        Ok(quota.used_up(&self.quota(&project).await?.used))
    }

    /// How long the log of a job may be that begins now, and what the caches of its project may take on its runner.
    pub(super) async fn limits_of_job(&self, project: &ProjectName) -> Result<(u64, Option<u64>, u32), StoreError> {
        let asked = project.to_string();
        let read = move |c: &rusqlite::Connection| Ok((store::quota(c, &asked)?, store::weight(c, &asked)?));
        let (quota, weight) = self.store.read(read).await?;
        let log = match quota.logs {
            None => self.log_limit,
            Some(most) => {
                let left = most.bytes().saturating_sub(self.logs_used(project).await);
                left.max(LEAST_LOG).min(self.log_limit)
            }
        };
        Ok((log, quota.runner_caches.map(Size::bytes), weight))
    }

    /// Refuses an artifact that is too large, or that its project has no more room for.
    pub(crate) async fn must_have_room(&self, live: &LiveRun, bytes: u64) -> Result<(), EngineError> {
        if bytes == 0 {
            return Ok(());
        }
        let size = Size::from_bytes(bytes);
        let artifact_limit = self.tuning.borrow().artifact_limit;
        if bytes > artifact_limit {
            let most = Size::from_bytes(artifact_limit);
            let words =
                format!("an artifact of {size} is more than {most}, which is the most here (serve --artifact-limit)");
            return Err(EngineError::Conflict(words));
        }
        let project = &live.row.facts.id.project;
        let name = project.to_string();
        let read = move |c: &Connection| {
            let quota = store::quota(c, &name)?;
            match (quota.artifacts, store::project(c, &name)?) {
                (Some(_), Some(project)) => Ok(quota.artifacts_left(store::artifacts_used(c, project.id)?)),
                _ => Ok(None),
            }
        };
        match self.store.read(read).await?.filter(|left| bytes > *left) {
            None => Ok(()),
            Some(left) => Err(EngineError::Conflict(format!(
                "an artifact of {size} is more than the {} that {project} has left for artifacts: keep them shorter, or \
                 ask for more: pondrix quota show {project}",
                Size::from_bytes(left)
            ))),
        }
    }
}

/// A quota in words.
fn told(quota: &Quota) -> String {
    let said = [
        quota.artifacts.map(|most| format!("artifacts {most}")),
        quota.logs.map(|most| format!("logs {most}")),
        quota.minutes.map(|most| format!("{most} minutes")),
        quota.runner_caches.map(|most| format!("caches on runners {most}")),
    ];
    let said: Vec<_> = said.into_iter().flatten().collect();
    if said.is_empty() { "as much as there is".to_owned() } else { said.join(", ") }
}
