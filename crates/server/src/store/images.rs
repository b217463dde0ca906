//! Which image was built on which, and bases that moved.

use pondrix_core::image::{Digest, Repository, Tag};
use pondrix_core::run::BaseImage;
use pondrix_core::{JobKey, RunId};
use rusqlite::{Connection, OptionalExtension, params};

use super::projects::{PROJECT, project_of};
use super::runs::overtaken;
use super::{Project, StoreError};

/// An image that a job pushed.
#[derive(Clone, Debug)]
pub(crate) struct Pushed<'a> {
    pub(crate) run: i64,
    pub(crate) branch: &'a str,
    pub(crate) job: &'a JobKey,
    pub(crate) repository: &'a Repository,
    pub(crate) digest: &'a Digest,
    pub(crate) tags: &'a [Tag],
    pub(crate) base: Option<&'a BaseImage>,
}

/// Allows a run to set a tag that moves, unless a run of a later commit of the same branch has set it or was allowed
/// to: then that run is answered.
pub(crate) fn grant_tag(
    connection: &Connection,
    run: i64,
    repository: &Repository,
    tag: &Tag,
) -> Result<Option<RunId>, StoreError> {
    let (repository, tag) = (repository.to_string(), tag.as_str());
    // Other branches may have set it in between.
    let set = "o.id IN (SELECT coalesce(last_run, run) FROM image_tags WHERE repository = ?2 AND tag = ?3)
               OR o.id IN (SELECT run FROM tag_grants WHERE repository = ?2 AND tag = ?3)";
    let later = overtaken(connection, run, set, &[&repository, &tag])?;
    if later.is_none() {
        let grant = "INSERT INTO tag_grants (repository, tag, run) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING";
        connection.prepare_cached(grant)?.execute(params![repository, tag, run])?;
    }
    Ok(later)
}

/// The run of a later commit of the same branch whose image an environment runs.
pub(crate) fn rollout_overtaken(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    environment: &str,
) -> Result<Option<RunId>, StoreError> {
    let running = "o.id IN (SELECT run FROM running_images WHERE environment = ?2 AND job = ?3)";
    overtaken(connection, run, running, &[&environment, &job.as_str()])
}

/// Remembers an image and its base. Images that were built on one of its tags are behind now. One of an older commit
/// than the newest of its branch is nobody's base.
pub(crate) fn put_image(connection: &Connection, pushed: &Pushed<'_>) -> Result<(), StoreError> {
    let Pushed { run, branch, job, repository, digest, tags, base } = pushed;
    let newest = "o.id IN (SELECT i.run FROM images i WHERE i.project = o.project AND i.branch = ?2 AND i.job = ?3
                  AND i.repository = ?4)";
    if overtaken(connection, *run, newest, &[branch, &job.as_str(), &repository.to_string()])?.is_some() {
        return Ok(());
    }
    connection
        .prepare_cached(
            "INSERT INTO images (project, branch, job, repository, digest, run, base, base_digest)
         SELECT project, ?2, ?3, ?4, ?5, ?1, ?6, ?7 FROM runs WHERE id = ?1
         ON CONFLICT DO UPDATE SET digest = ?5, run = ?1, base = ?6, base_digest = ?7",
        )?
        .execute(params![
            run,
            branch,
            job.as_str(),
            repository.to_string(),
            digest.to_string(),
            base.map(|base| base.name.as_str()),
            base.map(|base| base.digest.to_string()),
        ])?;
    if let Some(base) = base {
        let first = "INSERT INTO bases (name, digest) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        connection.execute(first, params![base.name, base.digest.to_string()])?;
    }
    for tag in *tags {
        base_is(connection, &format!("{repository}:{tag}"), digest)?;
    }
    Ok(())
}

/// A name means this digest now. Where images were built on another one under this name, their branches
/// are to start.
pub(crate) fn base_is(connection: &Connection, name: &str, digest: &Digest) -> Result<(), StoreError> {
    let digest = digest.to_string();
    let known = connection
        .prepare_cached("SELECT digest FROM bases WHERE name = ?1")?
        .query_row([name], |row| row.get::<_, String>(0));
    // Nothing was built on it, or it was this one before.
    if known.optional()?.is_none_or(|known| known == digest) {
        return Ok(());
    }
    connection
        .prepare_cached(
            "UPDATE bases SET digest = ?2, moved = CAST(unixepoch('subsec') * 1000 AS INTEGER) WHERE name = ?1",
        )?
        .execute(params![name, digest])?;
    connection
        .prepare_cached(
            "INSERT INTO base_starts (project, branch, base)
         SELECT DISTINCT project, branch, base FROM images WHERE base = ?1 AND base_digest <> ?2
         ON CONFLICT DO NOTHING",
        )?
        .execute(params![name, digest])?;
    Ok(())
}

/// The names of all bases that the newest images were built on.
pub(crate) fn bases(connection: &Connection) -> Result<Vec<String>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT DISTINCT base FROM images WHERE base IS NOT NULL")?;
    let rows = statement.query_map([], |row| row.get(0))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Branches that are to start, each with the base that moved.
pub(crate) fn base_starts(connection: &Connection) -> Result<Vec<(Project, String, String)>, StoreError> {
    let mut statement = connection.prepare_cached(&format!(
        "SELECT {PROJECT}, s.branch, s.base
         FROM base_starts s JOIN projects p ON p.id = s.project WHERE NOT p.is_removed
         ORDER BY p.name, s.branch"
    ))?;
    let rows = statement.query_map([], |row| Ok((project_of(row)?, row.get(6)?, row.get(7)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A branch was looked at since its base moved.
pub(crate) fn end_base_start(connection: &Connection, project: i64, branch: &str) -> Result<(), StoreError> {
    connection
        .prepare_cached("DELETE FROM base_starts WHERE project = ?1 AND branch = ?2")?
        .execute(params![project, branch])?;
    Ok(())
}
