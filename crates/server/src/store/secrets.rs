//! Sealed secrets.

use std::collections::BTreeMap;

use pondrix_api::SecretView;
use pondrix_core::Time;
use rusqlite::{Connection, params};

use super::StoreError;

/// A project's secrets, without their values, by name.
pub(crate) fn list(connection: &Connection, project: i64) -> Result<Vec<SecretView>, StoreError> {
    let mut statement = connection
        .prepare_cached("SELECT name, set_at, set_by, protected FROM secrets WHERE project = ?1 ORDER BY name")?;
    let rows = statement.query_map([project], |row| {
        let set = Time::from_millis(row.get(1)?);
        Ok(SecretView { name: row.get(0)?, set, by: row.get(2)?, protected: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A secret as it is kept.
#[derive(Clone, Debug)]
pub(crate) struct SealedSecret {
    pub(crate) sealed: Vec<u8>,
    /// Whether only runs of protected refs are given it.
    pub(crate) protected: bool,
}

/// The sealed values of a project's secrets, by name.
pub(crate) fn sealed(connection: &Connection, project: i64) -> Result<BTreeMap<String, SealedSecret>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT name, sealed, protected FROM secrets WHERE project = ?1")?;
    let rows = statement
        .query_map([project], |row| Ok((row.get(0)?, SealedSecret { sealed: row.get(1)?, protected: row.get(2)? })))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Sets a secret.
pub(crate) fn put(connection: &Connection, project: i64, secret: &SecretView, sealed: &[u8]) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT INTO secrets (project, name, sealed, set_at, set_by, protected) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
         ON CONFLICT (project, name) DO UPDATE SET sealed = ?3, set_at = ?4, set_by = ?5, protected = ?6",
        )?
        .execute(params![project, secret.name, sealed, secret.set.millis(), secret.by, secret.protected])?;
    Ok(())
}

/// Removes a secret. Answers whether it was there.
pub(crate) fn remove(connection: &Connection, project: i64, name: &str) -> Result<bool, StoreError> {
    let count = connection
        .prepare_cached("DELETE FROM secrets WHERE project = ?1 AND name = ?2")?
        .execute(params![project, name])?;
    Ok(count > 0)
}
