//! What a run may have follows from the commit and the ref that the project protected when it was made, and never from the
//! name of a branch or tag alone.

use pondrix_api::RunSummary;
use pondrix_core::pipeline::TemplateName;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository};

use crate::environments::{app, push_to, rolling_out};
use crate::support::{World, one_job, until};

const VALUE: &str = "s3cret-of-the-printer";

/// Shows what a job's identity says.
const SHOWS: &str =
    "identity \"vault\"\nstep \"printf %s $PONDRIX_IDENTITY | cut -d. -f2 | tr _- /+ | base64 -d || true\"";

/// A job for every branch and tag that names a protected secret and an identity.
fn asking() -> String {
    let key = "secret \"PRINTER_KEY\"\nstep \"test $PRINTER_KEY = s3cret-of-the-printer && echo has the key\"";
    one_job(&format!("{key}\n{SHOWS}")).replace("start commit=\"main\"", "start commit=\"**\"\nstart tag=\"*\"")
}

async fn world() -> (World, Repository) {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &asking()).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "PRINTER_KEY", "--protected"], VALUE).0);
    world.passes(&world.run_of("plant-labels", &repository.push("Of the default branch").unwrap()).await).await;
    (world, repository)
}

async fn protect(world: &World, refs: &[&str]) {
    let all: Vec<&str> = refs.iter().flat_map(|name| ["--protect", name]).collect();
    let said = world.pondrix(&[&["project", "set", "plant-labels"], &all[..]].concat()).await;
    assert_eq!(said.status, 0, "{said:?}");
}

/// The run that a command began.
fn run_in(document: &str) -> RunId {
    let run: serde_json::Value = serde_json::from_str(document).unwrap_or_else(|_| panic!("{document}"));
    run["run"].as_str().unwrap().parse().unwrap()
}

/// Reruns all of a run, and answers the new one with what its preflight said.
async fn rerun(world: &World, run: &RunId) -> (RunId, String) {
    // Another run may begin meanwhile, of what was pushed last.
    let said = world.pondrix(&["rerun", &run.to_string(), "--all", "--json"]).await;
    assert_eq!(said.status, 0, "{said:?}");
    let again = run_in(&said.out);
    let ended = world.end_of(&again).await;
    let missing: Vec<_> = ended.missing.iter().map(|one| format!("{} -> {}", one.what, one.fix)).collect();
    (again, missing.join("\n"))
}

/// The newest run that fits, when there is one.
async fn run_that(world: &World, fits: impl Fn(&RunSummary) -> bool) -> RunId {
    let project = "plant-labels".parse().unwrap();
    let mut found = None;
    until("a run that fits", async || {
        let runs = world.client.runs(Some(&project), 50, None).await.ok()?.runs;
        found = runs.into_iter().find(|run| fits(run)).map(|run| run.run.parse().unwrap());
        found.is_some().then_some(())
    })
    .await;
    found.unwrap()
}

async fn was_refused(world: &World, run: &RunId, said: &str, words: &[&str]) {
    assert!(words.iter().all(|words| said.contains(words)), "{said}");
    let ended = world.end_of(run).await;
    assert_eq!(ended.summary.state, State::Failed);
    assert!(!world.log(run, "verify/unit").await.contains("has the key"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_that_was_never_trusted_is_not_when_its_branch_is_protected_later() {
    let (world, repository) = world().await;
    let good = repository.git(&["rev-parse", "HEAD"]).unwrap();
    let bad = push_to(&world, &repository, "plan-b").await;
    was_refused(
        &world,
        &bad,
        &rerun(&world, &bad).await.1,
        &["carries the branch `plan-b`; plant-labels protects main"],
    )
    .await;
    // It stays in the branch, which is protected from now on.
    protect(&world, &["main", "plan-*"]).await;
    let (again, said) = rerun(&world, &bad).await;
    let words = "which was not trusted when the run was made -> start a new run of the branch: pondrix \
                 start plant-labels --branch plan-b";
    was_refused(&world, &again, &said, &[words]).await;
    // Whoever may start runs says that what the branch has now is to be run.
    let said = world.pondrix(&["start", "plant-labels", "--branch", "plan-b", "--json"]).await;
    let anew = run_in(&said.out);
    world.passes(&anew).await;
    assert!(world.log(&anew, "verify/unit").await.contains("has the key"));
    // Once more, of the run that was trusted: its commit is in the branch still.
    world.passes(&rerun(&world, &anew).await.0).await;
    // It is taken away from the branch, and no run of it is trusted any more: neither the first, nor that one.
    repository.git(&["push", "--quiet", "--force", "origin", &format!("{good}:refs/heads/plan-b")]).unwrap();
    for run in [&bad, &anew] {
        let (again, said) = rerun(&world, run).await;
        was_refused(&world, &again, &said, &["carries the branch `plan-b`, which does not have its commit now"]).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_branch_that_is_made_again_and_a_tag_that_moves_give_their_trust_to_nothing_that_they_named_before() {
    let (world, repository) = world().await;
    protect(&world, &["main", "release", "tag:v*"]).await;
    let first = push_to(&world, &repository, "release").await;
    world.passes(&first).await;
    let log = world.log(&first, "verify/unit").await;
    assert!(log.contains("\"protected\":true") && log.contains("has the key"), "{log}");
    let of_release = repository.git(&["rev-parse", "HEAD"]).unwrap();
    repository.push_tag("v1", &of_release).unwrap();
    let tagged = run_that(&world, |run| run.tag.as_deref() == Some("v1")).await;
    world.passes(&tagged).await;
    // Both name other commits from now on, that come after the default branch and not after the release.
    repository.git(&["checkout", "--quiet", "-B", "elsewhere", "origin/main"]).unwrap();
    repository.write("README.md", "made again").unwrap();
    repository.git(&["push", "--quiet", "origin", ":refs/heads/release"]).unwrap();
    let (again, said) = rerun(&world, &first).await;
    was_refused(&world, &again, &said, &["carries the branch `release`, which does not have its commit now"]).await;
    let other = repository.push_to("release", "Made again").unwrap();
    world.passes(&world.run_of("plant-labels", &other).await).await;
    repository.push_tag("v1", &other).unwrap();
    for (run, named) in [(&first, "the branch `release`"), (&tagged, "the tag `v1`")] {
        let (again, said) = rerun(&world, run).await;
        was_refused(&world, &again, &said, &[named, "which does not have its commit now"]).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_rerun_carries_over_and_a_template_that_moved_make_it_no_more_trusted() {
    let (world, repository) = world().await;
    // The first job passes, of a branch that nobody protects, and its result is carried over.
    let job =
        |name: &str, lines: &str| format!("job \"{name}\" {{\ncontainer \"{REGISTRY}/base/shell:1\"\n{lines}\n}}\n");
    let second = job("second", &format!("{SHOWS}\nstep \"false\""));
    let pipeline = format!(
        "start commit=\"**\"\nstage \"one\" {{\n{}}}\nstage \"two\" {{\n{second}}}\n",
        job("first", "step \"true\"")
    );
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let run = push_to(&world, &repository, "plan-b").await;
    world.end_of(&run).await;
    protect(&world, &["main", "plan-b"]).await;
    let said = world.pondrix(&["rerun", &run.to_string(), "--json"]).await;
    let again = run_in(&said.out);
    let ended = world.end_of(&again).await;
    assert_eq!(ended.stages[0].jobs[0].state, State::Passed);
    let log = world.log(&again, "two/second").await;
    assert!(log.contains("\"protected\":false"), "{log}");
    // A run of the default branch with a template that its tag does not name any more.
    let (platform, _) = world.project("platform", &[]).await;
    let text = format!("stage \"verify\" {{\n{}}}\n", job("unit", "secret \"PRINTER_KEY\"\nstep \"echo has the key\""));
    platform.write("keyed.kdl", &text).unwrap();
    let first = platform.push("A template").unwrap();
    platform.push_tag("v1", &first).unwrap();
    assert_eq!(world.pondrix(&["project", "set", "platform", "--templates", "yes"]).await.status, 0);
    let seen = async |commit: &str| {
        let name = TemplateName::new("keyed", "platform", "", "v1").unwrap();
        until("the tag", async || (world.client.template(&name).await.ok()?.commit == commit).then_some(())).await;
    };
    seen(&first).await;
    repository.git(&["checkout", "--quiet", "main"]).unwrap();
    repository
        .write("pondrix.kdl", "start commit=\"**\"\nuse \"keyed\" project=\"platform\" version=\"v1\"\n")
        .unwrap();
    let run = world.run_of("plant-labels", &repository.push("With a template").unwrap()).await;
    world.passes(&run).await;
    world.passes(&rerun(&world, &run).await.0).await;
    platform.git(&["checkout", "--quiet", "--orphan", "other"]).unwrap();
    platform.write("keyed.kdl", &text.replace("has the key", "has it")).unwrap();
    let other = platform.push_to("other", "Another template").unwrap();
    platform.push_tag("v1", &other).unwrap();
    seen(&other).await;
    let (again, said) = rerun(&world, &run).await;
    was_refused(&world, &again, &said, &["which was not trusted when the run was made"]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_waits_while_its_commit_is_taken_away_gets_nothing_of_the_ref_and_leaves_it_nothing() {
    let (world, repository) = world().await;
    protect(&world, &["main", "release"]).await;
    // Two stages: the second begins when the commit is gone.
    let job =
        |name: &str, lines: &str| format!("job \"{name}\" {{\ncontainer \"{REGISTRY}/base/shell:1\"\n{lines}\n}}\n");
    let jobs = job("secret", "secret \"PRINTER_KEY\"\nstep \"true\"") + &job("identity", SHOWS);
    let waiting = format!("{}stage \"later\" {{\napproval \"Go on?\"\n{jobs}}}\n", asking());
    repository.write("pondrix.kdl", &waiting).unwrap();
    let run = push_to(&world, &repository, "release").await;
    world.until(&run, |run| run.summary.state == State::Waiting).await;
    repository.git(&["push", "--quiet", "--force", "origin", "origin/main:refs/heads/release"]).unwrap();
    let moved = repository.git(&["rev-parse", "origin/main"]).unwrap();
    run_that(&world, |run| run.branch == "release" && run.commit == moved).await;
    assert_eq!(world.pondrix(&["approve", &run.to_string()]).await.status, 0);
    let ended = world.end_of(&run).await;
    let reasons: Vec<_> = ended.stages[1].jobs.iter().filter_map(|job| job.reason.clone()).collect();
    let secret = "the secret `PRINTER_KEY` is for runs of protected refs, and this one carries the branch `release`, which \
                  does not have its commit now";
    assert!(reasons.iter().any(|reason| reason == secret), "{reasons:?}");
    let log = world.log(&run, "later/identity").await;
    assert!(log.contains("\"protected\":false") && log.contains("\"sub\":\"project/plant-labels/commit\""), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_environment_takes_no_run_whose_branch_does_not_have_its_commit() {
    let world = World::new().await;
    let repository = app(&world, &rolling_out("")).await;
    let good = repository.push("Good").unwrap();
    world.passes(&world.run_of("plant-labels", &good).await).await;
    for (branch, rule, words) in [
        ("release-1", "release-*", "this run carries the branch `release-1`, which does not have its commit now"),
        ("release-2", "protected", "it takes protected refs only, and this run carries the branch `release-2`"),
    ] {
        let bad = push_to(&world, &repository, branch).await;
        world.end_of(&bad).await;
        repository.git(&["push", "--quiet", "--force", "origin", &format!("{good}:refs/heads/{branch}")]).unwrap();
        protect(&world, &["main", "release-*"]).await;
        let said = world.pondrix(&["environment", "set", "staging", "--ref", rule]).await;
        assert_eq!(said.status, 0, "{said:?}");
        let (_, said) = rerun(&world, &bad).await;
        assert!(said.contains(words), "{rule}: {said}");
        protect(&world, &["main"]).await;
    }
}
