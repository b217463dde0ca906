//! Removing runs and projects with all that hangs on them, and telling what is left of them elsewhere.
//!
//! Files are not removed by a write: they are noted in it, and go after it.

use pondrix_core::{JobKey, ProjectName};
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;
use super::projects::{PROJECT, project_of};
use super::records::remove_image;
use super::retention::IS_NEEDED;
use super::runs::name_of;
use super::sealed::remove_data_keys;
use crate::seal::KeyOwner;

/// Whether a run may be removed as things stand now: it is over, nothing needs it, and no other does it again.
fn may_go(connection: &Connection, run: i64) -> Result<bool, StoreError> {
    let question = format!(
        "SELECT state NOT IN ('queued', 'waiting', 'running') AND NOT {IS_NEEDED}
         AND NOT EXISTS (SELECT 1 FROM runs o WHERE o.rerun_of = r.id) FROM runs r WHERE id = ?1"
    );
    Ok(connection.prepare_cached(&question)?.query_row([run], |row| row.get(0)).optional()?.unwrap_or(false))
}

/// Removes a run with all that hangs on it, unless something has come to need it. Answers whether it did.
pub(crate) fn remove_run(connection: &Connection, run: i64) -> Result<bool, StoreError> {
    if !may_go(connection, run)? {
        return Ok(false);
    }
    remove_run_anyway(connection, run)?;
    Ok(true)
}

fn remove_run_anyway(connection: &Connection, run: i64) -> Result<(), StoreError> {
    leave_logs(connection, run)?;
    let question = "SELECT files, plan FROM runs WHERE id = ?1";
    let (files, plan): (Option<String>, Option<i64>) =
        connection.prepare_cached(question)?.query_row([run], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let mut images = connection.prepare_cached("SELECT repository, digest FROM image_records WHERE run = ?1")?;
    let images: Vec<(String, String)> =
        images.query_map([run], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<Result<_, _>>()?;
    // A tag that a later run has set to the same image is that run's from now on.
    for change in [
        "UPDATE image_tags SET run = last_run, last_run = NULL WHERE run = ?1 AND last_run <> ?1",
        "UPDATE image_tags SET last_run = NULL WHERE last_run = ?1",
        "DELETE FROM image_tags WHERE run = ?1",
        "DELETE FROM images WHERE run = ?1",
    ] {
        connection.prepare_cached(change)?.execute([run])?;
    }
    for (repository, digest) in images {
        remove_image(connection, run, &repository, &digest)?;
    }
    for table in
        ["events", "leases", "artifacts", "failed_tests", "tested_jobs", "before_rollouts", "tag_grants", "releases"]
    {
        connection.prepare_cached(&format!("DELETE FROM {table} WHERE run = ?1"))?.execute([run])?;
    }
    connection.prepare_cached("DELETE FROM runs WHERE id = ?1")?.execute([run])?;
    connection
        .prepare_cached("DELETE FROM plans WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM runs WHERE plan = ?1)")?
        .execute([plan])?;
    if let Some(files) = files {
        leave(connection, &format!("tries/{files}"))?;
    }
    Ok(())
}

/// Notes that nothing refers to a file or folder any more.
pub(crate) fn leave(connection: &Connection, path: &str) -> Result<(), StoreError> {
    connection.prepare_cached("INSERT INTO leftovers (path) VALUES (?1) ON CONFLICT DO NOTHING")?.execute([path])?;
    Ok(())
}

pub(super) fn leave_logs(connection: &Connection, run: i64) -> Result<(), StoreError> {
    match name_of(connection, run)? {
        Some(name) => leave(connection, &format!("logs/{}/{}", name.project, name.number)),
        None => Ok(()),
    }
}

/// Files and folders that nothing refers to: at most so many.
pub(crate) fn leftovers(connection: &Connection, most: usize) -> Result<Vec<String>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT path FROM leftovers LIMIT ?1")?;
    let rows = statement.query_map([most as i64], |row| row.get(0))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// They are gone.
pub(crate) fn forget_leftovers(connection: &Connection, paths: &[String]) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached("DELETE FROM leftovers WHERE path = ?1")?;
    paths.iter().try_for_each(|path| statement.execute([path]).map(|_| ()))?;
    Ok(())
}

/// Hides a project that is to be removed: nothing of it starts any more, and nobody sees it.
pub(crate) fn hide_project(connection: &Connection, project: i64) -> Result<(), StoreError> {
    connection.prepare_cached("UPDATE projects SET is_removed = 1 WHERE id = ?1")?.execute([project])?;
    // Runs hold their environment's last release; it is no environment's any more.
    connection.prepare_cached("DELETE FROM releases WHERE project = ?1")?.execute([project])?;
    Ok(())
}

/// Projects whose removal was begun.
pub(crate) fn hidden_projects(connection: &Connection) -> Result<Vec<(i64, ProjectName)>, StoreError> {
    let question = format!("SELECT {PROJECT} FROM projects p WHERE p.is_removed");
    let mut statement = connection.prepare_cached(&question)?;
    let rows = statement.query_map([], |row| project_of(row).map(|project| (project.id, project.name)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Removes the newest runs of a project, at most so many; answers how many.
pub(crate) fn remove_runs_of(connection: &Connection, project: i64, most: usize) -> Result<usize, StoreError> {
    let question = "SELECT id FROM runs WHERE project = ?1 ORDER BY id DESC LIMIT ?2";
    let mut statement = connection.prepare_cached(question)?;
    let ids: Vec<i64> =
        statement.query_map(params![project, most as i64], |row| row.get(0))?.collect::<Result<_, _>>()?;
    ids.iter().try_for_each(|id| remove_run_anyway(connection, *id))?;
    Ok(ids.len())
}

/// Removes a project that has no more runs, with everything else of it. Its folders are gone, and are not to be removed
/// when a new project has them.
pub(crate) fn remove_project(connection: &Connection, project: i64, folders: &[String]) -> Result<(), StoreError> {
    for folder in folders {
        connection
            .prepare_cached("DELETE FROM leftovers WHERE path = ?1 OR substr(path, 1, length(?1) + 1) = ?1 || '/'")?
            .execute([folder])?;
    }
    for table in [
        "branches",
        "tags",
        "schedules",
        "secrets",
        "caches",
        "step_lists",
        "images",
        "base_starts",
        "tested_jobs",
        "releases",
        "retention_rules",
    ] {
        connection.prepare_cached(&format!("DELETE FROM {table} WHERE project = ?1"))?.execute([project])?;
    }
    let quota = "DELETE FROM quotas WHERE project = (SELECT name FROM projects WHERE id = ?1)";
    connection.prepare_cached(quota)?.execute([project])?;
    // What it sealed nobody opens again, wherever a copy of it may be.
    remove_data_keys(connection, Some(KeyOwner::Project(project)))?;
    connection.prepare_cached("DELETE FROM projects WHERE id = ?1")?.execute([project])?;
    Ok(())
}

/// The images of a project: the repository and the digest of each.
pub(crate) fn images_outside(connection: &Connection, project: i64) -> Result<Vec<(String, String)>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT i.repository, i.digest FROM image_records i JOIN runs r ON r.id = i.run WHERE r.project = ?1
         ORDER BY i.repository, i.created",
    )?;
    let rows = statement.query_map([project], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// What runs in environments: of one project, or in one of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Running {
    pub(crate) environment: String,
    pub(crate) run: i64,
    pub(crate) job: JobKey,
    pub(crate) image: String,
}

/// See [`Running`].
pub(crate) fn running(
    connection: &Connection,
    project: Option<i64>,
    environment: Option<&str>,
) -> Result<Vec<Running>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT environment, run, job, image FROM running_images
         WHERE (?1 IS NULL OR project = ?1) AND (?2 IS NULL OR environment = ?2) ORDER BY environment, project, job",
    )?;
    let rows = statement.query_map(params![project, environment], |row| {
        let job = JobKey::from_text(&row.get::<_, String>(2)?);
        Ok(Running { environment: row.get(0)?, run: row.get(1)?, job, image: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}
