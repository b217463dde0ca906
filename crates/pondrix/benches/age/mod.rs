//! Age: a server whose records hold a million runs, against one that holds a thousand.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use pondrix_api::{Client, RunsWanted};
use pondrix_core::{RunId, State};
use pondrix_standin::garden::VISITOR_DESK;
use rusqlite::{Connection, params};
use serde_json::{Value, json};

use super::support::{Server, World};

/// How many projects the runs are of, and on how many branches each.
const PROJECTS: u64 = 200;
const BRANCHES: u64 = 20;
/// How many runs push an image.
const RUNS_OF_AN_IMAGE: u64 = 20;
/// How often each question is asked, and how often before that.
const ASKED: u64 = 1_000;
const WARM: u64 = 200;
/// The question that is answered without the runs.
const FLOOR: &str = "who am I";
const FEW: u64 = 1_000;
const MANY: u64 = 1_000_000;
/// As many as there are where there are few runs.
const OF_A_PROJECT: usize = 5;
const OF_A_BRANCH: usize = 40;
const OF_A_PERSON: usize = 20;
/// What a question may take at the most, and how much longer where there are many runs.
const MOST: Duration = Duration::from_millis(10);
const BAR: f64 = 1.2;

/// A server's folder with one real run in it, of which the others are copies.
async fn sample(world: &World) -> i64 {
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let run = world.run_of("visitor-desk", &repository.push("First").unwrap()).await;
    world.passes(&run).await;
    1
}

/// Fills records with copies of a run: the same events, and images and tags in proportion.
fn fill(records: &Path, of: i64, count: u64) {
    let c = Connection::open(records).unwrap();
    c.execute_batch("PRAGMA synchronous = off; PRAGMA journal_mode = memory; PRAGMA cache_size = -400000; BEGIN")
        .unwrap();
    let numbers =
        |count: u64| format!("WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {count})");
    let run = |sql: &str| assert!(c.execute(sql, params![]).unwrap() > 0);
    run(&format!(
        "{} INSERT INTO projects (id, name, repository, hook_secret, added, seen, next_number)
         SELECT 1000 + i, 'bed-' || i, p.repository, 'x', 1, 1, {} FROM n, projects p WHERE p.id = 1",
        numbers(PROJECTS),
        count / PROJECTS + 2
    ));
    // What is in the repository was seen: looking at it starts nothing.
    run(&format!(
        "{} INSERT INTO branches (project, name, commit_id, place) SELECT 1000 + i, b.name, b.commit_id, 1
         FROM n, branches b WHERE b.project = 1",
        numbers(PROJECTS)
    ));
    run(&format!(
        "{} INSERT INTO runs (id, project, number, start, branch, commit_id, commit_time, title, author, pipeline, faults,
                              state, note, created, started, ended, plan, templates, place, logs)
         SELECT 1000 + i, 1001 + i % {PROJECTS}, 1 + i / {PROJECTS}, r.start, 'branch-' || ((i + i / {PROJECTS}) % {BRANCHES}),
                printf('%040x', i), r.commit_time, r.title, 'gardener-' || (i * 7 % 50), r.pipeline, r.faults,
                CASE WHEN i % 10 = 0 THEN 'failed' ELSE 'passed' END, NULL, r.created + i, r.started + i, r.ended + i,
                r.plan, r.templates, i, 2
         FROM n, runs r WHERE r.id = {of}",
        numbers(count)
    ));
    run(&format!(
        "{} INSERT INTO events (run, at, version, body)
         SELECT 1000 + i, e.at + i, e.version, e.body FROM n, events e WHERE e.run = {of} ORDER BY i, e.id",
        numbers(count)
    ));
    // As many as a page shows at the least: it is not compared with a shorter one.
    let (images, runs_of_an_image) =
        if count < 20 * RUNS_OF_AN_IMAGE * 10 { (250, 4) } else { (count / RUNS_OF_AN_IMAGE, RUNS_OF_AN_IMAGE) };
    run(&format!(
        "{} INSERT INTO image_records (repository, digest, run, job, created, base, base_digest, size, packages, body)
         SELECT 'registry.test/bed-' || (1 + i % {PROJECTS}), printf('sha256:%064x', i), 1000 + i * {runs_of_an_image},
                m.job, m.created + i, m.base, m.base_digest, m.size, m.packages, m.body
         FROM n, (SELECT * FROM image_records LIMIT 1) m",
        numbers(images)
    ));
    run(&format!(
        "{} INSERT INTO image_tags (repository, tag, digest, run, at)
         SELECT 'registry.test/bed-' || (1 + i % {PROJECTS}), CASE WHEN t.k = 0 THEN 'edge' ELSE 'v' || i END,
                printf('sha256:%064x', i), 1000 + i * {runs_of_an_image}, i FROM n, (SELECT 0 k UNION SELECT 1) t",
        numbers(images)
    ));
    c.execute_batch("COMMIT; PRAGMA optimize; PRAGMA journal_mode = wal").unwrap();
}

/// A server on records with so many runs.
struct Aged {
    server: Server,
    client: Client,
    count: u64,
    start: Vec<Duration>,
    memory: u64,
    size: u64,
}

/// How long each answer to a question took.
type Times = BTreeMap<&'static str, Vec<Duration>>;

impl Aged {
    async fn new(folder: &Path, base: &Path, token: &str, count: u64) -> Self {
        let data = folder.join(format!("runs-{count}"));
        copy(base, &data);
        let records = data.join("records.db");
        fill(&records, 1, count);
        let size = std::fs::metadata(&records).unwrap().len();
        // Once, so that what only a first start does is done.
        drop(Server::start_without_runner(&data, "127.0.0.1:0"));
        let mut start = Vec::new();
        for _ in 0..5 {
            let since = Instant::now();
            let mut server = Server::start_without_runner(&data, "127.0.0.1:0");
            start.push(since.elapsed());
            server.end();
        }
        let server = Server::start_without_runner(&data, "127.0.0.1:0");
        let client = Client::new(&server.url, token);
        let memory = super::status_of(server.child.id(), "VmRSS");
        Self { server, client, count, start, memory, size }
    }

    /// Asks each question once, another one each turn.
    async fn ask(&self, turn: u64, times: &mut Times) {
        let client = &self.client;
        let some = |wanted: RunsWanted, most: usize| async move {
            let page = client.find_runs(&wanted, most, None).await.unwrap();
            assert_eq!(page.runs.len(), most, "the answers have one length, whatever there is");
            page.runs.len()
        };
        let all = |wanted: RunsWanted| some(wanted, 50);
        let bed = format!("bed-{}", 1 + turn * 13 % PROJECTS);
        let project = Some(bed.parse().unwrap());
        let author = Some(format!("gardener-{}", turn % 50));
        let branch = Some(format!("branch-{}", turn % BRANCHES));
        let run: RunId = format!("{bed}#{}", 1 + 1 + turn * 7919 % (self.count / PROJECTS - 1)).parse().unwrap();
        let mut timed = async |name: &'static str, work: std::pin::Pin<Box<dyn Future<Output = usize> + '_>>| {
            let since = Instant::now();
            assert!(work.await > 0, "{name}");
            times.entry(name).or_default().push(since.elapsed());
        };
        // What needs no record is the floor: HTTP, and who else is on the machine.
        timed(FLOOR, Box::pin(async { client.whoami().await.unwrap().name.len() })).await;
        timed("list", Box::pin(all(RunsWanted::default()))).await;
        timed("list of a project", Box::pin(some(RunsWanted { project, ..RunsWanted::default() }, OF_A_PROJECT))).await;
        timed("list by state", Box::pin(all(RunsWanted { state: Some(State::Failed), ..RunsWanted::default() }))).await;
        timed("list by branch", Box::pin(some(RunsWanted { branch, ..RunsWanted::default() }, OF_A_BRANCH))).await;
        timed("list by person", Box::pin(some(RunsWanted { author, ..RunsWanted::default() }, OF_A_PERSON))).await;
        timed("show", Box::pin(async { client.run(&run).await.unwrap().stages.len() })).await;
        timed("images", Box::pin(async { client.images(None, None).await.unwrap().images.len() })).await;
        timed("projects", Box::pin(async { client.projects().await.unwrap().projects.len() })).await;
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for name in ["secrets.key", "own-1.token"] {
        std::fs::copy(from.join(name), to.join(name)).unwrap();
    }
    // With what is only in the write-ahead log.
    let into = to.join("records.db").display().to_string();
    Connection::open(from.join("records.db")).unwrap().execute("VACUUM INTO ?1", [into]).unwrap();
}

fn p99(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() * 99 / 100]
}

/// Measures.
pub(super) async fn measures() -> Vec<Value> {
    let mut world = World::new().await;
    sample(&world).await;
    let base: PathBuf = world.folder.path().join("server");
    let token = world.token.clone();
    world.server.take().unwrap().end();
    let folder = tempfile::tempdir().unwrap();
    let few = Aged::new(folder.path(), &base, &token, FEW).await;
    let many = Aged::new(folder.path(), &base, &token, MANY).await;
    // What is asked first reads from the disk; it is not what is compared.
    let mut cold = Times::new();
    for turn in 0..WARM {
        few.ask(turn, &mut cold).await;
        many.ask(turn, &mut cold).await;
    }
    // In turn, now one first and now the other: whatever else goes on on the machine is in both.
    let (mut of_few, mut of_many) = (Times::new(), Times::new());
    for turn in WARM..WARM + ASKED {
        if turn % 2 == 0 {
            few.ask(turn, &mut of_few).await;
            many.ask(turn, &mut of_many).await;
        } else {
            many.ask(turn, &mut of_many).await;
            few.ask(turn, &mut of_few).await;
        }
    }
    let mut summary = Vec::new();
    for (name, times) in of_many {
        let [middle, middle_of_few] = [&times, &of_few[name]].map(|all| super::median(all.clone()).as_secs_f64() * 1e3);
        let (ours, bare) = (p99(times), p99(of_few[name].clone()));
        let what = format!("{name}, of {MANY} runs and of {FEW}, the 99th of a hundred");
        let is_slow = if ours > MOST { " LONGER THAN 10 ms" } else { "" };
        summary.push(super::measure_of(&format!("{what}{is_slow}"), "ms", ours, bare, BAR));
        println!("  in the middle: {middle:.2} ms and {middle_of_few:.2} ms");
    }
    summary.push(super::measure_of(
        "start of a server with so many",
        "ms",
        super::median(many.start),
        super::median(few.start),
        1.1,
    ));
    let memory = |kib: u64| kib as f64 / 1024.0;
    println!(
        "memory of an idle server with so many: {:.1} MB, with few {:.1} MB",
        memory(many.memory),
        memory(few.memory)
    );
    println!("records: {:.2} kB a run", many.size as f64 / MANY as f64 / 1e3);
    summary
        .push(json!({ "name": "memory of an idle server with so many runs", "unit": "MB", "ours": memory(many.memory),
        "bare": memory(few.memory), "ratio": memory(many.memory) / memory(few.memory), "bar": 1.2 }));
    drop((few.server, many.server));
    summary
}
