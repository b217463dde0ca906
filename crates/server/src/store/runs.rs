//! Runs, their events and leases.

use std::collections::BTreeMap;

use pondrix_api::{RunSummary, TemplateUse};
use pondrix_core::pipeline::{Fault, StartKind};
use pondrix_core::plan::Plan;
use pondrix_core::run::Event;
use pondrix_core::work::RunFacts;
use pondrix_core::{JobKey, NameError, RunId, State, Time};
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::event_form::{self, EncodedEvent};
use super::plans::{self, EncodedPlan};
use super::{StoreError, compare_templates};

/// A run to make.
#[derive(Clone, Debug)]
pub(crate) struct NewRun {
    pub(crate) start: StartKind,
    pub(crate) branch: String,
    pub(crate) tag: Option<String>,
    pub(crate) inputs: BTreeMap<String, String>,
    pub(crate) commit: String,
    pub(crate) commit_time: Time,
    pub(crate) title: String,
    pub(crate) author: String,
    pub(crate) plan: Plan,
    pub(crate) faults: Vec<Fault>,
    pub(crate) templates: Vec<TemplateUse>,
    /// The run that it does again.
    pub(crate) rerun_of: Option<i64>,
    /// Where its files are, when they are not those of its commit.
    pub(crate) files: Option<String>,
    /// Who started it by hand, where somebody did.
    pub(crate) by: Option<String>,
    /// See [`RunFacts::was_trusted`].
    pub(crate) was_trusted: bool,
}

/// A run with the form in which it is stored: made before it is written, so that no other write waits for that.
#[derive(Debug)]
pub(crate) struct EncodedRun {
    new: NewRun,
    plan: EncodedPlan,
    faults: String,
    inputs: String,
    templates: String,
}

impl EncodedRun {
    /// Made of a run of this project, whose templates are compared with those of its earlier runs.
    pub(crate) fn new(connection: &Connection, project: i64, mut new: NewRun) -> Result<Self, StoreError> {
        compare_templates(connection, project, &mut new.templates)?;
        Ok(Self {
            plan: EncodedPlan::new(&new.plan)?,
            faults: serde_json::to_string(&new.faults)?,
            inputs: serde_json::to_string(&new.inputs)?,
            templates: serde_json::to_string(&new.templates)?,
            new,
        })
    }

    /// What is read of it when it is stored with this summary.
    pub(crate) fn into_row(self, id: i64, summary: RunSummary) -> Result<RunRow, StoreError> {
        let Self { new, .. } = self;
        let facts = RunFacts {
            id: name_in(&summary)?,
            commit: new.commit,
            branch: new.branch,
            tag: new.tag,
            commit_time: new.commit_time,
            start: new.start,
            inputs: new.inputs,
            is_try: new.files.is_some(),
            was_trusted: new.was_trusted,
        };
        let NewRun { plan, faults, templates, files, .. } = new;
        Ok(RunRow { id, facts, plan, faults, templates, files, has_no_logs: false, summary })
    }
}

/// A run as it is stored.
#[derive(Clone, Debug)]
pub(crate) struct RunRow {
    pub(crate) id: i64,
    pub(crate) facts: RunFacts,
    pub(crate) plan: Plan,
    pub(crate) faults: Vec<Fault>,
    pub(crate) templates: Vec<TemplateUse>,
    /// Where its files are, when they are not those of its commit.
    pub(crate) files: Option<String>,
    /// Whether its logs were removed when it was loaded, since they had been kept for long enough.
    pub(crate) has_no_logs: bool,
    pub(crate) summary: RunSummary,
}

/// An event of a run.
#[derive(Clone, Debug)]
pub(crate) struct StoredEvent {
    pub(crate) at: Time,
    pub(crate) event: Event,
}

/// What lists show of a run, kept up with its events.
#[derive(Clone, Debug)]
pub(crate) struct SummaryRow {
    pub(crate) state: State,
    pub(crate) note: Option<String>,
    pub(crate) started: Option<Time>,
    pub(crate) ended: Option<Time>,
}

pub(super) fn state_of(row: &Row<'_>, column: usize) -> rusqlite::Result<State> {
    let word: String = row.get(column)?;
    State::ALL.into_iter().find(|state| state.word() == word).ok_or_else(|| {
        let fault = format!("`{word}` is not a state");
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, fault.into())
    })
}

fn start_of(row: &Row<'_>, column: usize) -> rusqlite::Result<StartKind> {
    let word: String = row.get(column)?;
    StartKind::from_word(&word).ok_or_else(|| {
        let fault = format!("`{word}` is not a reason to start");
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, fault.into())
    })
}

const SUMMARY: &str = "p.name, r.number, r.state, r.start, r.branch, r.commit_id, r.title, r.author, r.created, \
                       r.started, r.ended, r.note, r.tag, \
                       (SELECT of.number FROM runs of WHERE of.id = r.rerun_of), r.started_by";

fn summary_of(row: &Row<'_>) -> rusqlite::Result<RunSummary> {
    let (project, number): (String, i64) = (row.get(0)?, row.get(1)?);
    let time = |column| Ok::<_, rusqlite::Error>(row.get::<_, Option<i64>>(column)?.map(Time::from_millis));
    Ok(RunSummary {
        run: format!("{project}#{number}"),
        number: number.unsigned_abs(),
        project,
        state: state_of(row, 2)?,
        start: start_of(row, 3)?,
        branch: row.get(4)?,
        commit: row.get(5)?,
        title: row.get(6)?,
        author: row.get(7)?,
        created: Time::from_millis(row.get(8)?),
        started: time(9)?,
        ended: time(10)?,
        note: row.get(11)?,
        tag: row.get(12)?,
        rerun_of: row.get::<_, Option<i64>>(13)?.map(i64::unsigned_abs),
        by: row.get(14)?,
    })
}

/// The place of a run's commit in the order of its project's: that of the run that it does again, else that of its
/// branch or tag; the next one where its commit has not been seen there yet.
fn place_of(connection: &Connection, project: i64, new: &NewRun) -> Result<i64, StoreError> {
    if let Some(earlier) = new.rerun_of {
        return Ok(connection
            .prepare_cached("SELECT place FROM runs WHERE id = ?1")?
            .query_row([earlier], |row| row.get(0))?);
    }
    let (table, name) = match &new.tag {
        Some(tag) => ("tags", tag),
        None => ("branches", &new.branch),
    };
    let question = format!("SELECT place FROM {table} WHERE project = ?1 AND name = ?2 AND commit_id = ?3");
    let seen = connection.prepare_cached(&question)?.query_row(params![project, name, new.commit], |row| row.get(0));
    match seen.optional()? {
        Some(place) => Ok(place),
        None => super::projects::next_place(connection, project),
    }
}

/// The newest run of the same branch, among those that `condition` selects as `o`, that carries a later commit than
/// this one; a tag is a branch of its own kind. Tries carry none.
pub(super) fn overtaken(
    connection: &Connection,
    run: i64,
    condition: &str,
    values: &[&dyn rusqlite::ToSql],
) -> Result<Option<RunId>, StoreError> {
    let question = format!(
        "SELECT p.name || '#' || o.number FROM runs o JOIN runs r ON r.id = ?1 JOIN projects p ON p.id = o.project
         WHERE o.project = r.project AND o.branch = r.branch AND (o.tag IS NULL) = (r.tag IS NULL)
         AND o.place > r.place AND o.files IS NULL AND ({condition}) ORDER BY o.place DESC LIMIT 1"
    );
    let all: Vec<&dyn rusqlite::ToSql> = std::iter::once(&run as _).chain(values.iter().copied()).collect();
    let found = connection.prepare_cached(&question)?.query_row(&all[..], |row| row.get::<_, String>(0)).optional()?;
    Ok(found.and_then(|text| text.parse().ok()))
}

/// Makes a run and gives it the next number of its project.
pub(crate) fn insert_run(
    connection: &Connection,
    project: i64,
    run: &EncodedRun,
    now: Time,
) -> Result<i64, StoreError> {
    let EncodedRun { new, plan, faults, inputs, templates } = run;
    let number: i64 = connection.query_row(
        "UPDATE projects SET next_number = next_number + 1 WHERE id = ?1 AND NOT is_removed RETURNING next_number - 1",
        [project],
        |row| row.get(0),
    )?;
    let place = place_of(connection, project, new)?;
    let faulty = !new.faults.is_empty();
    let state = if faulty { State::Failed } else { State::Queued };
    let note = faulty.then(|| "the pipeline file is faulty".to_owned());
    let over = faulty.then_some(now.millis());
    let insert =
        "INSERT INTO runs (project, number, start, branch, commit_id, commit_time, title, author, pipeline, faults,
                                    state, note, created, started, ended, plan, tag, inputs, rerun_of, files, templates,
                                    place, started_by, was_trusted)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, 'null', ?9, ?10, ?11, ?12, ?13, ?13, ?14, ?15, ?16, ?17, ?18,
                          ?19, ?20, ?21, ?22)";
    connection.prepare_cached(insert)?.execute(params![
        project,
        number,
        new.start.word(),
        new.branch,
        new.commit,
        new.commit_time.millis(),
        new.title,
        new.author,
        faults,
        state.word(),
        note,
        now.millis(),
        over,
        plan.keep(connection)?,
        new.tag,
        inputs,
        new.rerun_of,
        new.files,
        templates,
        place,
        new.by,
        new.was_trusted,
    ])?;
    Ok(connection.last_insert_rowid())
}

/// Stores an event. Answers its id.
pub(crate) fn append_event(
    connection: &Connection,
    run: i64,
    event: &EncodedEvent,
    at: Time,
) -> Result<i64, StoreError> {
    connection
        .prepare_cached("INSERT INTO events (run, at, version, body) VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![run, at.millis(), event_form::VERSION, event.document()])?;
    Ok(connection.last_insert_rowid())
}

/// Stores what lists show of a run.
pub(crate) fn put_summary(connection: &Connection, run: i64, row: &SummaryRow) -> Result<(), StoreError> {
    connection
        .prepare_cached("UPDATE runs SET state = ?2, note = ?3, started = ?4, ended = ?5 WHERE id = ?1")?
        .execute(params![
            run,
            row.state.word(),
            row.note,
            row.started.map(Time::millis),
            row.ended.map(Time::millis)
        ])?;
    Ok(())
}

/// Remembers who has a job. Answers the lease's number.
pub(crate) fn put_lease(
    connection: &Connection,
    hash: &[u8; 32],
    run: i64,
    job: &JobKey,
    (runner, instance): (&str, &str),
) -> Result<i64, StoreError> {
    let params = params![hash, run, job.as_str(), runner, instance];
    connection
        .prepare_cached("INSERT INTO leases (hash, run, job, runner, instance) VALUES (?1, ?2, ?3, ?4, ?5)")?
        .execute(params)?;
    Ok(connection.last_insert_rowid())
}

/// Forgets who had a job.
pub(crate) fn end_lease(connection: &Connection, run: i64, job: &JobKey) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM leases WHERE run = ?1 AND job = ?2")?.execute(params![run, job.as_str()])?;
    Ok(())
}

/// That a runner has a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct StoredLease {
    pub(crate) number: i64,
    pub(crate) hash: [u8; 32],
    pub(crate) run: RunId,
    pub(crate) job: JobKey,
    pub(crate) runner: String,
    /// Which process of it.
    pub(crate) instance: String,
}

/// All leases, by number.
pub(crate) fn leases(connection: &Connection) -> Result<Vec<StoredLease>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT l.number, l.hash, p.name || '#' || r.number, l.job, l.runner, l.instance
         FROM leases l JOIN runs r ON r.id = l.run JOIN projects p ON p.id = r.project ORDER BY l.number",
    )?;
    let rows = statement.query_map([], |row| {
        let run = row.get::<_, String>(2)?.parse();
        let run = run.map_err(|error: NameError| {
            rusqlite::Error::FromSqlConversionFailure(2, rusqlite::types::Type::Text, Box::new(error))
        })?;
        let job = JobKey::from_text(&row.get::<_, String>(3)?);
        let (runner, instance) = (row.get(4)?, row.get(5)?);
        Ok(StoredLease { number: row.get(0)?, hash: row.get(1)?, run, job, runner, instance })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The name of a run that is stored.
fn name_in(summary: &RunSummary) -> Result<RunId, StoreError> {
    summary.run.parse().map_err(|error: NameError| StoreError::Exists(error.to_string()))
}

/// A run by its id.
pub(crate) fn by_id(connection: &Connection, id: i64) -> Result<Option<RunRow>, StoreError> {
    let question = format!(
        "SELECT {SUMMARY}, r.commit_time, r.plan, r.pipeline, r.faults, r.inputs, r.files, r.templates, r.logs = 2,
                r.was_trusted
         FROM runs r JOIN projects p ON p.id = r.project WHERE r.id = ?1"
    );
    let found = connection.prepare_cached(&question)?.query_row([id], |row| {
        let texts: (String, String, String, Option<String>, String) =
            (row.get(17)?, row.get(18)?, row.get(19)?, row.get(20)?, row.get(21)?);
        let flags: (bool, bool) = (row.get(22)?, row.get(23)?);
        Ok((summary_of(row)?, row.get::<_, i64>(15)?, row.get::<_, Option<i64>>(16)?, texts, flags))
    });
    let Some((summary, commit_time, plan, texts, (has_no_logs, was_trusted))) = found.optional()? else {
        return Ok(None);
    };
    let (pipeline, faults, inputs, files, templates) = texts;
    let facts = RunFacts {
        id: name_in(&summary)?,
        commit: summary.commit.clone(),
        branch: summary.branch.clone(),
        tag: summary.tag.clone(),
        commit_time: Time::from_millis(commit_time),
        start: summary.start,
        inputs: serde_json::from_str(&inputs)?,
        is_try: files.is_some(),
        was_trusted,
    };
    let plan = match plan {
        Some(plan) => plans::kept(connection, plan)?,
        None => plans::of_pipeline(&pipeline, &facts)?,
    };
    let (faults, templates) = (serde_json::from_str(&faults)?, serde_json::from_str(&templates)?);
    Ok(Some(RunRow { id, facts, plan, faults, templates, files, has_no_logs, summary }))
}

/// What lists show of a run.
pub(crate) fn summary(connection: &Connection, id: i64) -> Result<Option<RunSummary>, StoreError> {
    let question = format!("SELECT {SUMMARY} FROM runs r JOIN projects p ON p.id = r.project WHERE r.id = ?1");
    Ok(connection.prepare_cached(&question)?.query_row([id], summary_of).optional()?)
}

/// Whether there was a run that is there no more.
pub(crate) fn was_removed(connection: &Connection, run: &RunId) -> Result<bool, StoreError> {
    let question = "SELECT EXISTS (SELECT 1 FROM projects p WHERE p.name = ?1 AND NOT p.is_removed
                    AND p.next_number > ?2 AND ?2 > 0
                    AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.project = p.id AND r.number = ?2))";
    let number = i64::try_from(run.number).unwrap_or(i64::MAX);
    Ok(connection.prepare_cached(question)?.query_row(params![run.project.as_str(), number], |row| row.get(0))?)
}

/// The name of a run.
pub(super) fn name_of(connection: &Connection, id: i64) -> Result<Option<RunId>, StoreError> {
    let question = "SELECT p.name || '#' || r.number FROM runs r JOIN projects p ON p.id = r.project WHERE r.id = ?1";
    let name = connection.prepare_cached(question)?.query_row([id], |row| row.get::<_, String>(0)).optional()?;
    name.map(|name| name.parse().map_err(|error: NameError| StoreError::Exists(error.to_string()))).transpose()
}

/// The id of a run.
pub(crate) fn id_of(connection: &Connection, run: &RunId) -> Result<Option<i64>, StoreError> {
    let question = "SELECT r.id FROM runs r JOIN projects p ON p.id = r.project WHERE p.name = ?1 AND r.number = ?2
                    AND NOT p.is_removed";
    let number = i64::try_from(run.number).unwrap_or(i64::MAX);
    Ok(connection
        .prepare_cached(question)?
        .query_row(params![run.project.as_str(), number], |row| row.get(0))
        .optional()?)
}

/// Which runs a list shows: those that are all of what is said.
#[derive(Clone, Debug, Default)]
pub(crate) struct RunFilter {
    pub(crate) project: Option<String>,
    pub(crate) state: Option<State>,
    pub(crate) branch: Option<String>,
    /// Whoever made the commit; capitals do not matter.
    pub(crate) author: Option<String>,
}

/// At most `limit` runs, the newest first, older than `before`; each with its id.
pub(crate) fn page(
    connection: &Connection,
    filter: &RunFilter,
    before: Option<i64>,
    limit: usize,
) -> Result<Vec<(i64, RunSummary)>, StoreError> {
    let state = filter.state.map(State::word);
    let said = [
        ("r.project = (SELECT id FROM projects WHERE name = ?1)", filter.project.is_some()),
        ("r.state = ?2", state.is_some()),
        ("r.branch = ?3", filter.branch.is_some()),
        ("r.author = ?4 COLLATE NOCASE", filter.author.is_some()),
    ];
    // Each question is one of its own: one for all would be answered by a look at everything.
    let said: String = said.iter().filter(|(_, is_said)| *is_said).map(|(words, _)| format!("{words} AND ")).collect();
    let question = format!(
        "SELECT {SUMMARY}, r.id FROM runs r CROSS JOIN projects p ON p.id = r.project
         WHERE {said} NOT p.is_removed AND r.id < ?5 ORDER BY r.id DESC LIMIT ?6"
    );
    let mut statement = connection.prepare_cached(&question)?;
    let limit = i64::try_from(limit).unwrap_or(i64::MAX);
    let values = params![filter.project, state, filter.branch, filter.author, before.unwrap_or(i64::MAX), limit];
    // Values that a question does not name are given no place in it.
    let rows = statement.query_map(values, |row| Ok((row.get(15)?, summary_of(row)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Ends a run whose records cannot be read: nothing can carry it on.
pub(crate) fn set_unreadable(connection: &Connection, run: i64, now: Time) -> Result<(), StoreError> {
    let change = "UPDATE runs SET state = 'failed', note = ?2, ended = coalesce(ended, ?3) WHERE id = ?1";
    connection.prepare_cached(change)?.execute(params![run, UNREADABLE, now.millis()])?;
    Ok(())
}

/// What lists say of a run whose records cannot be read.
const UNREADABLE: &str = "what is recorded of it cannot be read; the server's log says why";

/// The ids of runs that are not over.
pub(crate) fn going_on(connection: &Connection) -> Result<Vec<i64>, StoreError> {
    let question = "SELECT id FROM runs WHERE state IN ('queued', 'waiting', 'running') ORDER BY id";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([], |row| row.get(0))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A run's events, in order.
pub(crate) fn events(connection: &Connection, run: i64) -> Result<Vec<StoredEvent>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT at, version, body FROM events WHERE run = ?1 ORDER BY id")?;
    let rows = statement
        .query_map([run], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?, row.get::<_, String>(2)?)))?;
    rows.map(|row| {
        let (at, version, body) = row?;
        Ok(StoredEvent { at: Time::from_millis(at), event: event_form::decode(version, &body)? })
    })
    .collect()
}

/// The id of the newest event; 0 where there is none.
pub(crate) fn newest_event(connection: &Connection) -> Result<i64, StoreError> {
    let question = "SELECT coalesce(max(id), 0) FROM events";
    Ok(connection.prepare_cached(question)?.query_row([], |row| row.get(0))?)
}

/// How many runs that changed are told at once. Who has missed more looks at the list anew.
const MOST_CHANGED: usize = 500;

/// The runs that changed after the event of this id, each once, the newest first and not all where there are very
/// many, and the newest event's id.
pub(crate) fn changed_after(connection: &Connection, event: i64) -> Result<(i64, Vec<RunSummary>), StoreError> {
    let newest = newest_event(connection)?;
    let question = format!(
        "SELECT {SUMMARY} FROM runs r JOIN projects p ON p.id = r.project
         WHERE r.id IN (SELECT run FROM events WHERE id > ?1 AND id <= ?2) ORDER BY r.id DESC LIMIT {MOST_CHANGED}"
    );
    let mut statement = connection.prepare_cached(&question)?;
    let runs = statement.query_map([event, newest], summary_of)?.collect::<Result<_, _>>()?;
    Ok((newest, runs))
}
