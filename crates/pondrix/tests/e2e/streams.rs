//! Streams that are resumed, runners on their own, machines that refuse.

use std::process::{Command, Stdio};

use futures_util::StreamExt;
use pondrix_api::{Change, LogText};
use pondrix_core::State;

use crate::support::{PONDRIX, Server, World, one_job, said, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_log_is_resumed_at_any_byte_without_loss_or_doubling() {
    let world = World::new().await;
    let (_, run) =
        world.run_of_pipeline("plant-labels", &one_job("step \"echo one; echo tw\u{f6}; echo three\"")).await;
    world.passes(&run).await;
    let whole = world.log(&run, "verify/unit").await;
    for (offset, _) in whole.char_indices() {
        let mut stream = std::pin::pin!(world.client.follow_log(&run, "verify/unit", offset as u64).await.unwrap());
        let mut text = String::new();
        let mut last = String::new();
        while let Some(event) = stream.next().await {
            let event = event.unwrap();
            last.clone_from(&event.id);
            if event.kind == "log" {
                text += &serde_json::from_str::<LogText>(&event.data).unwrap().text;
            }
        }
        assert_eq!(text, whole[offset..], "resumed at {offset}");
        assert_eq!(last, whole.len().to_string());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_stream_of_runs_tells_after_a_gap_what_happened_meanwhile() {
    let world = World::new().await;
    let (repository, first) = world.run_of_pipeline("plant-labels", &one_job("step \"true\"")).await;
    world.passes(&first).await;
    // From the beginning of the records: everything that ever changed, once.
    let mut stream = Box::pin(world.client.follow_runs("0").await.unwrap());
    let event = stream.next().await.unwrap().unwrap();
    let Change { run } = serde_json::from_str(&event.data).unwrap();
    assert_eq!((run.run.as_str(), run.state), ("plant-labels#1", State::Passed));
    drop(stream);
    let commit = repository.push("Meanwhile").unwrap();
    let second = world.run_of("plant-labels", &commit).await;
    world.passes(&second).await;
    let mut stream = Box::pin(world.client.follow_runs(&event.id).await.unwrap());
    let event = stream.next().await.unwrap().unwrap();
    let Change { run } = serde_json::from_str(&event.data).unwrap();
    assert_eq!((run.run.as_str(), run.state), ("plant-labels#2", State::Passed), "and nothing of the first again");
}

#[tokio::test(flavor = "multi_thread")]
async fn jobs_wait_for_a_runner_and_go_on_when_one_comes() {
    let mut world = World::new().await;
    // The same server without a runner of its own: the folder of the runner is taken by nobody.
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_without_runner(&data, &listen));
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo here I am\"")).await;
    let waiting = world.until(&run, |run| run.stages[0].state == State::Running).await;
    assert_eq!(waiting.stages[0].jobs[0].state, State::Queued);
    let mut runner = Command::new(PONDRIX)
        .args(["runner", "join", "--server", world.url(), "--slots", "1", "--token-file"])
        .arg(world.runner_token("pond-7", &[]))
        .arg("--data")
        .arg(world.folder.path().join("pond-7"))
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let detail = world.passes(&run).await;
    assert_eq!(detail.stages[0].jobs[0].runner.as_deref(), Some("pond-7"));
    let pid = rustix::process::Pid::from_raw(runner.id().cast_signed()).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
    assert!(runner.wait().unwrap().success());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_that_refuses_user_namespaces_is_told_so_when_the_runner_starts() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("token"), "x").unwrap();
    // In a namespace of its own, whose limit of further ones is then none.
    let script = format!(
        "echo 0 > /proc/sys/user/max_user_namespaces && exec {PONDRIX} runner join --server http://127.0.0.1:9 --token-file token --data data"
    );
    let mut command = Command::new("unshare");
    command.args(["--user", "--map-root-user", "sh", "-c", &script]).current_dir(folder.path());
    let said = said(command).await;
    assert_eq!(said.status, 1, "{}", said.err);
    assert!(said.err.contains("this machine refuses user namespaces") && said.err.contains("sysctl"), "{}", said.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_that_fails_says_its_line_and_what_the_command_said() {
    let world = World::new().await;
    let pipeline = "start commit=\"main\"\nstage \"package\" {\n    image \"labels\" {\n        \
                    push \"registry.fernhollow.test/labels\" { tag \"{commit.short}\" }\n    }\n}\n";
    let (repository, run) = world.run_of_pipeline("plant-labels", pipeline).await;
    let faults = world.end_of(&run).await.missing;
    assert!(faults[0].what.contains("the commit has no file image.recipe"), "{faults:?}");
    let base = "FROM registry.fernhollow.test/base/shell:1\n";
    for (recipe, words, log) in [
        (
            format!("{base}RUN echo nearly && exit 3\n"),
            "image.recipe:2: the command ended with exit status 3, in `RUN echo nearly && exit 3`",
            "nearly",
        ),
        (
            format!("{base}COPY missing /x\n"),
            "image.recipe:2: the context has no `missing`",
            "image.recipe:2  COPY missing /x",
        ),
        (format!("{base}COPPY a b\n"), "`COPPY` is not an instruction", "did you mean `COPY`?"),
        ("FROM registry.fernhollow.test/none:1\n".to_owned(), "there is no 1", "there is no 1"),
    ] {
        repository.write("image.recipe", &recipe).unwrap();
        let commit = repository.push("A recipe that fails").unwrap();
        let run = world.run_of("plant-labels", &commit).await;
        let failure = world.end_of(&run).await.failure.unwrap();
        assert!(failure.what.contains(words), "{} should contain {words}", failure.what);
        let text = world.log(&run, "package/labels").await;
        assert!(text.contains(log), "{text}");
        until("no tag", async || world.registry.tags("labels").is_empty().then_some(())).await;
    }
}
