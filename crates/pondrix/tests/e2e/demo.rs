//! The demo, as the README tells to run it.

use std::process::Command;

use rustix::process::{Pid, Signal, kill_process};

use crate::support::{PONDRIX, alive, family, processes_with, said, until};

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_plays_its_whole_story_and_every_point_holds() {
    let mut command = Command::new(PONDRIX);
    command.args(["demo", "--once"]);
    let said = said(command).await;
    assert_eq!(said.status, 0, "{}{}", said.out, said.err);
    for wanted in [
        "base image registry.fernhollow.test/base/shell:1 is in the registry",
        "noticed through the hook as visitor-desk#1",
        "visitor-desk#1 staging passed",
        "answers: Welcome to Fernhollow Botanic Garden",
        "noticed by comparing branches as visitor-desk#2",
        "replicas were replaced one by one",
        "requests during the",
        "visitor-desk#3 failed at verify; nothing was built, pushed or rolled out",
        "not ok: the hours name 1 days of 7",
        "`pondrix stop plant-labels#1`: 2 processes before, none after",
        "plant-labels#2 over its limit",
        "`pondrix try` as visitor-desk#4: verified and built, pushed as try-4-edge only, not rolled out",
        "plant-labels#3 printed on both base images, with the register as its service",
        "plant-labels#4 ran nothing: the template glasshouse-base/templates/printed.kdl@1 cannot be used: the tag `1` of",
        "plant-labels#5, which names version 2, does as that says",
        "plant-labels#6 ran nothing: plant-labels has no secret `PRINTER_KEY`; fix: pondrix secret set plant-labels PRINTER_KEY",
        "`pondrix rerun plant-labels#7` as plant-labels#8: only bind/book again",
        "visitor-desk#5 ran nothing: the registry registry.fernhollow.test refused",
        "glasshouse-base#1 changed the base; visitor-desk#7 and plant-labels#9 followed by themselves, and staging runs them",
        "`pondrix image chain` says what is built on what:",
        "wren sees plant-labels and no other project, and may run it and no more: this asks for the role `secrets`",
        "of a branch that gave itself a stage for production, ran nothing: environment `production`: it takes protected refs only",
        "of a branch that gave itself a protected secret, ran nothing: the secret `TICKET_KEY` is for runs of protected refs",
        "plant-labels#9 pushed into garden/ with the identity of its job package/pages (project/plant-labels/branch/main)",
    ] {
        assert!(said.out.contains(wanted), "the story does not tell `{wanted}`:\n{}", said.out);
    }
    assert!(!said.out.contains("failed: "), "{}", said.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_stays_until_it_is_interrupted_and_leaves_no_process() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("demo");
    let output = folder.path().join("output");
    let mut child = Command::new(PONDRIX)
        .args(["demo", "--data"])
        .arg(&data)
        .stdout(std::fs::File::create(&output).unwrap())
        .spawn()
        .unwrap();
    let shown = || std::fs::read_to_string(&output).unwrap();
    until("the invitation", async || shown().contains("Ctrl-C ends everything").then_some(())).await;
    for wanted in ["console      http://127.0.0.1:", "sign in with", "application  http://127.0.0.1:", "git clone "] {
        assert!(shown().contains(wanted), "{}", shown());
    }
    let runner_data = data.join("runner").display().to_string();
    assert_eq!(processes_with(&runner_data), 1, "the runner is a process of its own");
    let processes = family(child.id());
    assert!(processes.len() > 6, "the demo, its runner, and two pods with their helpers: {processes:?}");
    kill_process(Pid::from_raw(child.id().cast_signed()).unwrap(), Signal::INT).unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(processes_with(&runner_data), 0);
    assert_eq!(alive(&processes), [], "a process survived");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_refuses_a_folder_with_something_in_it_and_loses_nothing() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("mine"), "kept").unwrap();
    let mut command = Command::new(PONDRIX);
    command.args(["demo", "--data"]).arg(folder.path());
    let said = said(command).await;
    assert_eq!(said.status, 2);
    assert!(said.err.contains("is not empty") && said.err.contains("name another folder"), "{}", said.err);
    assert_eq!(std::fs::read_to_string(folder.path().join("mine")).unwrap(), "kept");
}
