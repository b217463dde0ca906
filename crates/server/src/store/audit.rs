//! The audit: who did what to what.

use pondrix_core::audit::{Deed, Entry, Link, Place};
use pondrix_core::image::Digest;
use pondrix_core::retention::Age;
use pondrix_core::{Duration, Time};
use rusqlite::types::{Type, Value};
use rusqlite::{Connection, OptionalExtension, Row, params, params_from_iter};

use super::StoreError;

/// Which entries are wanted: those that are all of what is said.
#[derive(Clone, Debug, Default)]
pub(crate) struct AuditFilter {
    /// Of what this person did.
    pub(crate) who: Option<String>,
    /// In this project.
    pub(crate) project: Option<String>,
    /// Of actions with these words in front (`secret`, `secret set`).
    pub(crate) action: Option<String>,
    /// With this result.
    pub(crate) result: Option<String>,
    /// From this address.
    pub(crate) from: Option<String>,
    /// Not before.
    pub(crate) since: Option<Time>,
    /// Before this moment.
    pub(crate) until: Option<Time>,
    /// In these projects, and no others of these names that were before them; nothing where all may be seen, and what
    /// is in none.
    pub(crate) seen: Option<Vec<String>>,
}

const ENTRY: &str =
    "SELECT number, at, who, token, address, action, target, project, result, words, after, chain FROM audit";

fn digest(row: &Row<'_>, column: usize) -> rusqlite::Result<Digest> {
    Ok(Digest::from_bytes(&row.get(column)?))
}

/// The number in the first column.
fn number(row: &Row<'_>) -> rusqlite::Result<u64> {
    row.get::<_, i64>(0).map(i64::cast_unsigned)
}

fn link(row: &Row<'_>) -> rusqlite::Result<Link> {
    let result: String = row.get(8)?;
    let result = result.parse().map_err(|error: pondrix_core::audit::UnknownResult| {
        rusqlite::Error::FromSqlConversionFailure(8, Type::Text, Box::new(error))
    })?;
    let deed = Deed {
        who: row.get(2)?,
        token: row.get(3)?,
        from: row.get(4)?,
        action: row.get(5)?,
        target: row.get(6)?,
        project: row.get(7)?,
        result,
        words: row.get(9)?,
    };
    let (number, at) = (number(row)?, Time::from_millis(row.get(1)?));
    Ok(Link { entry: Entry { number, at, deed, after: digest(row, 10)? }, chain: digest(row, 11)? })
}

/// What is kept no more, and for how long entries are kept.
pub(crate) fn audit_start(connection: &Connection) -> Result<(Place, Age), StoreError> {
    let mut statement = connection.prepare_cached("SELECT number, chain, seconds FROM audit_start")?;
    Ok(statement.query_row([], |row| {
        let age =
            row.get::<_, Option<u32>>(2)?.map_or(Age::Forever, |seconds| Age::For(Duration::from_seconds(seconds)));
        Ok((Place { number: number(row)?, chain: digest(row, 1)? }, age))
    })?)
}

/// The last entry.
pub(crate) fn audit_end(connection: &Connection) -> Result<Place, StoreError> {
    let mut statement = connection.prepare_cached("SELECT number, chain FROM audit ORDER BY number DESC LIMIT 1")?;
    let last = statement.query_row([], |row| Ok(Place { number: number(row)?, chain: digest(row, 1)? })).optional()?;
    last.map_or_else(|| Ok(audit_start(connection)?.0), Ok)
}

/// Adds what was done.
pub(crate) fn note(connection: &Connection, at: Time, deed: Deed) -> Result<(), StoreError> {
    let Link { entry: Entry { number, at, deed, after }, chain } = audit_end(connection)?.next(at, deed);
    let Deed { who, token, from, action, target, project, result, words } = deed;
    connection
        .prepare_cached(
            "INSERT INTO audit (number, at, who, token, address, action, target, project, result, words, after, chain)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)",
        )?
        .execute(params![
            number.cast_signed(),
            at.millis(),
            who,
            token,
            from,
            action,
            target,
            project,
            result.word(),
            words,
            after.bytes(),
            chain.bytes()
        ])?;
    Ok(())
}

/// Entries that are wanted: the newest first below `edge`, or, `onward`, the oldest first above it.
pub(crate) fn audit(
    connection: &Connection,
    filter: &AuditFilter,
    edge: Option<u64>,
    onward: bool,
    limit: usize,
) -> Result<Vec<Link>, StoreError> {
    let AuditFilter { who, project, action, result, from, since, until, seen } = filter;
    let mut conditions = Vec::new();
    let mut values: Vec<Value> = Vec::new();
    let mut must = |condition: &str, value: Value| {
        conditions.push(condition.to_owned());
        values.push(value);
    };
    let texts = [("who = ?", who), ("project = ?", project), ("result = ?", result), ("address = ?", from)];
    for (condition, value) in texts {
        if let Some(value) = value {
            must(condition, value.clone().into());
        }
    }
    if let Some(action) = action {
        // A word in front of others, or all of it.
        must(
            "action || ' ' LIKE replace(replace(replace(?, '\\', '\\\\'), '%', '\\%'), '_', '\\_') || ' %' ESCAPE '\\'",
            action.clone().into(),
        );
    }
    for (condition, time) in [("at >= ?", since), ("at < ?", until)] {
        if let Some(time) = time {
            must(condition, time.millis().into());
        }
    }
    if let Some(edge) = edge {
        must(if onward { "number > ?" } else { "number < ?" }, i64::try_from(edge).unwrap_or(i64::MAX).into());
    }
    if let Some(seen) = seen {
        let own = "EXISTS (SELECT 1 FROM projects WHERE name = audit.project AND added <= audit.at AND is_removed = 0
                           AND name IN (SELECT value FROM json_each(?)))";
        must(own, serde_json::to_string(seen)?.into());
    }
    let conditions = if conditions.is_empty() { String::new() } else { format!(" WHERE {}", conditions.join(" AND ")) };
    let order = if onward { "" } else { " DESC" };
    let mut statement =
        connection.prepare_cached(&format!("{ENTRY}{conditions} ORDER BY number{order} LIMIT {limit}"))?;
    let rows = statement.query_map(params_from_iter(values), link)?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Says for how long entries are kept.
pub(crate) fn keep_audit(connection: &Connection, age: Age) -> Result<(), StoreError> {
    let seconds = match age {
        Age::For(duration) => Some(duration.seconds()),
        Age::Forever => None,
    };
    connection.prepare_cached("UPDATE audit_start SET seconds = ?1")?.execute([seconds])?;
    Ok(())
}

/// Removes entries from before a moment, from the beginning, and at most so many; answers how many.
pub(crate) fn forget_audit(connection: &Connection, before: Time, most: usize) -> Result<usize, StoreError> {
    // The first that stays ends it: clocks may have gone back in between.
    let stays = "SELECT number FROM audit WHERE at >= ?1 ORDER BY number LIMIT 1";
    let last = format!(
        "SELECT number, chain FROM (SELECT number, chain FROM audit
             WHERE number < coalesce(({stays}), 9223372036854775807) ORDER BY number LIMIT ?2)
         ORDER BY number DESC LIMIT 1"
    );
    let place = |row: &Row<'_>| Ok(Place { number: number(row)?, chain: digest(row, 1)? });
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let last = connection.prepare_cached(&last)?.query_row(params![before.millis(), most], place).optional()?;
    let Some(Place { number, chain }) = last else { return Ok(0) };
    let start = "UPDATE audit_start SET number = ?1, chain = ?2";
    connection.prepare_cached(start)?.execute(params![number.cast_signed(), chain.bytes()])?;
    Ok(connection.prepare_cached("DELETE FROM audit WHERE number <= ?1")?.execute([number.cast_signed()])?)
}

/// Notes that a token was used from an address; says whether it never was before, and was from others.
pub(crate) fn token_address(connection: &Connection, token: i64, address: &str, at: Time) -> Result<bool, StoreError> {
    let was_used: bool = connection
        .prepare_cached("SELECT EXISTS (SELECT 1 FROM token_addresses WHERE token = ?1)")?
        .query_row([token], |row| row.get(0))?;
    let put = "INSERT OR IGNORE INTO token_addresses (token, address, first) VALUES (?1, ?2, ?3)";
    let is_new = connection.prepare_cached(put)?.execute(params![token, address, at.millis()])? > 0;
    Ok(was_used && is_new)
}

#[cfg(test)]
mod tests {
    use pondrix_core::audit::AuditResult;

    use super::*;

    fn records() -> Connection {
        let mut connection = Connection::open_in_memory().unwrap();
        super::super::migrate(&mut connection).unwrap();
        connection
    }

    fn deed(who: &str, action: &str, project: Option<&str>) -> Deed {
        Deed {
            who: who.to_owned(),
            token: None,
            from: Some("::1".to_owned()),
            action: action.to_owned(),
            target: "x".to_owned(),
            project: project.map(str::to_owned),
            result: AuditResult::Done,
            words: String::new(),
        }
    }

    fn proved(connection: &Connection) -> u64 {
        let mut place = audit_start(connection).unwrap().0;
        for link in audit(connection, &AuditFilter::default(), None, true, 1000).unwrap() {
            place.advance(&link).unwrap();
        }
        assert_eq!(place, audit_end(connection).unwrap());
        place.number
    }

    #[test]
    fn what_is_read_is_the_chain_that_was_written_and_goes_from_its_beginning_only() {
        let records = records();
        assert_eq!(audit_end(&records).unwrap(), Place::start());
        for at in 1..=5 {
            note(&records, Time::from_millis(at * 1000), deed("wren", "secret set", None)).unwrap();
        }
        assert_eq!(proved(&records), 5);
        for forbidden in
            ["UPDATE audit SET words = 'y' WHERE number = 2", "DELETE FROM audit WHERE number = 5", "DELETE FROM audit"]
        {
            let refused = records.execute(forbidden, []).unwrap_err().to_string();
            assert_eq!(refused, "the audit is only added to", "{forbidden}");
        }
        assert_eq!(forget_audit(&records, Time::from_millis(1000), 10).unwrap(), 0);
        assert_eq!(forget_audit(&records, Time::from_millis(4000), 2).unwrap(), 2);
        assert_eq!((forget_audit(&records, Time::from_millis(4000), 2).unwrap(), proved(&records)), (1, 5));
        assert_eq!(audit_start(&records).unwrap().0.number, 3);
        assert_eq!((forget_audit(&records, Time::from_millis(9000), 9).unwrap(), proved(&records)), (2, 5));
        note(&records, Time::from_millis(9000), deed("wren", "secret set", None)).unwrap();
        assert_eq!(proved(&records), 6, "it goes on where it was");
    }

    #[test]
    fn those_are_found_that_are_all_of_what_is_asked_for() {
        let records = records();
        let all = [
            ("wren", "secret set", Some("lantern")),
            ("ash", "secret remove", Some("garden")),
            ("wren", "secrets_x", None),
            ("wren", "run start", Some("lantern")),
        ];
        for (at, (who, action, project)) in (1..).zip(all) {
            note(&records, Time::from_millis(at), deed(who, action, project)).unwrap();
        }
        let found = |filter: AuditFilter, edge, onward, limit| {
            let links = audit(&records, &filter, edge, onward, limit).unwrap();
            links.into_iter().map(|link| link.entry.number).collect::<Vec<_>>()
        };
        let some = |text: &str| Some(text.to_owned());
        let usual = AuditFilter::default;
        assert_eq!(found(usual(), None, false, 3), [4, 3, 2]);
        assert_eq!(found(usual(), Some(2), false, 3), [1]);
        assert_eq!(found(usual(), Some(1), true, 2), [2, 3]);
        assert_eq!(found(AuditFilter { who: some("wren"), ..usual() }, None, false, 9), [4, 3, 1]);
        assert_eq!(found(AuditFilter { action: some("secret"), ..usual() }, None, false, 9), [2, 1]);
        assert_eq!(found(AuditFilter { action: some("secret set"), ..usual() }, None, false, 9), [1]);
        assert_eq!(found(AuditFilter { action: some("secret%"), ..usual() }, None, false, 9), [] as [u64; 0]);
        assert_eq!(found(AuditFilter { action: some("secrets_x"), ..usual() }, None, false, 9), [3]);
        let add = "INSERT INTO projects (name, repository, hook_secret, added) VALUES ('garden', '', '', ?1)";
        records.execute(add, [2]).unwrap();
        let garden = Some(vec!["garden".to_owned()]);
        assert_eq!(found(AuditFilter { seen: garden, ..usual() }, None, false, 9), [2]);
        records.execute("UPDATE projects SET added = 3", []).unwrap();
        let garden = Some(vec!["garden".to_owned(), "lantern".to_owned()]);
        let before = "of a project of that name that was before it";
        assert_eq!(found(AuditFilter { seen: garden, ..usual() }, None, false, 9), [] as [u64; 0], "{before}");
        let (since, until) = (Some(Time::from_millis(2)), Some(Time::from_millis(4)));
        assert_eq!(found(AuditFilter { since, until, ..usual() }, None, true, 9), [2, 3]);
        assert_eq!(found(AuditFilter { result: some("refused"), ..usual() }, None, false, 9), [] as [u64; 0]);
        assert_eq!(
            found(AuditFilter { from: some("::1"), project: some("lantern"), ..usual() }, None, true, 9),
            [1, 4]
        );
    }

    #[test]
    fn a_second_address_of_a_token_is_new_once_and_the_first_is_not() {
        let records = records();
        records
            .execute("INSERT INTO tokens (id, hash, kind, owner, label, created) VALUES (7, x'00', 'person', 'wren', 'x', 0)", [])
            .unwrap();
        let used = |address| token_address(&records, 7, address, Time::from_millis(1)).unwrap();
        assert_eq!(
            [used("10.0.0.1"), used("10.0.0.1"), used("10.0.0.2"), used("10.0.0.2")],
            [false, false, true, false]
        );
    }
}
