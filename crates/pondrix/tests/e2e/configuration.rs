//! Configuration files, the environment, reloads, and what a service manager passes.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::os::fd::OwnedFd;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use pondrix_core::{RunId, State};
use rustix::process::{Pid, Signal, kill_process};

use crate::processes::wait;
use crate::support::{PONDRIX, Said, World, said, until};

fn command(arguments: &[&str]) -> Command {
    let mut command = Command::new(PONDRIX);
    command.args(arguments);
    command
}

fn write(folder: &Path, name: &str, text: &str) -> String {
    let file = folder.join(name);
    std::fs::write(&file, text).unwrap();
    file.display().to_string()
}

fn signal(child: &Child, signal: Signal) {
    kill_process(Pid::from_raw(child.id().cast_signed()).unwrap(), signal).unwrap();
}

#[tokio::test]
async fn every_error_of_a_configuration_file_is_reported_with_its_place() {
    let folder = tempfile::tempdir().unwrap();
    let file = write(
        folder.path(),
        "server.kdl",
        "lisen \"127.0.0.1:1\"\nlisten \"127.0.0.1\"\ndata \"relative\"\nslots 2 3\ntrusted-proxy \"10.0.0.1\" \"10.0.0.x\"\n\
         lose-secrets 5\njob-memory \"1GiB\"\nwithout-limits\nlook-every \"1m\"\nlook-every \"2m\"\nconfig \"x\"\n",
    );
    let Said { status, err, .. } = said(command(&["serve", "--check", "--config", &file])).await;
    assert_eq!(status, 2, "{err}");
    for (place, words) in [
        ("1:1", "`lisen` is not an option of `pondrix serve`"),
        ("2:8", "`127.0.0.1` is no value of `listen`"),
        ("3:6", "`data` needs an absolute path"),
        ("4:7", "`slots` has 2 values"),
        ("5:26", "`10.0.0.x` is no value of `trusted-proxy`"),
        ("6:14", "`5` is no value of `lose-secrets`"),
        ("8:1", "`without-limits` and `job-memory` exclude each other"),
        ("10:1", "`look-every` is set twice"),
        ("11:1", "`config` is not an option of `pondrix serve`"),
    ] {
        let mut faults = err.split("fault: ");
        assert!(
            faults.any(|fault| fault.starts_with(words) && fault.contains(&format!("{file}:{place}\n"))),
            "{words}: {err}"
        );
    }
    assert!(err.contains("has 9 errors") && err.contains("did you mean `listen`?"), "{err}");
    // Text that is no KDL, a file that is not there, and files of TLS that are not there or alone.
    let broken = write(folder.path(), "broken.kdl", "listen \"127.0.0.1:1\n");
    let broken = said(command(&["runner", "join", "--config", &broken])).await;
    assert!(broken.status == 2 && broken.err.contains("broken.kdl:1:"), "{broken:?}");
    let missing = said(command(&["serve", "--config", "/nonexistent/server.kdl"])).await;
    assert!(missing.status == 2 && missing.err.contains("/nonexistent/server.kdl: No such file"), "{missing:?}");
    let alone = write(folder.path(), "alone.kdl", "tls-certificate \"/nonexistent/a.pem\"\n");
    let alone = said(command(&["serve", "--check", "--config", &alone])).await;
    assert!(alone.status == 2 && alone.err.contains("`tls-certificate` needs the option `tls-key`"), "{alone:?}");
    let gone =
        write(folder.path(), "gone.kdl", "tls-certificate \"/nonexistent/a.pem\"\ntls-key \"/nonexistent/b.pem\"\n");
    let gone = said(command(&["serve", "--check", "--config", &gone])).await;
    assert!(gone.status == 2 && gone.err.contains("/nonexistent/a.pem"), "{gone:?}");
}

#[tokio::test]
async fn the_command_line_overrides_the_environment_and_the_environment_overrides_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let file = write(
        folder.path(),
        "server.kdl",
        "listen \"127.0.0.1:1\"\nlook-every \"1m\"\ntrusted-proxy \"10.0.0.1\"\ntrusted-proxy \"10.0.0.2\"\nallow-namespaces\n\
         job-memory \"1GiB\"\nlog-limit \"2MiB\"\n",
    );
    let mut serve = command(&[
        "serve",
        "--show-config",
        "--json",
        "--config",
        &file,
        "--listen",
        "127.0.0.1:3",
        "--without-limits",
    ]);
    serve.env("PONDRIX_SERVER_LISTEN", "127.0.0.1:2").env("PONDRIX_SERVER_LOOK_EVERY", "2m");
    serve.env("PONDRIX_SERVER_REACH", "10.1.0.0/16\n10.2.0.0/16").env("PONDRIX_SERVER_ALLOW_NAMESPACES", "false");
    let Said { status, out, err } = said(serve).await;
    assert_eq!(status, 0, "{err}");
    let options: Vec<serde_json::Value> = serde_json::from_str(&out).unwrap();
    let option = |name: &str| {
        let option = options.iter().find(|option| option["option"] == name).unwrap();
        (option["values"].to_string(), option["from"].to_string())
    };
    let from_file = |line: usize| format!("{{\"file\":{{\"line\":{line},\"path\":\"{file}\"}}}}");
    let from_environment = |variable: &str| format!("{{\"environment\":\"PONDRIX_SERVER_{variable}\"}}");
    for (name, values, from) in [
        ("listen", "[\"127.0.0.1:3\"]", "\"command-line\"".to_owned()),
        ("look-every", "[\"2m\"]", from_environment("LOOK_EVERY")),
        ("reach", "[\"10.1.0.0/16\",\"10.2.0.0/16\"]", from_environment("REACH")),
        ("allow-namespaces", "[\"false\"]", from_environment("ALLOW_NAMESPACES")),
        ("trusted-proxy", "[\"10.0.0.1\",\"10.0.0.2\"]", from_file(3)),
        ("log-limit", "[\"2MiB\"]", from_file(7)),
        // Excluded by an option of the command line.
        ("job-memory", "[]", "\"default\"".to_owned()),
        ("request-limit", "[\"200\"]", "\"default\"".to_owned()),
    ] {
        assert_eq!(option(name), (values.to_owned(), from), "{name}");
    }
    // A flag that is off excludes nothing.
    let off = write(folder.path(), "off.kdl", "without-limits #false\njob-memory \"1GiB\"\n");
    let mut off = command(&["serve", "--show-config", "--config", &off]);
    off.env("PONDRIX_SERVER_WITHOUT_LIMITS", "false");
    let off = said(off).await;
    assert!(off.out.lines().any(|line| line.starts_with("job-memory ") && line.contains("1GiB")), "{off:?}");
    let mut wrong = command(&["serve", "--check"]);
    wrong.env("PONDRIX_SERVER_SLOTS", "two");
    let wrong = said(wrong).await;
    let words = "the environment variable PONDRIX_SERVER_SLOTS is invalid";
    assert!(wrong.status == 2 && wrong.err.contains(words), "{wrong:?}");
    // For people.
    let shown = said(command(&["serve", "--show-config", "--config", &file])).await;
    let line = shown.out.lines().find(|line| line.starts_with("look-every")).unwrap().to_owned();
    assert!(line.contains("1m") && line.ends_with("server.kdl:2"), "{}", shown.out);
}

/// A server with this configuration file, whose log goes to a file, started with `socket` as one of systemd.
fn serve(folder: &Path, file: &str, socket: Option<&TcpListener>) -> Child {
    let log = std::fs::File::options().create(true).append(true).open(folder.join("log")).unwrap();
    let mut command = match socket {
        None => command(&["serve", "--config", file]),
        Some(socket) => {
            let script = "exec 3<&0 </dev/null; LISTEN_PID=$$ LISTEN_FDS=1 exec \"$0\" serve --config \"$1\"";
            let mut shell = Command::new("sh");
            shell.args(["-c", script, PONDRIX, file]).stdin(Stdio::from(OwnedFd::from(socket.try_clone().unwrap())));
            shell
        }
    };
    command.stdout(log.try_clone().unwrap()).stderr(log).spawn().unwrap()
}

/// The answer to a request, on a connection of its own.
fn ask(mut connection: TcpStream) -> String {
    connection.write_all(b"GET /health HTTP/1.1\r\nhost: pondrix\r\nconnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    let _ = connection.read_to_string(&mut answer);
    answer
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reload_applies_what_it_can_and_reports_the_rest_and_an_invalid_file_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let socket = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    let at = folder.path().display();
    let text = format!("data \"{at}/data\"\nfirst-token-file \"{at}/token\"\nrunners 0\n");
    let file = write(folder.path(), "server.kdl", &format!("{text}request-limit 1\nlog-limit \"1MiB\"\n"));
    let mut child = serve(folder.path(), &file, Some(&socket));
    let log = || std::fs::read_to_string(folder.path().join("log")).unwrap();
    // So many at once are too many.
    let refused = || (0..40).filter(|_| ask(TcpStream::connect(address).unwrap()).contains(" 429 ")).count();
    until("a request that is too many", async || (refused() > 0).then_some(())).await;
    let token = std::fs::metadata(folder.path().join("token")).unwrap();
    assert!(token.permissions().mode() & 0o077 == 0 && token.len() > 20);
    let secret = std::fs::read_to_string(folder.path().join("token")).unwrap();
    assert!(!log().contains(secret.trim()), "the token is in its file only: {}", log());

    std::fs::write(&file, format!("{text}request-limit 0\nlog-limit \"2MiB\"\nrunners 1\nlisten \"127.0.0.1:1\"\n"))
        .unwrap();
    signal(&child, Signal::HUP);
    until("a refusal of the file", async || log().contains("the configuration was not reloaded").then_some(())).await;
    assert!(log().contains("`runners` is set twice") && refused() > 0, "{}", log());

    std::fs::write(&file, format!("{text}request-limit 0\nlog-limit \"2MiB\"\n")).unwrap();
    signal(&child, Signal::HUP);
    until("the reload", async || log().contains("the configuration was reloaded").then_some(())).await;
    assert_eq!(refused(), 0, "{}", log());
    let line = |words: &str| log().lines().find(|line| line.contains(words)).unwrap_or_default().to_owned();
    assert!(line("the option has changed").contains("request-limit"), "{}", log());
    assert!(line("takes effect after a restart").contains("log-limit"), "{}", log());

    signal(&child, Signal::TERM);
    wait(&mut child);
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_to_a_passed_socket_wait_while_the_server_restarts() {
    let folder = tempfile::tempdir().unwrap();
    let socket = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    let at = folder.path().display();
    let text = format!("data \"{at}/data\"\nrunners 0\nlisten \"127.0.0.1:1\"\n");
    let file = write(folder.path(), "server.kdl", &text);
    // Before the first start, and between two.
    for _ in 0..2 {
        let waiting = TcpStream::connect(address).unwrap();
        let mut child = serve(folder.path(), &file, Some(&socket));
        assert!(tokio::task::spawn_blocking(|| ask(waiting)).await.unwrap().starts_with("HTTP/1.1 200 OK"));
        signal(&child, Signal::TERM);
        wait(&mut child);
    }
    let log = std::fs::read_to_string(folder.path().join("log")).unwrap();
    let words = format!("is ignored: the socket unit listens on {address}");
    assert!(log.contains("`listen` (127.0.0.1:1, ") && log.contains(&words), "{log}");
}

/// A process that ends with the test, however that ends.
struct Started(Child);

impl Drop for Started {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A job on the machine, for runners of the pool `beds`.
fn on_host(step: &str) -> String {
    format!(
        "start commit=\"main\"\nstage \"verify\" {{ job \"unit\" {{ on-host; runner pool=\"beds\"; step \"{step}\" }} }}\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reload_of_a_runner_changes_the_limits_of_its_next_job_and_never_removes_them() {
    let world = World::new().await;
    let token = world.runner_token("fern", &["--pool", "beds"]);
    let folder = world.folder.path();
    let (at, url) = (folder.display(), world.url());
    let text = format!(
        "data \"{at}/fern\"\nserver \"{url}\"\ntoken-file \"{}\"\nslots 1\nkeep-free \"1B\"\n",
        token.display()
    );
    let file = write(folder, "runner.kdl", &format!("{text}job-memory \"48MiB\"\n"));
    let log = folder.join("fern.log");
    let said = |words: &str| std::fs::read_to_string(&log).unwrap().matches(words).count();
    let mut runner = command(&["runner", "join", "--config", &file]);
    let runner = Started(runner.stderr(std::fs::File::create(&log).unwrap()).spawn().unwrap());
    let holds = "test $(head -c 100000000 /dev/zero | tail -c 90000000 | wc -c) = 90000000";
    let (repository, first) = world.run_of_pipeline("plant-labels", &on_host(holds)).await;
    let next = async |words: &str| {
        repository.write("note", words).unwrap();
        world.run_of("plant-labels", &repository.push(words).unwrap()).await
    };
    let fails = async |run: &RunId| {
        let end = world.end_of(run).await;
        assert_eq!(end.summary.state, State::Failed, "{end:#?}");
        let reason = format!("{:?}", end.failure);
        assert!(reason.contains("memory"), "{reason}");
    };
    fails(&first).await;

    write(folder, "runner.kdl", &format!("{text}without-limits\n"));
    signal(&runner.0, Signal::HUP);
    until("the first reload", async || (said("the configuration was reloaded") == 1).then_some(())).await;
    assert_eq!(said("takes effect after a restart"), 1);
    fails(&next("Without limits").await).await;

    write(folder, "runner.kdl", &format!("{text}job-memory \"512MiB\"\n"));
    signal(&runner.0, Signal::HUP);
    until("the second reload", async || (said("the configuration was reloaded") == 2).then_some(())).await;
    world.passes(&next("More memory").await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drained_runner_finishes_its_job_and_takes_no_other() {
    let world = World::new().await;
    let token = world.runner_token("fern", &["--pool", "beds"]);
    let folder = world.folder.path();
    let signs = folder.join("signs");
    std::fs::create_dir(&signs).unwrap();
    std::fs::set_permissions(&signs, std::fs::Permissions::from_mode(0o755)).unwrap();
    let text = format!(
        "data \"{at}/fern\"\nserver \"{url}\"\ntoken-file \"{token}\"\nslots 2\nkeep-free \"1B\"\nreadable \"{signs}\"\n",
        at = folder.display(),
        url = world.url(),
        token = token.display(),
        signs = signs.display()
    );
    let file = write(folder, "runner.kdl", &text);
    let log = folder.join("fern.log");
    let mut runner = command(&["runner", "join", "--config", &file]);
    let mut runner = runner.stderr(std::fs::File::create(&log).unwrap()).spawn().unwrap();
    let waits = format!("echo begun; until test -e {}/go; do sleep 0.1; done", signs.display());
    let (repository, run) = world.run_of_pipeline("plant-labels", &on_host(&waits)).await;
    until("the job's first line", async || {
        world.client.log(&run, "verify/unit").await.ok().filter(|log| !log.is_empty()).map(drop)
    })
    .await;
    signal(&runner, Signal::USR2);
    let drains = || std::fs::read_to_string(&log).unwrap().contains("this runner takes no more jobs");
    until("the runner's word", async || drains().then_some(())).await;
    repository.write("pondrix.kdl", &on_host("true")).unwrap();
    let next = world.run_of("plant-labels", &repository.push("Another").unwrap()).await;
    std::fs::write(signs.join("go"), "").unwrap();
    world.passes(&run).await;
    wait(&mut runner);
    assert_eq!(runner.try_wait().unwrap().unwrap().code(), Some(0));
    let state = world.client.run(&next).await.unwrap().summary.state;
    assert!(!state.is_over(), "no runner has it: {state:?}");
}
