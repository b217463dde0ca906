//! Runners, and invitations to be one.

use pondrix_api::{InvitationView, RunnerBounds};
use pondrix_core::Time;
use pondrix_core::access::Projects;
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::{StoreError, TokenKind, TokenRow, put_token, replace_token};

/// A runner, as it is stored.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct RunnerRow {
    pub(crate) name: String,
    pub(crate) bounds: RunnerBounds,
    /// Who made it known: a person, an invitation, or the server whose own it is.
    pub(crate) by: String,
    /// Whether that was somebody who may for its projects only.
    pub(crate) is_own: bool,
}

fn words(all: &[impl ToString]) -> String {
    all.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
}

/// What it may work for, in three columns.
fn bounds(row: &Row<'_>, column: usize) -> rusqlite::Result<RunnerBounds> {
    let projects: String = row.get(column + 1)?;
    let projects = projects.split_whitespace().map(str::parse::<Projects>).collect::<Result<_, _>>();
    let projects =
        projects.map_err(|error| rusqlite::Error::FromSqlConversionFailure(column + 1, Type::Text, Box::new(error)))?;
    let tools: String = row.get(column + 2)?;
    let tools = tools.split_whitespace().map(str::to_owned).collect();
    Ok(RunnerBounds { pool: row.get(column)?, projects, tools })
}

/// All runners, by name.
pub(crate) fn runners(connection: &Connection) -> Result<Vec<RunnerRow>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT name, by, pool, projects, tools, is_own FROM runners ORDER BY name")?;
    let rows = statement.query_map([], |row| {
        Ok(RunnerRow { name: row.get(0)?, by: row.get(1)?, bounds: bounds(row, 2)?, is_own: row.get(5)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A runner.
pub(crate) fn runner(connection: &Connection, name: &str) -> Result<Option<RunnerRow>, StoreError> {
    Ok(runners(connection)?.into_iter().find(|row| row.name == name))
}

fn token_of(name: &str, hash: [u8; 32], now: Time) -> TokenRow {
    TokenRow::new(hash, TokenKind::Runner, name, now)
}

/// Makes a runner known, with its token.
pub(crate) fn add_runner(
    connection: &Connection,
    row: &RunnerRow,
    hash: [u8; 32],
    now: Time,
) -> Result<(), StoreError> {
    let RunnerRow { name, bounds: RunnerBounds { pool, projects, tools }, by, is_own } = row;
    let insert = "INSERT INTO runners (name, pool, projects, tools, added, by, is_own)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
                  ON CONFLICT DO NOTHING";
    let row = params![name, pool, words(projects), words(tools), now.millis(), by, is_own];
    match connection.prepare_cached(insert)?.execute(row)? {
        0 => Err(StoreError::Exists(format!("the runner {name}"))),
        _ => put_token(connection, &token_of(name, hash, now)).map(|_| ()),
    }
}

/// Gives a runner a token; those of before are good until `until`. Answers whether it is known.
pub(crate) fn replace_runner_token(
    connection: &Connection,
    name: &str,
    hash: [u8; 32],
    now: Time,
    until: Time,
) -> Result<bool, StoreError> {
    if runner(connection, name)?.is_none() {
        return Ok(false);
    }
    let newest = "SELECT id FROM tokens WHERE kind = 'runner' AND owner = ?1 AND heir IS NULL ORDER BY id DESC LIMIT 1";
    let newest: Option<i64> = connection.prepare_cached(newest)?.query_row([name], |row| row.get(0)).optional()?;
    let new = token_of(name, hash, now);
    match newest {
        Some(newest) => drop(replace_token(connection, newest, until, &new)?),
        None => drop(put_token(connection, &new)?),
    }
    Ok(true)
}

/// Forgets a runner, with its tokens and that it is paused; answers whether it was known.
pub(crate) fn remove_runner(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    connection.prepare_cached("DELETE FROM tokens WHERE kind = 'runner' AND owner = ?1")?.execute([name])?;
    connection.prepare_cached("DELETE FROM paused_runners WHERE name = ?1")?.execute([name])?;
    Ok(connection.prepare_cached("DELETE FROM runners WHERE name = ?1")?.execute([name])? > 0)
}

/// Keeps an invitation; answers its number.
pub(crate) fn put_invitation(
    connection: &Connection,
    hash: [u8; 32],
    view: &InvitationView,
    now: Time,
) -> Result<i64, StoreError> {
    connection.prepare_cached("DELETE FROM invitations WHERE expires <= ?1")?.execute([now.millis()])?;
    let InvitationView { bounds: RunnerBounds { pool, projects, tools }, machines, ends, by, .. } = view;
    let insert = "INSERT INTO invitations (hash, pool, projects, tools, machines, expires, by)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
    let row = params![hash, pool, words(projects), words(tools), machines, ends.millis(), by];
    connection.prepare_cached(insert)?.execute(row)?;
    Ok(connection.last_insert_rowid())
}

/// The invitations that are good, by number.
pub(crate) fn invitations(connection: &Connection, now: Time) -> Result<Vec<InvitationView>, StoreError> {
    let question = "SELECT id, machines, expires, by, pool, projects, tools FROM invitations
                    WHERE expires > ?1 AND machines > 0 ORDER BY id";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([now.millis()], |row| {
        let ends = Time::from_millis(row.get(2)?);
        Ok(InvitationView { id: row.get(0)?, bounds: bounds(row, 4)?, machines: row.get(1)?, ends, by: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Takes an invitation back; answers whether it was good.
pub(crate) fn remove_invitation(connection: &Connection, id: i64, now: Time) -> Result<bool, StoreError> {
    let delete = "DELETE FROM invitations WHERE id = ?1 AND expires > ?2 AND machines > 0";
    Ok(connection.prepare_cached(delete)?.execute(params![id, now.millis()])? > 0)
}

/// The number of an invitation that is good, and what those may work for that it makes runners.
pub(crate) fn invitation(
    connection: &Connection,
    hash: &[u8; 32],
    now: Time,
) -> Result<Option<(i64, RunnerBounds)>, StoreError> {
    let question = "SELECT id, pool, projects, tools FROM invitations
                    WHERE hash = ?1 AND expires > ?2 AND machines > 0";
    let found = connection
        .prepare_cached(question)?
        .query_row(params![hash, now.millis()], |row| Ok((row.get::<_, i64>(0)?, bounds(row, 1)?)));
    Ok(found.optional()?)
}

/// Makes a machine a runner by an invitation, which is good for one less then. Answers nothing where it is not good.
pub(crate) fn use_invitation(
    connection: &Connection,
    shown: &[u8; 32],
    name: &str,
    hash: [u8; 32],
    now: Time,
) -> Result<Option<RunnerRow>, StoreError> {
    let Some((id, bounds)) = invitation(connection, shown, now)? else { return Ok(None) };
    let row = RunnerRow { name: name.to_owned(), bounds, by: format!("invitation {id}"), is_own: false };
    add_runner(connection, &row, hash, now)?;
    connection.prepare_cached("UPDATE invitations SET machines = machines - 1 WHERE id = ?1")?.execute([id])?;
    Ok(Some(row))
}
