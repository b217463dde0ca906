//! Who may do what.

use pondrix_api::TokenView;
use pondrix_core::Time;
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;

/// What a token is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TokenKind {
    /// Everything people do.
    Admin,
    /// What runners do.
    Runner,
    /// A browser that was signed in.
    Session,
}

impl TokenKind {
    const fn word(self) -> &'static str {
        match self {
            Self::Admin => "admin",
            Self::Runner => "runner",
            Self::Session => "session",
        }
    }
}

/// Whether there is a token of this kind.
pub(crate) fn has_token(connection: &Connection, kind: TokenKind) -> Result<bool, StoreError> {
    let question = "SELECT EXISTS (SELECT 1 FROM tokens WHERE kind = ?1)";
    Ok(connection.prepare_cached(question)?.query_row([kind.word()], |row| row.get(0))?)
}

/// Keeps a token's hash.
pub(crate) fn put_token(
    connection: &Connection,
    hash: &[u8; 32],
    kind: TokenKind,
    name: &str,
    groups: &[String],
    now: Time,
    expires: Option<Time>,
) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM tokens WHERE expires <= ?1")?.execute([now.millis()])?;
    connection
        .prepare_cached(
            "INSERT INTO tokens (hash, kind, name, created, expires, groups) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        )?
        .execute(params![hash, kind.word(), name, now.millis(), expires.map(Time::millis), groups.join(" ")])?;
    Ok(())
}

/// Forgets a token.
pub(crate) fn remove_token(connection: &Connection, hash: &[u8; 32]) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM tokens WHERE hash = ?1")?.execute([hash])?;
    Ok(())
}

/// Makes a person's token known.
pub(crate) fn add_person(connection: &Connection, hash: &[u8; 32], person: &TokenView) -> Result<(), StoreError> {
    if people(connection)?.iter().any(|known| known.name == person.name) {
        return Err(StoreError::Exists(format!("a token of {}", person.name)));
    }
    put_token(connection, hash, TokenKind::Admin, &person.name, &person.groups, person.created, None)
}

/// Forgets a person's token and sessions; answers whether there was one.
pub(crate) fn remove_person(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    let gone = connection
        .prepare_cached("DELETE FROM tokens WHERE name = ?1 AND kind IN ('admin', 'session')")?
        .execute([name])?;
    Ok(gone > 0)
}

/// The people who have a token, by name.
pub(crate) fn people(connection: &Connection) -> Result<Vec<TokenView>, StoreError> {
    let question = "SELECT name, groups, created FROM tokens WHERE kind = 'admin' ORDER BY name";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([], |row| {
        let created = Time::from_millis(row.get(2)?);
        Ok(TokenView { name: row.get(0)?, groups: groups_of(&row.get::<_, String>(1)?), created })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

fn groups_of(text: &str) -> Vec<String> {
    text.split_whitespace().map(str::to_owned).collect()
}

/// Who shows a token.
#[derive(Clone, Debug)]
pub(crate) struct Shown {
    pub(crate) kind: TokenKind,
    pub(crate) name: String,
    pub(crate) groups: Vec<String>,
    /// When it is good no more.
    pub(crate) expires: Option<Time>,
}

impl Shown {
    /// Whether it is good at a moment.
    pub(crate) fn is_good(&self, now: Time) -> bool {
        self.expires.is_none_or(|expires| expires > now)
    }
}

/// What a token is for and whose it is, when it is known and has not expired.
pub(crate) fn token(connection: &Connection, hash: &[u8; 32], now: Time) -> Result<Option<Shown>, StoreError> {
    let question = "SELECT kind, name, groups, expires FROM tokens WHERE hash = ?1";
    let row = connection.prepare_cached(question)?.query_row(params![hash], |row| {
        Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?, row.get(3)?))
    });
    let shown = row.optional()?.and_then(|(kind, name, groups, expires): (_, _, _, Option<i64>)| {
        let kinds = [TokenKind::Admin, TokenKind::Runner, TokenKind::Session];
        let kind = kinds.into_iter().find(|known| known.word() == kind)?;
        Some(Shown { kind, name, groups: groups_of(&groups), expires: expires.map(Time::from_millis) })
    });
    Ok(shown.filter(|shown| shown.is_good(now)))
}
