//! What clients ask first: which groups, versions and kinds there are.

use axum::Json;
use axum::extract::Path;
use serde_json::{Value, json};

use super::resources::ALL;

pub(super) async fn version() -> Json<Value> {
    Json(json!({ "major": "1", "minor": "32", "gitVersion": "v1.32.0", "platform": "linux/amd64" }))
}

pub(super) async fn core_versions() -> Json<Value> {
    Json(json!({ "kind": "APIVersions", "versions": ["v1"], "serverAddressByClientCIDRs": [] }))
}

pub(super) async fn groups() -> Json<Value> {
    let version = json!({ "groupVersion": "apps/v1", "version": "v1" });
    Json(json!({ "kind": "APIGroupList", "apiVersion": "v1",
                 "groups": [{ "name": "apps", "versions": [version], "preferredVersion": version }] }))
}

fn resources(api: &str) -> Json<Value> {
    let mut list = Vec::new();
    for resource in ALL.iter().filter(|resource| resource.api == api) {
        list.push(json!({
            "name": resource.plural, "singularName": resource.singular, "namespaced": resource.namespaced,
            "kind": resource.kind, "shortNames": resource.short, "categories": if resource.in_all { vec!["all"] } else { Vec::new() },
            "verbs": ["create", "delete", "get", "list", "patch", "update", "watch"],
        }));
        let part = if resource.kind == "Pod" { "log" } else { "status" };
        list.push(json!({ "name": format!("{}/{part}", resource.plural), "singularName": "", "namespaced": resource.namespaced,
                          "kind": resource.kind, "verbs": ["get", "patch", "update"] }));
    }
    Json(json!({ "kind": "APIResourceList", "apiVersion": "v1", "groupVersion": api, "resources": list }))
}

pub(super) async fn core_resources() -> Json<Value> {
    resources("v1")
}

pub(super) async fn apps_resources() -> Json<Value> {
    resources("apps/v1")
}

pub(super) async fn openapi() -> Json<Value> {
    let at = |path: &str| json!({ "serverRelativeURL": format!("/openapi/v3/{path}") });
    Json(json!({ "paths": { "api/v1": at("api/v1"), "apis/apps/v1": at("apis/apps/v1") } }))
}

/// Enough of a group's document to tell clients that the server itself looks at unknown fields.
pub(super) async fn openapi_of_group(Path(group): Path<String>) -> Json<Value> {
    let api = if group == "apis/apps/v1" { "apps/v1" } else { "v1" };
    let mut paths = serde_json::Map::new();
    let mut schemas = serde_json::Map::new();
    for resource in ALL.iter().filter(|resource| resource.api == api) {
        let (group_name, version) = (resource.group(), "v1");
        let gvk = json!({ "group": group_name, "version": version, "kind": resource.kind });
        let middle = if resource.namespaced { "namespaces/{namespace}/" } else { "" };
        let parameters = json!([{ "name": "fieldValidation", "in": "query", "schema": { "type": "string" } }]);
        let operation = json!({ "x-kubernetes-group-version-kind": gvk, "parameters": parameters, "responses": {} });
        let path = format!("/{group}/{middle}{}/{{name}}", resource.plural);
        paths.insert(path, json!({ "patch": operation, "put": operation }));
        let schema = json!({ "type": "object", "x-kubernetes-group-version-kind": [gvk] });
        schemas.insert(format!("io.k8s.api.{}", resource.kind), schema);
    }
    Json(json!({ "openapi": "3.0.0", "info": { "title": "standin", "version": "v1" }, "paths": paths,
                 "components": { "schemas": schemas } }))
}
