//! Schedules that start runs.

use pondrix_core::{Schedule, Time};
use rusqlite::{Connection, params};

use super::{Project, StoreError, projects};

/// A schedule whose moment has come.
#[derive(Clone, Debug)]
pub(crate) struct DueSchedule {
    pub(crate) project: Project,
    pub(crate) branch: String,
    pub(crate) schedule: Schedule,
}

/// Keeps the schedules of a branch's newest commit in the place of those before. One that was there
/// goes on to its moment.
pub(crate) fn keep_schedules(
    connection: &Connection,
    project: i64,
    branch: &str,
    schedules: &[Schedule],
    now: Time,
) -> Result<(), StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT schedule, zone FROM schedules WHERE project = ?1 AND branch = ?2")?;
    let rows = statement.query_map(params![project, branch], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let known: Vec<(String, String)> = rows.collect::<Result<_, _>>()?;
    for (fields, zone) in &known {
        if !schedules.iter().any(|one| one.fields() == fields && one.zone() == zone) {
            connection
                .prepare_cached(
                    "DELETE FROM schedules WHERE project = ?1 AND branch = ?2 AND schedule = ?3 AND zone = ?4",
                )?
                .execute(params![project, branch, fields, zone])?;
        }
    }
    for schedule in schedules {
        if let Some(next) = schedule.next_after(now) {
            connection.prepare_cached("INSERT OR IGNORE INTO schedules (project, branch, schedule, zone, next) VALUES (?1, ?2, ?3, ?4, ?5)")?.execute(params![project, branch, schedule.fields(), schedule.zone(), next.millis()],
            )?;
        }
    }
    Ok(())
}

/// The schedules whose moment has come.
pub(crate) fn due(connection: &Connection, now: Time) -> Result<Vec<DueSchedule>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT p.name, c.branch, c.schedule, c.zone FROM schedules c JOIN projects p ON p.id = c.project
         WHERE c.next <= ?1 ORDER BY c.next",
    )?;
    let rows = statement.query_map([now.millis()], |row| {
        Ok((row.get::<_, String>(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get::<_, String>(3)?))
    })?;
    let mut schedules = Vec::new();
    for row in rows {
        let (name, branch, fields, zone) = row?;
        if let (Some(project), Ok(schedule)) = (projects::by_name(connection, &name)?, Schedule::new(&fields, &zone)) {
            schedules.push(DueSchedule { project, branch, schedule });
        }
    }
    Ok(schedules)
}

/// Sets a schedule to its next moment. Moments that were missed meanwhile count as this one.
pub(crate) fn set_next(connection: &Connection, clock: &DueSchedule, now: Time) -> Result<(), StoreError> {
    let (fields, zone) = (clock.schedule.fields(), clock.schedule.zone());
    let key = params![clock.project.id, clock.branch, fields, zone, clock.schedule.next_after(now).map(Time::millis)];
    connection
        .prepare_cached(
            "UPDATE schedules SET next = coalesce(?5, 9223372036854775807)
         WHERE project = ?1 AND branch = ?2 AND schedule = ?3 AND zone = ?4",
        )?
        .execute(key)?;
    Ok(())
}
