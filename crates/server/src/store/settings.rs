//! Environments, pools, and runners that are paused.

use std::collections::BTreeMap;

use pondrix_api::{EnvironmentView, PauseView};
use pondrix_core::Time;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::StoreError;

fn environment_of(row: &Row<'_>) -> rusqlite::Result<EnvironmentView> {
    let (name, kubeconfig, namespace, address) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
    Ok(EnvironmentView { name, kubeconfig, namespace, address, takes_tries: row.get(4)? })
}

/// All environments, by name.
pub(crate) fn environments(connection: &Connection) -> Result<Vec<EnvironmentView>, StoreError> {
    let mut statement = connection
        .prepare("SELECT name, kubeconfig, namespace, address, takes_tries FROM environments ORDER BY name")?;
    let rows = statement.query_map([], environment_of)?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// One environment.
pub(crate) fn environment(connection: &Connection, name: &str) -> Result<Option<EnvironmentView>, StoreError> {
    let question = "SELECT name, kubeconfig, namespace, address, takes_tries FROM environments WHERE name = ?1";
    Ok(connection.prepare_cached(question)?.query_row([name], environment_of).optional()?)
}

/// Sets an environment.
pub(crate) fn put_environment(connection: &Connection, environment: &EnvironmentView) -> Result<(), StoreError> {
    let EnvironmentView { name, kubeconfig, namespace, address, takes_tries } = environment;
    connection
        .prepare_cached(
            "INSERT INTO environments (name, kubeconfig, namespace, address, takes_tries) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (name) DO UPDATE SET kubeconfig = ?2, namespace = ?3, address = ?4, takes_tries = ?5",
        )?
        .execute(params![name, kubeconfig, namespace, address, takes_tries])?;
    Ok(())
}

/// How many jobs may run at once in each pool that has a limit.
pub(crate) fn pools(connection: &Connection) -> Result<BTreeMap<String, u32>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT name, job_limit FROM pools")?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Sets a pool's limit, or takes it away.
pub(crate) fn put_pool(connection: &Connection, name: &str, limit: Option<u32>) -> Result<(), StoreError> {
    match limit {
        Some(limit) => connection
            .prepare_cached(
                "INSERT INTO pools (name, job_limit) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET job_limit = ?2",
            )?
            .execute(params![name, limit])?,
        None => connection.prepare_cached("DELETE FROM pools WHERE name = ?1")?.execute([name])?,
    };
    Ok(())
}

/// Removes an environment, with what is known of its releases. Answers whether it was there.
pub(crate) fn remove_environment(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    connection.prepare_cached("DELETE FROM releases WHERE environment = ?1")?.execute([name])?;
    Ok(connection.prepare_cached("DELETE FROM environments WHERE name = ?1")?.execute([name])? > 0)
}

/// A runner that is given no more jobs.
pub(crate) type PausedRunner = (String, PauseView);

/// All of them, by name.
pub(crate) fn paused_runners(connection: &Connection) -> Result<Vec<PausedRunner>, StoreError> {
    let mut statement = connection.prepare_cached("SELECT name, by, at, reason FROM paused_runners ORDER BY name")?;
    let rows = statement.query_map([], |row| {
        let pause = PauseView { by: row.get(1)?, at: Time::from_millis(row.get(2)?), reason: row.get(3)? };
        Ok((row.get(0)?, pause))
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A runner is given no more jobs.
pub(crate) fn pause_runner(connection: &Connection, (name, pause): &PausedRunner) -> Result<(), StoreError> {
    let PauseView { by, at, reason } = pause;
    connection
        .prepare_cached("INSERT OR REPLACE INTO paused_runners (name, by, at, reason) VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![name, by, at.millis(), reason])?;
    Ok(())
}

/// A runner is given jobs again. Answers whether it was paused.
pub(crate) fn resume_runner(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    Ok(connection.prepare_cached("DELETE FROM paused_runners WHERE name = ?1")?.execute([name])? > 0)
}
