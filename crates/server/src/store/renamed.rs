//! Documents that were stored in older words, rewritten in those of now.
//!
//! Only what the program named itself is renamed: names that people chose (variables, inputs, values of a matrix) are
//! passed over, whatever they are called.

use rusqlite::{Connection, params};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};

use super::StoreError;

/// Rewrites all of them.
pub(super) fn rewrite(connection: &Connection) -> Result<(), StoreError> {
    each(connection, "SELECT id, body FROM plans", |id, body| {
        let plan = rewritten(body, plan)?;
        let hash: [u8; 32] = Sha256::digest(plan.as_bytes()).into();
        connection
            .prepare_cached("UPDATE plans SET body = ?2, hash = ?3 WHERE id = ?1")?
            .execute(params![id, plan, hash])?;
        Ok(())
    })?;
    each(connection, "SELECT id, body FROM events", |id, body| {
        connection
            .prepare_cached("UPDATE events SET body = ?2 WHERE id = ?1")?
            .execute(params![id, rewritten(body, event)?])?;
        Ok(())
    })?;
    each(connection, "SELECT id, pipeline FROM runs WHERE pipeline <> 'null'", |id, body| {
        connection
            .prepare_cached("UPDATE runs SET pipeline = ?2 WHERE id = ?1")?
            .execute(params![id, rewritten(body, pipeline)?])?;
        Ok(())
    })
}

/// Every row that a question answers: an id, and a document. Pages, so that a long table is never in memory whole.
fn each(
    connection: &Connection,
    question: &str,
    mut change: impl FnMut(i64, &str) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    const PAGE: usize = 1000;
    let and = if question.contains(" WHERE ") { "AND" } else { "WHERE" };
    let mut page = connection.prepare(&format!("{question} {and} id > ?1 ORDER BY id LIMIT {PAGE}"))?;
    let mut last = i64::MIN;
    loop {
        let rows = page.query_map([last], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?)))?;
        let rows: Vec<_> = rows.collect::<Result<_, _>>()?;
        for (id, body) in &rows {
            change(*id, body)?;
            last = *id;
        }
        if rows.len() < PAGE {
            return Ok(());
        }
    }
}

fn rewritten(body: &str, change: impl FnOnce(&mut Value)) -> Result<String, StoreError> {
    let mut document: Value = serde_json::from_str(body)?;
    change(&mut document);
    Ok(document.to_string())
}

/// Renames a field, where the object has it.
fn rename(object: &mut Map<String, Value>, from: &str, to: &str) {
    if let Some(value) = object.remove(from) {
        object.insert(to.to_owned(), value);
    }
}

/// Every object of a list in a field.
fn objects<'a>(object: &'a mut Map<String, Value>, field: &str) -> impl Iterator<Item = &'a mut Map<String, Value>> {
    object.get_mut(field).and_then(Value::as_array_mut).into_iter().flatten().filter_map(Value::as_object_mut)
}

fn plan(plan: &mut Value) {
    let Some(plan) = plan.as_object_mut() else { return };
    for stage in objects(plan, "stages") {
        objects(stage, "jobs").for_each(job);
    }
}

fn pipeline(pipeline: &mut Value) {
    let Some(pipeline) = pipeline.as_object_mut() else { return };
    rename(pipeline, "asks", "inputs");
    // What started the run is known by now: the rules do not matter any more.
    pipeline.insert("starts".to_owned(), Value::Array(Vec::new()));
    for stage in objects(pipeline, "stages") {
        rename(stage, "earlier", "required_result");
        stage.remove("conditions");
        for one in objects(stage, "jobs") {
            one.remove("conditions");
            job(one);
        }
    }
}

fn job(job: &mut Map<String, Value>) {
    rename(job, "earlier", "required_result");
    rename(job, "takes", "fetches");
    let Some(kind) = job.get_mut("kind").and_then(Value::as_object_mut) else { return };
    if let Some(steps) = kind.get_mut("steps").and_then(Value::as_object_mut) {
        let place = match steps.remove("inside") {
            Some(Value::String(image)) if image != "host" => serde_json::json!({ "image": image }),
            _ => Value::String("host".to_owned()),
        };
        steps.insert("file_system".to_owned(), place);
        for (from, to) in
            [("besides", "services"), ("takes", "fetches"), ("keeps", "artifacts"), ("reports", "test_reports")]
        {
            rename(steps, from, to);
        }
        objects(steps, "artifacts").for_each(|artifact| rename(artifact, "for_time", "keep"));
        objects(steps, "caches").for_each(|cache| rename(cache, "fallbacks", "newest"));
    }
    if let Some(image) = kind.get_mut("image").and_then(Value::as_object_mut) {
        rename(image, "runner_each", "builds_native");
    }
    if let Some(rollout) = kind.get_mut("rollout").and_then(Value::as_object_mut) {
        rename(rollout, "settle", "time");
        let restores = rollout.remove("restores").and_then(|restores| restores.as_bool()).unwrap_or_default();
        let word = if restores { "restore" } else { "leave" };
        rollout.insert("on_failure".to_owned(), Value::String(word.to_owned()));
    }
}

fn event(event: &mut Value) {
    let Some(event) = event.as_object_mut() else { return };
    let renamed = match event.get("event").and_then(Value::as_str) {
        Some("made") => Some("result-added"),
        Some("barred") => Some("preflight-failed"),
        _ => None,
    };
    if let Some(renamed) = renamed {
        event.insert("event".to_owned(), Value::String(renamed.to_owned()));
    }
    rename(event, "product", "result");
    rename(event, "products", "results");
    rename(event, "faults", "missing");
    objects(event, "missing").for_each(|missing| rename(missing, "next", "fix"));
    objects(event, "results").for_each(result);
    if let Some(one) = event.get_mut("result").and_then(Value::as_object_mut) {
        result(one);
    }
}

fn result(result: &mut Map<String, Value>) {
    rename(result, "made", "kind");
    if result.get("kind").and_then(Value::as_str) == Some("files") {
        result.insert("kind".to_owned(), Value::String("artifact".to_owned()));
    }
}

#[cfg(test)]
mod tests {

    use pondrix_core::pipeline::{FileSystem, JobKind, OnFailure, Pipeline, RequiredResult};
    use pondrix_core::plan::Plan;
    use pondrix_core::run::{Event, JobResult};

    use super::*;

    const PLAN: &str = r#"{"supersede":false,"stages":[{"name":"verify","exclusive":null,"approval":null,"jobs":[
        {"key":"verify/unit","name":"unit","matrix":{"inside":"a"},"left_out":null,"after":[],"earlier":"any",
         "retry":{"times":0,"only_lost":false},"may_fail":false,"locks":[],
         "needs":{"pool":null,"tools":[],"host_network":false},"takes":["verify/before"],
         "kind":{"steps":{"inside":"x.test/y:1","steps":[{"name":"a","command":"echo \"keeps\":"}],
            "env":{"keeps":"mine","inside":"too"},"network":"none",
            "besides":[{"name":"db","image":"x.test/db:1","command":null,"env":{},"ready":{"tcp":5432},"within":"1m"}],
            "secrets":[],"takes":[{"name":"site","from":null,"to":null}],
            "caches":[{"path":"v","key":"k","fallbacks":["p"]}],
            "keeps":[{"name":"site","patterns":["out/**"],"for_time":"14d"}],"outputs":[],
            "reports":["out/*.xml"],"time":"10m","limits":{"memory":null,"processes":null,"cpu":null,"disk":null}}}},
        {"key":"verify/desk","name":"desk","matrix":{},"left_out":null,"after":[],"earlier":"passed",
         "retry":{"times":0,"only_lost":false},"may_fail":false,"locks":[],
         "needs":{"pool":null,"tools":[],"host_network":false},"takes":[],
         "kind":{"rollout":{"to":"staging","image":"desk","manifests":["d/*.yaml"],"settle":"2m","restores":true}}}]}]}"#;

    #[test]
    fn a_plan_of_before_says_the_same_in_the_words_of_now_and_names_that_people_chose_stay() {
        let read: Plan = serde_json::from_str(&rewritten(PLAN, plan).unwrap()).unwrap();
        let [unit, desk] = &read.stages[0].jobs[..] else { panic!("it has two jobs") };
        assert_eq!((unit.required_result, unit.fetches[0].as_str()), (RequiredResult::Any, "verify/before"));
        assert_eq!(unit.matrix["inside"], "a");
        let JobKind::Steps(steps) = &unit.kind else { panic!("it has steps") };
        assert_eq!(steps.file_system, FileSystem::Image("x.test/y:1".to_owned().into()));
        assert_eq!((steps.env["keeps"].as_str(), steps.env["inside"].as_str()), ("mine", "too"));
        assert_eq!(steps.steps[0].command, "echo \"keeps\":");
        assert_eq!(steps.services[0].name.value, "db");
        assert_eq!((steps.artifacts[0].keep.seconds(), steps.fetches.len()), (1_209_600, 1));
        assert_eq!((steps.caches[0].newest[0].value.as_str(), steps.test_reports.len()), ("p", 1));
        let JobKind::Rollout(rollout) = &desk.kind else { panic!("it is a rollout") };
        assert_eq!((rollout.time.seconds(), rollout.on_failure), (120, OnFailure::Restore));
        let whole = PLAN.replace("\"inside\":\"x.test/y:1\"", "\"inside\":\"host\"");
        let read: Plan = serde_json::from_str(&rewritten(&whole, plan).unwrap()).unwrap();
        assert!(matches!(&read.stages[0].jobs[0].kind, JobKind::Steps(steps) if steps.file_system == FileSystem::Host));
    }

    #[test]
    fn events_and_pipelines_of_before_are_read() {
        let read = |body: &str| serde_json::from_str::<Event>(&rewritten(body, event).unwrap()).unwrap();
        let kept = r#"{"event":"made","job":"a/b","product":{"made":"files","name":"site","count":1,"bytes":2,"until":"2026-01-01T00:00:00Z"}}"#;
        assert!(matches!(read(kept), Event::ResultAdded { result: JobResult::Artifact { count: 1, .. }, .. }));
        let carried =
            r#"{"event":"carried","job":"a/b","from":"desk#1","products":[{"made":"output","name":"v","value":"1"}]}"#;
        assert!(matches!(read(carried), Event::Carried { results, .. } if results.len() == 1));
        let barred = r#"{"event":"barred","faults":[{"job":"a/b","what":"no secret","next":"set it"}]}"#;
        assert!(matches!(read(barred), Event::PreflightFailed { missing } if missing[0].fix == "set it"));
        assert_eq!(read(r#"{"event":"began"}"#), Event::Began);
        let jobs: Value = serde_json::from_str(PLAN).unwrap();
        let mut job = jobs["stages"][0]["jobs"][0].clone();
        job["after"] = serde_json::json!([]);
        let old = serde_json::json!({ "about": null, "asks": [], "env": {},
            "starts": [{ "clock": { "schedule": "0 5 * * *", "branch": "main" } }],
            "stages": [{ "name": "verify", "earlier": "failed", "jobs": [job] }] });
        let read: Pipeline = serde_json::from_str(&rewritten(&old.to_string(), pipeline).unwrap()).unwrap();
        assert_eq!(read.stages[0].required_result, RequiredResult::Failed);
    }
}
