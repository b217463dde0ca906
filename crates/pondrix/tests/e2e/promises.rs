//! What the documents promise, and nothing else proves.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use pondrix_api::StartRequest;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::REGISTRY;
use reqwest::StatusCode;
use sha2::Sha256;

use crate::again::in_checkout;
use crate::crash::next;
use crate::support::{Server, World, one_job, processes_with, until};

/// The moment of now in seconds, as whoever signs knows it.
fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hook_that_is_signed_has_the_repository_looked_at_and_one_signed_wrongly_does_not() {
    let world = World::new().await;
    let (repository, project) = world.project("gate", &[]).await;
    repository.set_hook(None).unwrap();
    repository.write("pondrix.kdl", &one_job("step \"true\"")).unwrap();
    let commit = repository.push("A pipeline").unwrap();
    let http = reqwest::Client::new();
    let signed = |secret: &str, at: u64, body: &'static str| {
        let mut mac = Hmac::<Sha256>::new_from_slice(secret.as_bytes()).unwrap();
        mac.update(format!("msg_1.{at}.{body}").as_bytes());
        let signature = format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()));
        http.post(format!("{}/hooks/gate", world.url()))
            .header("webhook-id", "msg_1")
            .header("webhook-timestamp", at.to_string())
            .header("webhook-signature", signature)
            .body(body)
    };
    for wrong in [signed("another", now(), "{}"), signed(project.hook_secret.as_ref().unwrap(), now() - 3600, "{}")] {
        assert_eq!(wrong.send().await.unwrap().status(), StatusCode::FORBIDDEN);
    }
    let altered = signed(project.hook_secret.as_ref().unwrap(), now(), "{}").body("{\"altered\": true}");
    assert_eq!(altered.send().await.unwrap().status(), StatusCode::FORBIDDEN);
    assert!(world.client.runs(None, 9, None).await.unwrap().runs.is_empty(), "nobody looked");
    let right =
        signed(project.hook_secret.as_ref().unwrap(), now(), "{\"ref\": \"refs/heads/main\"}").send().await.unwrap();
    assert_eq!(right.status(), StatusCode::ACCEPTED);
    world.passes(&world.run_of("gate", &commit).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ending_the_server_ends_the_jobs_of_its_own_runner_and_leaves_no_process() {
    let mut world = World::new().await;
    let (_, run) = world.run_of_pipeline("gate", &one_job("step \"echo begun; sleep 86213\"")).await;
    until("its step to begin", async || (world.log(&run, "verify/unit").await == "begun\n").then_some(())).await;
    assert_eq!(processes_with("86213"), 1);
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    assert_eq!(processes_with("86213"), 0, "what the job ran is ended with the server");
    world.server = Some(Server::start(&world.folder.path().join("server"), &listen, "1h").0);
    let ended = world.end_of(&run).await;
    assert!(matches!(ended.summary.state, State::Lost | State::Stopped | State::Failed), "{}", ended.summary.state);
    assert_eq!(world.log(&run, "verify/unit").await.lines().next(), Some("begun"), "its log is kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_project_with_twice_the_weight_has_twice_as_many_turns_and_a_limit_is_kept() {
    const RUNS: usize = 6;
    let world = World::new().await;
    let runner = world.client.runners().await.unwrap().runners[0].name.clone();
    assert_eq!(world.pondrix(&["runner", "pause", &runner]).await.status, 0);
    for (name, setting) in [("heavy", ["--weight", "2"]), ("light", ["--limit", "1"])] {
        world.run_of_pipeline(name, &one_job("step \"true\"")).await;
        assert_eq!(world.pondrix(&[&["project", "set", name], &setting[..]].concat()).await.status, 0);
        for _ in 1..RUNS {
            world.client.start(&name.parse().unwrap(), &StartRequest::default()).await.unwrap();
        }
    }
    let runs = world.client.runs(None, 50, None).await.unwrap().runs;
    assert_eq!(runs.len(), 2 * RUNS);
    for run in &runs {
        let name: RunId = run.run.parse().unwrap();
        world.until(&name, |run| run.stages[0].jobs[0].queued.is_some()).await;
    }
    assert_eq!(world.pondrix(&["runner", "resume", &runner]).await.status, 0);
    let mut jobs = Vec::new();
    for run in &runs {
        let detail = world.passes(&run.run.parse().unwrap()).await;
        let job = &detail.stages[0].jobs[0];
        jobs.push((job.started.unwrap(), job.ended.unwrap(), run.project.clone()));
    }
    jobs.sort();
    let light: Vec<_> = jobs.iter().filter(|(.., project)| project == "light").collect();
    for two in light.windows(2) {
        assert!(two[1].0 >= two[0].1, "two jobs of a project that may have one ran at once: {jobs:?}");
    }
    // Two places, and three turns of which two are the heavy one's.
    let heavy_first = jobs[..6].iter().filter(|(.., project)| project == "heavy").count();
    assert!((3..=5).contains(&heavy_first), "{jobs:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_server_takes_no_more_of_what_is_tried_than_it_is_told_to() {
    let mut world = World::new().await;
    let (repository, first) = world.run_of_pipeline("gate", &one_job("step \"true\"")).await;
    world.passes(&first).await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &listen, &["--try-limit", "10KiB"]));
    let mut seed = 20_261_126;
    let noise: String = (0..40_000).map(|_| char::from(b'!' + (next(&mut seed) % 90) as u8)).collect();
    repository.write("noise", &noise).unwrap();
    let refused = in_checkout(&world, &repository, &["try"]).await;
    assert!(refused.err.contains("more than 10240 bytes when compressed"), "{}{}", refused.out, refused.err);
    assert!(refused.err.contains("--try-limit"), "it says what to do: {}", refused.err);
    repository.write("noise", "little").unwrap();
    assert_eq!(in_checkout(&world, &repository, &["try"]).await.status, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_output_that_is_too_long_fails_its_job_and_says_how_long_it_may_be() {
    let world = World::new().await;
    let lines = "output \"text\" file=\"text\"\n step \"head -c 65537 /dev/zero | tr '\\\\\\\\0' x > text\"";
    let (_, run) = world.run_of_pipeline("gate", &one_job(lines)).await;
    let ended = world.end_of(&run).await;
    assert_eq!(ended.summary.state, State::Failed);
    let what = ended.failure.unwrap().what;
    assert!(what.contains("64 KiB") || what.contains("65536"), "{what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_ends_before_it_is_ready_fails_the_job_with_how_it_ended() {
    let world = World::new().await;
    let service = format!(
        "service \"labels\" \"{REGISTRY}/base/shell:1\" {{ run \"echo no bed is free; exit 7\"\n ready tcp=8080 within=\"60s\" }}\n step \"true\""
    );
    let (_, run) = world.run_of_pipeline("gate", &one_job(&service)).await;
    let ended = world.end_of(&run).await;
    assert_eq!(ended.summary.state, State::Failed);
    let what = ended.failure.unwrap().what;
    assert!(what.contains("labels") && what.contains('7'), "{what}");
    assert!(world.log(&run, "verify/unit").await.contains("no bed is free"));
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_of_tags_and_of_tries_find_caches_and_leave_none() {
    let world = World::new().await;
    let (repository, _) = world.project("gate", &[]).await;
    let lines = "cache \"deps\" key=\"k\"\n step \"cat deps/by 2>/dev/null || echo nothing; mkdir -p deps; echo run $PONDRIX_RUN > deps/by\"";
    let pipeline = one_job(lines).replace("start commit=\"main\"\n", "start commit=\"main\"\nstart tag=\"v*\"\n");
    repository.write("pondrix.kdl", &pipeline).unwrap();
    repository.push_to("side", "A pipeline").unwrap();
    let said = async |run: &RunId| {
        let log = world.log(run, "verify/unit").await;
        log.lines().find(|line| *line == "nothing" || line.starts_with("run ")).unwrap_or_default().to_owned()
    };
    assert_eq!(in_checkout(&world, &repository, &["try"]).await.status, 0);
    let tried = "gate#1".parse().unwrap();
    assert_eq!(said(&tried).await, "nothing");
    repository.git(&["tag", "v1"]).unwrap();
    repository.git(&["push", "origin", "v1"]).unwrap();
    let tagged: RunId = "gate#2".parse().unwrap();
    until("the run of the tag", async || world.client.run(&tagged).await.is_ok().then_some(())).await;
    world.passes(&tagged).await;
    assert_eq!(said(&tagged).await, "nothing", "the try left nothing");
    let first = world.run_of("gate", &repository.push("On main").unwrap()).await;
    world.passes(&first).await;
    assert_eq!(said(&first).await, "nothing", "nor did the tag");
    assert_eq!(in_checkout(&world, &repository, &["try"]).await.status, 0);
    assert_eq!(said(&"gate#4".parse().unwrap()).await, "run 3", "a try finds what the branch left");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_template_is_what_its_tag_or_its_commit_says_however_its_branch_goes_on() {
    let world = World::new().await;
    let (platform, _) = world.project("platform", &[]).await;
    let template = |words: &str| {
        format!(
            "stage \"verify\" {{ job \"unit\" {{ container \"{REGISTRY}/base/shell:1\"\n step \"echo {words}\" }} }}"
        )
    };
    platform.write("shared/beds.kdl", &template("first")).unwrap();
    let first = platform.push("First").unwrap();
    platform.git(&["tag", "v1"]).unwrap();
    platform.git(&["push", "origin", "v1"]).unwrap();
    platform.write("shared/beds.kdl", &template("second")).unwrap();
    let second = platform.push("Second").unwrap();
    assert_eq!(world.pondrix(&["project", "set", "platform", "--templates", "yes"]).await.status, 0);
    let newest = pondrix_core::pipeline::TemplateName::new("beds", "platform", "shared", "main").unwrap();
    until("the newest", async || (world.client.template(&newest).await.ok()?.commit == second).then_some(())).await;
    let (gate, _) = world.project("gate", &[]).await;
    // Runs of what is not protected take what moves.
    assert_eq!(world.pondrix(&["project", "set", "gate", "--protect", "release"]).await.status, 0);
    for (version, words) in [("v1", "first\n"), (&first[..12], "first\n"), ("main", "second\n")] {
        let file = format!(
            "start commit=\"main\"\nuse \"beds\" project=\"platform\" folder=\"shared\" version=\"{version}\"\n"
        );
        gate.write("pondrix.kdl", &file).unwrap();
        let run = world.run_of("gate", &gate.push(version).unwrap()).await;
        world.passes(&run).await;
        assert_eq!(world.log(&run, "verify/unit").await, words, "version {version}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_whose_session_is_over_is_signed_out() {
    let world = World::new().await;
    let http = reqwest::Client::new();
    let url = |path: &str| format!("{}{path}", world.url());
    let answer =
        http.post(url("/api/v1/session")).json(&serde_json::json!({ "token": world.token })).send().await.unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let whoami = || http.get(url("/api/v1/whoami")).header("cookie", &cookie).send();
    assert_eq!(whoami().await.unwrap().status(), StatusCode::OK);
    let records = rusqlite::Connection::open(world.folder.path().join("server/records.db")).unwrap();
    let ended = records.execute("UPDATE tokens SET expires = 1 WHERE kind = 'session'", []).unwrap();
    assert_eq!(ended, 1, "a session has an end");
    // The server believes for some seconds what the records said before they were changed behind its back.
    let is_out = async || (whoami().await.ok()?.status() == StatusCode::UNAUTHORIZED).then_some(());
    until("the browser is signed out", is_out).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_artifact_goes_when_its_time_is_over() {
    let world = World::new().await;
    let lines =
        "artifact \"page\" \"page\" keep=\"1s\"\n artifact \"book\" \"page\" keep=\"9d\"\n step \"echo page > page\"";
    let (_, run) = world.run_of_pipeline("gate", &one_job(lines)).await;
    world.passes(&run).await;
    let into = world.folder.path().join("into").display().to_string();
    let fetch = async |name: &str| {
        world.pondrix(&["artifact", "fetch", &run.to_string(), name, "--into", &format!("{into}-{name}")]).await
    };
    until("its end", async || {
        // Whatever is set has what is over looked for.
        assert_eq!(world.pondrix(&["retention", "set", "--runs", "9d"]).await.status, 0);
        (fetch("page").await.status != 0).then_some(())
    })
    .await;
    assert_eq!(fetch("book").await.status, 0, "the other stays");
}

/// A Deployment of one container that sleeps, with what more is said of it.
fn deployment(more: &str) -> String {
    format!(
        "apiVersion: apps/v1\nkind: Deployment\nmetadata: {{name: app}}\nspec:\n  replicas: 1\n  selector: {{matchLabels: {{app: app}}}}\n  \
         template:\n    metadata: {{labels: {{app: app}}}}\n    spec:\n      containers: [{{name: app, image: app, command: [/bin/sh, -c, 'sleep 1000']{more}}}]\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn two_runs_of_a_project_do_not_roll_out_to_one_environment_at_once() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let pipeline = format!(
        "start commit=\"**\"\nstage \"make\" {{ image \"app\" {{ push \"{REGISTRY}/pond\" {{ tag \"{{run}}\" }} }} }}\n\
         stage \"staging\" {{ rollout \"app\" {{ to \"staging\"; image \"app\"; manifests \"app.yaml\"; limit time=\"1h\" }} }}\n"
    );
    repository.write("pondrix.kdl", &pipeline).unwrap();
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n")).unwrap();
    repository.write("app.yaml", &deployment(", readinessProbe: {tcpSocket: {port: 9}}")).unwrap();
    let commit = repository.push("Never ready").unwrap();
    let first = world.run_of("plant-labels", &commit).await;
    let rolls = |detail: &pondrix_api::RunDetail| detail.stages[1].jobs[0].state == State::Running;
    world.until(&first, rolls).await;
    repository.write("app.yaml", &deployment("")).unwrap();
    let commit = repository.push("Ready").unwrap();
    let second = world.run_of("plant-labels", &commit).await;
    let waiting = world.until(&second, |detail| detail.stages[1].jobs[0].reason.is_some()).await;
    let job = &waiting.stages[1].jobs[0];
    assert_eq!(job.state, State::Queued);
    let reason = job.reason.as_deref().unwrap();
    assert!(reason.contains("staging") && reason.contains(&first.to_string()), "{reason}");
    assert_eq!(world.pondrix(&["stop", &first.to_string()]).await.status, 0);
    assert_eq!(world.end_of(&first).await.summary.state, State::Stopped);
    let (ended, began) = (world.end_of(&first).await, world.passes(&second).await);
    assert!(began.stages[1].jobs[0].started.unwrap() >= ended.stages[1].jobs[0].ended.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_keeps_no_more_images_than_its_limit_and_fetches_again_what_it_let_go() {
    const LIMIT: u64 = 1 << 20;
    let mut world = World::new().await;
    let data = world.folder.path().join("server");
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    world.server = Some(Server::start_allowing(&data, &listen, &["--store-limit", "1MiB"]));
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo hello\"")).await;
    world.passes(&run).await;
    let kept = || {
        let output =
            std::process::Command::new("du").args(["-sb"]).arg(data.join("runner-1/images/layers")).output().unwrap();
        String::from_utf8(output.stdout).unwrap().split_whitespace().next().unwrap().parse::<u64>().unwrap()
    };
    until("the base image to go", async || (kept() < LIMIT).then_some(())).await;
    let again = world.run_of("plant-labels", &repository.push("Again").unwrap()).await;
    world.passes(&again).await;
    assert_eq!(world.log(&again, "verify/unit").await.lines().last(), Some("hello"));
}
