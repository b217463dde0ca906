//! People, their roles, and the tokens that stand for them.

use std::sync::Arc;

use pondrix_api::{RoleView, TokenView, UserView};
use pondrix_core::Time;
use pondrix_core::access::{Grant, Holder, Need, Rights};
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;

/// What a token is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TokenKind {
    /// What a person may do.
    Person,
    /// What runners do.
    Runner,
    /// A browser that was signed in.
    Session,
}

impl TokenKind {
    const fn word(self) -> &'static str {
        match self {
            Self::Person => "person",
            Self::Runner => "runner",
            Self::Session => "session",
        }
    }
}

/// A token to keep.
#[derive(Clone, Debug)]
pub(crate) struct TokenRow {
    pub(crate) hash: [u8; 32],
    pub(crate) kind: TokenKind,
    /// Whose it is.
    pub(crate) owner: String,
    pub(crate) label: String,
    pub(crate) created: Time,
    /// When it is good no more.
    pub(crate) expires: Option<Time>,
    /// The most that it allows, where it is limited.
    pub(crate) limit: Option<Grant>,
    /// The token that a session is of.
    pub(crate) parent: Option<i64>,
}

impl TokenRow {
    /// A token without a limit or an end.
    pub(crate) fn new(hash: [u8; 32], kind: TokenKind, owner: &str, created: Time) -> Self {
        let (owner, label) = (owner.to_owned(), "first".to_owned());
        Self { hash, kind, owner, label, created, expires: None, limit: None, parent: None }
    }
}

/// Who shows a token.
#[derive(Clone, Debug)]
pub(crate) struct Shown {
    pub(crate) id: i64,
    pub(crate) kind: TokenKind,
    /// Whose it is.
    pub(crate) name: String,
    pub(crate) teams: Vec<String>,
    pub(crate) rights: Arc<Rights>,
    /// When it is good no more.
    pub(crate) expires: Option<Time>,
    /// When it was used before.
    pub(crate) used: Option<Time>,
    /// Whether another was put in its place, or in that of the token that a session is of.
    pub(crate) is_replaced: bool,
}

impl Shown {
    /// Whether it is good at a moment.
    pub(crate) fn is_good(&self, now: Time) -> bool {
        self.expires.is_none_or(|expires| expires > now)
    }
}

/// Reads a word of the records.
fn read<T: std::str::FromStr<Err: std::error::Error + Send + Sync + 'static>>(
    row: &Row<'_>,
    column: usize,
) -> rusqlite::Result<T> {
    let parsed = row.get_ref(column)?.as_str()?.parse();
    parsed.map_err(|error| rusqlite::Error::FromSqlConversionFailure(column, Type::Text, Box::new(error)))
}

fn words(text: &str) -> Vec<String> {
    text.split_whitespace().map(str::to_owned).collect()
}

/// Whether there is a token of this kind.
pub(crate) fn has_token(connection: &Connection, kind: TokenKind) -> Result<bool, StoreError> {
    let question = "SELECT EXISTS (SELECT 1 FROM tokens WHERE kind = ?1)";
    Ok(connection.prepare_cached(question)?.query_row([kind.word()], |row| row.get(0))?)
}

/// Keeps a token. Answers its number.
pub(crate) fn put_token(connection: &Connection, token: &TokenRow) -> Result<i64, StoreError> {
    let TokenRow { hash, kind, owner, label, created, expires, limit, parent } = token;
    connection.prepare_cached("DELETE FROM tokens WHERE expires <= ?1")?.execute([created.millis()])?;
    let (role, projects) = limit.as_ref().map(|limit| (limit.role.word(), limit.projects.to_string())).unzip();
    let insert = "INSERT INTO tokens (hash, kind, owner, label, created, expires, role, projects, parent)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    let expires = expires.map(Time::millis);
    let row = params![hash, kind.word(), owner, label, created.millis(), expires, role, projects, parent];
    connection.prepare_cached(insert)?.execute(row)?;
    Ok(connection.last_insert_rowid())
}

/// Who shows the token of this hash, when it is known and has not expired.
pub(crate) fn token(connection: &Connection, hash: &[u8; 32], now: Time) -> Result<Option<Shown>, StoreError> {
    let question = "SELECT t.id, t.kind, t.owner, u.teams, t.expires, t.used, t.role, t.projects,
                           coalesce(t.heir, p.heir) IS NOT NULL
                    FROM tokens t LEFT JOIN users u ON u.name = t.owner LEFT JOIN tokens p ON p.id = t.parent
                    WHERE t.hash = ?1";
    let row = connection.prepare_cached(question)?.query_row([hash], |row| {
        let kinds = [TokenKind::Person, TokenKind::Runner, TokenKind::Session];
        let word: String = row.get(1)?;
        let kind = kinds.into_iter().find(|kind| kind.word() == word).ok_or(rusqlite::Error::InvalidQuery)?;
        let limit = limit_of(row, 6)?;
        let rights = Arc::new(Rights { grants: Vec::new(), limit });
        let teams = words(&row.get::<_, Option<String>>(3)?.unwrap_or_default());
        let time = |column| row.get::<_, Option<i64>>(column).map(|time| time.map(Time::from_millis));
        let (id, name, is_replaced) = (row.get(0)?, row.get(2)?, row.get(8)?);
        Ok(Shown { id, kind, name, teams, rights, expires: time(4)?, used: time(5)?, is_replaced })
    });
    let Some(mut shown) = row.optional()?.filter(|shown| shown.is_good(now)) else { return Ok(None) };
    if shown.kind != TokenKind::Runner {
        let held = roles(connection)?.into_iter().filter(|role| role.to.is(&shown.name, &shown.teams));
        let grants = held.map(|role| Grant { role: role.role, projects: role.projects }).collect();
        shown.rights = Arc::new(Rights { grants, limit: shown.rights.limit.clone() });
    }
    Ok(Some(shown))
}

/// The limit of a token, in two columns.
fn limit_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<Grant>> {
    if row.get_ref(column)?.as_str_or_null()?.is_none() {
        return Ok(None);
    }
    Ok(Some(Grant { role: read(row, column)?, projects: read(row, column + 1)? }))
}

/// Remembers when a token was used.
pub(crate) fn token_used(connection: &Connection, id: i64, now: Time) -> Result<(), StoreError> {
    connection.prepare_cached("UPDATE tokens SET used = ?2 WHERE id = ?1")?.execute(params![id, now.millis()])?;
    Ok(())
}

/// The tokens of people that are good, by owner and number: of one person, or of all.
pub(crate) fn tokens(connection: &Connection, owner: Option<&str>, now: Time) -> Result<Vec<TokenView>, StoreError> {
    let question = "SELECT id, owner, label, created, expires, used, role, projects, heir FROM tokens
                    WHERE kind = 'person' AND owner = coalesce(?1, owner) AND coalesce(expires > ?2, TRUE)
                    ORDER BY owner, id";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map(params![owner, now.millis()], |row| {
        let time = |column| row.get::<_, Option<i64>>(column).map(|time| time.map(Time::from_millis));
        Ok(TokenView {
            id: row.get(0)?,
            owner: row.get(1)?,
            label: row.get(2)?,
            created: Time::from_millis(row.get(3)?),
            ends: time(4)?,
            used: time(5)?,
            limit: limit_of(row, 6)?,
            heir: row.get(8)?,
        })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Forgets a token, with the sessions that are of it.
pub(crate) fn remove_token(connection: &Connection, id: i64) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM tokens WHERE id = ?1")?.execute([id])?;
    Ok(())
}

/// Puts a new token in the place of one that is good until then, and in whose place none was put; answers the new one's
/// number. Sessions that are of the other are of the new one from now on.
pub(crate) fn replace_token(
    connection: &Connection,
    id: i64,
    expires: Time,
    new: &TokenRow,
) -> Result<Option<i64>, StoreError> {
    let is_held = "SELECT EXISTS (SELECT 1 FROM tokens WHERE id = ?1 AND heir IS NULL)";
    if !connection.prepare_cached(is_held)?.query_row([id], |row| row.get(0))? {
        return Ok(None);
    }
    let heir = put_token(connection, new)?;
    let sooner = "UPDATE tokens SET expires = min(coalesce(expires, ?2), ?2), heir = ?3 WHERE id = ?1";
    connection.prepare_cached(sooner)?.execute(params![id, expires.millis(), heir])?;
    connection.prepare_cached("UPDATE tokens SET parent = ?2 WHERE parent = ?1")?.execute([id, heir])?;
    Ok(Some(heir))
}

/// Makes a person known.
pub(crate) fn add_user(connection: &Connection, name: &str, teams: &[String], now: Time) -> Result<(), StoreError> {
    let insert = "INSERT INTO users (name, teams, created) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING";
    match connection.prepare_cached(insert)?.execute(params![name, teams.join(" "), now.millis()])? {
        0 => Err(StoreError::Exists(format!("the person {name}"))),
        _ => Ok(()),
    }
}

/// Says which teams a person is of; answers whether they are known.
pub(crate) fn set_teams(connection: &Connection, name: &str, teams: &[String]) -> Result<bool, StoreError> {
    let update = "UPDATE users SET teams = ?2 WHERE name = ?1";
    Ok(connection.prepare_cached(update)?.execute(params![name, teams.join(" ")])? > 0)
}

/// The hash of a person's password, where they have one.
pub(crate) fn password(connection: &Connection, name: &str) -> Result<Option<String>, StoreError> {
    let question = "SELECT password FROM users WHERE name = ?1";
    Ok(connection.prepare_cached(question)?.query_row([name], |row| row.get(0)).optional()?.flatten())
}

/// Sets the hash of a person's password, or removes it; whoever was signed in with the one before is signed out. Answers
/// whether they are known.
pub(crate) fn put_password(connection: &Connection, name: &str, hash: Option<&str>) -> Result<bool, StoreError> {
    let sessions = "DELETE FROM tokens WHERE owner = ?1 AND kind = 'session' AND parent IS NULL";
    connection.prepare_cached(sessions)?.execute([name])?;
    let update = "UPDATE users SET password = ?2 WHERE name = ?1";
    Ok(connection.prepare_cached(update)?.execute(params![name, hash])? > 0)
}

/// Forgets a person, their tokens, their browsers and their roles; answers whether they were known.
pub(crate) fn remove_user(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    let of_person = "DELETE FROM tokens WHERE owner = ?1 AND kind IN ('person', 'session')";
    connection.prepare_cached(of_person)?.execute([name])?;
    connection.prepare_cached("DELETE FROM roles WHERE holder = ?1")?.execute([name])?;
    Ok(connection.prepare_cached("DELETE FROM users WHERE name = ?1")?.execute([name])? > 0)
}

/// All people, by name.
pub(crate) fn users(connection: &Connection) -> Result<Vec<UserView>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT name, teams, created, password IS NOT NULL FROM users ORDER BY name")?;
    let rows = statement.query_map([], |row| {
        let created = Time::from_millis(row.get(2)?);
        let teams = words(&row.get::<_, String>(1)?);
        Ok(UserView { name: row.get(0)?, teams, created, has_password: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// All roles that were given, by projects, role and holder.
pub(crate) fn roles(connection: &Connection) -> Result<Vec<RoleView>, StoreError> {
    let question = "SELECT holder, role, projects, given, by FROM roles ORDER BY projects, role, holder";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([], |row| {
        let given = Time::from_millis(row.get(3)?);
        Ok(RoleView { to: read(row, 0)?, role: read(row, 1)?, projects: read(row, 2)?, given, by: row.get(4)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Gives a role. One that is given again stays as it was.
pub(crate) fn give_role(
    connection: &Connection,
    to: &Holder,
    grant: &Grant,
    by: &str,
    now: Time,
) -> Result<(), StoreError> {
    let insert = "INSERT INTO roles (holder, role, projects, given, by) VALUES (?1, ?2, ?3, ?4, ?5)
                  ON CONFLICT DO NOTHING";
    let row = params![to.to_string(), grant.role.word(), grant.projects.to_string(), now.millis(), by];
    connection.prepare_cached(insert)?.execute(row)?;
    Ok(())
}

/// Takes a role; answers whether it was given.
pub(crate) fn take_role(connection: &Connection, from: &Holder, grant: &Grant) -> Result<bool, StoreError> {
    let delete = "DELETE FROM roles WHERE holder = ?1 AND role = ?2 AND projects = ?3";
    let row = params![from.to_string(), grant.role.word(), grant.projects.to_string()];
    Ok(connection.prepare_cached(delete)?.execute(row)? > 0)
}

/// Takes the roles in a project of which nothing is left: another of its name is another project.
pub(crate) fn remove_roles_in(connection: &Connection, project: &str) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM roles WHERE projects = ?1")?.execute([project])?;
    Ok(())
}

/// Whether somebody can administer everything: holds that, and has a token that is good, has no end, and is not limited.
pub(crate) fn is_administered(connection: &Connection, now: Time) -> Result<bool, StoreError> {
    let lasting: Vec<_> = tokens(connection, None, now)?
        .into_iter()
        .filter(|token| token.ends.is_none() && token.limit.is_none())
        .map(|token| token.owner)
        .collect();
    let administer = |role: &RoleView| role.projects.is_all() && role.role.allows(Need::Administer);
    let holders: Vec<_> = roles(connection)?.into_iter().filter(administer).map(|role| role.to).collect();
    let can = |user: UserView| lasting.contains(&user.name) && holders.iter().any(|to| to.is(&user.name, &user.teams));
    Ok(users(connection)?.into_iter().any(can))
}
