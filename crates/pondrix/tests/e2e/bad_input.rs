//! Faulty files, missing files, repositories that cannot be reached, hooks that lie.

use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::process::{Command, Stdio};

use pondrix_api::NewProject;
use pondrix_core::State;
use pondrix_standin::garden::{SampleFile, VISITOR_DESK};
use reqwest::StatusCode;

use crate::support::{World, one_job, until};

/// How long the desk's rollout may take, as its pipeline says.
const ROLLOUT_TIME: &str = "manifests \"deploy/*.yaml\"\n        limit time=\"2m\"";

/// A repository with a pipeline that passes.
const LABELS: &[SampleFile] = &[(
    "pondrix.kdl",
    "start commit=\"main\"\nstage \"verify\" { job \"labels\" { container \"registry.fernhollow.test/base/shell:1\"; step \"true\" } }\n",
)];

#[tokio::test(flavor = "multi_thread")]
async fn a_faulty_pipeline_file_fails_the_run_at_once_with_the_words_of_check() {
    let world = World::new().await;
    let text = one_job("stpe \"true\"");
    let (_, run) = world.run_of_pipeline("plant-labels", &text).await;
    let detail = world.end_of(&run).await;
    assert_eq!((detail.summary.state, detail.stages.len()), (State::Failed, 0), "nothing ran");
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("pondrix.kdl"), &text).unwrap();
    let mut check = Command::new(crate::support::PONDRIX);
    check.arg("check").current_dir(folder.path());
    let checked = crate::support::said(check).await.out;
    let shown = world.pondrix(&["show", &run.to_string()]).await.out;
    let faults = checked.rsplit_once("\n2 faults").unwrap().0;
    for fault in faults.split("\n\n") {
        assert!(shown.contains(fault.trim()), "`show` lacks:\n{fault}\n{shown}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_without_a_pipeline_file_is_noted_and_starts_nothing() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", LABELS).await;
    repository.remove("pondrix.kdl").unwrap();
    repository.push("No pipeline").unwrap();
    until("the note", async || {
        let project = world.client.projects().await.unwrap().projects.remove(0);
        (project.note.is_some_and(|note| note.contains("has no pondrix.kdl")) && !project.faulty).then_some(())
    })
    .await;
    assert!(world.client.runs(None, 10, None).await.unwrap().runs.is_empty());
    let started = world.pondrix(&["start", "plant-labels"]).await;
    assert!(started.status == 2 && started.err.contains("has no pondrix.kdl"), "{}", started.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_branch_that_no_start_names_starts_nothing_and_one_that_fits_does() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", LABELS).await;
    repository.push_to("idea", "An idea").unwrap();
    until("the note", async || {
        let project = world.client.projects().await.unwrap().projects.remove(0);
        project.note.is_some_and(|note| note.contains("no `start` of its pipeline fits")).then_some(())
    })
    .await;
    let commit = repository.push("The real thing").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(world.client.runs(None, 10, None).await.unwrap().runs.len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_repository_that_cannot_be_reached_is_shown_tried_again_and_hinders_no_other() {
    let world = World::looking_every("1s").await;
    let missing = world.folder.path().join("later.git");
    let new = NewProject { name: "later".to_owned(), repository: missing.display().to_string(), credential: None };
    let project = world.client.add_project(&new).await.unwrap();
    assert!(project.faulty && project.note.unwrap().contains("does not appear to be a git repository"));

    let (repository, _) = world.project("plant-labels", LABELS).await;
    let commit = repository.push("Labels").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;

    // The repository comes up, and its fault goes away by itself.
    std::fs::rename(&repository.bare, &missing).unwrap();
    until("the fault's end", async || {
        let projects = world.client.projects().await.unwrap().projects;
        projects
            .iter()
            .any(|project| project.name == "later" && !project.faulty && project.seen.is_some())
            .then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hook_with_a_wrong_secret_is_refused_and_a_doubled_one_costs_nothing() {
    let world = World::new().await;
    let (repository, project) = world.project("visitor-desk", VISITOR_DESK).await;
    let http = reqwest::Client::new();
    let post = |url: String| http.post(url).body("{\"ref\": \"refs/heads/evil\"}").send();
    let wrong = post(format!("{}/hooks/visitor-desk/wrong", world.url())).await.unwrap();
    assert_eq!(wrong.status(), StatusCode::FORBIDDEN);
    let unsigned = post(format!("{}/hooks/visitor-desk", world.url())).await.unwrap();
    assert_eq!(unsigned.status(), StatusCode::FORBIDDEN);
    let unknown = post(format!("{}/hooks/nobody/x", world.url())).await.unwrap();
    assert_eq!(unknown.status(), StatusCode::FORBIDDEN, "which projects there are is nobody's business");
    let commit = repository.push("One commit").unwrap();
    for _ in 0..5 {
        assert_eq!(post(project.hook.clone().unwrap()).await.unwrap().status(), StatusCode::ACCEPTED);
    }
    let run = world.run_of("visitor-desk", &commit).await;
    world.passes(&run).await;
    post(project.hook.clone().unwrap()).await.unwrap();
    // Looks are one after the other: what the next commit's run is called tells whether one of them started another.
    let next = world.run_of("visitor-desk", &repository.push("Another commit").unwrap()).await;
    assert_eq!((run.number, next.number), (1, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rollout_that_cannot_work_says_why() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let pipeline = VISITOR_DESK.iter().find(|(path, _)| *path == "pondrix.kdl").unwrap().1;
    let manifest = VISITOR_DESK.iter().find(|(path, _)| *path == "deploy/desk.yaml").unwrap().1;
    let never_ready = manifest.replace("/greeting.txt", "/no-such-page");
    for (pipeline, manifest, words) in [
        (
            pipeline.replace("to \"staging\"", "to \"nowhere\""),
            manifest.to_owned(),
            "there is no environment `nowhere`",
        ),
        (pipeline.replace("deploy/*.yaml", "none/*.yaml"), manifest.to_owned(), "no file that fits `none/*.yaml`"),
        (pipeline.to_owned(), manifest.replace("visitor/desk\n", "visitor/other:1\n"), "uses the image `desk`"),
        (
            pipeline.to_owned(),
            manifest.replace("matchLabels:\n      app: visitor-desk", "matchLabels:\n      app: x"),
            "`selector` does not match",
        ),
        (
            pipeline.replace(ROLLOUT_TIME, &ROLLOUT_TIME.replace("2m", "20s")),
            never_ready,
            "it was not ready within 20s",
        ),
    ] {
        repository.write("pondrix.kdl", &pipeline).unwrap();
        repository.write("deploy/desk.yaml", &manifest).unwrap();
        let commit = repository.push("A rollout that cannot work").unwrap();
        let run = world.run_of("visitor-desk", &commit).await;
        let detail = world.end_of(&run).await;
        // What the preflight sees is told before anything runs, the rest where it breaks.
        let (job, what) = match (detail.missing.first(), detail.failure) {
            (Some(fault), _) => (fault.job.clone(), fault.what.clone()),
            (None, failure) => failure.map(|failure| (failure.job, failure.what)).unwrap(),
        };
        assert_eq!(job, "staging/desk");
        assert!(what.contains(words), "{what} should contain {words}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rollout_that_fails_puts_back_what_was_there_even_when_the_server_is_killed_meanwhile() {
    let mut world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let commit = repository.push("The first release").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    world.passes(&run).await;
    let page = async |address: String| reqwest::get(address).await.unwrap().text().await.unwrap();
    let address = format!("http://{}/", world.application);
    let first = page(address.clone()).await;

    let pipeline = VISITOR_DESK.iter().find(|(path, _)| *path == "pondrix.kdl").unwrap().1;
    let manifest = VISITOR_DESK.iter().find(|(path, _)| *path == "deploy/desk.yaml").unwrap().1;
    let restores = ROLLOUT_TIME.replace("2m", "40s") + "\n        on-failure \"restore\"";
    let restores = pipeline.replace(ROLLOUT_TIME, &restores);
    assert_ne!(restores, pipeline);
    repository.write("pondrix.kdl", &restores).unwrap();
    repository.write("deploy/desk.yaml", &manifest.replace("path: /greeting.txt", "path: /no-such-page")).unwrap();
    let commit = repository.push("A release that never gets ready").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    until("the change", async || {
        let log = world.client.log(&run, "staging/desk").await.ok()?;
        String::from_utf8_lossy(&log).contains("applied deployment/visitor-desk").then_some(())
    })
    .await;
    let url = world.server.take().unwrap().kill();
    let listen = url.trim_start_matches("http://").to_owned();
    world.server = Some(crate::support::Server::start(&world.folder.path().join("server"), &listen, "1h").0);
    let detail = world.end_of(&run).await;
    let what = detail.failure.unwrap().what;
    assert!(what.contains("it was not ready within 40s; what was there before is back"), "{what}");
    let log = world.log(&run, "staging/desk").await;
    assert!(
        log.contains("put deployment/visitor-desk back, runs registry.fernhollow.test/visitor/desk@sha256:"),
        "{log}"
    );
    assert_eq!(page(address).await, first);
}

#[test]
fn an_address_that_is_taken_for_a_moment_is_waited_for_and_one_that_stays_taken_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let serve = |listener: &TcpListener| {
        let mut serve = Command::new(crate::support::PONDRIX);
        serve.args(["serve", "--json", "--runners", "0", "--data"]).arg(folder.path());
        serve.args(["--listen", &listener.local_addr().unwrap().to_string()]);
        serve.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let ended = serve(&listener).wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&ended.stderr);
    assert!(ended.status.code() == Some(1) && told.contains("cannot listen on") && told.contains("--listen"), "{told}");
    assert_eq!(told.matches("the address is taken").count(), 1, "{told}");

    // As soon as it says that it waits, there is nothing to wait for.
    let mut server = serve(&listener);
    let mut said = BufReader::new(server.stderr.take().unwrap()).lines();
    assert!(said.any(|line| line.unwrap().contains("the address is taken")));
    drop(listener);
    assert!(said.any(|line| line.unwrap().contains("serving")), "it serves");
    server.kill().unwrap();
    let told = String::from_utf8(server.wait_with_output().unwrap().stdout).unwrap();
    let told: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert!(told["admin_token"].is_string(), "the token that is told once is not lost by a start that came to nothing");
}
