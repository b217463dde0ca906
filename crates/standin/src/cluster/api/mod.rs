//! The Kubernetes API, as much of it as clients here need.

mod discovery;
mod merge;
mod resources;
mod table;
mod watch;

use std::collections::HashMap;
use std::sync::Arc;

use axum::Router;
use axum::body::to_bytes;
use axum::extract::{Query, Request, State};
use axum::http::header::{ACCEPT, CONTENT_TYPE};
use axum::http::{Method, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{any, get};
use serde_json::{Value, json};
use tokio_util::sync::CancellationToken;

use super::controller::{delete_pod, key_of, selects, text};
use super::node::Node;
use super::objects::{Key, Objects};
use resources::Resource;

/// The largest object.
const LARGEST: usize = 2 << 20;

pub(super) struct Cluster {
    objects: Arc<Objects>,
    node: Arc<Node>,
    shutdown: CancellationToken,
}

type Shared = State<Arc<Cluster>>;
type Answer = Result<Response, Response>;

pub(super) fn router(objects: Arc<Objects>, node: Arc<Node>, shutdown: CancellationToken) -> Router {
    Router::new()
        .route("/version", get(discovery::version))
        .route("/api", get(discovery::core_versions))
        .route("/apis", get(discovery::groups))
        .route("/api/v1", get(discovery::core_resources))
        .route("/apis/apps/v1", get(discovery::apps_resources))
        .route("/openapi/v3", get(discovery::openapi))
        .route("/openapi/v3/{*group}", get(discovery::openapi_of_group))
        .fallback(any(handle))
        .with_state(Arc::new(Cluster { objects, node, shutdown }))
}

/// A refusal (Kubernetes API, `Status`).
fn status(code: StatusCode, reason: &str, message: impl Into<String>) -> Response {
    let body = json!({ "kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Failure", "reason": reason,
                       "message": message.into(), "code": code.as_u16() });
    (code, [(CONTENT_TYPE, "application/json")], body.to_string()).into_response()
}

fn answer(code: StatusCode, body: &Value) -> Response {
    (code, [(CONTENT_TYPE, "application/json")], body.to_string()).into_response()
}

fn not_found(resource: &Resource, name: &str) -> Response {
    status(StatusCode::NOT_FOUND, "NotFound", format!("{} \"{name}\" not found", resource.plural))
}

/// What an address is about.
struct Target {
    resource: &'static Resource,
    namespace: String,
    name: Option<String>,
    part: Option<String>,
}

fn target(path: &str) -> Option<Target> {
    let (group, rest) = match path.strip_prefix("/api/v1/") {
        Some(rest) => ("v1", rest),
        None => ("apps/v1", path.strip_prefix("/apis/apps/v1/")?),
    };
    let mut parts: Vec<&str> = rest.split('/').collect();
    let mut namespace = "";
    if parts.len() > 2 && parts[0] == "namespaces" {
        namespace = parts[1];
        parts.drain(..2);
    }
    let resource = resources::ALL.iter().find(|resource| resource.api == group && resource.plural == parts[0])?;
    let owned = |at: usize| parts.get(at).map(|part| (*part).to_owned());
    Some(Target { resource, namespace: namespace.to_owned(), name: owned(1), part: owned(2) })
}

async fn handle(State(cluster): Shared, Query(query): Query<HashMap<String, String>>, request: Request) -> Response {
    let (parts, body) = request.into_parts();
    let Some(target) = target(parts.uri.path()) else {
        return status(StatusCode::NOT_FOUND, "NotFound", "the server could not find the requested resource");
    };
    let header = |name| parts.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
    let (kind, accept) = (header(CONTENT_TYPE), header(ACCEPT));
    let body = match to_bytes(body, LARGEST).await {
        Ok(body) => body,
        Err(error) => return status(StatusCode::PAYLOAD_TOO_LARGE, "RequestEntityTooLarge", error.to_string()),
    };
    // What would come of it is answered, and nothing is stored (Kubernetes API, "Dry-run").
    let is_dry = query.get("dryRun").is_some_and(|value| value == "All");
    let answered = match (parts.method, &target.name) {
        (Method::GET, None) if query.get("watch").is_some_and(|watch| matches!(watch.as_str(), "true" | "1")) => {
            watch::watch(&cluster, &target, &query, &accept)
        }
        (Method::GET, None) => Ok(list(&cluster, &target, &query, &accept)),
        (Method::GET, Some(name)) => get_one(&cluster, &target, name, &query, &accept),
        (Method::POST, None) => create(&cluster, &target, &body, is_dry),
        (Method::PUT, Some(name)) => replace(&cluster, &target, name, &body, is_dry),
        (Method::PATCH, Some(name)) => patch(&cluster, &target, name, &kind, &query, &body),
        (Method::DELETE, Some(name)) => delete(&cluster, &target, name, is_dry),
        _ => Err(status(StatusCode::METHOD_NOT_ALLOWED, "MethodNotAllowed", "this cannot be done here")),
    };
    answered.unwrap_or_else(|refusal| refusal)
}

/// Whether an object fits the selectors of a request.
fn fits(object: &Value, query: &HashMap<String, String>) -> bool {
    let pairs = |name: &str| {
        let text = query.get(name).cloned().unwrap_or_default();
        let all = text.split(',').filter_map(|pair| pair.split_once('='));
        all.map(|(key, value)| (key.to_owned(), value.trim_start_matches('=').to_owned())).collect::<Vec<_>>()
    };
    let labels: Value = pairs("labelSelector").into_iter().map(|(key, value)| (key, json!(value))).collect();
    let labelled =
        labels.as_object().is_none_or(serde_json::Map::is_empty) || selects(&labels, &object["metadata"]["labels"]);
    labelled
        && pairs("fieldSelector")
            .iter()
            .all(|(field, value)| text(object, &format!("/{}", field.replace('.', "/"))) == value)
}

fn list(cluster: &Cluster, target: &Target, query: &HashMap<String, String>, accept: &str) -> Response {
    let version = cluster.objects.version().to_string();
    let all = cluster.objects.list(target.resource.plural, &target.namespace);
    let items: Vec<Value> = all.into_iter().filter(|object| fits(object, query)).collect();
    if table::wanted(accept) {
        return answer(StatusCode::OK, &table::table(target.resource, &items, &version, true));
    }
    let body = json!({ "kind": format!("{}List", target.resource.kind), "apiVersion": target.resource.api,
                       "metadata": { "resourceVersion": version }, "items": items });
    answer(StatusCode::OK, &body)
}

fn key(target: &Target, name: &str) -> Key {
    Key::new(target.resource.plural, &target.namespace, name)
}

fn get_one(cluster: &Cluster, target: &Target, name: &str, query: &HashMap<String, String>, accept: &str) -> Answer {
    let key = key(target, name);
    let object = cluster.objects.get(&key).ok_or_else(|| not_found(target.resource, name))?;
    if target.resource.kind == "Pod" && target.part.as_deref() == Some("log") {
        let log = std::fs::read(cluster.node.log_path(&key)).unwrap_or_default();
        let text = String::from_utf8_lossy(&log);
        let lines: Vec<_> = text.lines().collect();
        let most = query.get("tailLines").and_then(|lines| lines.parse().ok()).unwrap_or(usize::MAX);
        let last = &lines[lines.len().saturating_sub(most)..];
        return Ok(last.iter().map(|line| format!("{line}\n")).collect::<String>().into_response());
    }
    if table::wanted(accept) {
        let version = text(&object, "/metadata/resourceVersion").to_owned();
        return Ok(answer(StatusCode::OK, &table::table(target.resource, &[object], &version, true)));
    }
    Ok(answer(StatusCode::OK, &object))
}

fn parse(body: &[u8]) -> Result<Value, Response> {
    let invalid = |words: String| status(StatusCode::BAD_REQUEST, "BadRequest", words);
    let text = std::str::from_utf8(body).map_err(|error| invalid(error.to_string()))?;
    serde_saphyr::from_str(text).map_err(|error| invalid(error.to_string()))
}

/// Refuses what could not be run, in the words of the API.
fn check(resource: &Resource, object: &Value) -> Result<(), Response> {
    let invalid = |field: &str, words: &str| {
        let message = format!("{} \"{}\" is invalid: {field}: {words}", resource.kind, text(object, "/metadata/name"));
        Err(status(StatusCode::UNPROCESSABLE_ENTITY, "Invalid", message))
    };
    if text(object, "/kind") != resource.kind {
        return invalid("kind", &format!("must be {}", resource.kind));
    }
    if resource.kind == "Deployment" {
        let labels = &object["spec"]["template"]["metadata"]["labels"];
        if !selects(&object["spec"]["selector"]["matchLabels"], labels) {
            return invalid("spec.template.metadata.labels", "`selector` does not match template `labels`");
        }
        if object.pointer("/spec/template/spec/containers/0/image").is_none() {
            return invalid("spec.template.spec.containers", "Required value");
        }
    }
    Ok(())
}

fn create(cluster: &Cluster, target: &Target, body: &[u8], is_dry: bool) -> Answer {
    let object = parse(body)?;
    check(target.resource, &object)?;
    let name = text(&object, "/metadata/name").to_owned();
    let resource = target.resource;
    if resource.namespaced && cluster.objects.get(&Key::new("namespaces", "", &target.namespace)).is_none() {
        let words = format!("namespaces \"{}\" not found", target.namespace);
        return Err(status(StatusCode::NOT_FOUND, "NotFound", words));
    }
    let exists =
        || status(StatusCode::CONFLICT, "AlreadyExists", format!("{} \"{name}\" already exists", resource.plural));
    let key = key(target, &name);
    let mut object = resource.with_defaults(object);
    if is_dry {
        if cluster.objects.get(&key).is_some() {
            return Err(exists());
        }
        if resource.namespaced {
            object["metadata"]["namespace"] = json!(target.namespace);
        }
        return Ok(answer(StatusCode::CREATED, &object));
    }
    let made = cluster.objects.create(&key, object).ok_or_else(exists)?;
    Ok(answer(StatusCode::CREATED, &made))
}

/// What only the cluster itself says of an object stays as it is.
fn keep_own(new: &mut Value, old: &Value, with_status: bool) {
    for field in ["uid", "creationTimestamp", "generation", "resourceVersion", "namespace", "name"] {
        new["metadata"][field] = old["metadata"][field].clone();
    }
    if !with_status && !old["status"].is_null() {
        new["status"] = old["status"].clone();
    }
}

fn replace(cluster: &Cluster, target: &Target, name: &str, body: &[u8], is_dry: bool) -> Answer {
    let object = parse(body)?;
    check(target.resource, &object)?;
    change(cluster, target, name, object, is_dry)
}

/// Puts an object in the place of the one that is there.
fn change(cluster: &Cluster, target: &Target, name: &str, mut new: Value, is_dry: bool) -> Answer {
    let key = key(target, name);
    let with_status = target.part.as_deref() == Some("status");
    let changed = if is_dry {
        cluster.objects.get(&key).map(|old| {
            keep_own(&mut new, &old, with_status);
            new
        })
    } else {
        cluster.objects.update(&key, |old| {
            keep_own(&mut new, old, with_status);
            *old = new;
        })
    };
    changed.map(|object| answer(StatusCode::OK, &object)).ok_or_else(|| not_found(target.resource, name))
}

fn patch(
    cluster: &Cluster,
    target: &Target,
    name: &str,
    kind: &str,
    query: &HashMap<String, String>,
    body: &[u8],
) -> Answer {
    let patch = parse(body)?;
    let key = key(target, name);
    let is_dry = query.get("dryRun").is_some_and(|value| value == "All");
    let applies = kind.starts_with("application/apply-patch");
    let old = match cluster.objects.get(&key) {
        Some(old) => old,
        None if applies => {
            let manager = query.get("fieldManager").cloned().unwrap_or_default();
            if !is_dry {
                cluster.objects.swap_applied(&key, &manager, &patch);
            }
            return create(cluster, target, body, is_dry);
        }
        None => return Err(not_found(target.resource, name)),
    };
    let mut new = old.clone();
    if applies {
        let manager = query.get("fieldManager").cloned().unwrap_or_default();
        if !is_dry && let Some(before) = cluster.objects.swap_applied(&key, &manager, &patch) {
            merge::take_back(&mut new, &before, &patch);
        }
        merge::strategic(&mut new, &patch);
    } else if kind.starts_with("application/merge-patch") {
        merge::plain(&mut new, &patch);
    } else {
        merge::strategic(&mut new, &patch);
    }
    check(target.resource, &new)?;
    change(cluster, target, name, new, is_dry)
}

fn delete(cluster: &Cluster, target: &Target, name: &str, is_dry: bool) -> Answer {
    let key = key(target, name);
    let object = cluster.objects.get(&key).ok_or_else(|| not_found(target.resource, name))?;
    if is_dry {
        return Ok(answer(StatusCode::OK, &object));
    }
    if target.resource.kind == "Pod" {
        delete_pod(&cluster.objects, &key_of("pods", &object));
    } else {
        cluster.objects.remove(&key);
    }
    Ok(answer(StatusCode::OK, &object))
}
