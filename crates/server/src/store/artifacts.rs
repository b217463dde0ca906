//! What jobs leave.

use pondrix_api::ArtifactFile;
use pondrix_core::image::Digest;
use pondrix_core::retention::Kept;
use pondrix_core::{JobKey, Time};
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;

/// Files to artifact.
#[derive(Clone, Debug)]
pub(crate) struct ArtifactRow {
    pub(crate) job: JobKey,
    pub(crate) name: String,
    pub(crate) created: Time,
    pub(crate) until: Time,
    pub(crate) files: Vec<ArtifactFile>,
}

pub(super) fn digest_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Digest> {
    Ok(Digest::from_bytes(&row.get::<_, [u8; 32]>(column)?))
}

/// Keeps files. Those that the job kept under this name the time before are forgotten.
pub(crate) fn put_artifact(connection: &Connection, run: i64, artifact: &ArtifactRow) -> Result<(), StoreError> {
    connection.prepare_cached("DELETE FROM artifacts WHERE run = ?1 AND job = ?2 AND name = ?3")?.execute(params![
        run,
        artifact.job.as_str(),
        artifact.name
    ])?;
    connection
        .prepare_cached("INSERT INTO artifacts (run, job, name, created, until) VALUES (?1, ?2, ?3, ?4, ?5)")?
        .execute(params![
            run,
            artifact.job.as_str(),
            artifact.name,
            artifact.created.millis(),
            artifact.until.millis()
        ])?;
    let id = connection.last_insert_rowid();
    let mut insert = connection.prepare_cached(
        "INSERT INTO artifact_files (artifact, path, digest, size, executable, link) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
    )?;
    for file in &artifact.files {
        let size = i64::try_from(file.size).unwrap_or(i64::MAX);
        insert.execute(params![id, file.path, file.digest.bytes(), size, file.executable, file.link])?;
    }
    Ok(())
}

/// The files that a job kept under a name; nothing when it kept none, or they are not kept any more.
pub(crate) fn artifact(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    name: &str,
) -> Result<Option<Vec<ArtifactFile>>, StoreError> {
    let id: Option<i64> = connection
        .prepare_cached("SELECT id FROM artifacts WHERE run = ?1 AND job = ?2 AND name = ?3")?
        .query_row(params![run, job.as_str(), name], |row| row.get(0))
        .optional()?;
    let Some(id) = id else { return Ok(None) };
    let mut statement = connection.prepare_cached(
        "SELECT path, digest, size, executable, link FROM artifact_files WHERE artifact = ?1 ORDER BY path",
    )?;
    let rows = statement.query_map([id], |row| {
        Ok(ArtifactFile {
            path: row.get(0)?,
            digest: digest_of(row, 1)?,
            size: row.get::<_, i64>(2)?.unsigned_abs(),
            executable: row.get(3)?,
            link: row.get(4)?,
        })
    })?;
    Ok(Some(rows.collect::<Result<_, _>>()?))
}

/// Everything that is kept.
pub(crate) fn all_artifacts(connection: &Connection) -> Result<Vec<Kept>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT k.id, r.project || '/' || k.job || '/' || k.name, k.created, k.until FROM artifacts k JOIN runs r ON r.id = k.run",
    )?;
    let rows = statement.query_map([], |row| {
        let (made, until) = (Time::from_millis(row.get(2)?), Time::from_millis(row.get(3)?));
        Ok(Kept { id: row.get(0)?, group: row.get(1)?, made, until })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Forgets what is not to be kept any more.
pub(crate) fn remove_artifacts(connection: &Connection, ids: &[i64]) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached("DELETE FROM artifacts WHERE id = ?1")?;
    ids.iter().try_for_each(|id| statement.execute([id]).map(|_| ()))?;
    Ok(())
}

/// Of these contents those that artifacts or caches of a run's project have.
pub(crate) fn contents_of_project(
    connection: &Connection,
    run: i64,
    digests: Vec<Digest>,
) -> Result<Vec<Digest>, StoreError> {
    let question = "SELECT p.project FROM runs p WHERE p.id = ?2 AND (
                        EXISTS (SELECT 1 FROM artifact_files f JOIN artifacts a ON a.id = f.artifact
                                JOIN runs r ON r.id = a.run WHERE f.digest = ?1 AND r.project = p.project)
                        OR EXISTS (SELECT 1 FROM caches c WHERE c.digest = ?1 AND c.project = p.project))";
    let mut has = connection.prepare_cached(question)?;
    let mut own = Vec::new();
    for digest in digests {
        if has.exists(params![digest.bytes(), run])? {
            own.push(digest);
        }
    }
    Ok(own)
}

/// The contents of these that nothing refers to.
pub(crate) fn unneeded(connection: &Connection, digests: Vec<Digest>) -> Result<Vec<Digest>, StoreError> {
    let question = "SELECT EXISTS (SELECT 1 FROM artifact_files WHERE digest = ?1)
                    OR EXISTS (SELECT 1 FROM caches WHERE digest = ?1)";
    let mut needed = connection.prepare_cached(question)?;
    let mut unneeded = Vec::new();
    for digest in digests {
        if !needed.query_row([digest.bytes()], |row| row.get(0))? {
            unneeded.push(digest);
        }
    }
    Ok(unneeded)
}

/// Remembers which tests of a job failed.
pub(crate) fn put_tests(connection: &Connection, run: i64, job: &JobKey, failed: &[String]) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT OR IGNORE INTO tested_jobs (project, job, run) SELECT project, ?2, id FROM runs WHERE id = ?1",
        )?
        .execute(params![run, job.as_str()])?;
    let mut insert =
        connection.prepare_cached("INSERT OR IGNORE INTO failed_tests (run, job, test) VALUES (?1, ?2, ?3)")?;
    failed.iter().try_for_each(|test| insert.execute(params![run, job.as_str(), test]).map(|_| ()))?;
    Ok(())
}

/// In which of its newest runs, the newest first, a job was tested: the commit, and the tests that failed.
pub(crate) fn test_history(
    connection: &Connection,
    project: i64,
    job: &JobKey,
    most: usize,
) -> Result<Vec<(String, Vec<String>)>, StoreError> {
    let mut runs = connection.prepare_cached(
        "SELECT t.run, r.commit_id FROM tested_jobs t JOIN runs r ON r.id = t.run
         WHERE t.project = ?1 AND t.job = ?2 ORDER BY t.run DESC LIMIT ?3",
    )?;
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let rows = runs
        .query_map(params![project, job.as_str(), most], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?)))?;
    let mut tests = connection.prepare_cached("SELECT test FROM failed_tests WHERE run = ?1 AND job = ?2")?;
    let mut history = Vec::new();
    for row in rows {
        let (run, commit) = row?;
        let failed = tests.query_map(params![run, job.as_str()], |row| row.get(0))?;
        history.push((commit, failed.collect::<Result<_, _>>()?));
    }
    Ok(history)
}
