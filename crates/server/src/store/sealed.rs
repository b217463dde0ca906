//! Everything that is sealed, and the keys that it is sealed with.

use pondrix_core::Time;
use rusqlite::types::{Type, Value};
use rusqlite::{Connection, params};

use super::StoreError;
use crate::seal::{KeyOwner, WrappedKey};

/// A sealed value, wherever it is.
#[derive(Clone, Debug)]
pub(crate) struct SealedValue {
    /// What it is sealed for.
    pub(crate) place: String,
    pub(crate) owner: KeyOwner,
    pub(crate) value: Vec<u8>,
    update: &'static str,
    key: (Value, Value),
}

/// Where values are: what asks for the place, the project and the row of each, and itself; and what sets one.
const VALUES: [(&str, &str); 8] = [
    (
        "SELECT p.name || '/' || s.name, s.project, s.project, s.name, s.sealed
         FROM secrets s JOIN projects p ON p.id = s.project WHERE s.provider IS NULL",
        "UPDATE secrets SET sealed = ?1 WHERE project = ?2 AND name = ?3",
    ),
    (
        "SELECT scope || '/' || name, NULL, scope, name, sealed FROM shared_secrets WHERE provider IS NULL",
        "UPDATE shared_secrets SET sealed = ?1 WHERE scope = ?2 AND name = ?3",
    ),
    (
        "SELECT 'registry ' || host, NULL, host, user, password FROM registry_accounts WHERE audience IS NULL",
        "UPDATE registry_accounts SET password = ?1 WHERE host = ?2 AND user = ?3",
    ),
    (
        "SELECT 'environment/' || name, NULL, name, NULL, kubeconfig FROM environments WHERE kubeconfig IS NOT NULL",
        "UPDATE environments SET kubeconfig = ?1 WHERE name = ?2 AND ?3 IS NULL",
    ),
    (
        "SELECT 'signing key ' || id, NULL, id, NULL, sealed FROM signing_keys",
        "UPDATE signing_keys SET sealed = ?1 WHERE id = ?2 AND ?3 IS NULL",
    ),
    (
        "SELECT 'openid', NULL, one, NULL, secret FROM openid WHERE secret IS NOT NULL",
        "UPDATE openid SET secret = ?1 WHERE one = ?2 AND ?3 IS NULL",
    ),
    (
        "SELECT 'hook ' || name, id, id, NULL, hook FROM projects WHERE hook IS NOT NULL",
        "UPDATE projects SET hook = ?1 WHERE id = ?2 AND ?3 IS NULL",
    ),
    (
        "SELECT 'repository ' || name, id, id, NULL, credential FROM projects WHERE credential IS NOT NULL",
        "UPDATE projects SET credential = ?1 WHERE id = ?2 AND ?3 IS NULL",
    ),
];

/// All that is sealed.
pub(crate) fn all(connection: &Connection) -> Result<Vec<SealedValue>, StoreError> {
    let mut all = Vec::new();
    for (question, update) in VALUES {
        let mut statement = connection.prepare(question)?;
        let rows = statement.query_map([], |row| {
            let owner = row.get::<_, Option<i64>>(1)?.map_or(KeyOwner::Server, KeyOwner::Project);
            Ok(SealedValue { place: row.get(0)?, owner, value: row.get(4)?, update, key: (row.get(2)?, row.get(3)?) })
        })?;
        for row in rows {
            all.push(row?);
        }
    }
    Ok(all)
}

impl SealedValue {
    /// Whether it is what a hook shows.
    pub(crate) fn is_hook(&self) -> bool {
        self.place.starts_with("hook ")
    }

    /// Puts another one in its place.
    pub(crate) fn replace(&self, connection: &Connection, value: &[u8]) -> Result<(), StoreError> {
        connection.prepare_cached(self.update)?.execute(params![value, self.key.0, self.key.1])?;
        Ok(())
    }
}

/// What hooks show, as servers of before kept it: each project's number, its name, and the text itself.
pub(crate) fn open_hooks(connection: &Connection) -> Result<Vec<(i64, String, String)>, StoreError> {
    let mut statement = connection.prepare("SELECT id, name, hook_secret FROM projects WHERE hook_secret <> ''")?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Keeps what a project's hook shows, sealed.
pub(crate) fn put_hook(connection: &Connection, project: i64, sealed: &[u8]) -> Result<(), StoreError> {
    let update = "UPDATE projects SET hook = ?2, hook_secret = '' WHERE id = ?1";
    connection.prepare_cached(update)?.execute(params![project, sealed])?;
    Ok(())
}

/// Keeps what signs in at a project's repository, sealed; or forgets it.
pub(crate) fn put_credential(connection: &Connection, project: i64, sealed: Option<&[u8]>) -> Result<(), StoreError> {
    let update = "UPDATE projects SET credential = ?2 WHERE id = ?1";
    connection.prepare_cached(update)?.execute(params![project, sealed])?;
    Ok(())
}

/// The data keys.
pub(crate) fn data_keys(connection: &Connection) -> Result<Vec<WrappedKey>, StoreError> {
    let mut statement = connection.prepare("SELECT id, owner, wrapped, wrapped_by FROM data_keys ORDER BY id")?;
    let rows = statement.query_map([], |row| {
        let owner = row.get_ref(1)?.as_str()?.parse::<KeyOwner>();
        let owner = owner.map_err(|error| rusqlite::Error::FromSqlConversionFailure(1, Type::Text, Box::new(error)))?;
        Ok(WrappedKey { id: row.get(0)?, owner, wrapped: row.get(2)?, wrapped_by: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Keeps a new data key; answers its number.
pub(crate) fn put_data_key(connection: &Connection, key: &WrappedKey, now: Time) -> Result<u32, StoreError> {
    let insert = "INSERT INTO data_keys (owner, wrapped, wrapped_by, wrapped_at) VALUES (?1, ?2, ?3, ?4) RETURNING id";
    let row = params![key.owner.to_string(), key.wrapped, key.wrapped_by, now.millis()];
    Ok(connection.prepare_cached(insert)?.query_row(row, |row| row.get(0))?)
}

/// Keeps data keys as another master key wraps them.
pub(crate) fn rewrap(connection: &Connection, keys: &[WrappedKey], now: Time) -> Result<(), StoreError> {
    let mut update = connection
        .prepare_cached("UPDATE data_keys SET wrapped = ?2, wrapped_by = ?3, wrapped_at = ?4 WHERE id = ?1")?;
    for key in keys {
        update.execute(params![key.id, key.wrapped, key.wrapped_by, now.millis()])?;
    }
    Ok(())
}

/// Since when the data keys are wrapped as they are, and how many there are.
pub(crate) fn wrapped_since(connection: &Connection) -> Result<(Option<Time>, u64), StoreError> {
    let question = "SELECT min(wrapped_at), count(*) FROM data_keys";
    let read = |row: &rusqlite::Row<'_>| {
        let (since, count): (Option<i64>, i64) = (row.get(0)?, row.get(1)?);
        Ok((since.map(Time::from_millis), count.unsigned_abs()))
    };
    Ok(connection.query_row(question, [], read)?)
}

/// Forgets the data keys of a project, or all of them: what they sealed nobody opens again.
pub(crate) fn remove_data_keys(connection: &Connection, of: Option<KeyOwner>) -> Result<(), StoreError> {
    let delete = "DELETE FROM data_keys WHERE ?1 IS NULL OR owner = ?1";
    connection.prepare_cached(delete)?.execute(params![of.map(|owner| owner.to_string())])?;
    Ok(())
}

/// A key that signs.
#[derive(Clone, Debug)]
pub(crate) struct SigningKeyRow {
    pub(crate) id: String,
    pub(crate) sealed: Vec<u8>,
    pub(crate) made: Time,
}

/// The keys that sign, the oldest first.
pub(crate) fn signing_keys(connection: &Connection) -> Result<Vec<SigningKeyRow>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT id, sealed, made_at FROM signing_keys ORDER BY made_at, id")?;
    let rows = statement.query_map([], |row| {
        Ok(SigningKeyRow { id: row.get(0)?, sealed: row.get(1)?, made: Time::from_millis(row.get(2)?) })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Keeps a new key that signs.
pub(crate) fn put_signing_key(connection: &Connection, key: &SigningKeyRow) -> Result<(), StoreError> {
    let insert = "INSERT INTO signing_keys (id, sealed, made_at) VALUES (?1, ?2, ?3)";
    connection.prepare_cached(insert)?.execute(params![key.id, key.sealed, key.made.millis()])?;
    Ok(())
}

/// Forgets a key that signed.
pub(crate) fn remove_signing_key(connection: &Connection, id: &str) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM signing_keys WHERE id = ?1")?.execute([id])?;
    Ok(())
}
