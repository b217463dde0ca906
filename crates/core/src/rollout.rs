//! Rollouts: which image a manifest is given, and when a changed Deployment is well.
//!
//! Manifests and states are Kubernetes API objects as JSON (API group `apps/v1`, "Deployment").

use serde_json::{Map, Value};

use crate::image::{Digest, Repository};

/// How a changed Deployment stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Progress {
    /// Not there yet; in words for people.
    Moving(String),
    /// Every replica is new and ready, and no old one is left.
    Settled(String),
    /// It will not get there.
    Failed(String),
}

/// The containers in an object that holds a pod template, or is a pod.
fn containers(object: &mut Value) -> impl Iterator<Item = &mut Map<String, Value>> {
    let templated = object.pointer("/spec/template/spec").is_some();
    let spec = object.pointer_mut(if templated { "/spec/template/spec" } else { "/spec" });
    spec.and_then(Value::as_object_mut)
        .into_iter()
        .flat_map(Map::iter_mut)
        .filter(|(key, _)| matches!(key.as_str(), "containers" | "initContainers"))
        .filter_map(|(_, list)| list.as_array_mut())
        .flatten()
        .filter_map(Value::as_object_mut)
}

/// An image's name without its tag and digest.
fn bare_name(image: &str) -> &str {
    let image = image.split('@').next().unwrap_or(image);
    let path = image.rfind('/').unwrap_or(0);
    image[path..].find(':').map_or(image, |colon| &image[..path + colon])
}

/// Puts an image, by digest, into every container that names it: by its repository with whatever
/// tag, or by the image job's name alone. Answers how many containers were changed.
pub fn put_image(object: &mut Value, job: &str, repository: &Repository, digest: &Digest) -> usize {
    let pinned = repository.at(digest.clone()).to_string();
    let mut count = 0;
    for container in containers(object) {
        let names_it = |image: &str| {
            let name = bare_name(image);
            name == job || name == repository.to_string()
        };
        if container.get("image").and_then(Value::as_str).is_some_and(names_it) {
            container.insert("image".to_owned(), Value::String(pinned.clone()));
            count += 1;
        }
    }
    count
}

/// Judges a Deployment after a change, as its status describes it.
#[must_use]
pub fn judge(deployment: &Value) -> Progress {
    let number = |pointer: &str| deployment.pointer(pointer).and_then(Value::as_u64).unwrap_or(0);
    if number("/status/observedGeneration") < number("/metadata/generation") {
        return Progress::Moving("the cluster has not seen the change yet".to_owned());
    }
    let conditions = deployment.pointer("/status/conditions").and_then(Value::as_array).map_or(&[][..], Vec::as_slice);
    for condition in conditions {
        let is = |key: &str, value: &str| condition.get(key).and_then(Value::as_str) == Some(value);
        if is("type", "Progressing") && is("status", "False") || is("type", "ReplicaFailure") && is("status", "True") {
            let message = condition.get("message").and_then(Value::as_str).unwrap_or("it does not progress");
            return Progress::Failed(message.to_owned());
        }
    }
    // A Deployment that does not say how many replicas it wants, wants one.
    let wanted = deployment.pointer("/spec/replicas").and_then(Value::as_u64).unwrap_or(1);
    let (new, all) = (number("/status/updatedReplicas"), number("/status/replicas"));
    let ready = number("/status/availableReplicas");
    let old = all.saturating_sub(new);
    if new == wanted && old == 0 && ready >= wanted {
        return Progress::Settled(format!("{ready} of {wanted} replicas are new and ready"));
    }
    Progress::Moving(format!("{new} of {wanted} replicas are new, {ready} ready, {old} old left"))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn the_image_goes_where_its_repository_or_its_job_is_named_and_nowhere_else() {
        let repository: Repository = "r.test:5000/visitor/desk".parse().unwrap();
        let digest = Digest::from_bytes(&[2; 32]);
        let mut object = json!({"kind": "Deployment", "spec": {"template": {"spec": {
        "initContainers": [{"name": "init", "image": "desk"}],
        "containers": [
            {"name": "web", "image": "r.test:5000/visitor/desk:old"},
            {"name": "pinned", "image": "r.test:5000/visitor/desk@sha256:00"},
            {"name": "other", "image": "r.test:5000/visitor/desk-helper:1"},
        ]}}}});
        assert_eq!(put_image(&mut object, "desk", &repository, &digest), 3);
        let spec = &object["spec"]["template"]["spec"];
        let pinned = format!("r.test:5000/visitor/desk@{digest}");
        assert_eq!(spec["initContainers"][0]["image"], json!(pinned));
        assert_eq!(spec["containers"][1]["image"], json!(pinned));
        assert_eq!(spec["containers"][2]["image"], "r.test:5000/visitor/desk-helper:1");
        let mut service = json!({"kind": "Service", "spec": {"ports": []}});
        assert_eq!(put_image(&mut service, "desk", &repository, &digest), 0);
    }

    #[test]
    fn a_deployment_is_settled_only_when_every_replica_is_new_and_ready_and_no_old_one_is_left() {
        let status = |observed: u64, all: u64, new: u64, ready: u64| {
            judge(&json!({
                "metadata": {"generation": 4}, "spec": {"replicas": 2},
                "status": {"observedGeneration": observed, "replicas": all, "updatedReplicas": new, "availableReplicas": ready},
            }))
        };
        assert!(matches!(status(3, 2, 2, 2), Progress::Moving(_)), "an old status says nothing");
        assert!(matches!(status(4, 3, 1, 2), Progress::Moving(_)));
        assert!(matches!(status(4, 3, 2, 3), Progress::Moving(_)), "an old replica is left");
        assert!(matches!(status(4, 2, 2, 1), Progress::Moving(_)));
        assert!(matches!(status(4, 2, 2, 2), Progress::Settled(_)));
    }

    #[test]
    fn a_deployment_that_gave_up_says_why() {
        let progress = judge(&json!({
            "metadata": {"generation": 1}, "spec": {},
            "status": {"observedGeneration": 1, "conditions": [
                {"type": "Progressing", "status": "False", "message": "no pod became ready in 60 s"}]},
        }));
        assert_eq!(progress, Progress::Failed("no pod became ready in 60 s".to_owned()));
    }
}
