//! What is kept, for how long, and what is left when a project, an environment or a runner goes.

use std::path::Path;

use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, VISITOR_DESK};

use crate::support::{World, one_job, until};

/// Every path below a folder that has a word in it.
fn paths_with(folder: &Path, word: &str) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() && !path.is_symlink() {
            found.extend(paths_with(&path, word));
        }
        if entry.file_name().to_string_lossy().contains(word) {
            found.push(path.display().to_string());
        }
    }
    found
}

/// How many rows each table of the server's records has, by its name; for all tables, those of later versions too, but
/// for the audit: what was done with what is gone is known still.
fn rows(world: &World) -> Vec<(String, i64)> {
    let records = rusqlite::Connection::open(world.folder.path().join("server/records.db")).unwrap();
    let mut tables = records
        .prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name <> 'audit'")
        .unwrap();
    let tables: Vec<String> = tables.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
    let count =
        |table: &String| records.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0)).unwrap();
    tables.iter().map(|table| (table.clone(), count(table))).collect()
}

/// A pipeline whose one job keeps a file, a cache and what its tests said.
fn leaves_everything() -> String {
    let report = "<testsuite><testcase name='a'><failure/></testcase></testsuite>";
    one_job(&format!(
        r#"cache "deps" key="deps"
        artifact "site" "page" keep="9d"
        test-report junit="report.xml"
        step "mkdir -p deps; echo 1 > deps/one; echo page > page; echo \"{report}\" > report.xml""#
    ))
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_go_with_all_of_theirs_when_they_were_kept_for_long_enough_and_what_runs_somewhere_stays() {
    let world = World::new().await;
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let released = world.run_of("visitor-desk", &desk.push("First").unwrap()).await;
    world.passes(&released).await;
    let (gate, first) = world.run_of_pipeline("gate", &leaves_everything()).await;
    world.passes(&first).await;
    for count in 2..=4 {
        gate.write("note", &count.to_string()).unwrap();
        let run = world.run_of("gate", &gate.push("Again").unwrap()).await;
        world.passes(&run).await;
    }
    let says = |arguments: &'static [&'static str]| world.pondrix(arguments);

    let preview = says(&["retention", "preview", "--at-least", "0", "--at-most", "2"]).await;
    assert!(preview.out.contains("Would be removed: 2 runs\n"), "{}{}", preview.out, preview.err);
    assert!(!preview.out.contains("visitor-desk#1"), "what an environment runs stays: {}", preview.out);
    let unasked = says(&["retention", "set", "--at-least", "0", "--at-most", "2", "--project", "gate"]).await;
    assert_eq!(unasked.status, 2, "{}", unasked.err);
    assert!(unasked.err.contains("--yes"), "{}", unasked.err);
    assert_eq!(world.client.runs(None, 50, None).await.unwrap().runs.len(), 5, "nothing was removed");
    let wrong = says(&["retention", "set", "--project", "gate", "--at-least", "3", "--at-most", "2", "--yes"]).await;
    assert!(wrong.err.contains("at most 2 runs of a branch, and at least 3"), "{}", wrong.err);

    // The newest two stay for their number, however new the others are.
    let set = says(&["retention", "set", "--project", "gate", "--at-least", "2", "--at-most", "2", "--yes"]).await;
    assert_eq!(set.status, 0, "{}", set.err);
    until("two runs to go", async || (world.client.runs(None, 50, None).await.unwrap().runs.len() == 3).then_some(()))
        .await;
    let gone = says(&["show", "gate#1"]).await;
    assert!(gone.err.contains("there is no run gate#1 any more"), "{}", gone.err);
    assert_eq!(says(&["show", "gate#3"]).await.status, 0);

    // Then logs alone, then the rest.
    until("logs to go", async || {
        // They must have been there for a second, and are looked for when something is set.
        assert_eq!(says(&["retention", "set", "--logs", "1s", "--yes"]).await.status, 0);
        says(&["log", "gate#4", "verify/unit"]).await.err.contains("the logs of gate#4 are gone").then_some(())
    })
    .await;
    let arguments = ["retention", "set", "--runs", "1s", "--caches", "1s", "--at-least", "0", "--yes"];
    assert_eq!(world.pondrix(&arguments).await.status, 0);
    assert_eq!(says(&["retention", "set", "--project", "gate", "--at-least", "0", "--yes"]).await.status, 0);
    until("the other runs to go", async || {
        let runs = world.client.runs(None, 50, None).await.unwrap().runs;
        let left: Vec<_> = runs.iter().map(|run| run.run.as_str()).collect();
        (left == ["visitor-desk#1"]).then_some(())
    })
    .await;
    until("what hung on them to go", async || {
        let left = rows(&world);
        let count = |table: &str| left.iter().find(|(name, _)| name == table).unwrap().1;
        // The page of what is released is kept for a fortnight.
        let gone = ["caches", "failed_tests", "leftovers"].iter().all(|table| count(table) == 0);
        (gone && count("artifacts") == 1).then_some(())
    })
    .await;
    let left = rows(&world);
    assert_eq!(left.iter().find(|(name, _)| name == "plans").unwrap().1, 1, "{left:?}");
    assert!(!world.folder.path().join("server/logs/gate/4").exists());
    let shown = world.passes(&released).await;
    assert_eq!(shown.summary.state, State::Passed, "what runs somewhere is shown as before");
    let chain = says(&["image", "list"]).await;
    assert!(chain.out.contains("staging"), "{}", chain.out);

    let view = says(&["retention", "reset", "--project", "gate", "--yes"]).await;
    assert!(!view.out.contains("gate"), "{}", view.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_project_is_removed_with_everything_while_it_runs_and_its_name_can_be_given_anew() {
    let world = World::new().await;
    let before = rows(&world);
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let first = world.run_of("visitor-desk", &desk.push("First").unwrap()).await;
    world.passes(&first).await;
    assert!(world.pondrix_with(&["secret", "set", "visitor-desk", "KEY"], "a long value").0);
    let slow = one_job("step \"sleep 600\"")
        .replace("start commit=\"main\"\n", "start commit=\"main\"\nstart schedule=\"0 4 * * *\"\n");
    desk.write("pondrix.kdl", &slow).unwrap();
    let second = world.run_of("visitor-desk", &desk.push("Slow").unwrap()).await;
    world.until(&second, |run| run.stages[0].jobs[0].state == State::Running).await;

    let unasked = world.pondrix(&["project", "remove", "visitor-desk"]).await;
    assert_eq!(unasked.status, 2);
    assert!(unasked.err.contains("--yes"), "{}", unasked.err);
    let removed = world.pondrix(&["project", "remove", "visitor-desk", "--yes"]).await;
    assert_eq!(removed.status, 0, "{}", removed.err);
    assert!(removed.out.contains("Project visitor-desk is removed, with 2 runs."), "{}", removed.out);
    let command = format!(
        "for file in deploy/*.yaml; do kubectl --server {} --namespace staging delete -f \"$file\"; done",
        world.cluster_address()
    );
    assert!(removed.out.contains(&command), "{}", removed.out);
    // And it does what it says.
    let mut shell = std::process::Command::new("sh");
    shell.args(["-c", &command]).current_dir(desk.folder());
    let deleted = crate::support::said(shell).await;
    assert_eq!(deleted.status, 0, "{}", deleted.err);
    assert!(deleted.out.contains("deleted"), "{}", deleted.out);
    let delete = removed.out.lines().find_map(|line| line.trim().strip_prefix("curl -X DELETE ")).unwrap().to_owned();
    assert!(delete.contains("/v2/") && delete.contains("/manifests/sha256:"), "{delete}");

    // Nothing of it is left, in the records or beside them; but the environment and the registry are.
    let kept = ["environments", "registries", "tokens", "users", "roles", "settings", "bases", "sqlite_sequence"];
    let others = |rows: Vec<(String, i64)>| {
        rows.into_iter().filter(|(table, _)| !kept.contains(&table.as_str())).collect::<Vec<_>>()
    };
    assert_eq!(others(rows(&world)), others(before));
    let on_disk = paths_with(&world.folder.path().join("server"), "visitor-desk");
    let of_runner = |path: &&String| path.contains("/runner-1/sources/");
    assert_eq!(on_disk.iter().find(|path| !of_runner(path)), None, "its runner asks later what there is no more");
    assert!(world.client.run(&first).await.is_err());
    let answer = reqwest::Client::new().get(&delete).header("accept", "*/*").send().await.unwrap();
    assert!(answer.status().is_success(), "the image is still in its registry: {}", answer.status());

    // A new one of the name begins anew, and has nothing of the old one's.
    let again = pondrix_standin::garden::Repository::new(&world.folder.path().join("again"), "visitor-desk", &[]);
    let repository = again.unwrap();
    let new = pondrix_api::NewProject {
        name: "visitor-desk".to_owned(),
        repository: repository.bare.display().to_string(),
        credential: None,
    };
    let project = world.client.add_project(&new).await.unwrap();
    repository.set_hook(project.hook.as_deref()).unwrap();
    repository.write("pondrix.kdl", &one_job("step \"echo new\"")).unwrap();
    let run = world.run_of("visitor-desk", &repository.push("New").unwrap()).await;
    assert_eq!(run, "visitor-desk#1".parse::<RunId>().unwrap());
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("new") && !log.contains("First"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_removal_that_the_server_did_not_live_to_end_is_ended_when_it_starts_again() {
    let mut world = World::new().await;
    let (_, run) = world.run_of_pipeline("gate", &one_job("step \"echo 1\"")).await;
    world.passes(&run).await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().kill();
    let data = world.folder.path().join("server");
    let records = rusqlite::Connection::open(data.join("records.db")).unwrap();
    records.execute("UPDATE projects SET is_removed = 1", []).unwrap();
    drop(records);
    world.server = Some(crate::support::Server::start_without_runner(&data, &listen));
    assert!(world.client.run(&run).await.is_err(), "nobody sees it meanwhile");
    until("the project to be gone", async || paths_with(&data, "gate").is_empty().then_some(())).await;
    until("its row to be gone", async || {
        rows(&world).iter().any(|(table, count)| table == "projects" && *count == 0).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_is_paused_is_given_no_job_until_it_is_resumed_also_after_a_restart() {
    let mut world = World::new().await;
    let runner = world.client.runners().await.unwrap().runners[0].name.clone();
    let paused = world.pondrix(&["runner", "pause", &runner, "--reason", "new disk"]).await;
    assert_eq!(paused.out, format!("Runner {runner} is given no more jobs. It has none now.\n"), "{}", paused.err);
    let (_, run) = world.run_of_pipeline("gate", &one_job("step \"echo 1\"")).await;
    let waits = format!("{runner} is paused; resume: pondrix runner resume {runner}");
    until("the run to say why it waits", async || {
        world.pondrix(&["show", &run.to_string()]).await.out.contains(&waits).then_some(())
    })
    .await;
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(crate::support::Server::start(&data, &listen, "1h").0);
    until("the runner to be back", async || {
        let list = world.pondrix(&["runner", "list"]).await.out;
        (list.contains("paused") && list.contains("by admin: new disk")).then_some(())
    })
    .await;
    assert_eq!(world.client.run(&run).await.unwrap().summary.state, State::Running, "its first stage waits");
    let here = world.pondrix(&["runner", "remove", &runner]).await;
    assert!(here.err.contains(&format!("`{runner}` is the server's own")), "{}", here.err);
    assert_eq!(world.pondrix(&["runner", "resume", &runner]).await.status, 0);
    world.passes(&run).await;
    let unknown = world.pondrix(&["runner", "pause", "nobody"]).await;
    assert!(unknown.err.contains("there is no runner `nobody`"), "{}", unknown.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_environment_is_removed_but_not_while_something_is_rolling_out_there() {
    let world = World::new().await;
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let run = world.run_of("visitor-desk", &desk.push("First").unwrap()).await;
    world.passes(&run).await;
    let removed = world.pondrix(&["environment", "remove", "staging", "--yes"]).await;
    assert_eq!(removed.status, 0, "{}", removed.err);
    assert!(removed.out.contains(&format!("{REGISTRY}/visitor/desk@sha256:")), "{}", removed.out);
    assert!(removed.out.contains("--namespace staging delete -f"), "{}", removed.out);
    let again = world.pondrix(&["environment", "remove", "staging", "--yes"]).await;
    assert!(again.err.contains("there is no environment `staging`"), "{}", again.err);
    desk.write("note", "2").unwrap();
    let second = world.run_of("visitor-desk", &desk.push("Second").unwrap()).await;
    let ended = world.end_of(&second).await;
    assert!(ended.missing.iter().any(|missing| missing.what.contains("staging")), "{:?}", ended.missing);
}

#[tokio::test(flavor = "multi_thread")]
async fn logs_are_compressed_some_time_after_the_end_and_are_read_and_followed_as_before() {
    let world = World::new().await;
    let job = one_job("step \"seq 1 200000 | sed 's/^/a line of a bed of lilies /'\"");
    let (_, run) = world.run_of_pipeline("gate", &job).await;
    world.passes(&run).await;
    let before = world.log(&run, "verify/unit").await;
    assert!(before.len() > 6_000_000, "{}", before.len());
    let folder = world.folder.path().join("server/logs/gate/1");
    let (plain, packed) = (folder.join("verify.unit.log"), folder.join("verify.unit.log.zst"));
    until("the log to be compressed", async || (packed.exists() && !plain.exists()).then_some(())).await;
    let size = std::fs::metadata(packed).unwrap().len();
    assert!(size * 5 < before.len() as u64, "{size} of {}", before.len());
    assert_eq!(world.log(&run, "verify/unit").await, before);
    let followed = world.pondrix(&["log", "--follow", &run.to_string(), "verify/unit"]).await;
    assert_eq!((followed.status, followed.out == before), (0, true), "{}", followed.err);
}
