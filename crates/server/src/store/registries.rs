//! Registries that are reached in a way of their own, and who signs in at them.

use pondrix_core::access::Projects;
use pondrix_core::pipeline::Pattern;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;

/// A registry as it is kept.
#[derive(Clone, Debug, Default)]
pub(crate) struct RegistryRow {
    pub(crate) host: String,
    pub(crate) address: Option<String>,
    pub(crate) certificates: Option<String>,
    pub(crate) layers: Option<String>,
    pub(crate) bare_names: Option<String>,
    /// Where name and password are shown besides the registry itself.
    pub(crate) realm: Option<String>,
    pub(crate) accounts: Vec<AccountRow>,
}

/// Somebody who signs in at it.
#[derive(Clone, Debug)]
pub(crate) struct AccountRow {
    pub(crate) user: String,
    /// Sealed.
    pub(crate) password: Vec<u8>,
    /// Whom the job's identity is for that signs in instead of a password.
    pub(crate) audience: Option<String>,
    pub(crate) repositories: Vec<Pattern>,
    pub(crate) projects: Vec<Projects>,
    /// Whether that was set by somebody who may for these projects only.
    pub(crate) is_own: bool,
}

const COLUMNS: &str = "host, address, certificates, layers, bare_names, realm";

fn row(row: &Row<'_>) -> rusqlite::Result<RegistryRow> {
    Ok(RegistryRow {
        host: row.get(0)?,
        address: row.get(1)?,
        certificates: row.get(2)?,
        layers: row.get(3)?,
        bare_names: row.get(4)?,
        realm: row.get(5)?,
        accounts: Vec::new(),
    })
}

fn with_accounts(connection: &Connection, mut registry: RegistryRow) -> Result<RegistryRow, StoreError> {
    let question = "SELECT user, password, repositories, projects, audience, is_own FROM registry_accounts
                    WHERE host = ?1 ORDER BY user";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([&registry.host], |row| {
        Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get::<_, String>(3)?, row.get(4)?, row.get(5)?))
    })?;
    for row in rows {
        let (user, password, repositories, projects, audience, is_own) = row?;
        let (repositories, projects) = (serde_json::from_str(&repositories)?, serde_json::from_str(&projects)?);
        registry.accounts.push(AccountRow { user, password, audience, repositories, projects, is_own });
    }
    Ok(registry)
}

/// All of them, by host.
pub(crate) fn all(connection: &Connection) -> Result<Vec<RegistryRow>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("SELECT {COLUMNS} FROM registries ORDER BY host"))?;
    let rows = statement.query_map([], row)?.collect::<Result<Vec<_>, _>>()?;
    rows.into_iter().map(|registry| with_accounts(connection, registry)).collect()
}

/// One of them.
pub(crate) fn by_host(connection: &Connection, host: &str) -> Result<Option<RegistryRow>, StoreError> {
    let question = format!("SELECT {COLUMNS} FROM registries WHERE host = ?1");
    let found = connection.prepare_cached(&question)?.query_row([host], row).optional()?;
    found.map(|registry| with_accounts(connection, registry)).transpose()
}

/// Sets one. Bare names mean one registry: it is then no other.
pub(crate) fn put(connection: &Connection, registry: &RegistryRow) -> Result<(), StoreError> {
    if registry.bare_names.is_some() {
        connection
            .prepare_cached("UPDATE registries SET bare_names = NULL WHERE host <> ?1")?
            .execute([&registry.host])?;
    }
    let RegistryRow { host, address, certificates, layers, bare_names, realm, accounts } = registry;
    connection
        .prepare_cached(
            "INSERT OR REPLACE INTO registries (host, address, certificates, layers, bare_names, realm)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        )?
        .execute(params![host, address, certificates, layers, bare_names, realm])?;
    connection.prepare_cached("DELETE FROM registry_accounts WHERE host = ?1")?.execute([host])?;
    let mut insert = connection.prepare_cached(
        "INSERT INTO registry_accounts (host, user, password, repositories, projects, audience, is_own)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
    )?;
    for AccountRow { user, password, audience, repositories, projects, is_own } in accounts {
        let lists = (serde_json::to_string(repositories)?, serde_json::to_string(projects)?);
        insert.execute(params![host, user, password, lists.0, lists.1, audience, is_own])?;
    }
    Ok(())
}

/// Forgets one, and who signs in at it. Answers whether it was there.
pub(crate) fn remove(connection: &Connection, host: &str) -> Result<bool, StoreError> {
    connection.prepare_cached("DELETE FROM registry_accounts WHERE host = ?1")?.execute([host])?;
    Ok(connection.prepare_cached("DELETE FROM registries WHERE host = ?1")?.execute([host])? > 0)
}

/// Forgets who signs in at it by this name. Answers whether there was somebody.
pub(crate) fn remove_account(connection: &Connection, host: &str, user: &str) -> Result<bool, StoreError> {
    let delete = "DELETE FROM registry_accounts WHERE host = ?1 AND user = ?2";
    Ok(connection.prepare_cached(delete)?.execute([host, user])? > 0)
}
