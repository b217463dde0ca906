//! Manifests for a repository that has none.

use std::fmt::Write as _;

/// A Deployment and a Service (Kubernetes API, `apps/v1` and `v1`) of an application that listens at a port; the
/// Deployment alone, without probes, where it is not known to listen.
pub(super) fn write(app: &str, image_job: &str, port: Option<u16>) -> String {
    let mut out = format!(
        "# A first draft: what runs, and how it is reached.\n\
         apiVersion: apps/v1\n\
         kind: Deployment\n\
         metadata:\n  name: {app}\n\
         spec:\n  replicas: 2\n  selector:\n    matchLabels:\n      app: {app}\n  template:\n    metadata:\n      labels:\n        \
         app: {app}\n    spec:\n      containers:\n        - name: {app}\n          \
         # Pondrix puts the digest of the image here that its job `{image_job}` built.\n          image: {image_job}\n"
    );
    let Some(port) = port else {
        out +=
            "          # The recipe exposes no port: nothing can tell whether it is well, and nobody can reach it.\n";
        return out;
    };
    let _ = write!(out, "          ports:\n            - name: app\n              containerPort: {port}\n");
    for (probe, period) in [("readinessProbe", 2), ("livenessProbe", 10)] {
        let _ = write!(
            out,
            "          {probe}:\n            tcpSocket:\n              port: app\n            periodSeconds: {period}\n"
        );
    }
    let _ = write!(
        out,
        "---\napiVersion: v1\nkind: Service\nmetadata:\n  name: {app}\nspec:\n  selector:\n    app: {app}\n  ports:\n    \
         - name: app\n      port: 80\n      targetPort: app\n"
    );
    out
}
