//! `pondrix check`, which needs no server.

use std::process::Command;

use crate::support::{PONDRIX, one_job, said};

async fn check(text: &str, more: &[&str]) -> crate::support::Said {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("pondrix.kdl"), text).unwrap();
    let mut command = Command::new(PONDRIX);
    command.current_dir(folder.path()).arg("check").args(more);
    said(command).await
}

#[tokio::test]
async fn a_sound_file_is_told_sound() {
    let said = check(&one_job("step \"true\""), &[]).await;
    assert_eq!((said.status, said.out.as_str()), (0, "pondrix.kdl is valid: 1 stage, 1 job (verify/unit)\n"));
}

#[tokio::test]
async fn every_fault_is_shown_with_its_place_and_the_status_is_2() {
    let said = check(&one_job("stpe \"true\"\n        limit time=\"soon\""), &[]).await;
    assert_eq!(said.status, 2);
    let expected = "\
fault: this job has no step
   at pondrix.kdl:3:5
  |
3 |     job \"unit\" {
  |     ^^^
   help: write step \"COMMAND\" in its braces

fault: `stpe` is not a word here
   at pondrix.kdl:5:9
  |
5 |         stpe \"true\"
  |         ^^^^
   help: did you mean `step`?

fault: `soon` is not a length of time: write a number with a unit, as in `90s`, `10m`, `1h30m` or `3d`
   at pondrix.kdl:6:15
  |
6 |         limit time=\"soon\"
  |               ^^^^^^^^^^^

3 faults in pondrix.kdl
";
    assert_eq!(said.out, expected);
}

#[tokio::test]
async fn faults_come_as_json_for_editors() {
    let said = check(&one_job("stpe \"true\""), &["--json"]).await;
    let told: serde_json::Value = serde_json::from_str(&said.out).unwrap();
    assert_eq!(said.status, 2);
    assert_eq!(told["faults"][1]["place"], serde_json::json!({ "line": 5, "column": 9, "width": 4 }));
    assert_eq!(told["faults"][1]["help"], "did you mean `step`?");
}

#[tokio::test]
async fn a_file_that_is_not_there_is_wrong_usage() {
    let mut command = Command::new(PONDRIX);
    command.args(["check", "no-such.kdl"]);
    let said = said(command).await;
    assert_eq!(said.status, 2);
    assert!(said.err.contains("no-such.kdl"), "{}", said.err);
}

#[tokio::test]
async fn the_sample_pipelines_are_sound() {
    for name in ["visitor-desk", "plant-labels"] {
        let file = format!("{}/../../demo/{name}/pondrix.kdl", env!("CARGO_MANIFEST_DIR"));
        let mut command = Command::new(PONDRIX);
        command.args(["check", &file]);
        let said = said(command).await;
        assert_eq!(said.status, 0, "{}", said.out);
    }
}

#[tokio::test]
async fn every_example_in_the_documents_is_sound() {
    let top = format!("{}/../..", env!("CARGO_MANIFEST_DIR"));
    let mut count = 0;
    for file in ["README.md", "docs/pipeline.md"] {
        let text = std::fs::read_to_string(format!("{top}/{file}")).unwrap();
        for example in text.split("```kdl\n").skip(1) {
            let example = example.split("```").next().unwrap();
            let said = check(example, &[]).await;
            assert_eq!(said.status, 0, "{file}: {}", said.out);
            count += 1;
        }
    }
    assert!(count >= 2, "the documents have {count} examples");
}
