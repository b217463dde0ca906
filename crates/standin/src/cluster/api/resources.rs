//! The kinds of object there are.

use serde_json::{Value, json};

/// A kind of object.
#[derive(Debug)]
pub(super) struct Resource {
    pub(super) api: &'static str,
    pub(super) kind: &'static str,
    pub(super) plural: &'static str,
    pub(super) singular: &'static str,
    pub(super) short: &'static [&'static str],
    pub(super) namespaced: bool,
    /// Whether `get all` shows it.
    pub(super) in_all: bool,
}

const fn core(
    kind: &'static str,
    plural: &'static str,
    singular: &'static str,
    short: &'static [&'static str],
) -> Resource {
    Resource { api: "v1", kind, plural, singular, short, namespaced: true, in_all: false }
}

/// All kinds.
pub(super) const ALL: [Resource; 8] = [
    Resource { namespaced: false, ..core("Namespace", "namespaces", "namespace", &["ns"]) },
    Resource { in_all: true, ..core("Pod", "pods", "pod", &["po"]) },
    Resource { in_all: true, ..core("Service", "services", "service", &["svc"]) },
    core("Event", "events", "event", &["ev"]),
    core("Endpoints", "endpoints", "endpoints", &["ep"]),
    core("ConfigMap", "configmaps", "configmap", &["cm"]),
    Resource { api: "apps/v1", in_all: true, ..core("Deployment", "deployments", "deployment", &["deploy"]) },
    Resource { api: "apps/v1", in_all: true, ..core("ReplicaSet", "replicasets", "replicaset", &["rs"]) },
];

impl Resource {
    /// The group without the version; empty for the core group.
    pub(super) fn group(&self) -> &'static str {
        self.api.split_once('/').map_or("", |(group, _)| group)
    }

    /// An object with what the API fills in where nothing is said.
    pub(super) fn with_defaults(&self, mut object: Value) -> Value {
        let mut fill = |pointer: &[&str], value: Value| {
            let mut at = &mut object;
            for part in pointer {
                at = &mut at[*part];
            }
            if at.is_null() {
                *at = value;
            }
        };
        match self.kind {
            "Deployment" => {
                fill(&["spec", "replicas"], json!(1));
                fill(&["spec", "strategy", "type"], json!("RollingUpdate"));
                fill(&["spec", "progressDeadlineSeconds"], json!(600));
                fill(&["spec", "revisionHistoryLimit"], json!(10));
                for container in object["spec"]["template"]["spec"]["containers"].as_array_mut().into_iter().flatten() {
                    fill_ports(container);
                }
            }
            "Service" => {
                fill(&["spec", "sessionAffinity"], json!("None"));
                fill_ports(&mut object["spec"]);
            }
            "Namespace" => fill(&["status", "phase"], json!("Active")),
            _ => {}
        }
        object
    }
}

/// A port that does not say is of TCP.
fn fill_ports(holder: &mut Value) {
    for port in holder.get_mut("ports").and_then(Value::as_array_mut).into_iter().flatten() {
        if port["protocol"].is_null() {
            port["protocol"] = json!("TCP");
        }
    }
}
