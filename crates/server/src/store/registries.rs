//! Registries that are reached in a way of their own.

use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;

/// A registry as it is kept; its password is sealed.
#[derive(Clone, Debug, Default)]
pub(crate) struct RegistryRow {
    pub(crate) host: String,
    pub(crate) address: Option<String>,
    pub(crate) user: Option<String>,
    pub(crate) password: Option<Vec<u8>>,
    pub(crate) certificates: Option<String>,
    pub(crate) layers: Option<String>,
    pub(crate) bare_names: Option<String>,
}

const COLUMNS: &str = "host, address, user, password, certificates, layers, bare_names";

fn row(row: &Row<'_>) -> rusqlite::Result<RegistryRow> {
    Ok(RegistryRow {
        host: row.get(0)?,
        address: row.get(1)?,
        user: row.get(2)?,
        password: row.get(3)?,
        certificates: row.get(4)?,
        layers: row.get(5)?,
        bare_names: row.get(6)?,
    })
}

/// All of them, by host.
pub(crate) fn all(connection: &Connection) -> Result<Vec<RegistryRow>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("SELECT {COLUMNS} FROM registries ORDER BY host"))?;
    let rows = statement.query_map([], row)?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// One of them.
pub(crate) fn by_host(connection: &Connection, host: &str) -> Result<Option<RegistryRow>, StoreError> {
    let question = format!("SELECT {COLUMNS} FROM registries WHERE host = ?1");
    Ok(connection.prepare_cached(&question)?.query_row([host], row).optional()?)
}

/// Sets one. Bare names mean one registry: it is then no other.
pub(crate) fn put(connection: &Connection, registry: &RegistryRow) -> Result<(), StoreError> {
    if registry.bare_names.is_some() {
        connection
            .prepare_cached("UPDATE registries SET bare_names = NULL WHERE host <> ?1")?
            .execute([&registry.host])?;
    }
    let RegistryRow { host, address, user, password, certificates, layers, bare_names } = registry;
    connection
        .prepare_cached(
            "INSERT OR REPLACE INTO registries (host, address, user, password, certificates, layers, bare_names)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        )?
        .execute(params![host, address, user, password, certificates, layers, bare_names])?;
    Ok(())
}

/// Forgets one. Answers whether it was there.
pub(crate) fn remove(connection: &Connection, host: &str) -> Result<bool, StoreError> {
    Ok(connection.prepare_cached("DELETE FROM registries WHERE host = ?1")?.execute([host])? > 0)
}
