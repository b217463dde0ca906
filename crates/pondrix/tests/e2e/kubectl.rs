//! A real `kubectl` against the cluster.

use std::process::Command;

use crate::support::{Said, World, said};

async fn kubectl(world: &World, arguments: &[&str]) -> Said {
    let mut command = Command::new("kubectl");
    command.arg("--kubeconfig").arg(&world.kubeconfig).args(arguments).env("HOME", world.folder.path());
    said(command).await
}

const DESK: &str = include_str!("../../../../demo/visitor-desk/deploy/desk.yaml");

#[tokio::test(flavor = "multi_thread")]
async fn a_real_kubectl_applies_watches_shows_describes_and_deletes() {
    let world = World::new().await;
    let file = world.folder.path().join("desk.yaml");
    let sleeper = DESK
        .replace(
            "registry.fernhollow.test/visitor/desk",
            "registry.fernhollow.test/base/shell:1\n          command: [httpd, -f, -p, \"8080\", -h, /etc]",
        )
        .replace("/greeting.txt", "/passwd");
    std::fs::write(&file, &sleeper).unwrap();
    let path = file.to_str().unwrap();
    for (arguments, wanted) in [
        (&["apply", "-f", path][..], "deployment.apps/visitor-desk created"),
        (&["rollout", "status", "deployment/visitor-desk", "--timeout=60s"], "successfully rolled out"),
        (&["get", "deployments"], "2/2"),
        (&["get", "pods"], "Running"),
        (&["get", "service", "visitor-desk", "-o", "jsonpath={.spec.ports[0].nodePort}"], ""),
        (&["describe", "deployment", "visitor-desk"], "2 desired | 2 updated | 2 total | 2 available"),
        (&["describe", "pods"], "registry.fernhollow.test/base/shell:1"),
        (&["describe", "service", "visitor-desk"], "app=visitor-desk"),
        (&["apply", "-f", path], "deployment.apps/visitor-desk unchanged"),
        (
            &["patch", "deployment", "visitor-desk", "-p", "{\"spec\": {\"replicas\": 3}}"],
            "deployment.apps/visitor-desk patched",
        ),
        (&["rollout", "status", "deployment/visitor-desk", "--timeout=60s"], "successfully rolled out"),
        (&["get", "deployments"], "3/3"),
    ] {
        let said = kubectl(&world, arguments).await;
        assert!(said.status == 0 && said.out.contains(wanted), "{arguments:?}: {}{}", said.out, said.err);
    }
    std::fs::write(
        &file,
        sleeper.replace("replicas: 2", "replicas: 1").replace("/etc]", "/bin]").replace("/passwd", "/busybox"),
    )
    .unwrap();
    let applied = kubectl(&world, &["apply", "-f", path]).await;
    assert!(applied.out.contains("deployment.apps/visitor-desk configured"), "{}{}", applied.out, applied.err);
    let status = kubectl(&world, &["rollout", "status", "deployment/visitor-desk", "--timeout=60s"]).await;
    assert!(status.out.contains("successfully rolled out"), "{}{}", status.out, status.err);
    let answer = reqwest::get(format!("http://{}/busybox", world.application)).await.unwrap();
    assert!(answer.status().is_success());
    let deleted = kubectl(&world, &["delete", "-f", path, "--wait=false"]).await;
    assert_eq!(deleted.status, 0, "{}", deleted.err);
    let wrong = kubectl(&world, &["get", "pods", "-n", "nowhere", "no-such"]).await;
    assert!(wrong.err.contains("NotFound"), "{}", wrong.err);
}
