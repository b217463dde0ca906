//! Runners: each is who its token says, and works for whom the server lets it.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use pondrix_api::{ArtifactFile, Assignment, Beat, ClientError, Digests, Hello, NewArtifact, RunnerClient};
use pondrix_core::State;
use reqwest::Method;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value, json};
use sha2::Digest as _;

use crate::someone::Someone;
use crate::support::{PONDRIX, Said, Server, World, until};

/// A world whose server has no runner of its own.
async fn without_runner() -> World {
    let mut world = World::new().await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    world.server = Some(Server::start_without_runner(&world.folder.path().join("server"), &listen));
    world
}

/// A runner that is made known, and introduces itself.
struct Machine {
    client: RunnerClient,
    token: String,
}

impl Machine {
    async fn new(world: &World, name: &str, more: &[&str]) -> Self {
        let token = std::fs::read_to_string(world.runner_token(name, more)).unwrap().trim().to_owned();
        let (url, of) = (world.url().to_owned(), token.clone());
        let machine = Self { client: RunnerClient::new(move || url.clone(), &of), token };
        let welcome = machine.hello(&["sh", "cargo"]).await.unwrap();
        assert_eq!(welcome, name);
        machine
    }

    async fn hello(&self, tools: &[&str]) -> Result<String, ClientError> {
        let hello = Hello {
            slots: 1,
            stuck: 0,
            tools: tools.iter().map(|tool| (*tool).to_owned()).collect(),
            host_network: false,
            platforms: [pondrix_image::Platform::here().to_string()].into(),
            version: "0".to_owned(),
            instance: "one".to_owned(),
        };
        self.client.hello(&hello).await.map(|welcome| welcome.runner)
    }

    async fn takes(&self) -> Assignment {
        self.client.take().await.unwrap().expect("there is a job for it")
    }

    async fn ask(&self, world: &World, method: Method, path: &str, body: Value) -> u16 {
        let http = reqwest::Client::new().request(method, format!("{}{path}", world.url()));
        http.bearer_auth(&self.token).json(&body).send().await.unwrap().status().as_u16()
    }
}

fn pipeline(lines: &str) -> String {
    format!(
        "start commit=\"main\"\nstage \"verify\" {{\n job \"unit\" {{\n on-host\n {lines}\n step \"true\"\n }}\n}}\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_is_who_its_token_says_and_what_it_says_of_itself_changes_nothing() {
    let world = without_runner().await;
    let fern = Machine::new(&world, "fern", &["--pool", "small", "--project", "plant-*", "--tool", "sh"]).await;
    // It says that it is another one, of another pool: so did the runners of before.
    let claims = json!({
        "runner": "moss", "pool": "big", "projects": [], "slots": 1, "tools": ["cargo", "sh"], "host_network": false,
        "platforms": ["linux/amd64"], "version": "0", "instance": "one",
    });
    assert_eq!(fern.ask(&world, Method::POST, "/api/v1/runner/hello", claims).await, 200);
    let listed = world.pondrix(&["runner", "list"]).await;
    let line = listed.out.lines().find(|line| line.starts_with("fern ")).unwrap_or_else(|| panic!("{listed:?}"));
    assert!(line.contains("small") && line.contains("plant-*") && !listed.out.contains("moss"), "{line}");
    // Nobody learns from it of a project that they may not see.
    let ash = Someone::new(&world, "ash", &["--role", "look", "--project", "seed-*"]).await;
    let other = ["runner", "add", "sedge", "--project", "seed-*", "--project", "vault-*", "--into", "/dev/null"];
    assert_eq!(world.pondrix(&other).await.status, 1, "a file that is there is not written over");
    let file = world.runner_token("sedge", &["--project", "seed-*", "--project", "vault-*", "--json"]);
    assert!(std::fs::read_to_string(file).unwrap().starts_with("pdx_"));
    let seen = ash.pondrix(&["runner", "list"]).await.out;
    assert!(seen.contains("sedge") && seen.contains("seed-*"), "{seen}");
    assert!(!seen.contains("fern") && !seen.contains("plant") && !seen.contains("vault"), "{seen}");
    // A job of another project, one for another pool, and one for a program that it is not believed to have wait.
    let waits = async |project: &'static str, lines: &str, words: &str| {
        let (_, run) = world.run_of_pipeline(project, &pipeline(lines)).await;
        let told = world.until(&run, |detail| detail.stages[0].jobs[0].reason.is_some()).await;
        let told = told.stages[0].jobs[0].reason.clone().unwrap();
        assert!(told.contains(words), "{told}");
        run
    };
    waits("visitor-desk", "", "no runner for visitor-desk is here: fern does not work for visitor-desk").await;
    waits("plant-beds", "runner pool=\"big\"", "fern is of the pool `small`").await;
    let third = waits("plant-tools", "runner { tool \"cargo\" }", "fern lacks `cargo`").await;
    assert_eq!(world.pondrix(&["stop", &third.to_string()]).await.status, 0);
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline("")).await;
    let taken = fern.takes().await;
    assert_eq!(taken.facts.id, run);
    let mut seen: Vec<_> = fern.client.projects().await.unwrap().iter().map(ToString::to_string).collect();
    seen.sort();
    assert_eq!(seen, ["plant-beds", "plant-labels", "plant-tools"], "it is told of no other");
    // Another runner has nothing of that job, though it knows its lease.
    let moss = Machine::new(&world, "moss", &[]).await;
    let lease = format!("/api/v1/runner/leases/{}", taken.lease);
    for (method, path) in [
        (Method::GET, "source"),
        (Method::GET, "source/changes"),
        (Method::POST, "reports"),
        (Method::PUT, "log?offset=0"),
        (Method::POST, "beat"),
        (Method::POST, "tag"),
        (Method::POST, "account"),
        (Method::POST, "files"),
        (Method::POST, "artifacts"),
        (Method::POST, "cache"),
        (Method::PUT, "steps"),
        (Method::PUT, "image"),
        (Method::PUT, "index"),
        (Method::POST, "layers"),
    ] {
        let body = match path {
            "reports" => json!([]),
            "account" => json!({ "repository": "x.test/y" }),
            "tag" => json!({ "repository": "x.test/y", "tag": "z", "moves": false }),
            "files" => json!({ "digests": [] }),
            "layers" => json!({ "layers": [] }),
            _ => json!({}),
        };
        let status = moss.ask(&world, method.clone(), &format!("{lease}/{path}"), body).await;
        // What it may not have is not looked at; the rest is no sense to begin with.
        assert!([410, 422].contains(&status), "{method} {path}: {status}");
    }
    assert_eq!(moss.ask(&world, Method::GET, &format!("{lease}/source"), json!({})).await, 410);
    assert_eq!(moss.ask(&world, Method::POST, &format!("{lease}/reports"), json!([])).await, 410);
    assert_eq!(fern.ask(&world, Method::GET, &format!("{lease}/source"), json!({})).await, 200);
    let _: Beat = fern.client.beat(&taken).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_is_removed_has_its_jobs_no_more_and_leaves() {
    let world = without_runner().await;
    let fern = Machine::new(&world, "fern", &[]).await;
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline("")).await;
    let taken = fern.takes().await;
    fern.client.beat(&taken).await.unwrap();
    // Another token: both are good for an hour.
    let rotated: Value =
        serde_json::from_str(&world.pondrix(&["runner", "rotate", "fern", "--json"]).await.out).unwrap();
    assert_eq!(fern.hello(&[]).await.unwrap(), "fern");
    let (url, token) = (world.url().to_owned(), rotated["token"].as_str().unwrap().to_owned());
    let newer = Machine { client: RunnerClient::new(move || url.clone(), &token), token };
    assert_eq!(newer.hello(&[]).await.unwrap(), "fern");
    let kept = world.pondrix(&["runner", "remove", "fern"]).await;
    assert!(kept.status != 0 && kept.err.contains("--now takes its jobs from it"), "{kept:?}");
    assert_eq!(world.pondrix(&["runner", "remove", "fern", "--now"]).await.status, 0);
    let detail = world.end_of(&run).await;
    let job = &detail.stages[0].jobs[0];
    assert_eq!((job.state, job.reason.as_deref()), (State::Lost, Some("runner fern was removed")));
    for one in [&fern, &newer] {
        assert_eq!(one.ask(&world, Method::POST, "/api/v1/runner/take", json!({})).await, 401);
        let source = format!("/api/v1/runner/leases/{}/source", taken.lease);
        assert_eq!(one.ask(&world, Method::GET, &source, json!({})).await, 401);
    }
    for unknown in [&["runner", "remove", "fern"][..], &["runner", "rotate", "fern"]] {
        let said = world.pondrix(unknown).await;
        assert!(said.err.contains("there is no runner `fern`; see `pondrix runner list`"), "{said:?}");
    }
    let own = world.pondrix(&["runner", "rotate", "own-1"]).await;
    assert!(own.err.contains("`own-1` is the server's own"), "{own:?}");
}

/// A machine that runs `pondrix runner join` with a file that it was given; ended when dropped.
struct Joined(Option<Child>);

impl Joined {
    fn start(world: &World, folder: &str, option: &str, file: &Path, more: &[&str]) -> Self {
        let mut command = Command::new(PONDRIX);
        command.args(["runner", "join", "--server", world.url(), "--slots", "1", option]).arg(file).args(more);
        command.arg("--data").arg(world.folder.path().join(folder)).stdin(Stdio::null()).stderr(Stdio::piped());
        Self(Some(command.spawn().unwrap()))
    }

    /// What it says until it ends by itself.
    async fn said(mut self) -> Said {
        let child = self.0.take().unwrap();
        let output = tokio::task::spawn_blocking(move || child.wait_with_output()).await.unwrap().unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Said { status: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
    }
}

impl Drop for Joined {
    fn drop(&mut self) {
        if let Some(child) = &mut self.0 {
            let _ = kill_process(Pid::from_child(child), Signal::TERM);
            let _ = child.wait();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_makes_itself_a_runner_with_an_invitation_that_is_good_for_so_many() {
    let world = Arc::new(without_runner().await);
    let admin = Someone::with(&world, "admin", &world.token);
    let file = world.folder.path().join("invitation");
    let path = file.display().to_string();
    let invite = ["runner", "invite", "--pool", "small", "--project", "plant-*", "--machines", "1", "--into", &path];
    let made = admin.pondrix(&invite).await;
    assert!(made.out.contains("is good for one machine, until ") && made.out.contains("--invitation-file"), "{made:?}");
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&file.metadata().unwrap().permissions()) & 0o777, 0o600);
    let here = async |name: &str| {
        until(&format!("{name} among the runners"), async || {
            let runners = world.client.runners().await.ok()?.runners;
            runners.iter().any(|one| one.name == name && one.here).then_some(())
        })
        .await;
    };
    let joined = Joined::start(&world, "one", "--invitation-file", &file, &["--name", "fern"]);
    here("fern").await;
    drop(joined);
    // It has a token of its own, and the invitation is used up.
    let again = Joined::start(&world, "one", "--invitation-file", &file, &["--name", "fern"]);
    here("fern").await;
    let another = Joined::start(&world, "two", "--invitation-file", &file, &["--name", "moss"]).said().await;
    assert!(
        another.status == 4 && another.err.contains("this invitation is not known, or is no longer good"),
        "{another:?}"
    );
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline("runner pool=\"small\"")).await;
    assert_eq!(world.passes(&run).await.stages[0].jobs[0].runner.as_deref(), Some("fern"));
    // One that is removed leaves by itself.
    assert_eq!(admin.pondrix(&["runner", "remove", "fern", "--now"]).await.status, 0);
    let left = again.said().await;
    assert!(left.err.contains("the server does not know this runner any more; leaving"), "{left:?}");
    // An invitation may be taken back, and makes nobody another's runner.
    let path = world.folder.path().join("second").display().to_string();
    assert_eq!(admin.pondrix(&["runner", "invite", "--machines", "9", "--into", &path]).await.status, 0);
    world.runner_token("lark", &[]);
    let taken = Joined::start(&world, "three", "--invitation-file", Path::new(&path), &["--name", "lark"]).said().await;
    assert!(taken.err.contains("the runner lark is there already"), "{taken:?}");
    let listed = admin.pondrix(&["runner", "list"]).await.out;
    assert!(listed.contains("Invitation 2: for 9 more in the pool pond, until "), "{listed}");
    assert_eq!(admin.pondrix(&["runner", "withdraw", "2"]).await.status, 0);
    let late = Joined::start(&world, "three", "--invitation-file", Path::new(&path), &["--name", "robin"]).said().await;
    assert!(late.err.contains("no longer good"), "{late:?}");
    let told = admin.pondrix(&["audit", "list", "--action", "runner", "--json"]).await.out;
    let told: Value = serde_json::from_str(&told).unwrap();
    let line = |entry: &Value| {
        let text = |field: &str| entry[field].as_str().unwrap_or_default().to_owned();
        format!("{}: {} {}: {}", text("who"), text("action"), text("target"), text("result"))
    };
    let told: Vec<_> = told["entries"].as_array().unwrap().iter().rev().map(line).collect();
    let expected = [
        "admin: runner invite : done",
        "invitation 1: runner join fern: done",
        "nobody: runner join moss: refused",
        "admin: runner remove fern: done",
        "admin: runner invite : done",
        "admin: runner add lark: done",
        "invitation 2: runner join lark: refused",
        "admin: runner withdraw 2: done",
        "nobody: runner join robin: refused",
    ];
    assert_eq!(told, expected);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_knows_the_digest_of_another_projects_content_has_not_got_it() {
    let world = without_runner().await;
    let fern = Machine::new(&world, "fern", &["--project", "plant-*"]).await;
    let moss = Machine::new(&world, "moss", &["--project", "seed-*"]).await;
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline("")).await;
    let (_, other) = world.run_of_pipeline("seed-bank", &pipeline("")).await;
    let (plants, seeds) = (fern.takes().await, moss.takes().await);
    assert_eq!((&plants.facts.id, &seeds.facts.id), (&run, &other));
    let text = b"where the rare orchid grows\n";
    let digest = pondrix_core::image::Digest::from_bytes(&sha2::Sha256::digest(text).into());
    let packed = world.folder.path().join("packed.zst");
    // A frame of one raw block, as RFC 8878, section 3.1.1, has it: no program is needed to write it.
    let length = u32::try_from(text.len()).unwrap();
    let block = (length << 3 | 1).to_le_bytes();
    let frame = [&[0x28, 0xb5, 0x2f, 0xfd, 0x20, u8::try_from(length).unwrap()], &block[..3], &text[..]].concat();
    std::fs::write(&packed, frame).unwrap();
    let into = world.folder.path().join("fetched");
    let asked = Digests { digests: vec![digest.clone()], bytes: 0 };
    let file = ArtifactFile {
        path: "map".to_owned(),
        digest: digest.clone(),
        size: text.len() as u64,
        executable: false,
        link: None,
    };
    let artifact = NewArtifact { name: "map".to_owned(), seconds: 3600, files: vec![file] };
    fern.client.send_file(&plants, &digest, &packed).await.unwrap();
    fern.client.add_artifact(&plants, &artifact).await.unwrap();
    fern.client.fetch_file(&plants, &digest, &into).await.unwrap();
    assert!(fern.client.missing(&plants, &asked).await.unwrap().digests.is_empty());
    // Not told that it is there, not given it, and it cannot be had by a name for it.
    assert_eq!(moss.client.missing(&seeds, &asked).await.unwrap().digests, asked.digests);
    let refused = moss.client.fetch_file(&seeds, &digest, &into).await.unwrap_err();
    assert!(refused.to_string().contains("there is no content"), "{refused}");
    let refused = moss.client.add_artifact(&seeds, &artifact).await.unwrap_err();
    assert!(refused.to_string().contains("the content of map was not sent"), "{refused}");
    // Whoever has it may send it.
    moss.client.send_file(&seeds, &digest, &packed).await.unwrap();
    moss.client.add_artifact(&seeds, &artifact).await.unwrap();
    moss.client.fetch_file(&seeds, &digest, &into).await.unwrap();
}
