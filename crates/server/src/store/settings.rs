//! Environments, pools, and runners that are paused.

use std::collections::BTreeMap;

use pondrix_api::{EnvironmentView, PauseView};
use pondrix_core::Time;
use pondrix_core::access::SecretScope;
use rusqlite::{Connection, Row, params};

use super::{Owner, StoreError, remove_secrets};

/// An environment, as it is stored.
#[derive(Clone, Debug)]
pub(crate) struct EnvironmentRow {
    pub(crate) view: EnvironmentView,
    /// How its cluster is reached, sealed.
    pub(crate) kubeconfig: Option<Vec<u8>>,
    /// Whether it was set by somebody who may for its projects only.
    pub(crate) is_own: bool,
}

const ENVIRONMENT: &str =
    "SELECT name, cluster, namespace, address, rules, by, at, kubeconfig, is_own FROM environments";

fn environment_of(row: &Row<'_>) -> Result<EnvironmentRow, StoreError> {
    let view = EnvironmentView {
        name: row.get(0)?,
        cluster: row.get(1)?,
        namespace: row.get(2)?,
        address: row.get(3)?,
        rules: serde_json::from_str(row.get_ref(4)?.as_str().map_err(rusqlite::Error::from)?)?,
        by: row.get(5)?,
        set: row.get::<_, Option<i64>>(6)?.map(Time::from_millis),
    };
    Ok(EnvironmentRow { view, kubeconfig: row.get(7)?, is_own: row.get(8)? })
}

/// All environments, by name.
pub(crate) fn environments(connection: &Connection) -> Result<Vec<EnvironmentRow>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("{ENVIRONMENT} ORDER BY name"))?;
    let mut rows = statement.query([])?;
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(environment_of(row)?);
    }
    Ok(all)
}

/// One environment.
pub(crate) fn environment(connection: &Connection, name: &str) -> Result<Option<EnvironmentRow>, StoreError> {
    let mut statement = connection.prepare_cached(&format!("{ENVIRONMENT} WHERE name = ?1"))?;
    let mut rows = statement.query([name])?;
    rows.next()?.map(environment_of).transpose()
}

/// Sets an environment.
pub(crate) fn put_environment(connection: &Connection, row: &EnvironmentRow) -> Result<(), StoreError> {
    let EnvironmentView { name, cluster, namespace, address, rules, by, set } = &row.view;
    let rules = serde_json::to_string(rules)?;
    connection
        .prepare_cached(
            "INSERT INTO environments (name, cluster, namespace, address, rules, by, at, kubeconfig, is_own)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)
             ON CONFLICT (name) DO UPDATE SET cluster = ?2, namespace = ?3, address = ?4, rules = ?5, by = ?6, at = ?7,
                                              kubeconfig = ?8, is_own = ?9, old_file = NULL",
        )?
        .execute(params![
            name,
            cluster,
            namespace,
            address,
            rules,
            by,
            set.map(Time::millis),
            row.kubeconfig,
            row.is_own
        ])?;
    Ok(())
}

/// The environments whose clusters are still described by a file of the server's machine, with that.
pub(crate) fn environments_in_files(connection: &Connection) -> Result<Vec<(String, String)>, StoreError> {
    let question = "SELECT name, old_file FROM environments WHERE old_file IS NOT NULL AND kubeconfig IS NULL";
    let mut statement = connection.prepare_cached(question)?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
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

/// Removes an environment, with its secrets and what is known of its releases. Answers whether it was there.
pub(crate) fn remove_environment(connection: &Connection, name: &str) -> Result<bool, StoreError> {
    connection.prepare_cached("DELETE FROM releases WHERE environment = ?1")?.execute([name])?;
    remove_secrets(connection, &Owner::Shared(SecretScope::Environment(name.to_owned())))?;
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
