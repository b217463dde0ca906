//! Plans, each kept once however many runs it has.

use std::collections::BTreeMap;

use pondrix_core::pipeline::Pipeline;
use pondrix_core::plan::{Plan, Start};
use pondrix_core::work::RunFacts;
use rusqlite::{Connection, OptionalExtension, params};
use sha2::{Digest, Sha256};

use super::StoreError;

/// A plan in the form in which it is kept.
#[derive(Debug)]
pub(super) struct EncodedPlan {
    body: String,
    hash: [u8; 32],
}

impl EncodedPlan {
    pub(super) fn new(plan: &Plan) -> Result<Self, StoreError> {
        let body = serde_json::to_string(plan)?;
        Ok(Self { hash: Sha256::digest(body.as_bytes()).into(), body })
    }

    /// Keeps it. Answers its id.
    pub(super) fn keep(&self, connection: &Connection) -> Result<i64, StoreError> {
        let there = connection
            .prepare_cached("SELECT id FROM plans WHERE hash = ?1")?
            .query_row([self.hash], |row| row.get(0))
            .optional()?;
        if let Some(id) = there {
            return Ok(id);
        }
        let insert = "INSERT INTO plans (hash, body) VALUES (?1, ?2)";
        connection.prepare_cached(insert)?.execute(params![self.hash, self.body])?;
        Ok(connection.last_insert_rowid())
    }
}

/// The plan of this id.
pub(super) fn kept(connection: &Connection, id: i64) -> Result<Plan, StoreError> {
    let body: String =
        connection.prepare_cached("SELECT body FROM plans WHERE id = ?1")?.query_row([id], |row| row.get(0))?;
    Ok(serde_json::from_str(&body)?)
}

/// The plan of a run from before plans were kept, of its pipeline as it was stored. What started it is
/// known by then, so that the rules for starts, whose form was another, do not matter.
pub(super) fn of_pipeline(pipeline: &str, facts: &RunFacts) -> Result<Plan, StoreError> {
    let mut document: serde_json::Value = serde_json::from_str(pipeline)?;
    if let Some(starts) = document.get_mut("starts") {
        *starts = serde_json::Value::Array(Vec::new());
    }
    let pipeline: Pipeline = serde_json::from_value(document)?;
    let start =
        Start { kind: facts.start, branch: facts.branch.clone(), tag: None, changed: None, inputs: BTreeMap::new() };
    Ok(Plan::new(&pipeline, &start))
}
