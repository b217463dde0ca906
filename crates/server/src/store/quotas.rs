//! How much projects may have, and have.

use pondrix_core::Time;
use pondrix_core::quota::{DAYS, Quota};
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;

/// Whom a quota is of that no project's own replaces: a name that no project has.
pub(crate) const ALL: &str = "*";
const DAY: i64 = 24 * 3600 * 1000;

/// The quota that was set for a project, or for [`ALL`].
pub(crate) fn own_quota(connection: &Connection, of: &str) -> Result<Quota, StoreError> {
    let question = "SELECT quota FROM quotas WHERE project = ?1";
    let found: Option<String> = connection.prepare_cached(question)?.query_row([of], |row| row.get(0)).optional()?;
    Ok(found.map(|text| serde_json::from_str(&text)).transpose()?.unwrap_or_default())
}

/// The quota that holds for a project.
pub(crate) fn quota(connection: &Connection, project: &str) -> Result<Quota, StoreError> {
    Ok(own_quota(connection, project)?.or(own_quota(connection, ALL)?))
}

/// Sets the quota of a project, or of all that have none.
pub(crate) fn put_quota(connection: &Connection, of: &str, quota: &Quota) -> Result<(), StoreError> {
    if *quota == Quota::default() {
        connection.prepare_cached("DELETE FROM quotas WHERE project = ?1")?.execute([of])?;
        return Ok(());
    }
    let insert = "INSERT OR REPLACE INTO quotas (project, quota) VALUES (?1, ?2)";
    connection.prepare_cached(insert)?.execute(params![of, serde_json::to_string(quota)?])?;
    Ok(())
}

/// A job of a run took so long.
pub(crate) fn add_time(connection: &Connection, run: i64, at: Time, millis: u64) -> Result<(), StoreError> {
    let insert = "INSERT INTO job_time (project, day, millis) SELECT project, ?2, ?3 FROM runs WHERE id = ?1
                  ON CONFLICT (project, day) DO UPDATE SET millis = millis + ?3";
    let millis = i64::try_from(millis).unwrap_or(i64::MAX);
    connection.prepare_cached(insert)?.execute(params![run, at.millis().div_euclid(DAY), millis])?;
    Ok(())
}

/// How many milliseconds the jobs of a project took in the days that count.
pub(crate) fn time_used(connection: &Connection, project: i64, now: Time) -> Result<u64, StoreError> {
    let question = "SELECT coalesce(sum(millis), 0) FROM job_time WHERE project = ?1 AND day > ?2";
    let since = now.millis().div_euclid(DAY) - DAYS;
    let millis: i64 = connection.prepare_cached(question)?.query_row([project, since], |row| row.get(0))?;
    Ok(millis.unsigned_abs())
}

/// Forgets what counts no more.
pub(crate) fn forget_time(connection: &Connection, now: Time) -> Result<(), StoreError> {
    let before = now.millis().div_euclid(DAY) - DAYS;
    connection.prepare_cached("DELETE FROM job_time WHERE day <= ?1")?.execute([before])?;
    Ok(())
}

/// How many bytes the artifacts of a project take.
pub(crate) fn artifacts_used(connection: &Connection, project: i64) -> Result<u64, StoreError> {
    let question = "SELECT coalesce(sum(f.size), 0) FROM artifact_files f JOIN artifacts a ON a.id = f.artifact
                    JOIN runs r ON r.id = a.run WHERE r.project = ?1";
    let bytes: i64 = connection.prepare_cached(question)?.query_row([project], |row| row.get(0))?;
    Ok(bytes.unsigned_abs())
}
