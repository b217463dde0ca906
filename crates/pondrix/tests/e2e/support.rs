//! A world for each test: a registry and a cluster in this process, the server as a process of its
//! own.

use std::io::{BufRead, BufReader};
use std::net::Ipv4Addr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use pondrix_api::{Client, EnvironmentChange, FollowedRun, NewProject, ProjectView, RegistryChange, RunDetail};
use pondrix_core::access::{EnvironmentRules, Refs};
use pondrix_core::image::Registries;
use pondrix_core::{RunId, State};
use pondrix_files::TemporaryFolder;
use pondrix_sandbox::Launcher;
use pondrix_standin::cluster::Cluster;
use pondrix_standin::garden::{BaseImages, REGISTRY, Repository, SampleFile, base_files, base_images};
use pondrix_standin::registry::Registry;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

use crate::processes::{end_left_runners, wait};

pub(crate) const PONDRIX: &str = env!("CARGO_BIN_EXE_pondrix");
/// How long anything may take on a busy machine.
pub(crate) const PATIENCE: Duration = Duration::from_secs(600);

/// A server as a process of its own. Dropped, it is ended, and its runner with it.
pub(crate) struct Server {
    pub(crate) child: Child,
    pub(crate) url: String,
    data: PathBuf,
}

impl Server {
    /// Starts one on a folder, at a port that may be 0; answers the token when it is a new one.
    pub(crate) fn start(data: &Path, listen: &str, look_every: &str) -> (Self, Option<String>) {
        Self::start_with(data, listen, &["--slots", "2", "--look-every", look_every])
    }

    /// Starts one again whose runner allows more.
    pub(crate) fn start_allowing(data: &Path, listen: &str, allowed: &[&str]) -> Self {
        Self::start_with(data, listen, &[&["--slots", "2", "--look-every", "1h"], allowed].concat()).0
    }

    /// Starts one again that has no runner of its own.
    pub(crate) fn start_without_runner(data: &Path, listen: &str) -> Self {
        Self::start_with(data, listen, &["--runners", "0", "--look-every", "1h"]).0
    }

    fn start_with(data: &Path, listen: &str, more: &[&str]) -> (Self, Option<String>) {
        let log = std::fs::File::options().create(true).append(true).open(data.with_extension("log")).unwrap();
        // Tests and measurements ask as fast as they can.
        let limit: &[&str] = if more.contains(&"--request-limit") { &[] } else { &["--request-limit", "0"] };
        let mut child = Command::new(PONDRIX)
            // However full the disk is that the tests have.
            .args(["serve", "--json", "--keep-free", "1B", "--listen", listen, "--data"])
            .arg(data)
            .args(limit)
            .args(more)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()
            .unwrap();
        let text = first_document(child.stdout.take().unwrap());
        let told: serde_json::Value = serde_json::from_str(&text).unwrap_or_else(|_| {
            panic!(
                "the server did not start: {}",
                std::fs::read_to_string(data.with_extension("log")).unwrap_or_default()
            )
        });
        let token = told["admin_token"].as_str().map(str::to_owned);
        (Self { child, url: told["url"].as_str().unwrap().to_owned(), data: data.to_owned() }, token)
    }

    fn signal(&self, signal: Signal) {
        kill_process(Pid::from_raw(self.child.id().cast_signed()).unwrap(), signal).unwrap();
    }

    /// SIGKILL, as a crash would end it. Its runner goes on.
    pub(crate) fn kill(mut self) -> String {
        self.signal(Signal::KILL);
        wait(&mut self.child);
        self.url.clone()
    }

    /// The end that a person asks for.
    pub(crate) fn end(&mut self) {
        if self.child.try_wait().unwrap().is_none() {
            self.signal(Signal::TERM);
            wait(&mut self.child);
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if self.child.try_wait().unwrap().is_some() {
            return;
        }
        self.end();
        if std::thread::panicking() {
            eprintln!(
                "the server's log:\n{}",
                std::fs::read_to_string(self.data.with_extension("log")).unwrap_or_default()
            );
        }
    }
}

/// Everything a test needs.
pub(crate) struct World {
    pub(crate) server: Option<Server>,
    pub(crate) client: Client,
    pub(crate) token: String,
    pub(crate) registry: Arc<Registry>,
    pub(crate) application: std::net::SocketAddr,
    pub(crate) kubeconfig: PathBuf,
    stop: CancellationToken,
    _claim: std::net::TcpListener,
    pub(crate) folder: TemporaryFolder,
}

pub(crate) async fn listener() -> TcpListener {
    TcpListener::bind("127.0.0.1:0").await.unwrap()
}

/// The first document on a server's standard output, which says where it listens; nothing where none comes in time.
fn first_document(output: std::process::ChildStdout) -> String {
    let (sender, receiver) = mpsc::channel();
    std::thread::spawn(move || {
        let mut text = String::new();
        for line in BufReader::new(output).lines().map_while(Result::ok) {
            text.push_str(&line);
            if text.ends_with('}') {
                break;
            }
        }
        sender.send(text)
    });
    receiver.recv_timeout(PATIENCE).unwrap_or_default()
}

/// The port that a world's server listens at. The system gives ports of 32768 and above away by itself: while
/// nothing listens at one of those, somebody who tries to connect to it may be given it as his own port, and is
/// then connected to himself and holds it.
const SERVICE_PORT: u16 = 7733;
/// The port that whoever has an address of its own listens at while it has it.
const CLAIM_PORT: u16 = 7734;

/// A loopback address that no other world has, of this process or another: it is held by listening there.
fn own_address() -> (Ipv4Addr, std::net::TcpListener) {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    // Where to begin is of no meaning but that others are likely to begin elsewhere.
    let [.., high, low] = std::process::id().to_be_bytes();
    loop {
        let [more, last] = NEXT.fetch_add(1, Ordering::Relaxed).to_be_bytes();
        let address = Ipv4Addr::new(127, high.wrapping_add(more) | 1, low, last);
        if let Ok(claim) = std::net::TcpListener::bind((address, CLAIM_PORT)) {
            return (address, claim);
        }
    }
}

/// Pushes the base images. They are built once for all worlds of this process.
pub(crate) async fn push_bases(registries: &Registries, launcher: &Launcher) {
    static BASES: tokio::sync::OnceCell<BaseImages> = tokio::sync::OnceCell::const_new();
    let build = async || {
        // Nobody removes it when the process ends: that is done by one that comes later.
        let kept = Path::new(env!("CARGO_TARGET_TMPDIR"));
        for old in std::fs::read_dir(kept).unwrap().flatten() {
            let name = old.file_name().into_string().unwrap();
            let is_running = |process: &str| Path::new("/proc").join(process).exists();
            if name.strip_prefix("bases-").is_some_and(|process| !is_running(process)) {
                // Another one may do the same.
                drop(std::fs::remove_dir_all(old.path()));
            }
        }
        let folder = kept.join(format!("bases-{}", std::process::id()));
        std::fs::create_dir(&folder).unwrap();
        base_images(&folder, registries, launcher).await.unwrap()
    };
    BASES.get_or_init(build).await.push(registries).await.unwrap();
}

impl World {
    /// A world whose server only looks at repositories when a hook, or a test, says so.
    pub(crate) async fn new() -> Self {
        Self::looking_every("1h").await
    }

    pub(crate) async fn looking_every(look_every: &str) -> Self {
        // Servers make groups beside this process's. Where that cannot be, they say so.
        drop(pondrix_sandbox::settle());
        let folder = TemporaryFolder::new_in(&std::env::temp_dir()).unwrap();
        let launcher = Launcher::with_helper(PONDRIX);
        let stop = CancellationToken::new();
        let registry = Registry::new(&folder.path().join("registry")).unwrap();
        let at = listener().await;
        let registry_url = format!("http://{}", at.local_addr().unwrap());
        tokio::spawn(Arc::clone(&registry).serve(at, stop.clone()));
        let addresses = Registries::at([(REGISTRY, registry_url.clone())]);
        push_bases(&addresses, &launcher).await;
        let cluster = Cluster::new(&folder.path().join("cluster"), addresses, launcher, &["staging"]).unwrap();
        let at = listener().await;
        let application = cluster.reserve("staging", "visitor-desk").await.unwrap();
        let kubeconfig = cluster.write_kubeconfig(at.local_addr().unwrap(), "staging").unwrap();
        tokio::spawn(cluster.serve(at, stop.clone()));
        let (own, claim) = own_address();
        let listen = format!("{own}:{SERVICE_PORT}");
        let (server, token) = Server::start(&folder.path().join("server"), &listen, look_every);
        let token = token.unwrap();
        let client = Client::new(&server.url, &token);
        client
            .set_registry(&RegistryChange {
                host: REGISTRY.to_owned(),
                address: Some(registry_url),
                ..RegistryChange::default()
            })
            .await
            .unwrap();
        let environment = EnvironmentChange {
            name: "staging".to_owned(),
            kubeconfig: Some(std::fs::read_to_string(&kubeconfig).unwrap()),
            address: Some(format!("http://{application}")),
            // What takes less is tried where it is tested.
            rules: Some(EnvironmentRules { refs: Refs::Any, ..EnvironmentRules::default() }),
            ..EnvironmentChange::default()
        };
        client.set_environment(&environment).await.unwrap();
        // What a job says that waits depends on who is there to take it.
        until("the server's own runner", async || {
            let runners = client.runners().await.ok()?.runners;
            runners.iter().any(|runner| runner.here).then_some(())
        })
        .await;
        Self { server: Some(server), client, token, registry, application, kubeconfig, stop, _claim: claim, folder }
    }

    /// A file with the token of a runner, which is made known now.
    pub(crate) fn runner_token(&self, name: &str, more: &[&str]) -> PathBuf {
        let file = self.folder.path().join(format!("{name}.token"));
        let into = file.display().to_string();
        let (made, said) = self.pondrix_with(&[&["runner", "add", name, "--into", &into], more].concat(), "");
        assert!(made, "{said}");
        file
    }

    pub(crate) fn url(&self) -> &str {
        self.client.address()
    }

    /// Where the cluster is reached.
    pub(crate) fn cluster_address(&self) -> String {
        let kubeconfig: Value = serde_json::from_slice(&std::fs::read(&self.kubeconfig).unwrap()).unwrap();
        kubeconfig["clusters"][0]["cluster"]["server"].as_str().unwrap().to_owned()
    }

    /// A repository with files, known to the server. Its hook tells of every push.
    pub(crate) async fn project(&self, name: &'static str, files: &[SampleFile]) -> (Repository, ProjectView) {
        if name == "glasshouse-base" {
            base_files(&self.folder.path().join("checkouts").join(name)).await.unwrap();
        }
        let repository = Repository::new(self.folder.path(), name, files).unwrap();
        let new =
            NewProject { name: name.to_owned(), repository: repository.bare.display().to_string(), credential: None };
        let project = self.client.add_project(&new).await.unwrap();
        repository.set_hook(project.hook.as_deref()).unwrap();
        (repository, project)
    }

    /// A project with a pipeline and nothing else, and its first run.
    pub(crate) async fn run_of_pipeline(&self, name: &'static str, pipeline: &str) -> (Repository, RunId) {
        let (repository, _) = self.project(name, &[]).await;
        repository.write("pondrix.kdl", pipeline).unwrap();
        let commit = repository.push("A pipeline").unwrap();
        let run = self.run_of(name, &commit).await;
        (repository, run)
    }

    /// Waits for the run of a commit.
    pub(crate) async fn run_of(&self, project: &str, commit: &str) -> RunId {
        let project = project.parse().unwrap();
        let mut found = None;
        until(&format!("a run of {commit}"), async || {
            let page = self.client.runs(Some(&project), 50, None).await.ok()?;
            found = page.runs.into_iter().find(|run| run.commit == commit).map(|run| run.run.parse().unwrap());
            found.is_some().then_some(())
        })
        .await;
        found.unwrap()
    }

    /// Follows a run until it fits, over lost connections too.
    pub(crate) async fn until(&self, run: &RunId, fits: impl Fn(&RunDetail) -> bool) -> RunDetail {
        self.until_within(run, PATIENCE, fits).await
    }

    /// The same, of a run that may take longer or less long than others.
    pub(crate) async fn until_within(
        &self,
        run: &RunId,
        patience: Duration,
        fits: impl Fn(&RunDetail) -> bool,
    ) -> RunDetail {
        let last = std::sync::Mutex::new(None);
        let watched = async {
            loop {
                if let Ok(stream) = self.client.follow_run(run).await {
                    let mut stream = std::pin::pin!(stream);
                    let mut followed = FollowedRun::default();
                    while let Some(Ok(event)) = stream.next().await {
                        if let Some(detail) = followed.take(&event).unwrap().filter(|detail| fits(detail)) {
                            return detail.clone();
                        }
                    }
                    if let Some(run) = followed.into_last() {
                        *last.lock().unwrap() = Some(run);
                    }
                }
                // The server may be starting again.
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        match tokio::time::timeout(patience, watched).await {
            Ok(detail) => detail,
            Err(_) => panic!("{run} never came there; it was last {last:#?}"),
        }
    }

    /// Follows a run to its end.
    pub(crate) async fn end_of(&self, run: &RunId) -> RunDetail {
        self.until(run, |run| run.summary.state.is_over()).await
    }

    /// Follows a run to an end that must be good.
    pub(crate) async fn passes(&self, run: &RunId) -> RunDetail {
        let detail = self.end_of(run).await;
        assert_eq!(detail.summary.state, State::Passed, "{:#?}", detail.failure);
        detail
    }

    /// The newest run of a project.
    pub(crate) async fn newest(&self, project: &str) -> RunId {
        let name = project.parse().unwrap();
        let runs = self.client.runs(Some(&name), 1, None).await.unwrap().runs;
        runs[0].run.parse().unwrap()
    }

    pub(crate) async fn log(&self, run: &RunId, job: &str) -> String {
        String::from_utf8(self.client.log(run, job).await.unwrap()).unwrap()
    }

    /// Runs the command line with something on its standard input. Answers whether that went well, and what
    /// it said.
    pub(crate) fn pondrix_with(&self, arguments: &[&str], input: &str) -> (bool, String) {
        let mut child = Command::new(PONDRIX)
            .args(arguments)
            .env("PONDRIX_URL", self.url())
            .env("PONDRIX_TOKEN", &self.token)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        let text = [output.stdout, output.stderr].concat();
        (output.status.success(), String::from_utf8_lossy(&text).into_owned())
    }

    /// Runs the command line as a person would, signed in.
    pub(crate) async fn pondrix(&self, arguments: &[&str]) -> Said {
        let mut command = Command::new(PONDRIX);
        command.args(arguments).env("PONDRIX_URL", self.url()).env("PONDRIX_TOKEN", &self.token);
        said(command).await
    }
}

impl Drop for World {
    fn drop(&mut self) {
        // The server first: its runner's reports need it, its rollouts need the cluster.
        drop(self.server.take());
        end_left_runners(&self.folder.path().join("server"));
        self.stop.cancel();
    }
}

/// What a command said.
#[derive(Debug)]
pub(crate) struct Said {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

pub(crate) async fn said(mut command: Command) -> Said {
    let output = tokio::task::spawn_blocking(move || command.stdin(Stdio::null()).output().unwrap()).await.unwrap();
    Said {
        status: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Asks again until there is an answer.
pub(crate) async fn until(what: &str, mut ask: impl AsyncFnMut() -> Option<()>) {
    let since = Instant::now();
    while ask().await.is_none() {
        assert!(since.elapsed() < PATIENCE, "waited too long for {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// How many processes of the machine have this word in their command line.
pub(crate) fn processes_with(word: &str) -> usize {
    let entries = std::fs::read_dir("/proc").unwrap().flatten();
    let has = |path: PathBuf| {
        let line = std::fs::read(path.join("cmdline")).unwrap_or_default();
        line.split(|byte| *byte == 0).any(|argument| argument == word.as_bytes())
    };
    entries.filter(|entry| has(entry.path())).count()
}

/// A process of the machine: its id, and when it was started, in clock ticks since the machine was.
pub(crate) type Process = (u32, u64);

/// The process's parent and when it was started (proc(5), `/proc/pid/stat`, fields 4 and 22).
fn parent_and_start(pid: u32) -> Option<(u32, u64)> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The second field is a name that may have anything in it, in parentheses.
    let fields: Vec<_> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    Some((fields.get(1)?.parse().ok()?, fields.get(19)?.parse().ok()?))
}

/// A process and all that it started, and those started, as they are now.
pub(crate) fn family(of: u32) -> Vec<Process> {
    let entries = std::fs::read_dir("/proc").unwrap().flatten();
    let all: Vec<(u32, u32, u64)> = entries
        .filter_map(|entry| {
            let pid = entry.file_name().to_str()?.parse().ok()?;
            parent_and_start(pid).map(|(parent, start)| (pid, parent, start))
        })
        .collect();
    let mut family = vec![of];
    let mut at = 0;
    while let Some(parent) = family.get(at).copied() {
        family.extend(all.iter().filter(|(_, of, _)| *of == parent).map(|(pid, ..)| *pid));
        at += 1;
    }
    all.into_iter().filter(|(pid, ..)| family.contains(pid)).map(|(pid, _, start)| (pid, start)).collect()
}

/// Those of these processes that are still there.
pub(crate) fn alive(processes: &[Process]) -> Vec<Process> {
    let there = |(pid, start): &&Process| parent_and_start(*pid).is_some_and(|(_, now)| now == *start);
    processes.iter().filter(there).copied().collect()
}

/// A pipeline of one job in the base image, with these lines in it.
pub(crate) fn one_job(lines: &str) -> String {
    format!(
        "start commit=\"main\"\nstage \"verify\" {{\n    job \"unit\" {{\n        container \"{REGISTRY}/base/shell:1\"\n        {lines}\n    }}\n}}\n"
    )
}
