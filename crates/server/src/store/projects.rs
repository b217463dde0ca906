//! Projects, and the branches that were seen of them.

use std::collections::BTreeMap;

use pondrix_core::access::RefPattern;
use pondrix_core::queue::Share;
use pondrix_core::{ProjectName, State, Time};
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;
use super::runs::state_of;
use crate::ports::git::Refs;

/// What the server needs of a project all the time.
#[derive(Clone, Debug)]
pub(crate) struct Project {
    pub(crate) id: i64,
    pub(crate) name: ProjectName,
    pub(crate) repository: String,
    /// What a hook of it shows, sealed.
    pub(crate) hook: Option<Vec<u8>>,
    /// What signs in at its repository, sealed.
    pub(crate) credential: Option<Vec<u8>>,
    /// Whether whoever administers the server named its repository.
    pub(crate) is_trusted: bool,
}

/// What a list shows of a project besides.
#[derive(Clone, Debug)]
pub(crate) struct ProjectRow {
    pub(crate) project: Project,
    pub(crate) seen: Option<Time>,
    pub(crate) note: Option<String>,
    pub(crate) faulty: bool,
    pub(crate) last_run: Option<(u64, State)>,
    pub(crate) share: Share,
    pub(crate) templates: bool,
    pub(crate) protected: Vec<RefPattern>,
}

/// The columns of a project, as [`project_of`] reads them.
pub(super) const PROJECT: &str = "p.id, p.name, p.repository, p.hook, p.credential, p.is_trusted";

pub(super) fn project_of(row: &Row<'_>) -> rusqlite::Result<Project> {
    let name: String = row.get(1)?;
    let name = name
        .parse()
        .map_err(|error| rusqlite::Error::FromSqlConversionFailure(1, rusqlite::types::Type::Text, Box::new(error)))?;
    Ok(Project {
        id: row.get(0)?,
        name,
        repository: row.get(2)?,
        hook: row.get(3)?,
        credential: row.get(4)?,
        is_trusted: row.get(5)?,
    })
}

/// What a project protects, in two columns: patterns, and the default branch that is meant where there are none.
fn protected_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Vec<RefPattern>> {
    let unread = |error| rusqlite::Error::FromSqlConversionFailure(column, Type::Text, Box::new(error));
    let patterns: Vec<_> = row.get_ref(column)?.as_str()?.split_whitespace().map(str::parse).collect();
    let default: Option<String> = row.get(column + 1)?;
    match (patterns.is_empty(), default) {
        (true, Some(branch)) => Ok(vec![RefPattern::branch(&branch).map_err(unread)?]),
        (true, None) => Ok(Vec::new()),
        (false, _) => patterns.into_iter().collect::<Result<_, _>>().map_err(unread),
    }
}

/// The branches and tags that a project protects; its repository's default branch, where it says nothing.
pub(crate) fn protected(connection: &Connection, project: &str) -> Result<Vec<RefPattern>, StoreError> {
    let question = "SELECT protected, default_branch FROM projects WHERE name = ?1 AND NOT is_removed";
    let found = connection.prepare_cached(question)?.query_row([project], |row| protected_of(row, 0));
    Ok(found.optional()?.unwrap_or_default())
}

/// Says what a project protects.
pub(crate) fn put_protected(connection: &Connection, project: i64, refs: &[RefPattern]) -> Result<(), StoreError> {
    let refs = refs.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    connection.prepare_cached("UPDATE projects SET protected = ?2 WHERE id = ?1")?.execute(params![project, refs])?;
    Ok(())
}

/// The default branch of a project's repository, where that is known.
pub(crate) fn default_branch(connection: &Connection, project: &str) -> Result<Option<String>, StoreError> {
    let question = "SELECT default_branch FROM projects WHERE name = ?1 AND NOT is_removed";
    let found = connection.prepare_cached(question)?.query_row([project], |row| row.get(0));
    Ok(found.optional()?.flatten())
}

/// Whether the default branch of a project's repository is known.
pub(crate) fn has_default_branch(connection: &Connection, project: i64) -> Result<bool, StoreError> {
    let question = "SELECT default_branch IS NOT NULL FROM projects WHERE id = ?1";
    Ok(connection.prepare_cached(question)?.query_row([project], |row| row.get(0)).optional()?.unwrap_or(true))
}

/// Remembers the default branch of a project's repository.
pub(crate) fn put_default_branch(connection: &Connection, project: i64, branch: &str) -> Result<(), StoreError> {
    let update = "UPDATE projects SET default_branch = ?2 WHERE id = ?1 AND default_branch IS NOT ?2";
    connection.prepare_cached(update)?.execute(params![project, branch])?;
    Ok(())
}

/// Adds a project.
pub(crate) fn add(
    connection: &Connection,
    name: &ProjectName,
    repository: &str,
    is_trusted: bool,
    now: Time,
) -> Result<Project, StoreError> {
    let question = "SELECT is_removed FROM projects WHERE name = ?1";
    match connection.prepare_cached(question)?.query_row([name.as_str()], |row| row.get(0)).optional()? {
        None => {}
        Some(false) => return Err(StoreError::Exists(format!("the project {name}"))),
        Some(true) => return Err(StoreError::BeingRemoved(name.to_string())),
    }
    connection
        .prepare_cached(
            "INSERT INTO projects (name, repository, hook_secret, is_trusted, added) VALUES (?1, ?2, '', ?3, ?4)",
        )?
        .execute(params![name.as_str(), repository, is_trusted, now.millis()])?;
    let id = connection.last_insert_rowid();
    let (name, repository) = (name.clone(), repository.to_owned());
    Ok(Project { id, name, repository, hook: None, credential: None, is_trusted })
}

/// The project of this name.
pub(crate) fn by_name(connection: &Connection, name: &str) -> Result<Option<Project>, StoreError> {
    let question = format!("SELECT {PROJECT} FROM projects p WHERE p.name = ?1 AND NOT p.is_removed");
    Ok(connection.prepare_cached(&question)?.query_row([name], project_of).optional()?)
}

/// All projects, by name.
pub(crate) fn all(connection: &Connection) -> Result<Vec<ProjectRow>, StoreError> {
    let question = format!(
        "SELECT {PROJECT}, p.seen, p.note, p.faulty, r.number, r.state,
                p.weight, p.job_limit, p.templates, p.protected, p.default_branch
         FROM projects p LEFT JOIN runs r ON r.project = p.id AND r.id = (SELECT max(id) FROM runs WHERE project = p.id)
         WHERE NOT p.is_removed ORDER BY p.name"
    );
    let mut statement = connection.prepare_cached(&question)?;
    let rows = statement.query_map([], |row| {
        let number: Option<i64> = row.get(9)?;
        Ok(ProjectRow {
            project: project_of(row)?,
            seen: row.get::<_, Option<i64>>(6)?.map(Time::from_millis),
            note: row.get(7)?,
            faulty: row.get(8)?,
            last_run: match number {
                Some(number) => Some((number.unsigned_abs(), state_of(row, 10)?)),
                None => None,
            },
            share: Share { weight: row.get(11)?, limit: row.get(12)? },
            templates: row.get(13)?,
            protected: protected_of(row, 14)?,
        })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The branches and tags as they were last seen.
pub(crate) fn refs(connection: &Connection, project: i64) -> Result<Refs, StoreError> {
    let read = |table: &str| -> Result<BTreeMap<String, String>, StoreError> {
        let mut statement =
            connection.prepare_cached(&format!("SELECT name, commit_id FROM {table} WHERE project = ?1"))?;
        let rows = statement.query_map([project], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    };
    Ok(Refs { branches: read("branches")?, tags: read("tags")? })
}

/// The next place in the order of a project's commits.
pub(super) fn next_place(connection: &Connection, project: i64) -> Result<i64, StoreError> {
    let question = "UPDATE projects SET next_place = next_place + 1 WHERE id = ?1 RETURNING next_place - 1";
    Ok(connection.prepare_cached(question)?.query_row([project], |row| row.get(0))?)
}

/// Remembers the commit of a branch, or of a tag, which is the newest of the project now; nothing when it is gone.
pub(crate) fn see_ref(
    connection: &Connection,
    project: i64,
    is_tag: bool,
    name: &str,
    commit: Option<&str>,
) -> Result<(), StoreError> {
    let table = if is_tag { "tags" } else { "branches" };
    let question = format!("SELECT commit_id FROM {table} WHERE project = ?1 AND name = ?2");
    let known = connection.prepare_cached(&question)?.query_row(params![project, name], |row| row.get::<_, String>(0));
    if known.optional()?.as_deref() == commit {
        return Ok(());
    }
    match commit {
        Some(commit) => connection
            .prepare_cached(&format!(
                "INSERT INTO {table} (project, name, commit_id, place) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT (project, name) DO UPDATE SET commit_id = ?3, place = ?4"
            ))?
            .execute(params![project, name, commit, next_place(connection, project)?])?,
        None => connection
            .prepare_cached(&format!("DELETE FROM {table} WHERE project = ?1 AND name = ?2"))?
            .execute(params![project, name])?,
    };
    Ok(())
}

/// How much of the runners each project may use.
pub(crate) fn shares(connection: &Connection) -> Result<BTreeMap<ProjectName, Share>, StoreError> {
    let mut statement = connection
        .prepare_cached(&format!("SELECT {PROJECT}, p.weight, p.job_limit FROM projects p WHERE NOT p.is_removed"))?;
    let rows = statement
        .query_map([], |row| Ok((project_of(row)?.name, Share { weight: row.get(6)?, limit: row.get(7)? })))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The weight of a project; 1 of one that was removed.
pub(crate) fn weight(connection: &Connection, name: &str) -> Result<u32, StoreError> {
    let weight = "SELECT weight FROM projects WHERE name = ?1 AND NOT is_removed";
    Ok(connection.prepare_cached(weight)?.query_row([name], |row| row.get(0)).optional()?.unwrap_or(1))
}

/// Sets how much of the runners a project may use.
pub(crate) fn put_share(connection: &Connection, project: i64, share: Share) -> Result<(), StoreError> {
    connection.prepare_cached("UPDATE projects SET weight = ?2, job_limit = ?3 WHERE id = ?1")?.execute(params![
        project,
        share.weight,
        share.limit
    ])?;
    Ok(())
}

/// Remembers that the repository was seen, or why it could not be.
pub(crate) fn see(
    connection: &Connection,
    project: i64,
    seen: Option<Time>,
    note: Option<&str>,
    faulty: bool,
) -> Result<(), StoreError> {
    connection
        .prepare_cached("UPDATE projects SET seen = coalesce(?2, seen), note = ?3, faulty = ?4 WHERE id = ?1")?
        .execute(params![project, seen.map(Time::millis), note, faulty])?;
    Ok(())
}

/// Remembers that the repository was seen. A fault that was noted is over; another note stays.
pub(crate) fn seen_well(connection: &Connection, project: i64, seen: Option<Time>) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "UPDATE projects SET seen = ?2, note = CASE WHEN faulty THEN NULL ELSE note END, faulty = 0 WHERE id = ?1",
        )?
        .execute(params![project, seen.map(Time::millis)])?;
    Ok(())
}

/// Whether the repository was ever seen.
pub(crate) fn was_seen(connection: &Connection, project: i64) -> Result<bool, StoreError> {
    let question = "SELECT seen IS NOT NULL FROM projects WHERE id = ?1";
    Ok(connection.prepare_cached(question)?.query_row([project], |row| row.get(0))?)
}
