//! What is kept of the past. Removing goes on beside everything else: in small pieces, each with a pause after it.

use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{GoingView, RetentionPreview, RetentionQuestion, RetentionRule, RetentionView};
use pondrix_core::retention::{self, Contradiction, Going, Judge, Limits, Line, Rule, What};
use pondrix_core::{ProjectName, RunId, Time};
use rusqlite::Connection;
use tokio::time::Instant;
use tracing::{info, warn};

use super::{Asker, Engine, EngineError};
use crate::audit;
use crate::logs::Compressed;
use crate::off_thread::off_thread;
use crate::store::{self, EncodedRule, Project, StoreError, UsedCache};

/// How many runs are removed in one write.
const PIECE: usize = 8;
/// How many caches are removed in one write.
const CACHES_PIECE: usize = 64;
/// The shortest pause after a piece.
const PIECE_PAUSE: Duration = Duration::from_millis(2);
/// How many of what would go are listed.
const MOST_LISTED: usize = 500;

fn allowed(rules: &[Rule]) -> Result<(), EngineError> {
    check(rules).map_err(|contradiction| EngineError::Invalid(contradiction.to_string()))
}

fn no_project(name: &ProjectName) -> EngineError {
    EngineError::Invalid(format!("there is no project `{name}`; see `pondrix project list`"))
}

/// What goes of one project.
#[derive(Debug, Default)]
struct Condemned {
    runs: Vec<Going>,
    caches: Vec<UsedCache>,
}

/// Judges everything of a project.
fn condemned(c: &Connection, project: &Project, rules: &[Rule], now: Time) -> Result<Condemned, StoreError> {
    let mut judge = Judge::new(rules, &project.name, now);
    let (shortest, counts) = retention::shortest(rules);
    let oldest = store::oldest_end(c, project.id)?;
    let mut runs = Vec::new();
    // Most of the time nothing is old enough, and a short look tells.
    if counts || oldest.is_some_and(|ended| shortest.is_over(ended, now)) {
        let mut fault = None;
        for run in store::pasts(c, project.id)? {
            let is_needed = |id| {
                store::is_needed(c, id).unwrap_or_else(|error| {
                    fault = Some(error);
                    true
                })
            };
            runs.extend(judge.judge(&run, is_needed));
        }
        fault.map_or(Ok(()), Err)?;
    }
    let mut caches = store::used_caches(c, project.id)?;
    let limits = |branch: &str| Limits::of(rules, &project.name, &Line::Branch(branch.to_owned()));
    caches.retain(|cache| limits(&cache.place.branch).cache_is_over(cache.used, now));
    Ok(Condemned { runs, caches })
}

/// The rules with one set.
fn with(mut rules: Vec<Rule>, rule: Rule) -> Vec<Rule> {
    rules.retain(|one| !one.is_for_the_same(&rule));
    rules.push(rule);
    rules
}

/// Checks that what each rule says makes sense together with what it inherits.
fn check(rules: &[Rule]) -> Result<(), Contradiction> {
    let nobody: ProjectName = "x".parse().expect("a letter is a name");
    for rule in rules {
        let line = rule.branch.as_ref().map_or(Line::Tags, |branch| Line::Branch(branch.as_str().to_owned()));
        Limits::of(rules, rule.project.as_ref().unwrap_or(&nobody), &line).check()?;
    }
    Ok(())
}

/// Does work of the kind that nobody waits for, with a pause after it that is as long as it took.
pub(super) async fn paced<T>(work: impl Future<Output = T>) -> T {
    let began = Instant::now();
    let done = work.await;
    pause_after(began.elapsed()).await;
    done
}

async fn pause_after(took: Duration) {
    tokio::time::sleep(took.max(PIECE_PAUSE)).await;
}

impl Engine {
    /// The rules for all projects, and for those that may be seen.
    pub(crate) async fn retention(&self, by: &Asker) -> Result<RetentionView, StoreError> {
        let mut rules = self.store.read(store::rules).await?;
        rules.retain(|rule| rule.project.as_ref().is_none_or(|project| by.may_see(project.as_str())));
        let usual = RetentionRule::from(Limits::default());
        Ok(RetentionView { rules: rules.into_iter().map(RetentionRule::from).collect(), usual })
    }

    /// Sets a rule in the place of the one for the same project and branch; one that says nothing is removed.
    ///
    /// # Errors
    /// When the rules contradict each other then, or there is no such project.
    pub(crate) async fn set_retention(&self, rule: Rule, by: &Asker) -> Result<RetentionView, EngineError> {
        if let Some(project) = &rule.project {
            audit::of_project(project.as_str());
        }
        audit::words(&rule);
        by.must_for_rule(rule.project.as_ref())?;
        allowed(&with(self.store.read(store::rules).await?, rule.clone()))?;
        let project = rule.project.clone();
        let rule = EncodedRule::new(rule)?;
        if !self.store.write_noted(self.clock.now(), move |c| store::put_rule(c, &rule)).await?
            && let Some(project) = project
        {
            return Err(no_project(&project));
        }
        self.upkeep_wanted.notify_one();
        Ok(self.retention(by).await?)
    }

    /// What would go now.
    ///
    /// # Errors
    /// When the rules contradict each other with the one that is asked for, or there is no such project.
    pub(crate) async fn retention_preview(
        &self,
        asked: RetentionQuestion,
        by: &Asker,
    ) -> Result<RetentionPreview, EngineError> {
        by.must_for_rule(asked.project.as_ref())?;
        let mut rules = self.store.read(store::rules).await?;
        if let Some(rule) = asked.rule {
            rules = with(rules, rule.into());
            allowed(&rules)?;
        }
        let now = self.clock.now();
        let projects = self.projects_kept(asked.project.as_ref()).await?;
        if let (Some(name), true) = (asked.project, projects.is_empty()) {
            return Err(no_project(&name));
        }
        let mut preview = RetentionPreview::default();
        for project in projects {
            let rules = rules.clone();
            let found = self.store.read(move |c| {
                let found = condemned(c, &project, &rules, now)?;
                let runs: Vec<i64> =
                    found.runs.iter().filter(|going| going.what == What::Run).map(|going| going.id).collect();
                let mut going = Vec::new();
                for one in found.runs.iter().take(MOST_LISTED) {
                    let run = store::summary(c, one.id)?;
                    going.extend(run.map(|run| GoingView { run, what: one.what.into(), why: one.why.to_string() }));
                }
                Ok((store::images_of(c, &runs)?, runs.len(), going, found))
            });
            let (images, runs, going, found) = found.await?;
            preview.images += images;
            preview.runs += runs as u64;
            preview.logs += (found.runs.len() - runs) as u64;
            preview.caches += found.caches.len() as u64;
            preview.cache_bytes += found.caches.iter().map(|cache| cache.size).sum::<u64>();
            preview.going.extend(going);
        }
        preview.going.sort_by_key(|going| std::cmp::Reverse(going.run.ended));
        preview.going.truncate(MOST_LISTED);
        Ok(preview)
    }

    /// One project, or all.
    async fn projects_kept(&self, only: Option<&ProjectName>) -> Result<Vec<Project>, StoreError> {
        let rows = self.store.read(store::projects).await?;
        let projects = rows.into_iter().map(|row| row.project);
        Ok(projects.filter(|project| only.is_none_or(|only| *only == project.name)).collect())
    }

    /// Ends removals that were begun.
    pub(crate) async fn end_removals(self: Arc<Self>) {
        if let Err(error) = self.finish_removals().await {
            warn!(%error, "a project's removal could not be ended; it is tried again");
        }
    }

    /// Removes what is not to be kept any more.
    pub(crate) async fn remove_the_past(self: Arc<Self>) {
        if let Err(error) = self.remove_the_past_inner().await {
            warn!(%error, "what is not to be kept any more could not be removed; it is tried again");
        }
    }

    async fn remove_the_past_inner(&self) -> Result<(), StoreError> {
        self.forget_audit().await?;
        let rules = self.store.read(store::rules).await?;
        let now = self.clock.now();
        for project in self.projects_kept(None).await? {
            let (of, rules) = (project.clone(), rules.clone());
            let judged = self.store.read(move |c| condemned(c, &of, &rules, now));
            let Condemned { runs, caches } = self.piece(judged).await?;
            let (mut removed, mut without_logs) = (0, 0);
            for piece in runs.chunks(PIECE) {
                let piece = piece.to_vec();
                let write = move |records: &Connection| {
                    let mut removed = 0;
                    for going in &piece {
                        match going.what {
                            What::Run => removed += usize::from(store::remove_run(records, going.id)?),
                            What::Logs => store::remove_logs(records, going.id)?,
                        }
                    }
                    Ok((removed, piece.iter().filter(|going| going.what == What::Logs).count()))
                };
                let (gone, logs) = self.piece(self.store.write(write)).await?;
                removed += gone;
                without_logs += logs;
            }
            let forgotten = caches.len();
            for piece in caches.chunks(CACHES_PIECE) {
                let (piece, id) = (piece.to_vec(), project.id);
                let write = move |c: &Connection| piece.iter().try_for_each(|cache| store::remove_cache(c, id, cache));
                self.piece(self.store.write(write)).await?;
            }
            if removed + without_logs + forgotten > 0 {
                info!(project = %project.name, runs = removed, logs = without_logs, caches = forgotten, "removed: kept for long enough");
            }
        }
        self.remove_leftovers().await
    }

    /// As [`paced`], and not while a backup is made.
    pub(super) async fn piece<T>(&self, work: impl Future<Output = T>) -> T {
        let turn = self.upkeep.read().await;
        // How long the backup took is no measure of the pause.
        let began = Instant::now();
        let done = work.await;
        let took = began.elapsed();
        drop(turn);
        pause_after(took).await;
        done
    }

    /// Compresses the logs of runs that are over.
    pub(crate) async fn pack_logs(self: Arc<Self>) {
        if let Err(error) = self.pack_logs_inner().await {
            warn!(%error, "logs could not be compressed; it is tried again");
        }
    }

    async fn pack_logs_inner(self: &Arc<Self>) -> Result<(), StoreError> {
        loop {
            let runs = self.store.read(|c| store::with_plain_logs(c, PIECE)).await?;
            if runs.is_empty() {
                return Ok(());
            }
            let told = |run: &RunId, error: &std::io::Error| warn!(%run, %error, "its logs could not be compressed");
            let engine = Arc::clone(self);
            // A backup may be made meanwhile: what is compressed is put into its place after it.
            let compress = move || -> Vec<(i64, RunId, Vec<Compressed>)> {
                let compress = |(id, run): (i64, RunId)| {
                    let logs = engine.logs.compress(&run).inspect_err(|error| told(&run, error)).ok()?;
                    Some((id, run, logs))
                };
                runs.into_iter().filter_map(compress).collect()
            };
            let compressed = paced(off_thread(compress)).await;
            let put = move || -> Vec<i64> {
                let put = |(id, run, logs): (i64, RunId, Vec<Compressed>)| {
                    let put = logs.into_iter().try_for_each(Compressed::put);
                    put.inspect_err(|error| told(&run, error)).ok().map(|()| id)
                };
                compressed.into_iter().filter_map(put).collect()
            };
            let packed = self.piece(off_thread(put)).await;
            if packed.is_empty() {
                return Ok(());
            }
            self.store.write(move |c| store::set_logs_packed(c, &packed)).await?;
        }
    }
}
