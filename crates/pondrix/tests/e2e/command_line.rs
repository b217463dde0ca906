//! The commands, their output for people and programs, and their exit statuses.

use std::process::Command;

use pondrix_core::State;
use pondrix_standin::garden::VISITOR_DESK;

use crate::support::{PONDRIX, World, one_job, processes_with, said, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_started_shown_listed_and_its_log_followed() {
    let world = World::new().await;
    let (repository, run) = world
        .run_of_pipeline(
            "plant-labels",
            &one_job("step \"echo one; echo two\"; step name=\"last\" \"echo $PONDRIX_BRANCH\""),
        )
        .await;
    world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/unit").await, "one\ntwo\nmain\n");

    let started = world.pondrix(&["start", "plant-labels", "--follow"]).await;
    assert_eq!(started.status, 0, "{}", started.err);
    assert!(started.out.contains("plant-labels#2") && started.out.contains("passed"), "{}", started.out);
    let followed = world.pondrix(&["log", "plant-labels#2", "unit", "--follow"]).await;
    assert_eq!((followed.status, followed.out.as_str()), (0, "one\ntwo\nmain\n"));

    let listed = world.pondrix(&["runs", "plant-labels", "--json"]).await;
    let listed: serde_json::Value = serde_json::from_str(&listed.out).unwrap();
    let names: Vec<_> = listed["runs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|run| (run["run"].as_str().unwrap(), run["start"].as_str().unwrap()))
        .collect();
    assert_eq!(names, [("plant-labels#2", "manual"), ("plant-labels#1", "commit")]);
    let page = world.pondrix(&["runs", "--limit", "1"]).await;
    assert!(page.out.contains("plant-labels#2") && page.out.contains("older: pondrix runs --before"), "{}", page.out);

    // In a checkout whose remote the server knows, the project goes without saying.
    let checkout = world.folder.path().join("clone");
    let mut clone = Command::new("git");
    clone.args(["clone", "--quiet"]).arg(&repository.bare).arg(&checkout);
    assert_eq!(said(clone).await.status, 0);
    let mut show = Command::new(PONDRIX);
    show.args(["show", "#1"]).current_dir(&checkout).env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", &world.token);
    let shown = said(show).await;
    assert!(shown.out.starts_with("plant-labels#1"), "{}{}", shown.out, shown.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failed_run_says_which_step_and_what_it_said_last_and_exits_with_1() {
    let world = World::new().await;
    let pipeline =
        one_job("step name=\"good\" \"true\"; step name=\"bad\" \"echo all is lost; exit 3\"; step \"echo never\"");
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    let shown = world.pondrix(&["show", &run.to_string(), "--follow"]).await;
    assert_eq!(shown.status, 1);
    let broke = shown.out.lines().skip_while(|line| !line.contains("verify/unit:")).collect::<Vec<_>>();
    assert_eq!(
        broke,
        [
            "\u{2715} failed verify/unit: bad: exit status 3",
            "  | all is lost",
            "  next: pondrix log 'plant-labels#1' verify/unit",
        ]
    );
    assert!(!world.log(&run, "verify/unit").await.contains("never"));
    assert_eq!(world.pondrix(&["log", &run.to_string(), "--follow"]).await.status, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_job_and_a_job_out_of_time_leave_no_process() {
    let world = World::new().await;
    let mark = |number: u32| format!("{}.{number}", 200_000 + std::process::id());
    let endless = |number, limit| {
        let mark = mark(number);
        one_job(&format!(
            "limit time=\"{limit}\"; step \"(sleep {mark} &); trap '' TERM; echo begun; sleep {mark}; sleep {mark}\""
        ))
    };
    let begun = async |run: &pondrix_core::RunId| {
        until("the job's first line", async || world.log(run, "verify/unit").await.contains("begun").then_some(()))
            .await;
    };
    let (repository, run) = world.run_of_pipeline("plant-labels", &endless(1, "5m")).await;
    begun(&run).await;
    assert!(processes_with(&mark(1)) > 0);
    assert_eq!(world.pondrix(&["stop", &run.to_string()]).await.status, 0);
    assert_eq!(world.end_of(&run).await.summary.state, State::Stopped);
    assert_eq!(processes_with(&mark(1)), 0);
    let again = world.pondrix(&["stop", &run.to_string()]).await;
    assert_eq!(again.status, 1);
    assert!(again.err.contains("is stopped"), "{}", again.err);

    repository.write("pondrix.kdl", &endless(2, "1s")).unwrap();
    let commit = repository.push("A shorter limit").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    assert!(detail.failure.unwrap().what.contains("the job took longer than its limit of 1s"));
    assert_eq!(processes_with(&mark(2)), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn signing_in_saves_the_token_readable_to_nobody_else_and_shows_it_to_no_other_server() {
    let world = World::new().await;
    let home = tempfile::tempdir().unwrap();
    let pondrix = |arguments: &[&str], token: Option<&str>| {
        let mut command = Command::new(PONDRIX);
        command
            .args(arguments)
            .env("XDG_CONFIG_HOME", home.path())
            .env_remove("PONDRIX_URL")
            .env_remove("PONDRIX_TOKEN");
        token.into_iter().for_each(|token| {
            command.env("PONDRIX_TOKEN", token);
        });
        said(command)
    };
    let missing = pondrix(&["runs"], None).await;
    assert_eq!(missing.status, 2);
    assert!(missing.err.contains("pondrix login"), "{}", missing.err);
    let refused = pondrix(&["login", world.url()], Some("wrong")).await;
    assert_eq!(refused.status, 4, "{}", refused.err);
    assert!(!home.path().join("pondrix").exists(), "a refused token is not saved");
    let signed_in = pondrix(&["login", world.url()], Some(&world.token)).await;
    assert_eq!(signed_in.status, 0, "{}", signed_in.err);
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(home.path().join("pondrix/login.json")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    let who = pondrix(&["whoami"], None).await;
    assert!(who.out.starts_with(&format!("admin at {} ", world.url())), "{}", who.out);
    let elsewhere = pondrix(&["whoami", "--url", "http://127.0.0.1:9"], None).await;
    assert_eq!(elsewhere.status, 2, "the saved token is for the other server: {}", elsewhere.err);
    let nobody = pondrix(&["whoami", "--url", "http://127.0.0.1:9"], Some("x")).await;
    assert_eq!(nobody.status, 3);
    assert!(nobody.err.contains("could not be reached"), "{}", nobody.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_exist_is_named_with_what_does() {
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"true\"")).await;
    world.passes(&run).await;
    for (arguments, status, words) in [
        (&["show", "plant-labels#9"][..], 1, "there is no run plant-labels#9"),
        (&["show", "nothing"], 2, "write PROJECT#NUMBER"),
        (&["log", "plant-labels#1", "x"], 2, "it has verify/unit"),
        (&["runs", "nothing"], 1, "there is no project `nothing`"),
        (&["start", "plant-labels", "--branch", "x"], 2, "it has main"),
        (&["project", "add", "Bad Name", "/x"], 2, "cannot be a project's name"),
        (&["project", "add", "plant-labels", "/x"], 1, "is there already"),
        (&["environment", "set", "x", "--kubeconfig", "/no/such"], 2, "/no/such: No such file or directory"),
        (&["environment", "set", "x"], 2, "say how its cluster is reached"),
        (&["registry", "add", "nothost", "--at", "http://x"], 2, "is not a registry's host"),
    ] {
        let said = world.pondrix(arguments).await;
        assert_eq!(said.status, status, "{arguments:?}: {}", said.err);
        assert!(said.err.contains(words), "{arguments:?}: {}", said.err);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_server_holds_is_listed() {
    let world = World::new().await;
    world.project("visitor-desk", VISITOR_DESK).await;
    for (arguments, words) in [
        (&["project", "list"][..], &["visitor-desk", "no run yet", "visitor-desk.git"][..]),
        (&["environment", "list"], &["staging", "any ref", "http://127.0.0.1:"]),
        (&["registry", "list"], &["registry.fernhollow.test", "http://127.0.0.1:"]),
    ] {
        let said = world.pondrix(arguments).await;
        assert!(
            said.status == 0 && words.iter().all(|word| said.out.contains(word)),
            "{arguments:?}: {}{}",
            said.out,
            said.err
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_that_was_written_over_is_shown_as_it_was_in_the_end_and_stored_as_it_came() {
    let world = World::new().await;
    let script = "step \"printf 'fetching 1 of 2\\\\rfetching 2 of 2\\\\nlost\\\\rgone\\\\n'; exit 3\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(script)).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.failure.unwrap().last_lines, ["fetching 2 of 2", "gone"]);
    assert_eq!(world.log(&run, "verify/unit").await, "fetching 1 of 2\rfetching 2 of 2\nlost\rgone\n");
    for arguments in [&["log", "plant-labels#1"][..], &["log", "plant-labels#1", "--follow"]] {
        assert_eq!(world.pondrix(arguments).await.out, "fetching 2 of 2\ngone\n", "{arguments:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn following_tells_each_change_of_state_once_and_exits_as_the_run_did() {
    let world = World::new().await;
    let steps: String = (0..6).map(|number| format!("step \"echo {number}\"\n")).collect();
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &one_job(&steps)).unwrap();
    repository.push("Six steps").unwrap();
    let started = world.pondrix(&["start", "plant-labels", "--follow"]).await;
    assert_eq!(started.status, 0, "{}{}", started.out, started.err);
    assert!(started.out.starts_with("0\n1\n2\n3\n4\n5\nplant-labels#"), "{}", started.out);
    let run =
        started.out.lines().find_map(|line| line.split_whitespace().next().filter(|word| word.contains('#'))).unwrap();
    let rerun = world.pondrix(&["rerun", run, "--all", "--json"]).await;
    let again: serde_json::Value = serde_json::from_str(&rerun.out).unwrap();
    let again = again["run"].as_str().unwrap();
    let shown = world.pondrix(&["show", again, "--follow"]).await;
    assert_eq!(shown.status, 0, "{}{}", shown.out, shown.err);
    let told: Vec<_> = shown.err.lines().collect();
    assert!(told.windows(2).all(|pair| pair[0] != pair[1]), "told twice: {told:#?}");
    assert_eq!(told.last().copied(), Some(format!("{again}  passed").as_str()));
    repository.write("pondrix.kdl", &one_job("step \"exit 1\"")).unwrap();
    repository.push("It fails").unwrap();
    assert_eq!(world.pondrix(&["start", "plant-labels", "--follow"]).await.status, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn pools_are_limited_and_listed_with_their_runners() {
    let world = World::new().await;
    let set = world.pondrix(&["pool", "set", "pond", "--limit", "1"]).await;
    assert!(set.out.contains("Pool pond: 1 jobs at once"), "{}{}", set.out, set.err);
    world.pondrix(&["pool", "set", "big", "--limit", "8"]).await;
    let listed = world.pondrix(&["pool", "list"]).await;
    let rows: Vec<Vec<_>> = listed.out.lines().skip(1).map(|line| line.split_whitespace().take(4).collect()).collect();
    assert_eq!(rows, [["big", "0", "0", "8"], ["pond", "1", "0", "1"]], "{}", listed.out);
    world.pondrix(&["pool", "set", "big", "--limit", "0"]).await;
    assert!(!world.pondrix(&["pool", "list"]).await.out.contains("big"));
}
