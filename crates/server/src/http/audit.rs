//! The audit.

use std::convert::Infallible;

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use pondrix_api::{AuditKeep, AuditPage, AuditProof, AuditWanted, Problem};
use pondrix_core::audit::{AuditResult, Place};
use pondrix_core::retention::Age;
use serde::Deserialize;
use tracing::warn;

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use crate::domain::Asker;
use crate::store::AuditFilter;

/// The most entries in one answer, and how many where nothing is said.
const MOST: usize = 500;
const USUAL: usize = 50;

/// The shortest time for which entries are kept.
const SHORTEST: u32 = 24 * 3600;

#[derive(Debug, Deserialize)]
pub(super) struct Page {
    before: Option<u64>,
    limit: Option<usize>,
}

fn filter(wanted: AuditWanted) -> Result<AuditFilter, ApiError> {
    let AuditWanted { who, project, action, result, from, since, until } = wanted;
    if let Some(word) = &result {
        word.parse::<AuditResult>().map_err(|error| ApiError::bad(error.to_string()))?;
    }
    Ok(AuditFilter { who, project, action, result, from, since, until, seen: None })
}

/// What was done, the newest first, in the projects that somebody administers; all, where they administer the server.
#[utoipa::path(get, path = "/api/v1/audit", tag = "audit",
    params(AuditWanted,
           ("before" = Option<u64>, Query, description = "`next` of the page before"),
           ("limit" = Option<usize>, Query, description = "How many at the most: 1 to 500, usually 50")),
    responses((status = 200, body = AuditPage), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    person: Person,
    Query(wanted): Query<AuditWanted>,
    Query(Page { before, limit }): Query<Page>,
) -> Result<Json<AuditPage>, ApiError> {
    let limit = limit.unwrap_or(USUAL).clamp(1, MOST);
    Ok(Json(app.engine.audit(&person.into(), filter(wanted)?, before, limit).await?))
}

/// The same, the oldest first, to the end: each entry one line of JSON, whose `chain` is the SHA-256 of that line without
/// this last field.
#[utoipa::path(get, path = "/api/v1/audit/export", tag = "audit", params(AuditWanted),
    responses((status = 200, content_type = "application/jsonl", body = String), (status = 401, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn export(
    State(app): Shared,
    person: Person,
    Query(wanted): Query<AuditWanted>,
) -> Result<Response, ApiError> {
    let (by, filter): (Asker, _) = (person.into(), filter(wanted)?);
    let first = app.engine.audit_onward(&by, filter.clone(), 0).await?;
    let lines = stream::unfold(Some(first), move |piece| {
        let (app, by, filter) = (app.clone(), by.clone(), filter.clone());
        async move {
            let links = piece?;
            let last = links.last()?.entry.number;
            let mut text = Vec::new();
            for link in &links {
                serde_json::to_writer(&mut text, link).ok()?;
                text.push(b'\n');
            }
            let next = app.engine.audit_onward(&by, filter, last).await;
            let next = next.inspect_err(|error| warn!(%error, "an export of the audit was cut off"));
            Some((Ok::<_, Infallible>(Bytes::from(text)), next.ok()))
        }
    });
    Ok(([(CONTENT_TYPE, "application/jsonl")], Body::from_stream(lines)).into_response())
}

#[derive(Debug, Deserialize)]
pub(super) struct At {
    at: Option<String>,
}

/// Whether every entry is as it was written, and follows the one before it.
#[utoipa::path(get, path = "/api/v1/audit/proof", tag = "audit",
    params(("at" = Option<String>, Query, description = "`end` of an earlier answer: that entry must be the same still")),
    responses((status = 200, body = AuditProof), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn prove(
    State(app): Shared,
    _person: Person,
    Query(At { at }): Query<At>,
) -> Result<Json<AuditProof>, ApiError> {
    let at: Option<Place> = at.map(|at| at.parse()).transpose().map_err(|error| ApiError::bad(format!("{error}")))?;
    Ok(Json(app.engine.prove_audit(at).await?))
}

/// Says how long entries are kept. Those that were kept for longer begin to be removed.
#[utoipa::path(put, path = "/api/v1/audit/keep", tag = "audit", request_body = AuditKeep,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn keep(
    State(app): Shared,
    _person: Person,
    Json(AuditKeep { keep }): Json<AuditKeep>,
) -> Result<StatusCode, ApiError> {
    if matches!(keep, Age::For(long) if long.seconds() < SHORTEST) {
        return Err(ApiError::bad(
            "entries of the audit are kept for a day at least: write a time as in `400d`, or `forever`",
        ));
    }
    app.engine.keep_audit(keep).await?;
    Ok(StatusCode::NO_CONTENT)
}
