//! What happens when something between the parts breaks, freezes, or is made to break them.

use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use pondrix_core::State;
use pondrix_standin::garden::REGISTRY;
use rustix::process::{Pid, Signal, kill_process};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::support::{PONDRIX, Server, World, listener, one_job, until};

/// A proxy before a server that, while it is told to, answers as one does whose server starts again.
struct Proxy {
    url: String,
    is_broken: Arc<AtomicBool>,
    refused: Arc<AtomicUsize>,
}

impl Proxy {
    async fn before(url: &str) -> Self {
        let at = listener().await;
        let own = format!("http://{}", at.local_addr().unwrap());
        let (is_broken, refused) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let (broken, count) = (Arc::clone(&is_broken), Arc::clone(&refused));
        let server = url.trim_start_matches("http://").to_owned();
        tokio::spawn(async move {
            while let Ok((mut from, _)) = at.accept().await {
                let (server, broken, count) = (server.clone(), Arc::clone(&broken), Arc::clone(&count));
                tokio::spawn(async move {
                    let Ok(mut to) = TcpStream::connect(&server).await else { return };
                    // Each connection carries requests as long as it is not broken; then every request is answered
                    // with 502, and the connection closed.
                    let mut buffer = vec![0; 64 * 1024];
                    let mut back = vec![0; 64 * 1024];
                    loop {
                        tokio::select! {
                            read = from.read(&mut buffer) => {
                                let Ok(length @ 1..) = read else { return };
                                if broken.load(Ordering::Relaxed) {
                                    count.fetch_add(1, Ordering::Relaxed);
                                    let answer = "HTTP/1.1 502 Bad Gateway\r\ncontent-length: 3\r\nconnection: close\r\n\r\nbad";
                                    drop(from.write_all(answer.as_bytes()).await);
                                    return;
                                }
                                if to.write_all(&buffer[..length]).await.is_err() { return }
                            }
                            read = to.read(&mut back) => {
                                let Ok(length @ 1..) = read else { return };
                                if from.write_all(&back[..length]).await.is_err() { return }
                            }
                        }
                    }
                });
            }
        });
        Self { url: own, is_broken, refused }
    }
}

/// A runner as a process of its own; ended when dropped.
struct JoinedRunner(Child);

impl JoinedRunner {
    fn join(world: &World, url: &str, name: &str) -> Self {
        let log = std::fs::File::create(world.folder.path().join(format!("{name}.log"))).unwrap();
        let child = Command::new(PONDRIX)
            .args(["runner", "join", "--server", url, "--slots", "1", "--token-file"])
            .arg(world.runner_token(name, &[]))
            .arg("--data")
            .arg(world.folder.path().join(name))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap();
        Self(child)
    }

    fn signal(&self, signal: Signal) {
        kill_process(Pid::from_child(&self.0), signal).unwrap();
    }
}

impl Drop for JoinedRunner {
    fn drop(&mut self) {
        // One that was stopped ends only when it goes on.
        let _ = kill_process(Pid::from_child(&self.0), Signal::CONT);
        let _ = kill_process(Pid::from_child(&self.0), Signal::TERM);
        drop(self.0.wait());
    }
}

/// A world whose server has no runner of its own.
async fn world_without_runner() -> World {
    let mut world = World::new().await;
    let mut server = world.server.take().unwrap();
    server.end();
    let listen = server.url.trim_start_matches("http://").to_owned();
    drop(server);
    world.server = Some(Server::start_without_runner(&world.folder.path().join("server"), &listen));
    world
}

async fn is_here(world: &World, name: &str) {
    until(&format!("the runner {name}"), async || {
        let runners = world.client.runners().await.ok()?.runners;
        runners.iter().any(|runner| runner.here && runner.name == name).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_of_a_proxy_whose_server_starts_again_end_no_job_and_no_log() {
    let world = world_without_runner().await;
    let proxy = Proxy::before(world.url()).await;
    let _runner = JoinedRunner::join(&world, &proxy.url, "heron");
    is_here(&world, "heron").await;
    let lines = "step \"echo before; for i in 1 2 3 4 5 6 7 8; do sleep 0.5; echo line $i; done\"\nstep \"echo after\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    until("the job's first line", async || {
        let log = world.client.log(&run, "verify/unit").await.ok()?;
        String::from_utf8_lossy(&log).contains("before").then_some(())
    })
    .await;
    proxy.is_broken.store(true, Ordering::Relaxed);
    until("some requests to be refused", async || (proxy.refused.load(Ordering::Relaxed) >= 5).then_some(())).await;
    proxy.is_broken.store(false, Ordering::Relaxed);
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let lines: Vec<_> =
        log.lines().filter(|line| line.starts_with("line") || *line == "before" || *line == "after").collect();
    let expected: Vec<_> = std::iter::once("before".to_owned())
        .chain((1..=8).map(|number| format!("line {number}")))
        .chain(std::iter::once("after".to_owned()))
        .collect();
    assert_eq!(lines, expected, "nothing is missing, and nothing is there twice");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_freezes_is_lost_after_30_s_and_ends_its_job_when_it_wakes() {
    let world = world_without_runner().await;
    let runner = JoinedRunner::join(&world, world.url(), "moss");
    is_here(&world, "moss").await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"sleep 1000\"")).await;
    world.until(&run, |run| run.stages[0].jobs[0].steps.iter().any(|step| step.state == State::Running)).await;
    runner.signal(Signal::STOP);
    let since = std::time::Instant::now();
    let detail = world.end_of(&run).await;
    assert!(since.elapsed() >= Duration::from_secs(24), "it was given its time: {:?}", since.elapsed());
    let job = &detail.stages[0].jobs[0];
    assert_eq!((job.state, job.reason.as_deref()), (State::Lost, Some("runner moss was not heard of for 30 s")));
    runner.signal(Signal::CONT);
    // Its place is free again, since what was in it has ended.
    let (_, next) = world.run_of_pipeline("visitor-desk", &one_job("step \"true\"")).await;
    world.passes(&next).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_jobs_limit_is_for_its_steps_and_what_comes_before_them_is_told_apart() {
    let world = World::new().await;
    let service = format!(
        "service \"labels\" \"{REGISTRY}/base/shell:1\" {{\nrun \"sleep 12; exec httpd -f -p 8080\"\nready tcp=8080\n}}\n"
    );
    let lines = format!("{service}limit time=\"10s\"\nstep \"sleep 0.4\"");
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(&lines)).await;
    let detail = world.passes(&run).await;
    let job = &detail.stages[0].jobs[0];
    let phases = job.phases(job.ended.unwrap());
    let of = |name: &str| phases.iter().find(|(phase, _)| *phase == name).unwrap().1;
    assert!(of("preparing") >= 12_000, "{phases:?}");
    assert!((400..10_000).contains(&of("running")), "{phases:?}");
    let shown = world.pondrix(&["show", &run.to_string()]).await.out;
    assert!(shown.contains("preparing 1"), "{shown}");
    // What takes longer than its limit is ended all the same.
    let (_, late) = world.run_of_pipeline("visitor-desk", &one_job("limit time=\"1s\"\nstep \"sleep 1000\"")).await;
    let detail = world.end_of(&late).await;
    assert!(detail.failure.unwrap().what.contains("the job took longer than its limit of 1s"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pushed_file_of_braces_in_each_other_is_a_failed_run_and_the_server_serves_on() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for text in ["a {\n".repeat(5000) + &"}\n".repeat(5000), "stage \"x\" {".repeat(60_000)] {
        repository.write("pondrix.kdl", &text).unwrap();
        let commit = repository.push("Deep").unwrap();
        let run = world.run_of("plant-labels", &commit).await;
        let detail = world.end_of(&run).await;
        assert_eq!(detail.summary.state, State::Failed);
        assert!(!detail.faults.is_empty());
        let checked = world.folder.path().join("deep.kdl");
        std::fs::write(&checked, &text).unwrap();
        let said = world.pondrix(&["check", checked.to_str().unwrap()]).await;
        assert_eq!(said.status, 2, "{}", said.err);
    }
    repository.write("pondrix.kdl", &one_job("step \"true\"")).unwrap();
    let commit = repository.push("Mended").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_manifest_whose_annotations_are_no_mapping_fails_its_rollout_in_words() {
    let world = World::new().await;
    let pipeline = format!(
        "stage \"make\" {{ image \"app\" {{ push \"{REGISTRY}/pond\" {{ tag \"{{run}}\" }} }} }}\n\
         stage \"staging\" {{ rollout \"app\" {{ to \"staging\"; image \"app\"; manifests \"app.yaml\" }} }}\n"
    );
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &format!("start commit=\"**\"\n{pipeline}")).unwrap();
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n")).unwrap();
    let manifest = "apiVersion: apps/v1\nkind: Deployment\nmetadata:\n  name: app\n  annotations: x\nspec:\n  template:\n    spec:\n      containers: [{name: app, image: app}]\n";
    repository.write("app.yaml", manifest).unwrap();
    let commit = repository.push("An odd manifest").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    let words = "app.yaml: metadata.annotations of deployment/app is a text, and must be a mapping";
    assert!(detail.failure.unwrap().what.contains(words));
}
