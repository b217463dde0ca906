//! What environments had before rollouts.

use pondrix_core::JobKey;
use rusqlite::{Connection, params};
use serde_json::Value;

use super::StoreError;

/// What there was before a rollout, each object or nothing, in the form in which it is kept.
#[derive(Debug)]
pub(crate) struct EncodedObjects(String);

impl EncodedObjects {
    pub(crate) fn new(objects: &[Option<Value>]) -> Result<Self, StoreError> {
        Ok(Self(serde_json::to_string(objects)?))
    }

    /// The objects.
    pub(crate) fn decode(&self) -> Result<Vec<Option<Value>>, StoreError> {
        Ok(serde_json::from_str(&self.0)?)
    }
}

/// Keeps what there was before a rollout; answers what was kept first.
pub(crate) fn keep_before(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    objects: &EncodedObjects,
) -> Result<EncodedObjects, StoreError> {
    connection
        .prepare_cached("INSERT INTO before_rollouts (run, job, body) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING")?
        .execute(params![run, job.as_str(), objects.0])?;
    let question = "SELECT body FROM before_rollouts WHERE run = ?1 AND job = ?2";
    let read = |row: &rusqlite::Row<'_>| row.get(0).map(EncodedObjects);
    Ok(connection.prepare_cached(question)?.query_row(params![run, job.as_str()], read)?)
}

/// Forgets what there was before a rollout that is over.
pub(crate) fn forget_before(connection: &Connection, run: i64, job: &JobKey) -> Result<(), StoreError> {
    connection
        .prepare_cached("DELETE FROM before_rollouts WHERE run = ?1 AND job = ?2")?
        .execute(params![run, job.as_str()])?;
    Ok(())
}
