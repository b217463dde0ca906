//! Which projects have templates, and which runs used them.

use pondrix_api::TemplateUse;
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;

/// How many earlier runs are looked through for the same template.
const RUNS_SEEN: u32 = 50;

/// Whether other projects may use a project's templates.
pub(crate) fn has_templates(connection: &Connection, project: i64) -> Result<bool, StoreError> {
    let question = "SELECT templates FROM projects WHERE id = ?1";
    Ok(connection.prepare_cached(question)?.query_row([project], |row| row.get(0))?)
}

/// Lets other projects use a project's templates, or no longer.
pub(crate) fn put_has_templates(connection: &Connection, project: i64, yes: bool) -> Result<(), StoreError> {
    connection.prepare_cached("UPDATE projects SET templates = ?2 WHERE id = ?1")?.execute(params![project, yes])?;
    Ok(())
}

/// Says of each template since which run of the project it is another under the same name and version.
pub(crate) fn compare(connection: &Connection, project: i64, uses: &mut [TemplateUse]) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT number, templates FROM runs WHERE project = ?1 AND templates <> '[]' ORDER BY number DESC LIMIT ?2",
    )?;
    let mut rows = statement.query(params![project, RUNS_SEEN])?;
    let mut open: Vec<&mut TemplateUse> = uses.iter_mut().collect();
    while let Some(row) = rows.next()? {
        let number: i64 = row.get(0)?;
        let earlier: Vec<TemplateUse> = serde_json::from_str(&row.get::<_, String>(1)?)?;
        open.retain_mut(|now| match earlier.iter().find(|earlier| earlier.template == now.template) {
            None => true,
            Some(earlier) => {
                now.changed_since = (earlier.digest != now.digest).then_some(number.unsigned_abs());
                false
            }
        });
        if open.is_empty() {
            break;
        }
    }
    Ok(())
}

/// The commit that a tag named when a protected run first used it.
pub(crate) fn pinned(connection: &Connection, project: i64, tag: &str) -> Result<Option<String>, StoreError> {
    let question = "SELECT \"commit\" FROM template_pins WHERE project = ?1 AND tag = ?2";
    Ok(connection.prepare_cached(question)?.query_row(params![project, tag], |row| row.get(0)).optional()?)
}

/// Keeps the commit that a tag names now, unless one is kept.
pub(crate) fn pin(connection: &Connection, project: i64, tag: &str, commit: &str) -> Result<(), StoreError> {
    let insert = "INSERT INTO template_pins (project, tag, \"commit\") VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING";
    connection.prepare_cached(insert)?.execute(params![project, tag, commit])?;
    Ok(())
}
