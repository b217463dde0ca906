//! What is kept of the past. Removing goes on beside everything else: in small pieces, each with a pause after it.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use pondrix_api::{GoingView, RetentionPreview, RetentionQuestion, RetentionRule, RetentionView};
use pondrix_core::retention::{self, Contradiction, Going, Judge, Limits, Line, Rule, What};
use pondrix_core::{ProjectName, RunId, Time};
use rusqlite::Connection;
use tokio::time::Instant;
use tracing::{info, warn};

use super::{Asker, Engine, EngineError};
use crate::logs::Compressed;
use crate::off_thread::off_thread;
use crate::store::{self, EncodedRule, Project, StoreError, UsedCache};

/// How many runs are removed in one write.
const PIECE: usize = 8;
/// How many files and folders are removed before others have their turn.
const FILES_PIECE: usize = 64;
/// What the names of folders begin with into which files and folders are moved that are to be removed.
const ASIDE: &str = "leaving-";
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
    let limits = |scope: &str| Limits::of(rules, &project.name, &Line::Branch(scope.to_owned()));
    caches.retain(|cache| limits(&cache.scope).cache_is_over(cache.used, now));
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

/// Moves a file or a folder aside, as whatever number. That it is gone already is as good.
fn move_aside(path: &Path, aside: &Path, number: usize) -> std::io::Result<()> {
    std::fs::create_dir_all(aside)?;
    match std::fs::rename(path, aside.join(number.to_string())) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Removes what was moved aside. What cannot be is when the server is started again.
fn remove_aside(aside: &Path) {
    match std::fs::remove_dir_all(aside) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            warn!(path = %aside.display(), %error, "it could not be removed; it is tried when the server is started again");
        }
        _ => {}
    }
}

/// Removes what a server that was killed had moved aside, beside whatever else is done.
pub(crate) fn remove_aside_of_before(data: &Path) {
    let all = std::fs::read_dir(data).into_iter().flatten().flatten();
    let is_aside = |entry: &std::fs::DirEntry| entry.file_name().to_string_lossy().starts_with(ASIDE);
    let of_before: Vec<_> = all.filter(is_aside).map(|entry| entry.path()).collect();
    if !of_before.is_empty() {
        tokio::task::spawn_blocking(move || of_before.iter().for_each(|aside| remove_aside(aside)));
    }
}

/// Does work of the kind that nobody waits for, with a pause after it that is as long as it took.
async fn paced<T>(work: impl Future<Output = T>) -> T {
    let began = Instant::now();
    let done = work.await;
    tokio::time::sleep(began.elapsed().max(PIECE_PAUSE)).await;
    done
}

impl Engine {
    /// All rules.
    pub(crate) async fn retention(&self) -> Result<RetentionView, StoreError> {
        let rules = self.store.read(store::rules).await?;
        let usual = RetentionRule::from(Limits::default());
        Ok(RetentionView { rules: rules.into_iter().map(RetentionRule::from).collect(), usual })
    }

    /// Sets a rule in the place of the one for the same project and branch; one that says nothing is removed.
    ///
    /// # Errors
    /// When the rules contradict each other then, or there is no such project.
    pub(crate) async fn set_retention(&self, rule: Rule, by: &Asker) -> Result<RetentionView, EngineError> {
        by.only_first("says how long the past is kept")?;
        allowed(&with(self.store.read(store::rules).await?, rule.clone()))?;
        let project = rule.project.clone();
        let rule = EncodedRule::new(rule)?;
        if !self.store.write(move |c| store::put_rule(c, &rule)).await?
            && let Some(project) = project
        {
            return Err(no_project(&project));
        }
        self.upkeep_wanted.notify_one();
        Ok(self.retention().await?)
    }

    /// What would go now.
    ///
    /// # Errors
    /// When the rules contradict each other with the one that is asked for, or there is no such project.
    pub(crate) async fn retention_preview(&self, asked: RetentionQuestion) -> Result<RetentionPreview, EngineError> {
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
            for piece in caches.chunks(FILES_PIECE) {
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
        paced(async {
            let _turn = self.upkeep.read().await;
            work.await
        })
        .await
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

    /// Removes files and folders that nothing in the records refers to. A backup that is made meanwhile waits for them to
    /// be moved aside, and not for a walk over what is in them.
    pub(super) async fn remove_leftovers(&self) -> Result<(), StoreError> {
        loop {
            let number = self.moved_aside.fetch_add(1, Ordering::Relaxed);
            let data = self.data.clone();
            let aside = data.join(format!("{ASIDE}{}-{number}", self.began.millis()));
            let left = self.store.read(|c| store::leftovers(c, FILES_PIECE)).await?;
            if left.is_empty() {
                return Ok(());
            }
            let to = aside.clone();
            let move_all = move || -> Vec<String> {
                let is_gone = |(number, path): &(usize, String)| {
                    move_aside(&data.join(path), &to, *number)
                        .inspect_err(|error| warn!(path, %error, "it could not be removed; it is tried again"))
                        .is_ok()
                };
                left.into_iter().enumerate().filter(is_gone).map(|(_, path)| path).collect()
            };
            let gone = self.piece(off_thread(move_all)).await;
            if gone.is_empty() {
                return Ok(());
            }
            paced(off_thread(move || remove_aside(&aside))).await;
            self.store.write(move |c| store::forget_leftovers(c, &gone)).await?;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[tokio::test]
    async fn what_goes_is_moved_away_at_once_and_what_a_killed_server_had_moved_goes_too() {
        let data = tempfile::tempdir().unwrap();
        let place = |name: &str| data.path().join(name);
        for folder in ["logs/pond/1", "leaving-7-0/3", "files"] {
            fs::create_dir_all(place(folder)).unwrap();
            fs::write(place(folder).join("petal"), "petal").unwrap();
        }
        let aside = place("leaving-8-0");
        for (number, path) in ["logs/pond/1", "files/petal", "never/was"].iter().enumerate() {
            move_aside(&place(path), &aside, number).unwrap();
            assert!(!place(path).exists());
        }
        assert_eq!(fs::read_dir(&aside).unwrap().count(), 2);
        remove_aside(&aside);
        remove_aside_of_before(data.path());
        for _ in 0..6000 {
            if !place("leaving-7-0").exists() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        let mut left: Vec<_> = fs::read_dir(data.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        left.sort();
        assert_eq!(left, ["files", "logs"]);
    }
}
