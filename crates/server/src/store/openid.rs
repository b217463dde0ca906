//! The provider of OpenID Connect, and who is who there.

use pondrix_api::OpenIdSettings;
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;

/// The provider as it is kept.
#[derive(Clone, Debug)]
pub(crate) struct OpenIdRow {
    pub(crate) settings: OpenIdSettings,
    /// Sealed.
    pub(crate) secret: Option<Vec<u8>>,
}

/// The provider, where one is set.
pub(crate) fn openid(connection: &Connection) -> Result<Option<OpenIdRow>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT settings, secret FROM openid")?;
    let found = statement.query_row([], |row| Ok((row.get::<_, String>(0)?, row.get(1)?))).optional()?;
    found.map(|(settings, secret)| Ok(OpenIdRow { settings: serde_json::from_str(&settings)?, secret })).transpose()
}

/// Sets it.
pub(crate) fn put_openid(connection: &Connection, row: &OpenIdRow) -> Result<(), StoreError> {
    let insert = "INSERT OR REPLACE INTO openid (one, settings, secret) VALUES (1, ?1, ?2)";
    connection.prepare_cached(insert)?.execute(params![serde_json::to_string(&row.settings)?, row.secret])?;
    Ok(())
}

/// Forgets it. Who is who there stays known: it may be set again. Answers whether it was there.
pub(crate) fn remove_openid(connection: &Connection) -> Result<bool, StoreError> {
    Ok(connection.prepare_cached("DELETE FROM openid")?.execute([])? > 0)
}

/// Who a subject is.
pub(crate) fn person_of_subject(
    connection: &Connection,
    issuer: &str,
    subject: &str,
) -> Result<Option<String>, StoreError> {
    let question = "SELECT name FROM openid_people WHERE issuer = ?1 AND subject = ?2";
    Ok(connection.prepare_cached(question)?.query_row([issuer, subject], |row| row.get(0)).optional()?)
}

/// A subject is somebody who is known, and nobody else any more.
pub(crate) fn put_subject(connection: &Connection, issuer: &str, subject: &str, name: &str) -> Result<(), StoreError> {
    let insert = "INSERT OR REPLACE INTO openid_people (issuer, subject, name) VALUES (?1, ?2, ?3)";
    connection.prepare_cached(insert)?.execute([issuer, subject, name])?;
    Ok(())
}
