//! Lists as tables (Kubernetes API, `Table`), which is how clients print them.

use jiff::Timestamp;
use serde_json::{Value, json};

use super::super::controller::{number, text};
use super::resources::Resource;

/// Whether a request wants a table.
pub(super) fn wanted(accept: &str) -> bool {
    accept.contains("as=Table")
}

fn columns(kind: &str) -> &'static [&'static str] {
    match kind {
        "Pod" => &["Name", "Ready", "Status", "Restarts", "Age"],
        "Deployment" => &["Name", "Ready", "Up-to-date", "Available", "Age"],
        "ReplicaSet" => &["Name", "Desired", "Current", "Ready", "Age"],
        "Service" => &["Name", "Type", "Cluster-IP", "Port(s)", "Age"],
        "Namespace" => &["Name", "Status", "Age"],
        "Event" => &["Name", "Type", "Reason", "Message", "Age"],
        _ => &["Name", "Age"],
    }
}

fn age(object: &Value) -> String {
    let made: Option<Timestamp> = text(object, "/metadata/creationTimestamp").parse().ok();
    let seconds = made.map_or(0, |made| Timestamp::now().as_second() - made.as_second()).max(0);
    match seconds {
        0..=119 => format!("{seconds}s"),
        120..=7199 => format!("{}m", seconds / 60),
        7200..=172_799 => format!("{}h", seconds / 3600),
        _ => format!("{}d", seconds / 86_400),
    }
}

fn pod_status(pod: &Value) -> String {
    if pod.pointer("/metadata/deletionTimestamp").is_some() {
        return "Terminating".to_owned();
    }
    let waiting = text(pod, "/status/containerStatuses/0/state/waiting/reason");
    if waiting.is_empty() { text(pod, "/status/phase").to_owned() } else { waiting.to_owned() }
}

fn cells(kind: &str, object: &Value) -> Vec<Value> {
    let count = |pointer: &str| number(object, pointer, 0);
    let mut cells = vec![object["metadata"]["name"].clone()];
    match kind {
        "Pod" => {
            let ready = u8::from(object.pointer("/status/containerStatuses/0/ready") == Some(&json!(true)));
            cells.extend([
                json!(format!("{ready}/1")),
                json!(pod_status(object)),
                json!(count("/status/containerStatuses/0/restartCount").to_string()),
            ]);
        }
        "Deployment" => cells.extend([
            json!(format!("{}/{}", count("/status/readyReplicas"), number(object, "/spec/replicas", 1))),
            json!(count("/status/updatedReplicas")),
            json!(count("/status/availableReplicas")),
        ]),
        "ReplicaSet" => cells.extend(
            ["/spec/replicas", "/status/replicas", "/status/readyReplicas"].map(|pointer| json!(count(pointer))),
        ),
        "Service" => {
            let ports = object.pointer("/spec/ports").and_then(Value::as_array).into_iter().flatten();
            let ports = ports.map(|port| format!("{}:{}/TCP", port["port"], port["nodePort"]));
            cells.extend([
                object["spec"]["type"].clone(),
                object["spec"]["clusterIP"].clone(),
                json!(ports.collect::<Vec<_>>().join(",")),
            ]);
        }
        "Namespace" => cells.push(object["status"]["phase"].clone()),
        "Event" => cells.extend(["type", "reason", "message"].map(|field| object[field].clone())),
        _ => {}
    }
    cells.push(json!(age(object)));
    cells
}

/// Objects as a table. The columns' names are left out where a watch told them before.
pub(super) fn table(resource: &Resource, objects: &[Value], version: &str, with_columns: bool) -> Value {
    let column = |name: &&str| json!({ "name": name, "type": "string", "format": if *name == "Name" { "name" } else { "" }, "description": "", "priority": 0 });
    let columns: Vec<_> = columns(resource.kind).iter().filter(|_| with_columns).map(column).collect();
    let rows = objects.iter().map(|object| {
        let about =
            json!({ "kind": "PartialObjectMetadata", "apiVersion": "meta.k8s.io/v1", "metadata": object["metadata"] });
        json!({ "cells": cells(resource.kind, object), "object": about })
    });
    json!({ "kind": "Table", "apiVersion": "meta.k8s.io/v1", "metadata": { "resourceVersion": version },
            "columnDefinitions": columns, "rows": rows.collect::<Vec<_>>() })
}
