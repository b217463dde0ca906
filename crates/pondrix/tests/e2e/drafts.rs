//! `pondrix draft`: what it finds, asks and writes, and that a cluster takes it.

use std::process::{Command, Stdio};

use pondrix_standin::garden::{REGISTRY, Repository, VISITOR_DESK};

use crate::support::{PONDRIX, Said, World, said};

async fn run_in(repository: &Repository, program: &str, arguments: &[&str], envs: &[(&str, &str)]) -> Said {
    let mut command = Command::new(program);
    command.args(arguments).current_dir(repository.folder()).envs(envs.iter().copied());
    said(command).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_of_a_sample_repository_passes_the_check_and_overwrites_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let repository = Repository::new(folder.path(), "visitor-desk", VISITOR_DESK).unwrap();
    let run = async |arguments: &[&str]| run_in(&repository, PONDRIX, arguments, &[]).await;
    let refused = run(&["draft"]).await;
    assert!(refused.status == 2 && refused.err.contains("is there already, and is not touched"), "{}", refused.err);
    repository.remove("pondrix.kdl").unwrap();
    let written = run(&["draft", "--registry", REGISTRY]).await;
    assert_eq!(written.status, 0, "{}", written.err);
    let checked = run(&["check", "--offline"]).await;
    assert_eq!(checked.status, 0, "{}", checked.out);
    for job in ["verify/test", "package/visitor-desk", "staging/visitor-desk"] {
        assert!(checked.out.contains(job), "{}", checked.out);
    }
    let nowhere = run(&["draft", "--print", "--registry", "no registry"]).await;
    assert!(nowhere.status == 2 && nowhere.err.contains("no draft can be made with these"), "{}", nowhere.err);
}

/// A web application in Python, with tests and no manifests.
const LABELS: &[(&str, &str)] = &[
    ("requirements.txt", "labels==1.0\n"),
    ("labels/__init__.py", ""),
    ("tests/test_labels.py", "import unittest\n"),
    (
        "image.recipe",
        "FROM python:3.12-slim\nCOPY . /srv\nRUN pip install -r /srv/requirements.txt\nEXPOSE 8000\nCMD [\"python3\", \"-m\", \"labels\"]\n",
    ),
];

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_finds_tests_names_what_the_server_knows_and_writes_manifests_that_a_cluster_takes() {
    let world = World::new().await;
    let repository = Repository::new(world.folder.path(), "plant-labels", LABELS).unwrap();
    let known = [("PONDRIX_URL", world.url()), ("PONDRIX_TOKEN", world.token.as_str())];
    let printed = run_in(&repository, PONDRIX, &["draft", "--print"], &known).await;
    for wanted in [
        "container image=\"plant-labels\"",
        "step \"python3 -m pip install -r requirements.txt\"",
        "step \"python3 -m unittest discover -s tests\"",
        "network \"outbound\"",
        "push \"registry.fernhollow.test/plant-labels\"",
        "tag \"{commit.short}-{run}\"",
        "to \"staging\"",
        "containerPort: 8000",
    ] {
        assert!(printed.out.contains(wanted), "no {wanted} in\n{}{}", printed.out, printed.err);
    }
    // Once the server knows what bare names mean, tests run where the recipe begins.
    world.pondrix(&["registry", "add", REGISTRY, "--bare-names", "library"]).await;
    let printed = run_in(&repository, PONDRIX, &["draft", "--print"], &known).await;
    let container = format!("container \"{REGISTRY}/library/python:3.12-slim\"");
    assert!(printed.out.contains(&container), "{}", printed.out);

    let written = run_in(&repository, PONDRIX, &["draft", "--yes"], &known).await;
    assert_eq!(written.status, 0, "{}", written.err);
    let file = repository.folder().join("deploy/plant-labels.yaml").display().to_string();
    assert!(written.out.contains(&file), "{}", written.out);
    let kubeconfig = world.kubeconfig.display().to_string();
    let home = world.folder.path().display().to_string();
    let arguments = ["--kubeconfig", &kubeconfig, "apply", "--dry-run=server", "--filename", &file];
    let taken = run_in(&repository, "kubectl", &arguments, &[("HOME", &home)]).await;
    assert_eq!(taken.status, 0, "{}{}", taken.out, taken.err);
    for object in
        ["deployment.apps/plant-labels created (server dry run)", "service/plant-labels created (server dry run)"]
    {
        assert!(taken.out.contains(object), "{}", taken.out);
    }
    let there =
        run_in(&repository, "kubectl", &["--kubeconfig", &kubeconfig, "get", "deployments"], &[("HOME", &home)]).await;
    assert!(!there.out.contains("plant-labels"), "a dry run leaves nothing: {}", there.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_terminal_a_draft_asks_and_takes_its_guess_where_nothing_is_answered() {
    let folder = tempfile::tempdir().unwrap();
    let repository = Repository::new(folder.path(), "plant-labels", LABELS).unwrap();
    let mut command = Command::new("script");
    command
        .args(["--quiet", "--return", "--command", &format!("{PONDRIX} draft"), "/dev/null"])
        .current_dir(repository.folder())
        .env("XDG_CONFIG_HOME", folder.path())
        .env_remove("PONDRIX_URL")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    std::io::Write::write_all(child.stdin.as_mut().unwrap(), b"registry.fernhollow.test\n\nrelease\n").unwrap();
    let ended = tokio::task::spawn_blocking(move || child.wait_with_output().unwrap()).await.unwrap();
    let shown = String::from_utf8_lossy(&ended.stdout).into_owned();
    assert!(ended.status.success(), "{shown}");
    for question in [
        "Registry for images [registry.example.test]",
        "Environment to roll out to [staging]",
        "Branch whose commits run [",
    ] {
        assert!(shown.contains(question), "{shown}");
    }
    let text = std::fs::read_to_string(repository.folder().join("pondrix.kdl")).unwrap();
    for wanted in ["push \"registry.fernhollow.test/plant-labels\"", "to \"staging\"", "start commit=\"release\""] {
        assert!(text.contains(wanted), "no {wanted} in\n{text}");
    }
}
