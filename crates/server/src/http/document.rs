//! The OpenAPI document: what the handlers say of themselves, and what is true of every address.

use axum::http::StatusCode;
use serde_json::{Map, Value, json};

use super::guard::{self, Asks};

/// The form of problems (RFC 9457, section 3).
const PROBLEM_TYPE: &str = "application/problem+json";

/// Completes a document: problems have their own form, and each operation tells what it asks of whoever asks for it
/// (`x-asks`: a role, `own`, `signed-in`, `hook-secret` or `nothing`), and every problem that the layers around all
/// handlers may answer.
pub(super) fn complete(document: &mut Value) {
    let Some(paths) = document.get_mut("paths").and_then(Value::as_object_mut) else { return };
    for (path, item) in paths {
        for (method, operation) in item.as_object_mut().into_iter().flatten() {
            if let Some(operation) = operation.as_object_mut() {
                complete_operation(path, method, operation);
            }
        }
    }
}

fn complete_operation(path: &str, method: &str, operation: &mut Map<String, Value>) {
    // Names are those of functions, which are each other's in different modules; tags tell them apart.
    let tag = operation.get("tags").and_then(|tags| tags.get(0)).and_then(Value::as_str).unwrap_or_default();
    let name = operation.get("operationId").and_then(Value::as_str).unwrap_or_default();
    let id = if tag.is_empty() { name.to_owned() } else { format!("{tag}_{name}") };
    operation.insert("operationId".to_owned(), Value::String(id));
    let has_body = operation.contains_key("requestBody");
    let places: Vec<_> = operation
        .get("parameters")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .filter_map(|parameter| parameter.get("in").and_then(Value::as_str).map(str::to_owned))
        .collect();
    let mut problems = vec![(500, "The server could not do this; its log says why.")];
    if has_body || !places.is_empty() {
        problems.push((400, "The request cannot be read."));
    }
    let asks = guard::asks(method, path);
    operation.insert("x-asks".to_owned(), Value::String(asks.map_or("", Asks::word).to_owned()));
    if !matches!(asks, Some(Asks::Nothing | Asks::HookSecret)) {
        problems.push((401, "Nobody is signed in."));
        problems.push((403, "Whoever is signed in may not do this, or another site asks for it."));
    }
    if !places.is_empty() {
        problems.push((404, "There is nothing of this name."));
    }
    if has_body || !places.is_empty() {
        problems.push((422, "The request says something that cannot be done."));
    }
    if has_body {
        problems.push((413, "The request is too large."));
        problems.push((415, "The request's content type is another than the one named here."));
    }
    if method != "get" {
        problems.push((409, "What is there does not allow it now."));
    }
    let Some(responses) = operation.entry("responses").or_insert_with(|| json!({})).as_object_mut() else { return };
    for (status, description) in problems {
        responses.entry(status.to_string()).or_insert_with(|| {
            json!({
                "description": description,
                "content": { PROBLEM_TYPE: { "schema": { "$ref": "#/components/schemas/Problem" } } },
            })
        });
    }
    for (status, response) in responses {
        // The specification asks for words about each (OpenAPI 3.1, "Response Object").
        let reason = status.parse().ok().and_then(|status| StatusCode::from_u16(status).ok()?.canonical_reason());
        if let Some(response) = response.as_object_mut() {
            let description = response.entry("description").or_insert_with(|| json!(""));
            if description.as_str().is_none_or(str::is_empty) {
                *description = json!(reason.unwrap_or(status));
            }
        }
        let Some(content) = response.get_mut("content").and_then(Value::as_object_mut) else { continue };
        let is_problem = |content: &Value| {
            content.pointer("/schema/$ref").and_then(Value::as_str).is_some_and(|name| name.ends_with("/Problem"))
        };
        if content.get("application/json").is_some_and(is_problem)
            && let Some(problem) = content.remove("application/json")
        {
            content.insert(PROBLEM_TYPE.to_owned(), problem);
        }
    }
}
