//! Copies of the records, and the proof that a copy is sound.

use std::path::Path;
use std::time::Duration;

use pondrix_core::Time;
use rusqlite::backup::Backup;
use rusqlite::{Connection, params};

use super::sealed::{SealedValue, all as all_sealed, data_keys, remove_data_keys};
use super::{STATEMENTS_KEPT, StoreError, by_id, events, going_on, migrate};
use crate::seal::WrappedKey;
use crate::store::runs::name_of;

/// The setting of records that are from a backup: when that was made.
const RESTORED: &str = "restored";

/// What was found of a copy.
#[derive(Clone, Debug)]
pub(crate) struct Proof {
    pub(crate) projects: u64,
    pub(crate) runs: u64,
    /// The runs that are not over.
    pub(crate) going_on: Vec<String>,
    /// The runs whose records cannot be read.
    pub(crate) unreadable: Vec<String>,
    /// Values that are sealed.
    pub(crate) sealed: Vec<SealedValue>,
    /// The keys that they are sealed with.
    pub(crate) data_keys: Vec<WrappedKey>,
}

/// Copies the records as they are at one moment: one reading from beginning to end, which no writer waits for (SQLite,
/// "Online Backup API"). In steps, it would begin anew whenever somebody writes in between.
pub(crate) fn copy(records: &Connection, into: &Path) -> Result<(), StoreError> {
    let mut copy = Connection::open(into)?;
    Backup::new(records, &mut copy)?.run_to_completion(i32::MAX, Duration::from_millis(10), None)?;
    // A copy has all in one file.
    copy.pragma_update(None, "journal_mode", "delete")?;
    Ok(())
}

/// Proves that a copy of the records is sound, brings it to this version's form, and notes that it is one.
pub(crate) fn prove(path: &Path, made: Time) -> Result<Proof, StoreError> {
    let mut records = Connection::open(path)?;
    records.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
    let words: String = records.query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))?;
    if words != "ok" {
        return Err(StoreError::Copy(words));
    }
    migrate(&mut records)?;
    if records.prepare("PRAGMA foreign_key_check")?.exists([])? {
        return Err(StoreError::Copy("something in them refers to what is not there".to_owned()));
    }
    let count = |table: &str| -> Result<u64, StoreError> {
        let question = format!("SELECT count(*) FROM {table}");
        Ok(records.query_row(&question, [], |row| row.get::<_, i64>(0))?.unsigned_abs())
    };
    let ids = |ids: Vec<i64>| -> Result<Vec<String>, StoreError> {
        let mut names = Vec::new();
        for id in ids {
            names.extend(name_of(&records, id)?.map(|name| name.to_string()));
        }
        Ok(names)
    };
    let mut all = records.prepare("SELECT id FROM runs ORDER BY id")?;
    let mut unreadable = Vec::new();
    for id in all.query_map([], |row| row.get::<_, i64>(0))? {
        let id = id?;
        match by_id(&records, id).and_then(|_| events(&records, id)) {
            Err(error) if error.is_unreadable() => unreadable.push(id),
            other => drop(other?),
        }
    }
    records.execute(
        "INSERT OR REPLACE INTO settings (name, value) VALUES (?1, ?2)",
        params![RESTORED, made.to_string()],
    )?;
    Ok(Proof {
        projects: count("projects")?,
        runs: count("runs")?,
        going_on: ids(going_on(&records)?)?,
        unreadable: ids(unreadable)?,
        sealed: all_sealed(&records)?,
        data_keys: data_keys(&records)?,
    })
}

/// Whether these records are from a backup, and no server has served them since.
pub(crate) fn is_restored(connection: &Connection) -> Result<bool, StoreError> {
    Ok(connection.prepare_cached("SELECT 1 FROM settings WHERE name = ?1")?.exists([RESTORED])?)
}

/// A server has served them.
pub(crate) fn forget_restored(connection: &Connection) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM settings WHERE name = ?1")?.execute([RESTORED])?;
    Ok(())
}

/// Forgets the data keys of records that are put back without their master key: what they sealed is to be set again.
pub(crate) fn lose_data_keys(path: &Path) -> Result<(), StoreError> {
    remove_data_keys(&Connection::open(path)?, None)
}
