//! The controllers: Deployments make ReplicaSets, ReplicaSets make Pods.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use pondrix_image::digest_of;
use serde_json::{Value, json};
use tokio_util::sync::CancellationToken;

use super::objects::{Key, Objects, now};
use super::rolling::Replicas;

/// How often deadlines are looked at when nothing changes.
const TICK: Duration = Duration::from_millis(500);
/// The label that tells the pods of one ReplicaSet from those of another.
const HASH_LABEL: &str = "pod-template-hash";
/// The annotation that counts a Deployment's versions.
const REVISION: &str = "deployment.kubernetes.io/revision";
/// How long a Deployment may make no progress when it does not say.
const PROGRESS_SECONDS: u64 = 600;

/// When each Deployment last came further, and how far it was.
type Progress = HashMap<String, (Instant, Value)>;

/// Runs the controllers until `shutdown`.
pub(super) async fn run(objects: Arc<Objects>, shutdown: CancellationToken) {
    let mut changes = objects.changes();
    let mut progress = Progress::new();
    loop {
        changes.borrow_and_update();
        for deployment in objects.list("deployments", "") {
            deploy(&objects, &deployment, &mut progress);
        }
        for set in objects.list("replicasets", "") {
            replicate(&objects, &set);
        }
        tokio::select! {
            _ = tokio::time::timeout(TICK, changes.changed()) => {}
            () = shutdown.cancelled() => return,
        }
    }
}

pub(super) fn text<'a>(object: &'a Value, pointer: &str) -> &'a str {
    object.pointer(pointer).and_then(Value::as_str).unwrap_or_default()
}

pub(super) fn number(object: &Value, pointer: &str, otherwise: u64) -> u64 {
    object.pointer(pointer).and_then(Value::as_u64).unwrap_or(otherwise)
}

pub(super) fn key_of(resource: &str, object: &Value) -> Key {
    Key::new(resource, text(object, "/metadata/namespace"), text(object, "/metadata/name"))
}

fn owned_by(object: &Value, owner: &Value) -> bool {
    let owners = object.pointer("/metadata/ownerReferences").and_then(Value::as_array);
    owners.into_iter().flatten().any(|reference| reference["uid"] == owner["metadata"]["uid"])
}

fn owner(object: &Value, api: &str, kind: &str) -> Value {
    json!([{ "apiVersion": api, "kind": kind, "name": object["metadata"]["name"], "uid": object["metadata"]["uid"],
             "controller": true, "blockOwnerDeletion": true }])
}

/// Whether every label that a selector wants is there.
pub(super) fn selects(selector: &Value, labels: &Value) -> bool {
    selector
        .as_object()
        .is_some_and(|wanted| !wanted.is_empty() && wanted.iter().all(|(key, value)| labels[key] == *value))
}

pub(super) fn is_ready(pod: &Value) -> bool {
    let conditions = pod.pointer("/status/conditions").and_then(Value::as_array);
    pod.pointer("/metadata/deletionTimestamp").is_none()
        && conditions
            .into_iter()
            .flatten()
            .any(|condition| condition["type"] == "Ready" && condition["status"] == "True")
}

/// Notes what happened, for `describe`.
pub(super) fn note(objects: &Objects, about: &Value, kind: &str, reason: &str, message: &str, warning: bool) {
    let namespace = text(about, "/metadata/namespace");
    let name = format!("{}.{:x}", text(about, "/metadata/name"), objects.version());
    let event = json!({
        "apiVersion": "v1", "kind": "Event", "reason": reason, "message": message,
        "type": if warning { "Warning" } else { "Normal" },
        "involvedObject": { "kind": kind, "namespace": namespace, "name": about["metadata"]["name"], "uid": about["metadata"]["uid"] },
        "source": { "component": "standin" }, "firstTimestamp": now(), "lastTimestamp": now(), "count": 1,
    });
    objects.create(&Key::new("events", namespace, &name), event);
}

fn deploy(objects: &Objects, deployment: &Value, progress: &mut Progress) {
    let namespace = text(deployment, "/metadata/namespace");
    let name = text(deployment, "/metadata/name");
    let wanted = number(deployment, "/spec/replicas", 1);
    let mut sets: Vec<Value> =
        objects.list("replicasets", namespace).into_iter().filter(|set| owned_by(set, deployment)).collect();
    let template = &deployment["spec"]["template"];
    let hash = digest_of(template.to_string().as_bytes()).hex()[..10].to_owned();
    let current = Key::new("replicasets", namespace, &format!("{name}-{hash}"));
    let revision_of = |set: &Value| {
        set["metadata"]["annotations"][REVISION].as_str().and_then(|r| r.parse::<u64>().ok()).unwrap_or(0)
    };
    let newest = sets.iter().map(revision_of).max().unwrap_or(0);
    match objects.get(&current) {
        None => {
            let set = new_set(deployment, &hash, newest + 1);
            sets.extend(objects.create(&current, set));
        }
        // The template of an earlier version is wanted again.
        Some(set) if revision_of(&set) < newest => {
            objects.update(&current, |set| set["metadata"]["annotations"][REVISION] = json!((newest + 1).to_string()));
        }
        Some(_) => {}
    }
    let revision = objects.get(&current).map_or(1, |set| revision_of(&set));
    let (mut old, mut old_available, mut new, mut new_available) = (0, 0, 0, 0);
    for set in &sets {
        let (asked, available) = (number(set, "/spec/replicas", 0), number(set, "/status/availableReplicas", 0));
        if text(set, "/metadata/name") == current.name {
            (new, new_available) = (asked, available.min(asked));
        } else {
            old += asked;
            old_available += available.min(asked);
        }
    }
    let (surge, unavailable) = Replicas::limits(deployment, wanted);
    let recreate = text(deployment, "/spec/strategy/type") == "Recreate";
    let now_there = Replicas { wanted, new, new_available, old, old_available, surge, unavailable };
    let (new_next, mut old_next) = match recreate {
        true if old > 0 || any_pods(objects, namespace, &sets, &current.name) => (0, 0),
        true => (wanted, 0),
        false => now_there.step(),
    };
    scale(objects, deployment, &current, new, new_next);
    for set in sets.iter().filter(|set| text(set, "/metadata/name") != current.name) {
        let asked = number(set, "/spec/replicas", 0);
        let next = asked.min(old_next);
        old_next -= next;
        scale(objects, deployment, &key_of("replicasets", set), asked, next);
    }
    tell_status(objects, deployment, &sets, &current.name, revision, progress);
}

fn any_pods(objects: &Objects, namespace: &str, sets: &[Value], current: &str) -> bool {
    let olds: Vec<_> = sets.iter().filter(|set| text(set, "/metadata/name") != current).collect();
    objects.list("pods", namespace).iter().any(|pod| olds.iter().any(|set| owned_by(pod, set)))
}

fn scale(objects: &Objects, deployment: &Value, set: &Key, from: u64, to: u64) {
    if from == to {
        return;
    }
    objects.update(set, |set| set["spec"]["replicas"] = json!(to));
    let direction = if to > from { "up" } else { "down" };
    let message = format!("Scaled {direction} replica set {} from {from} to {to}", set.name);
    note(objects, deployment, "Deployment", "ScalingReplicaSet", &message, false);
}

fn new_set(deployment: &Value, hash: &str, revision: u64) -> Value {
    let mut template = deployment["spec"]["template"].clone();
    template["metadata"]["labels"][HASH_LABEL] = json!(hash);
    let mut selector = deployment["spec"]["selector"].clone();
    selector["matchLabels"][HASH_LABEL] = json!(hash);
    json!({
        "apiVersion": "apps/v1", "kind": "ReplicaSet",
        "metadata": { "labels": template["metadata"]["labels"], "annotations": { REVISION: revision.to_string() },
                      "ownerReferences": owner(deployment, "apps/v1", "Deployment") },
        "spec": { "replicas": 0, "selector": selector, "template": template },
        "status": { "replicas": 0 },
    })
}

fn tell_status(
    objects: &Objects,
    deployment: &Value,
    sets: &[Value],
    current: &str,
    revision: u64,
    progress: &mut Progress,
) {
    let sum = |pointer: &str| sets.iter().map(|set| number(set, pointer, 0)).sum::<u64>();
    let new = sets.iter().find(|set| text(set, "/metadata/name") == current);
    let updated = new.map_or(0, |set| number(set, "/status/replicas", 0));
    let wanted = number(deployment, "/spec/replicas", 1);
    let (all, ready) = (sum("/status/replicas"), sum("/status/readyReplicas"));
    let key = key_of("deployments", deployment);
    let so_far = json!([deployment["metadata"]["generation"], all, ready, updated]);
    let entry =
        progress.entry(format!("{}/{}", key.namespace, key.name)).or_insert_with(|| (Instant::now(), Value::Null));
    if entry.1 != so_far {
        *entry = (Instant::now(), so_far);
    }
    let complete = updated == wanted && all == wanted && ready == wanted;
    let deadline = Duration::from_secs(number(deployment, "/spec/progressDeadlineSeconds", PROGRESS_SECONDS));
    let stuck = !complete && entry.0.elapsed() > deadline;
    let (_, unavailable) = Replicas::limits(deployment, wanted);
    let available = ready + unavailable >= wanted;
    let condition = |kind: &str, is: bool, reason: &str, message: String| json!({ "type": kind, "status": if is { "True" } else { "False" }, "reason": reason, "message": message });
    let progressing = if stuck {
        let message = format!("{current} made no progress for {} s", deadline.as_secs());
        condition("Progressing", false, "ProgressDeadlineExceeded", message)
    } else if complete {
        condition("Progressing", true, "NewReplicaSetAvailable", format!("{current} has all its replicas"))
    } else {
        condition("Progressing", true, "ReplicaSetUpdated", format!("{current} is progressing"))
    };
    let reason = if available { "MinimumReplicasAvailable" } else { "MinimumReplicasUnavailable" };
    let conditions =
        json!([condition("Available", available, reason, format!("{ready} replicas are available")), progressing]);
    let generation = deployment["metadata"]["generation"].clone();
    objects.update(&key, |object| {
        // A change that came meanwhile has not been seen.
        object["status"] = json!({
            "observedGeneration": generation, "replicas": all, "updatedReplicas": updated, "readyReplicas": ready,
            "availableReplicas": ready, "unavailableReplicas": wanted.saturating_sub(ready), "conditions": conditions,
        });
        object["metadata"]["annotations"][REVISION] = json!(revision.to_string());
    });
}

fn replicate(objects: &Objects, set: &Value) {
    let namespace = text(set, "/metadata/namespace");
    let has_owner = set.pointer("/metadata/ownerReferences/0/uid").is_none_or(|uid| {
        objects.list("deployments", namespace).iter().any(|deployment| deployment["metadata"]["uid"] == *uid)
    });
    let pods: Vec<Value> = objects.list("pods", namespace).into_iter().filter(|pod| owned_by(pod, set)).collect();
    let mut live: Vec<&Value> =
        pods.iter().filter(|pod| pod.pointer("/metadata/deletionTimestamp").is_none()).collect();
    let asked = if has_owner { number(set, "/spec/replicas", 1) } else { 0 };
    // Those that answer nobody go first.
    live.sort_by_key(|pod| (!is_ready(pod), text(pod, "/metadata/creationTimestamp").to_owned()));
    let count = live.len() as u64;
    for pod in live.iter().skip(usize::try_from(asked).unwrap_or(usize::MAX)) {
        delete_pod(objects, &key_of("pods", pod));
    }
    for _ in count..asked {
        new_pod(objects, set);
    }
    if !has_owner && pods.is_empty() {
        objects.remove(&key_of("replicasets", set));
        return;
    }
    let kept = &live[..live.len().min(usize::try_from(asked).unwrap_or(usize::MAX))];
    let ready = kept.iter().filter(|pod| is_ready(pod)).count();
    let generation = set["metadata"]["generation"].clone();
    let replicas = asked.min(count.max(asked));
    objects.update(&key_of("replicasets", set), |object| {
        object["status"] = json!({ "replicas": replicas, "readyReplicas": ready, "availableReplicas": ready,
            "fullyLabeledReplicas": replicas, "observedGeneration": generation });
    });
}

/// Begins a pod's end: it gets no new connections, and the node ends it.
pub(super) fn delete_pod(objects: &Objects, key: &Key) {
    objects.update(key, |pod| {
        let grace = pod.pointer("/spec/terminationGracePeriodSeconds").cloned().unwrap_or_else(|| json!(30));
        pod["metadata"]["deletionTimestamp"] = json!(now());
        pod["metadata"]["deletionGracePeriodSeconds"] = grace;
    });
}

fn new_pod(objects: &Objects, set: &Value) {
    let template = &set["spec"]["template"];
    let seed = format!("{}{}", set["metadata"]["uid"], objects.version());
    let name = format!("{}-{}", text(set, "/metadata/name"), &digest_of(seed.as_bytes()).hex()[..5]);
    let pod = json!({
        "apiVersion": "v1", "kind": "Pod",
        "metadata": { "labels": template["metadata"]["labels"], "annotations": template["metadata"]["annotations"],
                      "ownerReferences": owner(set, "apps/v1", "ReplicaSet") },
        "spec": template["spec"],
        "status": { "phase": "Pending" },
    });
    if objects.create(&Key::new("pods", text(set, "/metadata/namespace"), &name), pod).is_some() {
        note(objects, set, "ReplicaSet", "SuccessfulCreate", &format!("Created pod: {name}"), false);
    }
}
