//! Sealed secrets.

use std::collections::BTreeMap;

use pondrix_api::SecretView;
use pondrix_core::Time;
use rusqlite::{Connection, params};

use super::StoreError;

/// A project's secrets, without their values, by name.
pub(crate) fn list(connection: &Connection, project: i64) -> Result<Vec<SecretView>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT name, set_at, set_by FROM secrets WHERE project = ?1 ORDER BY name")?;
    let rows = statement.query_map([project], |row| {
        Ok(SecretView { name: row.get(0)?, set: Time::from_millis(row.get(1)?), by: row.get(2)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The sealed values of a project's secrets, by name.
pub(crate) fn sealed(connection: &Connection, project: i64) -> Result<BTreeMap<String, Vec<u8>>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT name, sealed FROM secrets WHERE project = ?1")?;
    let rows = statement.query_map([project], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Sets a secret.
pub(crate) fn put(connection: &Connection, project: i64, secret: &SecretView, sealed: &[u8]) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT INTO secrets (project, name, sealed, set_at, set_by) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (project, name) DO UPDATE SET sealed = ?3, set_at = ?4, set_by = ?5",
        )?
        .execute(params![project, secret.name, sealed, secret.set.millis(), secret.by])?;
    Ok(())
}

/// Removes a secret. Answers whether it was there.
pub(crate) fn remove(connection: &Connection, project: i64, name: &str) -> Result<bool, StoreError> {
    let count = connection
        .prepare_cached("DELETE FROM secrets WHERE project = ?1 AND name = ?2")?
        .execute(params![project, name])?;
    Ok(count > 0)
}
