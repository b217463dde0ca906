//! The API and its document, judged by programs of others.

use std::path::{Path, PathBuf};
use std::process::Command;

use pondrix_standin::garden::VISITOR_DESK;

use crate::support::{World, said};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// A program that `make setup` installs.
fn tool(name: &str) -> Command {
    let path = root().join("target/tools/bin").join(name);
    assert!(path.exists(), "{} is not there: run `make setup`", path.display());
    let mut command = Command::new(path);
    command.env("NO_COLOR", "1");
    command
}

#[tokio::test(flavor = "multi_thread")]
async fn the_document_is_what_the_specifications_own_schema_asks_for() {
    let mut command = tool("openapi-spec-validator");
    command.args(["--schema", "3.1"]).arg(root().join("docs/openapi.json"));
    let judged = said(command).await;
    assert_eq!(judged.status, 0, "{}{}", judged.out, judged.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_asked_of_the_api_is_answered_as_its_document_says_and_never_with_a_fault_of_the_servers() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let run = world.run_of("visitor-desk", &repository.push("Something to look at").unwrap()).await;
    world.passes(&run).await;
    let mut command = tool("schemathesis");
    command
        .arg("run")
        .arg(root().join("docs/openapi.json"))
        .args(["--url", world.url(), "--header", &format!("authorization: Bearer {}", world.token)])
        .args(["--phases", "examples,coverage,fuzzing", "--max-examples", "10", "--seed", "20261125"])
        .args([
            "--checks",
            "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance",
        ])
        .args(["--continue-on-failure", "--no-shrink", "--request-timeout", "60", "--generation-database", "none"])
        // Streams have no end, and it cannot write the archives that are tried.
        .args(["--exclude-path-regex", "(stream|tries)$"])
        .current_dir(world.folder.path());
    let judged = said(command).await;
    assert_eq!(judged.status, 0, "{}{}", judged.out, judged.err);
    assert!(judged.out.contains("Tested: "), "{}", judged.out);
}
