//! Sealed secrets: of projects, and those that several share.

use pondrix_api::SecretView;
use pondrix_core::access::SecretScope;
use pondrix_core::{ProjectName, RunId, Time};
use rusqlite::types::Type;
use rusqlite::{Connection, Row, params};

use super::StoreError;

/// Whose secrets.
#[derive(Clone, Debug)]
pub(crate) enum Owner {
    /// A project's, by its number.
    Project(i64, ProjectName),
    /// Those that are set for this, which is no project.
    Shared(SecretScope),
}

impl Owner {
    /// For whom they are set.
    pub(crate) fn scope(&self) -> SecretScope {
        match self {
            Self::Project(_, name) => SecretScope::Project(name.clone()),
            Self::Shared(scope) => scope.clone(),
        }
    }

    /// The table, the column that says whose a secret is, and what is in it.
    fn place(&self) -> (&'static str, &'static str, rusqlite::types::Value) {
        match self {
            Self::Project(id, _) => ("secrets", "project", (*id).into()),
            Self::Shared(scope) => ("shared_secrets", "scope", scope.to_string().into()),
        }
    }
}

const VIEW: &str = "name, set_at, set_by, protected, used_at, used_by, provider";

fn view(row: &Row<'_>, scope: SecretScope) -> rusqlite::Result<SecretView> {
    Ok(SecretView {
        name: row.get(0)?,
        scope,
        set: Time::from_millis(row.get(1)?),
        by: row.get(2)?,
        protected: row.get(3)?,
        used: row.get::<_, Option<i64>>(4)?.map(Time::from_millis),
        used_by: row.get(5)?,
        provider: row.get(6)?,
    })
}

/// Secrets, without their values, by name.
pub(crate) fn list(connection: &Connection, owner: &Owner) -> Result<Vec<SecretView>, StoreError> {
    let (table, column, whose) = owner.place();
    let question = format!("SELECT {VIEW} FROM {table} WHERE {column} = ?1 ORDER BY name");
    let mut statement = connection.prepare_cached(&question)?;
    let rows = statement.query_map([whose], |row| view(row, owner.scope()))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// All secrets that are no project's, without their values.
pub(crate) fn all_shared(connection: &Connection) -> Result<Vec<SecretView>, StoreError> {
    let question = format!("SELECT {VIEW}, scope FROM shared_secrets ORDER BY scope, name");
    let mut statement = connection.prepare_cached(&question)?;
    let rows = statement.query_map([], |row| {
        let scope: String = row.get(7)?;
        let scope = scope.parse();
        let scope = scope.map_err(|error: pondrix_core::access::ScopeError| {
            rusqlite::Error::FromSqlConversionFailure(7, Type::Text, Box::new(error))
        })?;
        view(row, scope)
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A secret as it is kept.
#[derive(Clone, Debug)]
pub(crate) struct SealedSecret {
    pub(crate) sealed: Vec<u8>,
    /// Who is asked for it instead.
    pub(crate) provider: Option<String>,
    /// Whether only runs of protected refs are given it.
    pub(crate) protected: bool,
}

/// The sealed value of a secret.
pub(crate) fn sealed(connection: &Connection, owner: &Owner, name: &str) -> Result<Option<SealedSecret>, StoreError> {
    let (table, column, whose) = owner.place();
    let question = format!("SELECT sealed, protected, provider FROM {table} WHERE {column} = ?1 AND name = ?2");
    let mut statement = connection.prepare_cached(&question)?;
    let mut rows = statement.query_map(params![whose, name], |row| {
        Ok(SealedSecret { sealed: row.get(0)?, protected: row.get(1)?, provider: row.get(2)? })
    })?;
    Ok(rows.next().transpose()?)
}

/// Sets a secret.
pub(crate) fn put(
    connection: &Connection,
    owner: &Owner,
    secret: &SecretView,
    sealed: &[u8],
) -> Result<(), StoreError> {
    let (table, column, whose) = owner.place();
    connection
        .prepare_cached(&format!(
            "INSERT INTO {table} ({column}, name, sealed, set_at, set_by, protected, provider)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT ({column}, name)
             DO UPDATE SET sealed = ?3, set_at = ?4, set_by = ?5, protected = ?6, provider = ?7"
        ))?
        .execute(params![
            whose,
            secret.name,
            sealed,
            secret.set.millis(),
            secret.by,
            secret.protected,
            secret.provider
        ])?;
    Ok(())
}

/// Removes a secret. Answers whether it was there.
pub(crate) fn remove(connection: &Connection, owner: &Owner, name: &str) -> Result<bool, StoreError> {
    let (table, column, whose) = owner.place();
    let delete = format!("DELETE FROM {table} WHERE {column} = ?1 AND name = ?2");
    Ok(connection.prepare_cached(&delete)?.execute(params![whose, name])? > 0)
}

/// Removes all secrets that are set for this.
pub(crate) fn remove_all(connection: &Connection, owner: &Owner) -> Result<(), StoreError> {
    let (table, column, whose) = owner.place();
    connection.prepare_cached(&format!("DELETE FROM {table} WHERE {column} = ?1"))?.execute([whose])?;
    Ok(())
}

/// Remembers that a secret was given to a job of a run.
pub(crate) fn used(connection: &Connection, owner: &Owner, name: &str, at: Time, by: &RunId) -> Result<(), StoreError> {
    let (table, column, whose) = owner.place();
    let update = format!("UPDATE {table} SET used_at = ?3, used_by = ?4 WHERE {column} = ?1 AND name = ?2");
    connection.prepare_cached(&update)?.execute(params![whose, name, at.millis(), by.to_string()])?;
    Ok(())
}
