//! What environments had before rollouts.

use pondrix_core::JobKey;
use rusqlite::{Connection, params};
use serde_json::Value;

use super::StoreError;

/// Keeps what there was before a rollout, each object or nothing; answers what was kept first.
pub(crate) fn keep_before(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    objects: &[Option<Value>],
) -> Result<Vec<Option<Value>>, StoreError> {
    connection
        .prepare_cached("INSERT INTO before_rollouts (run, job, body) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING")?
        .execute(params![run, job.as_str(), serde_json::to_string(objects)?])?;
    let question = "SELECT body FROM before_rollouts WHERE run = ?1 AND job = ?2";
    let body: String = connection.prepare_cached(question)?.query_row(params![run, job.as_str()], |row| row.get(0))?;
    Ok(serde_json::from_str(&body)?)
}

/// Forgets what there was before a rollout that is over.
pub(crate) fn forget_before(connection: &Connection, run: i64, job: &JobKey) -> Result<(), StoreError> {
    connection
        .prepare_cached("DELETE FROM before_rollouts WHERE run = ?1 AND job = ?2")?
        .execute(params![run, job.as_str()])?;
    Ok(())
}
