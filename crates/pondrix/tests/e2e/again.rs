//! Trying what is not committed, doing a run again, drafting a first pipeline file.

use std::process::Command;

use pondrix_core::pipeline::StartKind;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository, VISITOR_DESK};

use crate::support::{PONDRIX, Said, World, one_job, said};

/// Runs the command line in a checkout, signed in.
pub(crate) async fn in_checkout(world: &World, repository: &Repository, arguments: &[&str]) -> Said {
    let mut command = Command::new(PONDRIX);
    command.args(arguments).current_dir(repository.folder());
    command.env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", &world.token);
    said(command).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_try_runs_the_working_folder_as_it_is_and_pushes_and_rolls_out_nothing_of_others() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let commit = repository.push("Committed").unwrap();
    let first = world.run_of("visitor-desk", &commit).await;
    world.passes(&first).await;
    // Changed, new, ignored and removed files; none of it is committed.
    repository.write("desk/greeting.txt", "Fernhollow, not committed\n").unwrap();
    repository.write("note.txt", "new\n").unwrap();
    repository.write(".gitignore", "secret.env\n").unwrap();
    repository.write("secret.env", "not sent\n").unwrap();
    repository.remove("README.md").unwrap();
    let test = "#!/bin/sh\ncat desk/greeting.txt note.txt\nls -a\necho started by $PONDRIX_START\n\
                mkdir -p out/page; echo page > out/page/a\n";
    repository.write("test.sh", test).unwrap();
    let tried = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(tried.status, 0, "{}{}", tried.out, tried.err);
    assert!(tried.err.contains("Trying ") && tried.err.contains(" files ("), "{}", tried.err);
    assert!(tried.out.contains("verify/unit | Fernhollow, not committed"), "the log is followed: {}", tried.out);
    let run: RunId = "visitor-desk#2".parse().unwrap();
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("new\n") && log.contains("started by try"), "{log}");
    assert!(!log.contains("secret.env") && !log.contains("README.md"), "{log}");
    let detail = world.client.run(&run).await.unwrap();
    assert_eq!((detail.summary.start, detail.summary.commit.as_str()), (StartKind::Try, commit.as_str()));
    let rollout = &detail.stages[2].jobs[0];
    assert_eq!(rollout.reason.as_deref(), Some("the environment `staging` takes no runs that try something"));
    let tags: Vec<_> = world.registry.tags("visitor/desk").into_keys().collect();
    let own = format!("try-2-{}-2", &commit[..12]);
    let first = format!("{}-1", &commit[..12]);
    // The commit's digits may come anywhere in the order of names.
    let mut expected = [first.as_str(), "edge", "preview", &own, "try-2-edge", "try-2-preview"];
    expected.sort_unstable();
    assert_eq!(tags, expected);
    let page = reqwest::get(format!("http://{}/", world.application)).await.unwrap().text().await.unwrap();
    assert!(!page.contains("not committed"), "a try was rolled out");

    // A run of it again is still a try; where the environment allows it, it is rolled out.
    let again = in_checkout(&world, &repository, &["rerun", "#2", "--all", "--follow"]).await;
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert!(again.out.contains("reruns visitor-desk#2"), "{}", again.out);
    assert!(world.registry.tags("visitor/desk").contains_key("try-3-edge"));
    assert_eq!(world.pondrix(&["environment", "set", "staging", "--allow-tries"]).await.status, 0);
    let tried = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(tried.status, 0, "{}{}", tried.out, tried.err);
    let page = reqwest::get(format!("http://{}/", world.application)).await.unwrap().text().await.unwrap();
    assert!(page.contains("Fernhollow, not committed"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_try_that_cannot_be_says_why_before_it_is_a_run() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &one_job("step \"exit 4\"")).unwrap();
    repository.push("Fails").unwrap();
    let first = world.run_of("plant-labels", &repository.git(&["rev-parse", "HEAD"]).unwrap()).await;
    world.end_of(&first).await;
    repository.write("pondrix.kdl", &one_job("setp \"true\"")).unwrap();
    let faulty = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(faulty.status, 2, "{}", faulty.err);
    assert!(
        faulty.err.contains("`setp` is not a word here") && faulty.err.contains("did you mean `step`?"),
        "{}",
        faulty.err
    );
    repository.write("pondrix.kdl", &one_job("step \"exit 5\"")).unwrap();
    let large = in_checkout(&world, &repository, &["try", "--limit", "10B"]).await;
    assert!(large.status == 2 && large.err.contains("these files are more than 10B"), "{}", large.err);
    let failed = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(failed.status, 1, "{}", failed.err);
    assert!(failed.out.contains("exit status 5"), "{}", failed.out);
    assert_eq!(world.client.runs(None, 9, None).await.unwrap().runs.len(), 2, "what was refused made no run");
    // Nobody waits for a detached one; whoever follows it later has the same status.
    let detached = in_checkout(&world, &repository, &["try", "--detach"]).await;
    assert_eq!(detached.status, 0, "{}", detached.err);
    assert_eq!(detached.out, "plant-labels#3  pondrix log 'plant-labels#3' --follow\n");
    let log = world.pondrix(&["log", "plant-labels#3", "--follow"]).await;
    assert_eq!((log.status, log.out.as_str()), (1, ""), "its step says nothing: {}", log.err);
    let shown = world.pondrix(&["show", "plant-labels#3", "--follow"]).await;
    assert!(shown.status == 1 && shown.out.contains("exit status 5"), "{}{}", shown.out, shown.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rerun_of_what_failed_keeps_what_passed_and_uses_the_secrets_of_now() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let text = format!(
        "start commit=\"main\"\nstage \"verify\" {{\n job \"good\" {{ container \"{REGISTRY}/base/shell:1\"; step \"echo good\" }}\n \
         job \"bad\" {{ container \"{REGISTRY}/base/shell:1\"; secret \"RIGHT\"; step \"test $RIGHT = right-now\" }}\n}}\n\
         stage \"more\" {{ job \"last\" {{ container \"{REGISTRY}/base/shell:1\"; step \"echo last\" }} }}\n"
    );
    repository.write("pondrix.kdl", &text).unwrap();
    let project = "plant-labels".parse().unwrap();
    world.client.set_secret(&project, "RIGHT", "wrong").await.unwrap();
    let first = world.run_of("plant-labels", &repository.push("Half").unwrap()).await;
    assert_eq!(world.end_of(&first).await.summary.state, State::Failed);
    world.client.set_secret(&project, "RIGHT", "right-now").await.unwrap();
    repository.write("pondrix.kdl", &one_job("step \"echo another\"")).unwrap();
    repository.push_to("side", "Another file since then").unwrap();
    let again = world.pondrix(&["rerun", &first.to_string(), "--follow"]).await;
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    let second: RunId = "plant-labels#2".parse().unwrap();
    let detail = world.passes(&second).await;
    assert_eq!((detail.summary.start, detail.summary.rerun_of), (StartKind::Rerun, Some(1)));
    let good = &detail.stages[0].jobs[0];
    assert_eq!(
        (good.state, good.started, good.reason.as_deref()),
        (State::Passed, None, Some("passed in plant-labels#1"))
    );
    assert_eq!(world.log(&second, "more/last").await, "last\n");
    let nothing = world.pondrix(&["rerun", &second.to_string()]).await;
    assert!(
        nothing.err.contains(
            "every job of plant-labels#2 passed; to run everything again: pondrix rerun 'plant-labels#2' --all"
        ),
        "{}",
        nothing.err
    );
    let all = world.pondrix(&["rerun", &second.to_string(), "--all", "--follow"]).await;
    assert_eq!(all.status, 0, "{}{}", all.out, all.err);
    assert_eq!(world.log(&"plant-labels#3".parse().unwrap(), "verify/good").await, "good\n");
}
