//! What is kept of the past, and removing what is not.

use std::collections::HashSet;

use pondrix_core::retention::{Keep, Line, Past, Rule};
use pondrix_core::{RunId, Time};
use rusqlite::{Connection, OptionalExtension, params};

use super::StoreError;
use super::caches::CachePlace;
use super::removal::leave_logs;
use super::runs::name_of;

/// How many releases of a job an environment can return to, with the one that it runs.
const RELEASES_KEPT: i64 = 5;

/// A cache, as far as it matters for how long it is kept.
#[derive(Clone, Debug)]
pub(crate) struct UsedCache {
    pub(crate) place: CachePlace,
    pub(crate) key: String,
    pub(crate) size: u64,
    pub(crate) used: Time,
}

/// All rules.
pub(crate) fn rules(connection: &Connection) -> Result<Vec<Rule>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT p.name, k.branch, k.body FROM retention_rules k LEFT JOIN projects p ON p.id = k.project
         ORDER BY p.name, k.branch",
    )?;
    let rows = statement.query_map([], |row| {
        Ok((row.get::<_, Option<String>>(0)?, row.get::<_, Option<String>>(1)?, row.get::<_, String>(2)?))
    })?;
    rows.map(|row| {
        let (project, branch, body) = row?;
        let keep: Keep = serde_json::from_str(&body)?;
        // Both were checked before they were stored.
        let (project, branch) = (serde_json::to_value(project)?, serde_json::to_value(branch)?);
        Ok(Rule { project: serde_json::from_value(project)?, branch: serde_json::from_value(branch)?, keep })
    })
    .collect()
}

/// A rule with the form in which it is kept.
#[derive(Debug)]
pub(crate) struct EncodedRule {
    rule: Rule,
    body: String,
}

impl EncodedRule {
    pub(crate) fn new(rule: Rule) -> Result<Self, StoreError> {
        Ok(Self { body: serde_json::to_string(&rule.keep)?, rule })
    }
}

/// Sets a rule in the place of the one for the same, or removes it where it says nothing. Answers whether there is
/// such a project.
pub(crate) fn put_rule(connection: &Connection, rule: &EncodedRule) -> Result<bool, StoreError> {
    let EncodedRule { rule, body } = rule;
    let project = match &rule.project {
        None => None,
        Some(name) => match super::project(connection, name.as_str())? {
            Some(project) => Some(project.id),
            None => return Ok(false),
        },
    };
    let branch = rule.branch.as_ref().map(|branch| branch.as_str());
    connection
        .prepare_cached("DELETE FROM retention_rules WHERE project IS ?1 AND branch IS ?2")?
        .execute(params![project, branch])?;
    if !rule.keep.is_empty() {
        connection
            .prepare_cached("INSERT INTO retention_rules (project, branch, body) VALUES (?1, ?2, ?3)")?
            .execute(params![project, branch, body])?;
    }
    Ok(true)
}

/// Whether an environment runs what a run `r` built or rolled out, or could return to it, or a branch that is there has
/// no newer image than one of it.
pub(super) const IS_NEEDED: &str = "(EXISTS (SELECT 1 FROM releases e WHERE e.run = r.id)
     OR EXISTS (SELECT 1 FROM image_records i JOIN releases e ON e.image = i.repository || '@' || i.digest
                WHERE i.run = r.id)
     OR EXISTS (SELECT 1 FROM images m JOIN branches b ON b.project = m.project AND b.name = m.branch
                WHERE m.run = r.id))";

/// Whether a run is needed: see [`IS_NEEDED`].
pub(crate) fn is_needed(connection: &Connection, run: i64) -> Result<bool, StoreError> {
    let question = format!("SELECT {IS_NEEDED} FROM runs r WHERE id = ?1");
    Ok(connection.prepare_cached(&question)?.query_row([run], |row| row.get(0)).optional()?.unwrap_or(false))
}

/// When the oldest run of a project ended that is over: later ones may have ended a little before it.
pub(crate) fn oldest_end(connection: &Connection, project: i64) -> Result<Option<Time>, StoreError> {
    let question = "SELECT min(ended) FROM (SELECT ended FROM runs INDEXED BY runs_of_project WHERE project = ?1
                    ORDER BY id LIMIT 50)";
    let ended: Option<i64> = connection.prepare_cached(question)?.query_row([project], |row| row.get(0))?;
    Ok(ended.map(Time::from_millis))
}

/// The runs of a project, the newest first, each with what it is for whoever judges it.
pub(crate) fn pasts(connection: &Connection, project: i64) -> Result<Vec<Past>, StoreError> {
    let mut branches = connection.prepare_cached("SELECT name FROM branches WHERE project = ?1")?;
    let there: HashSet<String> = branches.query_map([project], |row| row.get(0))?.collect::<Result<_, _>>()?;
    let mut statement = connection.prepare_cached(
        "SELECT id, branch, tag IS NOT NULL, files IS NOT NULL, ended, rerun_of, logs <> 2,
                state IN ('queued', 'waiting', 'running')
         FROM runs WHERE project = ?1 ORDER BY id DESC",
    )?;
    let rows = statement.query_map([project], |row| {
        let (id, branch): (i64, String) = (row.get(0)?, row.get(1)?);
        let line = match (row.get(2)?, row.get(3)?) {
            (_, true) => Line::Tries,
            (true, false) => Line::Tags,
            (false, false) => Line::Branch(branch),
        };
        let is_there = !matches!(&line, Line::Branch(branch) if !there.contains(branch));
        let goes_on: bool = row.get(7)?;
        let ended = row.get::<_, Option<i64>>(4)?.map(Time::from_millis).filter(|_| !goes_on);
        let (rerun_of, has_logs) = (row.get(5)?, row.get(6)?);
        Ok(Past { id, line, is_there, ended, rerun_of, has_logs })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// How many images have their newest run among these, so that they would go with them.
pub(crate) fn images_of(connection: &Connection, runs: &[i64]) -> Result<u64, StoreError> {
    let mut statement = connection.prepare_cached("SELECT count(*) FROM image_records WHERE run = ?1")?;
    let mut total = 0;
    for run in runs {
        total += statement.query_row([run], |row| row.get::<_, i64>(0))?.unsigned_abs();
    }
    Ok(total)
}

/// Gives up the logs of a run.
pub(crate) fn remove_logs(connection: &Connection, run: i64) -> Result<(), StoreError> {
    leave_logs(connection, run)?;
    connection.prepare_cached("UPDATE runs SET logs = 2 WHERE id = ?1")?.execute([run])?;
    Ok(())
}

/// Runs that are over and whose logs are as they were written: the oldest, at most so many.
pub(crate) fn with_plain_logs(connection: &Connection, most: usize) -> Result<Vec<(i64, RunId)>, StoreError> {
    let question = "SELECT r.id FROM runs r INDEXED BY runs_with_plain_logs
                    WHERE r.logs = 0 AND r.state NOT IN ('queued', 'waiting', 'running') ORDER BY r.id LIMIT ?1";
    let mut statement = connection.prepare_cached(question)?;
    let ids: Vec<i64> = statement.query_map([most as i64], |row| row.get(0))?.collect::<Result<_, _>>()?;
    let mut runs = Vec::new();
    for id in ids {
        runs.extend(name_of(connection, id)?.map(|name| (id, name)));
    }
    Ok(runs)
}

/// The logs of these runs are compressed now, where they were not removed meanwhile.
pub(crate) fn set_logs_packed(connection: &Connection, runs: &[i64]) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached("UPDATE runs SET logs = 1 WHERE id = ?1 AND logs = 0")?;
    runs.iter().try_for_each(|run| statement.execute([run]).map(|_| ()))?;
    Ok(())
}

/// The caches of a project.
pub(crate) fn used_caches(connection: &Connection, project: i64) -> Result<Vec<UsedCache>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT branch, is_trusted, key, size, used FROM caches WHERE project = ?1")?;
    let rows = statement.query_map([project], |row| {
        let place = CachePlace { branch: row.get(0)?, is_trusted: row.get(1)? };
        let (size, used) = (row.get::<_, i64>(3)?.unsigned_abs(), Time::from_millis(row.get(4)?));
        Ok(UsedCache { place, key: row.get(2)?, size, used })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// Forgets a cache, unless it was used since.
pub(crate) fn remove_cache(connection: &Connection, project: i64, cache: &UsedCache) -> Result<(), StoreError> {
    let delete = "DELETE FROM caches WHERE project = ?1 AND branch = ?2 AND is_trusted = ?3 AND key = ?4 AND used = ?5";
    let CachePlace { branch, is_trusted } = &cache.place;
    let row = params![project, branch, is_trusted, cache.key, cache.used.millis()];
    connection.prepare_cached(delete)?.execute(row)?;
    Ok(())
}

/// Forgets releases that are too old to be returned to.
pub(super) fn forget_old_releases(
    connection: &Connection,
    environment: &str,
    project: i64,
    job: &str,
) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "DELETE FROM releases WHERE environment = ?1 AND project = ?2 AND job = ?3 AND id NOT IN (
             SELECT id FROM releases WHERE environment = ?1 AND project = ?2 AND job = ?3 ORDER BY id DESC LIMIT ?4)",
        )?
        .execute(params![environment, project, job, RELEASES_KEPT])?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use pondrix_core::JobKey;

    use super::super::scripted::connection;
    use super::super::*;
    use super::*;

    const DIGEST: &str = "sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa";

    /// A project, and runs of it that are over.
    fn runs(records: &Connection, ids: std::ops::RangeInclusive<i64>) {
        let project = "INSERT INTO projects (id, name, repository, hook_secret, added) VALUES (1, 'desk', 'x', 'y', 1)";
        records.execute(project, []).unwrap();
        records.execute("INSERT INTO plans VALUES (5, x'00', '{}')", []).unwrap();
        for id in ids {
            let run = "INSERT INTO runs (id, project, number, start, branch, commit_id, commit_time, title, author,
                       pipeline, faults, state, created, ended, plan)
                       VALUES (?1, 1, ?1, 'manual', 'main', 'c', 1, 't', 'a', 'null', '[]', 'passed', 1, ?1, 5)";
            records.execute(run, [id]).unwrap();
            records.execute("INSERT INTO events (run, at, version, body) VALUES (?1, 1, 2, '{}')", [id]).unwrap();
        }
    }

    /// A run pushes an image of one layer under a tag.
    fn push(records: &Connection, run: i64, tag: &str) {
        let (job, repository) = (JobKey::new("package", "desk"), "x.test/desk".parse().unwrap());
        let digest: pondrix_core::image::Digest = DIGEST.parse().unwrap();
        let layer =
            serde_json::json!({ "digest": DIGEST, "diff_id": DIGEST, "size": 1, "made_by": "", "of_base": false });
        let record = serde_json::json!({ "repository": "x.test/desk", "digest": DIGEST, "base": null, "layers": [layer],
                                          "packages": [] });
        let record = PackedRecord::new(serde_json::from_value(record).unwrap()).unwrap();
        put_record(records, run, &job, &record, Time::from_millis(run)).unwrap();
        put_listing(records, &digest, &PackedListing::new(&[]).unwrap()).unwrap();
        put_tags(records, run, &repository, &digest, &[tag.parse().unwrap()], Time::from_millis(run)).unwrap();
    }

    fn count(records: &Connection, table: &str) -> i64 {
        records.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn an_image_goes_with_the_last_run_that_pushed_it_and_its_layers_lists_with_it() {
        let records = connection();
        runs(&records, 1..=3);
        push(&records, 1, "edge");
        push(&records, 2, "edge");
        push(&records, 3, "other");
        assert!(remove_run(&records, 1).unwrap());
        let image = images(&records, None, None, 9).unwrap().remove(0);
        assert_eq!((image.run.as_str(), image.tags), ("desk#3", vec!["edge".to_owned(), "other".to_owned()]));
        assert_eq!(tag_changes(&records, "x.test/desk", 9).unwrap().last().unwrap().run, "desk#2", "who set it last");
        assert!(remove_run(&records, 3).unwrap());
        assert_eq!(images(&records, None, None, 9).unwrap()[0].run, "desk#2");
        assert!(remove_run(&records, 2).unwrap());
        for table in ["runs", "events", "plans", "image_records", "image_tags", "image_layers", "layer_listings"] {
            assert_eq!(count(&records, table), 0, "{table}");
        }
        assert_eq!(leftovers(&records, 9).unwrap(), ["logs/desk/1", "logs/desk/2", "logs/desk/3"]);
    }

    #[test]
    fn what_an_environment_could_return_to_stays_and_older_releases_do_not() {
        let records = connection();
        runs(&records, 1..=7);
        push(&records, 1, "edge");
        let job = JobKey::new("staging", "desk");
        put_running(&records, 2, &job, "staging", &format!("x.test/desk@{DIGEST}")).unwrap();
        let stays = |id| !remove_run(&records, id).unwrap();
        assert!(stays(1) && stays(2), "it runs what 1 built and 2 brought there");
        for run in 3..=7 {
            put_running(&records, run, &job, "staging", &format!("x.test/desk@{run}")).unwrap();
        }
        assert!(!stays(1) && !stays(2) && stays(3) && stays(7));
        assert_eq!(running(&records, None, Some("staging")).unwrap().len(), 1);
        remove_environment(&records, "staging").unwrap();
        assert!(!stays(3));
    }

    #[test]
    fn a_run_that_another_does_again_or_that_goes_on_or_has_the_newest_image_of_a_branch_is_not_removed() {
        let records = connection();
        runs(&records, 1..=4);
        records.execute("UPDATE runs SET rerun_of = 1 WHERE id = 2", []).unwrap();
        records.execute("UPDATE runs SET state = 'running' WHERE id = 3", []).unwrap();
        records.execute("INSERT INTO branches (project, name, commit_id) VALUES (1, 'main', 'c')", []).unwrap();
        let image =
            "INSERT INTO images (project, branch, job, repository, digest, run) VALUES (1, 'main', 'j', 'r', 'd', 4)";
        records.execute(image, []).unwrap();
        for id in [1, 3, 4] {
            assert!(!remove_run(&records, id).unwrap(), "{id}");
        }
        let judged: Vec<_> =
            pasts(&records, 1).unwrap().iter().map(|past| (past.id, is_needed(&records, past.id).unwrap())).collect();
        assert_eq!(judged, [(4, true), (3, false), (2, false), (1, false)]);
        assert_eq!(oldest_end(&records, 1).unwrap(), Some(Time::from_millis(1)));
        assert!(remove_run(&records, 2).unwrap() && remove_run(&records, 1).unwrap());
        records.execute("DELETE FROM branches", []).unwrap();
        assert!(remove_run(&records, 4).unwrap(), "the branch is gone, and what it built with it");
    }

    #[test]
    fn rules_are_set_in_the_place_of_those_for_the_same_and_removed_when_they_say_nothing() {
        let records = connection();
        runs(&records, 1..=1);
        let rule = |project: Option<&str>, text: serde_json::Value| {
            let project = project.map(|name| name.parse().unwrap());
            EncodedRule::new(Rule { project, branch: None, keep: serde_json::from_value(text).unwrap() }).unwrap()
        };
        assert!(put_rule(&records, &rule(None, serde_json::json!({ "runs": "90d" }))).unwrap());
        assert!(put_rule(&records, &rule(None, serde_json::json!({ "runs": "forever" }))).unwrap());
        assert!(put_rule(&records, &rule(Some("desk"), serde_json::json!({ "at_least": 3 }))).unwrap());
        assert!(!put_rule(&records, &rule(Some("nobody"), serde_json::json!({ "at_least": 3 }))).unwrap());
        let all = rules(&records).unwrap();
        assert_eq!(all.len(), 2);
        assert_eq!(serde_json::to_value(&all[0]).unwrap()["runs"], "forever");
        put_rule(&records, &rule(Some("desk"), serde_json::json!({}))).unwrap();
        assert_eq!(rules(&records).unwrap().len(), 1);
    }
}
