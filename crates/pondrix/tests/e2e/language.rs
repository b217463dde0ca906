//! The pipeline language, through whole runs.

use std::collections::BTreeMap;

use pondrix_api::{JobView, PlanRequest, RunDetail, StartRequest};
use pondrix_core::pipeline::StartKind;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::REGISTRY;

use crate::support::{Server, World, one_job, until};

/// A job in the base image with these lines in it.
fn job(name: &str, lines: &str) -> String {
    format!("job \"{name}\" {{ container \"{REGISTRY}/base/shell:1\"\n {lines}\n }}\n")
}

fn find<'a>(run: &'a RunDetail, key: &str) -> &'a JobView {
    run.stages.iter().flat_map(|stage| &stage.jobs).find(|job| job.job == key).unwrap()
}

fn state(run: &RunDetail, key: &str) -> State {
    find(run, key).state
}

#[tokio::test(flavor = "multi_thread")]
async fn jobs_run_in_the_order_of_after_with_matrix_variables_retries_and_failures_that_may_be() {
    let world = World::new().await;
    let counts = "step \"n=$PONDRIX_ATTEMPT; echo attempt $n; test $n = 2\"";
    let pipeline = format!(
        "start commit=\"main\"\nenv A=\"file\" B=\"file\"\nstage \"verify\" {{ env B=\"stage\"\n {} {} {} {} }}\n\
         stage \"mourn\" {{ when result=\"failed\"\n {} }}\nstage \"never\" {{ when branch=\"fix\"\n {} }}\n",
        job(
            "labels",
            "matrix { bed \"rose\" \"fern\" }\n step \"echo $PONDRIX_MATRIX_BED $A $B $C in $(pwd)\" folder=\"desk\" { env C=\"step\" }"
        ),
        job("sum", "after \"labels\"\n step \"echo sum\""),
        job("wobbly", &format!("retry 2\n {counts}")),
        job("lint", "may-fail\n step \"echo bad; exit 3\""),
        job("told", "step \"true\""),
        job("skipped", "step \"true\""),
    );
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("desk/keep", "").unwrap();
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Order").unwrap()).await;
    let detail = world.passes(&run).await;
    assert_eq!(world.log(&run, "verify/labels:rose").await, "rose file stage step in /workspace/desk\n");
    assert_eq!(world.log(&run, "verify/labels:fern").await, "fern file stage step in /workspace/desk\n");
    let (rose, sum) = (find(&detail, "verify/labels:rose"), find(&detail, "verify/sum"));
    assert!(sum.started.unwrap() >= rose.ended.unwrap(), "it began before what it comes after was over");
    let wobbly = find(&detail, "verify/wobbly");
    assert_eq!((wobbly.attempt, wobbly.attempts.len(), wobbly.attempts[0].state), (2, 1, State::Failed));
    assert_eq!(world.log(&run, "verify/wobbly").await, "attempt 1\nattempt 2 begins\nattempt 2\n");
    assert_eq!(wobbly.steps[0].log_end.unwrap(), 37, "a step's part of the log is that of its last attempt");
    assert_eq!(state(&detail, "verify/lint"), State::Failed);
    assert_eq!(find(&detail, "mourn/told").reason.as_deref(), Some("nothing before it failed"));
    assert_eq!(
        find(&detail, "never/skipped").reason.as_deref(),
        Some("its stage: only on branch fix, and this is main")
    );
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    for wanted in ["attempt 1", "allowed to fail", "only on branch fix, and this is main"] {
        assert!(shown.out.contains(wanted), "{}", shown.out);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_over_its_own_limit_is_ended_and_one_that_may_fail_lets_the_job_go_on() {
    let world = World::new().await;
    let lines = "step \"echo slow; sleep 60\" time=\"1s\" may-fail=#true\n step \"echo next\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    let detail = world.passes(&run).await;
    // On a busy machine the time may be over before its first word.
    let log = world.log(&run, "verify/unit").await;
    assert_eq!(
        log.trim_start_matches("slow\n"),
        "the step failed (out of time), which is allowed
next\n"
    );
    let steps: Vec<_> = detail.stages[0].jobs[0].steps.iter().map(|step| step.state).collect();
    assert_eq!(steps, [State::Failed, State::Passed]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_needs_more_memory_than_its_limit_is_ended_and_says_so() {
    let world = World::new().await;
    let lines = "limit memory=\"24MiB\" processes=50 cpu=1\n step \"x=$(head -c 100000000 /dev/zero | tr '\\\\0' a); echo held ${#x}\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    assert_eq!(world.end_of(&run).await.summary.state, State::Failed);
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("more than the job's limit of memory") && !log.contains("held 100000000"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_starts_a_run_and_two_tags_of_one_push_start_one() {
    let world = World::new().await;
    let (repository, project) = world.project("plant-labels", &[]).await;
    let text =
        one_job("step \"echo tag $PONDRIX_TAG of branch [$PONDRIX_BRANCH]\"").replace("commit=\"main\"", "tag=\"v*\"");
    repository.write("pondrix.kdl", &text).unwrap();
    repository.set_hook(None).unwrap();
    let commit = repository.push("No start fits").unwrap();
    repository.git(&["tag", "v1"]).unwrap();
    repository.git(&["tag", "--annotate", "--message", "The second", "v2"]).unwrap();
    repository.git(&["push", "--quiet", "origin", "v1", "v2"]).unwrap();
    reqwest::Client::new().post(project.hook.as_ref().unwrap()).send().await.unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let detail = world.passes(&run).await;
    assert_eq!((detail.summary.tag.as_deref(), detail.summary.branch.as_str()), (Some("v1"), ""));
    assert_eq!(world.log(&run, "verify/unit").await, "tag v1 of branch []\n");
    until("the note", async || {
        let project = world.client.projects().await.ok()?.projects.remove(0);
        let note = project.note.unwrap_or_default();
        note.contains("tag v2 at").then_some(())
    })
    .await;
    assert_eq!(world.client.runs(None, 9, None).await.unwrap().runs.len(), 1, "the same was built twice");
    let by_hand = world.pondrix(&["start", "plant-labels", "--tag", "v2", "--follow"]).await;
    assert_eq!(by_hand.status, 0, "{}{}", by_hand.out, by_hand.err);
    assert!(by_hand.out.contains("tag v2 at"), "{}", by_hand.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_that_touches_nothing_of_interest_starts_nothing_and_says_so() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let text = one_job("step \"true\"").replace("commit=\"main\"", "commit=\"main\" changed=\"beds/**\"");
    repository.write("pondrix.kdl", &text).unwrap();
    repository.write("beds/rose", "red\n").unwrap();
    let first = repository.push("The beds").unwrap();
    world.passes(&world.run_of("plant-labels", &first).await).await;
    repository.write("README", "labels\n").unwrap();
    repository.push("A word about it").unwrap();
    until("the note", async || {
        let project = world.client.projects().await.ok()?.projects.remove(0);
        project.note?.contains("nothing that fits `beds/**` was changed").then_some(())
    })
    .await;
    repository.write("beds/rose", "white\n").unwrap();
    let third = repository.push("Another colour").unwrap();
    world.passes(&world.run_of("plant-labels", &third).await).await;
    assert_eq!(world.client.runs(None, 9, None).await.unwrap().runs.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_moment_of_the_clock_that_was_missed_starts_one_run_of_the_newest_commit() {
    let mut world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let text = one_job("step \"echo by $PONDRIX_START\"").replace("commit=\"main\"", "schedule=\"15 5 1 1 *\"");
    repository.write("pondrix.kdl", &text).unwrap();
    let commit = repository.push("Once a year").unwrap();
    until("the branch to be seen", async || {
        let project = world.client.projects().await.ok()?.projects.remove(0);
        project.note?.contains("no `start` of its pipeline fits").then_some(())
    })
    .await;
    let url = world.server.take().unwrap().kill();
    let data = world.folder.path().join("server");
    let records = rusqlite::Connection::open(data.join("records.db")).unwrap();
    assert_eq!(records.execute("UPDATE schedules SET next = 1000", []).unwrap(), 1);
    drop(records);
    world.server = Some(Server::start(&data, url.trim_start_matches("http://"), "1h").0);
    let run = world.run_of("plant-labels", &commit).await;
    let detail = world.passes(&run).await;
    assert_eq!(detail.summary.start, StartKind::Schedule);
    assert_eq!(
        world.log(&run, "verify/unit").await,
        "by schedule
"
    );
    assert_eq!(world.client.runs(None, 9, None).await.unwrap().runs.len(), 1, "what was missed counts once");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_by_hand_is_asked_and_refused_with_everything_that_is_missing() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let asks = "input \"bed\" help=\"Which bed\" { one-of \"rose\" \"fern\" }\ninput \"copies\" kind=\"number\" least=1 most=9 default=1\n";
    let text = asks.to_owned() + &one_job("step \"echo $PONDRIX_INPUT_COPIES of $PONDRIX_INPUT_BED\"");
    repository.write("pondrix.kdl", &text).unwrap();
    repository.push("Asks").unwrap();
    let refused = world.pondrix(&["start", "plant-labels", "--input", "copies=12"]).await;
    assert_eq!(refused.status, 2, "{}", refused.err);
    assert!(refused.err.contains("`bed` (Which bed) has no value: write --input bed=VALUE"), "{}", refused.err);
    assert!(
        refused.err.contains("`12` cannot be the input `copies`: write a whole number from 1 to 9"),
        "{}",
        refused.err
    );
    let started =
        world.pondrix(&["start", "plant-labels", "--input", "bed=fern", "--input", "copies=3", "--follow"]).await;
    assert_eq!(started.status, 0, "{}{}", started.out, started.err);
    let run: RunId = "plant-labels#1".parse().unwrap();
    assert_eq!(world.log(&run, "verify/unit").await, "3 of fern\n", "what was refused made no run");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stage_waits_for_a_person_through_a_restart_and_a_no_stops_the_run() {
    let mut world = World::new().await;
    let text = one_job("step \"echo verified\"")
        + &format!(
            "stage \"open\" {{ approval \"Open it to the visitors?\"\n {} }}\n",
            job("gate", "step \"echo open\"")
        );
    let (repository, first) = world.run_of_pipeline("plant-labels", &text).await;
    let waits = |run: &RunDetail| run.summary.state == State::Waiting;
    let detail = world.until(&first, waits).await;
    assert_eq!(detail.summary.note.as_deref(), Some("open: Open it to the visitors?"));
    let url = world.server.take().unwrap().kill();
    let listen = url.trim_start_matches("http://").to_owned();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start(&data, &listen, "1h").0);
    let shown = world.pondrix(&["show", &first.to_string()]).await;
    assert!(shown.out.contains(&format!("answer: pondrix approve '{first}'")), "{}", shown.out);
    let approved = world.pondrix(&["approve", &first.to_string()]).await;
    assert_eq!(approved.status, 0, "{}", approved.err);
    let detail = world.passes(&first).await;
    let approval = detail.stages[1].approval.as_ref().unwrap();
    assert_eq!((approval.yes, approval.by.as_deref()), (Some(true), Some("admin")));
    let late = world.pondrix(&["reject", &first.to_string()]).await;
    assert!(late.status != 0 && late.err.contains("waits for no answer"), "{}", late.err);

    repository.write("README", "again\n").unwrap();
    let second = world.run_of("plant-labels", &repository.push("Again").unwrap()).await;
    world.until(&second, waits).await;
    assert_eq!(world.pondrix(&["reject", &second.to_string()]).await.status, 0);
    let detail = world.end_of(&second).await;
    assert_eq!(detail.summary.state, State::Stopped);
    assert_eq!(find(&detail, "open/gate").reason.as_deref(), Some("rejected by admin"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_newer_commit_stops_the_older_run_and_what_is_exclusive_runs_one_at_a_time() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let slow = "supersede\n".to_owned() + &one_job("step \"echo begun; sleep 300\"");
    repository.write("pondrix.kdl", &slow).unwrap();
    let older = world.run_of("plant-labels", &repository.push("Slow").unwrap()).await;
    world.until(&older, |run| run.stages[0].state == State::Running).await;
    repository.write("pondrix.kdl", &slow.replace("sleep 300", "true")).unwrap();
    let newer = world.run_of("plant-labels", &repository.push("Quick").unwrap()).await;
    world.passes(&newer).await;
    let detail = world.end_of(&older).await;
    assert_eq!(detail.summary.note.unwrap(), format!("stopped by a newer commit ({newer})"));

    // Two slots, two runs: only `exclusive` keeps them apart. The first holds it until it is stopped.
    let exclusive = one_job("exclusive \"pond\"\n step \"test $PONDRIX_RUN != 4 || sleep 300\"");
    repository.write("pondrix.kdl", &exclusive).unwrap();
    world.passes(&world.run_of("plant-labels", &repository.push("One at a time").unwrap()).await).await;
    let request = StartRequest::default();
    let name = "plant-labels".parse().unwrap();
    let first: RunId = world.client.start(&name, &request).await.unwrap().run.parse().unwrap();
    assert_eq!(first.number, 4);
    world.until(&first, |run| run.stages[0].state == State::Running).await;
    let second: RunId = world.client.start(&name, &request).await.unwrap().run.parse().unwrap();
    let waits = |run: &RunDetail| {
        let reason = run.stages[0].jobs[0].reason.clone().unwrap_or_default();
        reason.starts_with(&format!("waits for `pond`, which {first} "))
    };
    world.until(&second, waits).await;
    world.client.stop(&first).await.unwrap();
    let ended = world.end_of(&first).await.stages[0].jobs[0].ended.unwrap();
    let started = world.passes(&second).await.stages[0].jobs[0].started.unwrap();
    assert!(ended <= started, "both held it: one until {ended}, the other from {started}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_no_runner_can_take_says_at_once_what_is_missing() {
    let world = World::new().await;
    let lines = "runner pool=\"greenhouse\" { tool \"no-such-tool\" }\n step \"true\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    let detail = world.until(&run, |run| run.stages[0].jobs[0].reason.is_some()).await;
    let reason = detail.stages[0].jobs[0].reason.clone().unwrap();
    assert_eq!(reason, "no runner of the pool `greenhouse` with `no-such-tool` is here: own-1 is of the pool `pond`");
    let listed = world.pondrix(&["runner", "list"]).await;
    assert!(listed.out.contains("own-1") && listed.out.contains("0 of 2"), "{}", listed.out);
    world.pondrix(&["stop", &run.to_string()]).await;
    assert_eq!(world.end_of(&run).await.summary.state, State::Stopped);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_says_what_is_left_out_and_why_here_and_at_the_server() {
    let world = World::new().await;
    let text = one_job("matrix { bed \"rose\" \"fern\" }\n retry 2\n step \"true\"")
        + &format!(
            "stage \"open\" {{ when branch=\"release/*\"\n exclusive \"gate\"\n {} }}\n",
            job("gate", "step \"true\"")
        );
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &text).unwrap();
    repository.push("A plan").unwrap();
    let request = PlanRequest { start: Some(StartKind::Commit), ..PlanRequest::default() };
    let plan = world.client.plan(&"plant-labels".parse().unwrap(), &request).await.unwrap();
    let jobs: Vec<_> = plan
        .stages
        .iter()
        .flat_map(|stage| &stage.jobs)
        .map(|job| (job.job.as_str(), job.left_out.as_deref()))
        .collect();
    let left_out = Some("its stage: only on branch release/*, and this is main");
    assert_eq!(jobs, [("verify/unit:rose", None), ("verify/unit:fern", None), ("open/gate", left_out)]);
    let file = repository.folder().join("pondrix.kdl").display().to_string();
    let here = world.pondrix(&["plan", &file, "--branch", "release/2", "--start", "manual"]).await;
    assert_eq!(here.status, 0, "{}", here.err);
    assert!(
        here.out.contains("A manual start on branch release/2") && here.out.contains("one run at a time: gate"),
        "{}",
        here.out
    );
    assert!(!here.out.contains("left out"), "{}", here.out);
    let json = world.pondrix(&["plan", &file, "--branch", "fix", "--json"]).await;
    let value: BTreeMap<String, serde_json::Value> = serde_json::from_str(&json.out).unwrap();
    assert_eq!(value["nothing"], "no `start` of its pipeline fits");
    let set = world.pondrix(&["project", "set", "plant-labels", "--weight", "3", "--limit", "2"]).await;
    assert!(set.out.contains("weight 3, 2 jobs at once"), "{}{}", set.out, set.err);
    let refused = world.pondrix(&["project", "set", "plant-labels", "--weight", "0"]).await;
    assert!(refused.status == 2 && refused.err.contains("from 1 to 100"), "{}", refused.err);
}
