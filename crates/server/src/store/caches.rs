//! What runs find again that earlier ones made, apart by whether the project trusts those who made it.

use pondrix_core::Time;
use pondrix_core::image::Digest;
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;
use super::artifacts::digest_of;

/// An archive that a job finds again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CacheRow {
    pub(crate) key: String,
    pub(crate) digest: Digest,
    pub(crate) size: u64,
}

/// Whose archives: those of a branch, which runs left that the project trusted, or others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CachePlace {
    pub(crate) branch: String,
    pub(crate) is_trusted: bool,
}

/// The archive of a key, or the newest whose key begins so, in a place. It counts as used.
pub(crate) fn find_cache(
    connection: &Connection,
    project: i64,
    place: &CachePlace,
    key: &str,
    is_beginning: bool,
    now: Time,
) -> Result<Option<CacheRow>, StoreError> {
    let CachePlace { branch, is_trusted } = place;
    let fits = if is_beginning { "substr(key, 1, length(?4)) = ?4" } else { "key = ?4" };
    let question = format!(
        "SELECT key, digest, size FROM caches
         WHERE project = ?1 AND branch = ?2 AND is_trusted = ?3 AND {fits} ORDER BY created DESC LIMIT 1"
    );
    let found = connection.prepare_cached(&question)?.query_row(params![project, branch, is_trusted, key], |row| {
        Ok(CacheRow { key: row.get(0)?, digest: digest_of(row, 1)?, size: row.get::<_, i64>(2)?.unsigned_abs() })
    });
    let found = found.optional()?;
    if let Some(found) = &found {
        let used = "UPDATE caches SET used = ?5 WHERE project = ?1 AND branch = ?2 AND is_trusted = ?3 AND key = ?4";
        let row = params![project, branch, is_trusted, found.key, now.millis()];
        connection.prepare_cached(used)?.execute(row)?;
    }
    Ok(found)
}

/// Keeps an archive under a key, unless the place has one under it. What has not been used for longest is
/// forgotten where the project has more than `most` bytes.
pub(crate) fn put_cache(
    connection: &Connection,
    project: i64,
    place: &CachePlace,
    cache: &CacheRow,
    now: Time,
    most: u64,
) -> Result<(), StoreError> {
    let insert = "INSERT OR IGNORE INTO caches (project, branch, is_trusted, key, digest, size, created, used)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?7)";
    let CachePlace { branch, is_trusted } = place;
    let size = i64::try_from(cache.size).unwrap_or(i64::MAX);
    let row = params![project, branch, is_trusted, cache.key, cache.digest.bytes(), size, now.millis()];
    connection.prepare_cached(insert)?.execute(row)?;
    let all = "SELECT branch, is_trusted, key, size FROM caches WHERE project = ?1 ORDER BY used DESC, created DESC";
    let mut statement = connection.prepare(all)?;
    let rows = statement.query_map([project], |row| {
        let place = CachePlace { branch: row.get(0)?, is_trusted: row.get(1)? };
        Ok((place, row.get::<_, String>(2)?, row.get::<_, i64>(3)?.unsigned_abs()))
    })?;
    let delete = "DELETE FROM caches WHERE project = ?1 AND branch = ?2 AND is_trusted = ?3 AND key = ?4";
    let mut total = 0;
    for row in rows {
        let (CachePlace { branch, is_trusted }, key, size) = row?;
        total += size;
        if total > most {
            connection.prepare_cached(delete)?.execute(params![project, branch, is_trusted, key])?;
        }
    }
    Ok(())
}

/// The list of steps that runs of a job left in a repository: those that the project trusted, or others.
pub(crate) fn step_list(
    connection: &Connection,
    project: i64,
    repository: &str,
    job: &str,
    is_trusted: bool,
) -> Result<Option<Digest>, StoreError> {
    let question =
        "SELECT list FROM step_lists WHERE project = ?1 AND repository = ?2 AND job = ?3 AND is_trusted = ?4";
    let mut statement = connection.prepare_cached(question)?;
    let found = statement.query_row(params![project, repository, job, is_trusted], |row| row.get::<_, String>(0));
    // What does not parse is no list that could be read.
    Ok(found.optional()?.and_then(|text| text.parse().ok()))
}

/// Remembers such a list, in place of the one before.
pub(crate) fn put_step_list(
    connection: &Connection,
    project: i64,
    repository: &str,
    job: &str,
    is_trusted: bool,
    list: &Digest,
) -> Result<(), StoreError> {
    let put = "INSERT INTO step_lists (project, repository, job, is_trusted, list) VALUES (?1, ?2, ?3, ?4, ?5)
               ON CONFLICT DO UPDATE SET list = excluded.list";
    let row = params![project, repository, job, is_trusted, list.to_string()];
    connection.prepare_cached(put)?.execute(row)?;
    Ok(())
}
