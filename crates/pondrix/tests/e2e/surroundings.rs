//! What a job has around it: services beside it, its network, the machine's own tools, its room on the disk.

use std::io::{Read, Write};

use pondrix_core::State;
use pondrix_standin::garden::REGISTRY;

use crate::support::{Server, World, one_job};

fn with_service(name: &str, lines: &str) -> String {
    format!("service \"{name}\" \"{REGISTRY}/base/shell:1\" {{\n{lines}\n}}\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_beside_a_job_is_reached_by_its_name_once_it_is_ready_and_its_log_is_shown() {
    let world = World::new().await;
    let lines = with_service(
        "labels",
        "env GREETING=\"wet soil\"\nrun \"sleep 0.3; mkdir /beds; echo $GREETING > /beds/index.html; echo listening; exec httpd -f -p 8080 -h /beds\"\nready tcp=8080",
    ) + &with_service(
        "second",
        "run \"wget -qO /tmp/seen http://labels:8080/ && cat /tmp/seen; exec httpd -f -p 8081\"\nready tcp=8081",
    ) + &with_service("third", "run \"sleep 300\"\nready \"wget -qO- http://labels:8080/\"")
        + "step \"wget -qO- http://labels:8080/\"\nstep \"ls /beds || echo own files\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(&lines)).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let mut said: Vec<_> = log.lines().collect();
    said.sort_unstable();
    for line in ["labels> listening", "second> wet soil", "wet soil", "own files"] {
        assert!(said.contains(&line), "{line} is not in {log}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_never_gets_ready_or_ends_fails_the_job_and_says_so() {
    let world = World::new().await;
    let ends = with_service("labels", "run \"echo no beds; exit 3\"\nready tcp=8080") + "step \"true\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(&ends)).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("labels> no beds\n"), "{log}");
    assert!(log.contains("the service `labels` ended with status 3 before it was ready"), "{log}");
    let late = with_service("labels", "run \"sleep 300\"\nready tcp=8080 within=\"1s\"") + "step \"true\"";
    let (_, run) = world.run_of_pipeline("visitor-desk", &one_job(&late)).await;
    let reason = world.end_of(&run).await.failure.unwrap().what;
    assert!(reason.contains("the service `labels` was not ready within 1s"), "{reason}");
}

#[tokio::test(flavor = "multi_thread")]
async fn steps_reach_out_only_when_the_job_says_so_and_where_the_runners_owner_does_and_never_the_machines_loopback() {
    let mut world = World::new().await;
    let probe = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
    if probe.connect("192.0.2.200:9").is_err() {
        // This machine has no network that anybody could be let out to.
        let (_, run) = world.run_of_pipeline("plant-labels", &one_job("network \"outbound\"\nstep \"true\"")).await;
        let reason = world.end_of(&run).await.failure.unwrap().what;
        assert!(reason.contains("`pasta` gives no way out"), "{reason}");
        return;
    }
    let outside = std::net::TcpListener::bind((probe.local_addr().unwrap().ip(), 0)).unwrap();
    let at = outside.local_addr().unwrap();
    std::thread::spawn(move || {
        while let Ok((mut stream, _)) = outside.accept() {
            let _ = stream.read(&mut [0; 1024]);
            let _ = stream.write_all(b"HTTP/1.0 200 OK\r\n\r\nfrom outside\n");
        }
    });
    let ask = format!("step \"wget -qO- http://{at}/ 2>/dev/null || echo alone\"");
    let out = format!(
        "network \"outbound\"\n{ask}\nstep \"nc -w 10 {} </dev/null 2>/dev/null && echo reached || echo kept in\"",
        world.url().trim_start_matches("http://").replace(':', " ")
    );
    // The machine itself, like all that is not public, is reached where its owner says so.
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job(&out)).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "alone\nkept in\n");
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let allowed = ["--reach", &at.ip().to_string()];
    let data = world.folder.path().join("server");
    world.server = Some(crate::support::Server::start_allowing(&data, &address, &allowed));
    let run = world.run_of("plant-labels", &repository.push("Once more").unwrap()).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "from outside\nkept in\n");
    let (_, run) = world.run_of_pipeline("visitor-desk", &one_job(&ask)).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert_eq!(log, "alone\n");
}

/// A resolver of the machine's: `public…` is at a public address, and every other name at a private one.
fn resolver() -> std::net::SocketAddr {
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let at = socket.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut question = [0; 512];
        while let Ok((count, from)) = socket.recv_from(&mut question) {
            // The question as its answer, and behind it one address (RFC 1035, section 4.1).
            let mut answer = question[..count].to_vec();
            answer[2] |= 0x80;
            answer[7] = 1;
            let address = if answer[13..].starts_with(b"public") { [8, 8, 8, 8] } else { [10, 20, 0, 7] };
            answer.extend([0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4]);
            answer.extend(address);
            let _ = socket.send_to(&answer, from);
        }
    });
    at
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_hears_no_address_for_a_name_that_it_may_not_reach_and_its_log_says_why() {
    let mut world = World::new().await;
    let probe = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
    if probe.connect("192.0.2.200:9").is_err() {
        // Another test tells what is said then.
        return;
    }
    let at = resolver().to_string();
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let start = |more: &[&str]| {
        let allowed = [&["--resolver", &at][..], more].concat();
        Server::start_allowing(&world.folder.path().join("server"), &address, &allowed)
    };
    let server = start(&[]);
    let ask = "step \"for name in public inner inner; do \
               nslookup $name.pond.test 2>&1 | grep -o -e 8.8.8.8 -e 10.20.0.7 || echo $name is nowhere; done\"";
    let (repository, run) =
        world.run_of_pipeline("plant-labels", &one_job(&format!("network \"outbound\"\n{ask}"))).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let told = "the name inner.pond.test leads to 10.20.0.7, which jobs of this runner do not reach";
    assert_eq!(log.matches(told).count(), 1, "{log}");
    let said: Vec<_> = log.lines().filter(|line| !line.starts_with("the name")).collect();
    assert_eq!(said, ["8.8.8.8", "inner is nowhere", "inner is nowhere"], "{log}");
    drop(server);
    let _server = start(&["--reach", "10.20.0.0/16"]);
    let run = world.run_of("plant-labels", &repository.push("Once more").unwrap()).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "8.8.8.8\n10.20.0.7\n10.20.0.7\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_machines_network_is_for_runners_whose_owner_allows_it() {
    let mut world = World::new().await;
    let lines = format!("network \"host\"\nstep \"wget -qO- {}/health || echo no\"", world.url());
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(&lines)).await;
    let waits = world.until(&run, |run| run.stages[0].jobs[0].reason.is_some()).await;
    let reason = waits.stages[0].jobs[0].reason.clone().unwrap();
    assert!(reason.contains("own-1 does not let jobs use its machine's network"), "{reason}");
    let mut server = world.server.take().unwrap();
    let address = server.url.trim_start_matches("http://").to_owned();
    server.end();
    world.server = Some(crate::support::Server::start_allowing(
        &world.folder.path().join("server"),
        &address,
        &["--allow-host-network"],
    ));
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert!(!log.contains("no\n") && !log.is_empty(), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn namespaces_of_a_steps_own_are_for_runners_whose_owner_allows_them() {
    let mut world = World::new().await;
    let lines = "step \"unshare -U -r -m sh -c 'mount -t tmpfs x /tmp && echo apart' 2>/dev/null || echo refused\"";
    let (repository, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "refused\n");
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &address, &["--allow-namespaces"]));
    let run = world.run_of("plant-labels", &repository.push("Once more").unwrap()).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "apart\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_on_the_machine_uses_its_programs_and_changes_nothing_of_it() {
    let mut world = World::new().await;
    let shown = world.folder.path().join("seeds");
    std::fs::create_dir(&shown).unwrap();
    std::fs::write(shown.join("fern"), "a fern\n").unwrap();
    let mut server = world.server.take().unwrap();
    let address = server.url.trim_start_matches("http://").to_owned();
    server.end();
    let data = world.folder.path().join("server");
    let readable = ["--readable", shown.to_str().unwrap()];
    world.server = Some(crate::support::Server::start_allowing(&data, &address, &readable));
    let pipeline = format!(
        "start commit=\"main\"\nstage \"verify\" {{ job \"unit\" {{ on-host\n step \"git --version | cut -d' ' -f1,2; cat {}/fern; ls /root /home 2>&1 | wc -l\"\n step \"for at in /usr/x /etc/ssl/certs/x {}/x; do touch $at 2>/dev/null && echo wrote $at; done; touch /mine && echo own root; cat /etc/shadow 2>/dev/null || echo closed\" }} }}",
        shown.display(),
        shown.display(),
    );
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let lines: Vec<_> = log.lines().collect();
    assert_eq!(lines[..2], ["git version", "a fern"], "{log}");
    assert_eq!(lines[3..], ["own root", "closed"], "{log}");
    assert!(!std::path::Path::new("/mine").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_runs_in_what_an_earlier_stage_built_by_its_digest_and_is_left_out_with_it() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\nRUN echo built > /built\n")).unwrap();
    let pipeline = "start commit=\"main\"\nstart commit=\"side\"\n\
         stage \"package\" { image \"labels\" { unless branch=\"side\"; push \"registry.fernhollow.test/garden/labels\" { moving \"edge\"; }; }; }\n\
         stage \"verify\" { job \"inside\" { container image=\"labels\"; step \"cat /built\"; }\n job \"beside\" { on-host; step \"true\"; }\n }\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Built and used").unwrap()).await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/inside").await, "built\n");
    let side = world.run_of("plant-labels", &repository.push_to("side", "Not built").unwrap()).await;
    let detail = world.end_of(&side).await;
    assert_eq!(detail.stages[1].jobs[0].reason.as_deref(), Some("the image `labels` is left out"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_that_writes_more_than_its_job_may_is_ended_and_told_so() {
    let world = World::new().await;
    let lines = "limit disk=\"8MiB\"\nstep \"head -c 1000000 /dev/zero > small\"\nstep \"head -c 64000000 /dev/zero > large; sleep 300\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    let detail = world.end_of(&run).await;
    let steps = &detail.stages[0].jobs[0].steps;
    assert_eq!((steps[0].state, steps[1].state), (State::Passed, State::Failed));
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("the job has written more than its limit of 8MiB"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_commands_of_a_build_write_together_what_a_job_may_on_its_runner() {
    let mut world = World::new().await;
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &address, &["--job-disk", "8MiB"]));
    let (repository, _) = world.project("plant-labels", &[]).await;
    let fill = |name: &str| format!("RUN dd if=/dev/zero of=/{name} bs=1M count=5");
    let recipe = format!("FROM {REGISTRY}/base/shell:1\n{}\n{} && sleep 300\n", fill("first"), fill("second"));
    repository.write("image.recipe", &recipe).unwrap();
    let pipeline = "start commit=\"main\"\nstage \"package\" { image \"labels\" { push \"registry.fernhollow.test/garden/labels\" { moving \"edge\"; }; }; }\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Too large").unwrap()).await;
    assert_eq!(world.end_of(&run).await.summary.state, State::Failed);
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("the command was ended: the job has written more than its limit of 8MiB"), "{log}");
    assert!(log.contains("RUN dd if=/dev/zero of=/second"), "the fault shows the line: {log}");
}
