//! Files that jobs keep, take, find again, hand on and report.

use pondrix_core::State;
use pondrix_core::run::JobResult;
use pondrix_standin::garden::REGISTRY;

use crate::support::{World, one_job};

fn job(name: &str, lines: &str) -> String {
    format!("job \"{name}\" {{ container \"{REGISTRY}/base/shell:1\"\n {lines}\n }}\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn files_and_texts_go_from_job_to_job_and_to_people() {
    let world = World::new().await;
    let make = "mkdir -p out/site; echo lily > out/site/index.html; printf '#!/bin/sh\\necho runs\\n' > out/site/go; chmod +x out/site/go; ln -s index.html out/site/link; echo 1.2 > out/VERSION";
    let pipeline = format!(
        "start commit=\"main\"\nstage \"verify\" {{ {} }}\nstage \"more\" {{ {} {} }}\n",
        job(
            "maker",
            &format!(
                "step \"{}\"\n artifact \"site\" \"out/site/**\" keep=\"1d\"\n output \"version\" file=\"out/VERSION\"",
                make.replace('\\', "\\\\")
            )
        ),
        job(
            "taker",
            "fetch \"site\" to=\"in\"\n step \"cat in/out/site/link; in/out/site/go; echo version $PONDRIX_OUTPUT_MAKER_VERSION; rm in/out/site/index.html; echo other > in/out/site/index.html\""
        ),
        job(
            "again",
            "after \"taker\"\n fetch \"site\"\n step \"cat out/site/index.html\"\n step \"test $PONDRIX_ATTEMPT = 9\""
        ),
    );
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Files").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed, "its last job fails on purpose");
    let results = &detail.stages[0].jobs[0].results;
    assert!(results.contains(&JobResult::Output { name: "version".into(), value: "1.2".into() }), "{results:?}");
    let log = world.log(&run, "more/taker").await;
    assert_eq!(log, "fetched site from verify/maker: 3 files\nlily\nruns\nversion 1.2\n");
    assert!(world.log(&run, "more/again").await.contains("\nlily\n"), "what one job does to them another does not see");

    let listed = world.pondrix(&["artifact", "list", &run.to_string()]).await;
    assert!(listed.out.contains("site") && listed.out.contains("verify/maker"), "{}", listed.out);
    let into = world.folder.path().join("fetched");
    let fetched =
        world.pondrix(&["artifact", "fetch", &run.to_string(), "site", "--into", &into.display().to_string()]).await;
    assert_eq!(fetched.status, 0, "{}", fetched.err);
    assert_eq!(std::fs::read_to_string(into.join("out/site/link")).unwrap(), "lily\n");
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(into.join("out/site/go")).unwrap().permissions());
    assert_eq!(mode & 0o111, 0o111);
    let all = world.folder.path().join("all");
    let fetched =
        world.pondrix(&["artifact", "fetch", &run.to_string(), "--into", &all.display().to_string(), "--json"]).await;
    assert_eq!(fetched.status, 0, "{}", fetched.err);
    let told: serde_json::Value = serde_json::from_str(&fetched.out).unwrap();
    assert_eq!((&told[0]["name"], &told[0]["into"]), (&"site".into(), &all.join("site").display().to_string().into()));
    assert_eq!(std::fs::read_to_string(all.join("site/out/site/index.html")).unwrap(), "lily\n");
    let unknown = world.pondrix(&["artifact", "list", &run.to_string(), "sight"]).await;
    assert!(unknown.err.contains("has no artifact `sight`; it has verify/maker:site"), "{}", unknown.err);

    // What passed keeps its files and texts when the rest is done again.
    let again = world.pondrix(&["rerun", &run.to_string(), "--follow"]).await;
    assert_eq!(again.status, 1, "{}", again.out);
    assert!(again.out.contains("fetched site from verify/maker: 3 files"), "{}", again.out);
    let listed = world.pondrix(&["artifact", "list", "plant-labels#2", "site"]).await;
    assert!(listed.out.contains("out/site/link -> index.html"), "{}{}", listed.out, listed.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_cannot_lead_out_of_the_workspace_and_a_text_cannot_carry_a_secret() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    world.client.set_secret(&"plant-labels".parse().unwrap(), "KEY", "s3cret-value").await.unwrap();
    for (number, (lines, words)) in [
        ("step \"ln -s /etc/passwd v\"\n output \"v\" file=\"v\"", "could not hand on `v`: there is no file v"),
        ("step \"ln -s /etc d\"\n output \"v\" file=\"d/passwd\"", "could not hand on `v`: there is no file d/passwd"),
        (
            "secret \"KEY\"\n step \"echo the $KEY > v\"\n output \"v\" file=\"v\"",
            "could not hand on `v`: v has a secret in it",
        ),
        ("step \"true\"\n artifact \"site\" \"none/**\"", "no file fits the artifact `site`: none/**"),
    ]
    .into_iter()
    .enumerate()
    {
        repository.write("pondrix.kdl", &one_job(lines)).unwrap();
        let run = world.run_of("plant-labels", &repository.push(&format!("Way out {number}")).unwrap()).await;
        let failure = world.end_of(&run).await.failure.unwrap();
        assert_eq!(failure.what, words);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cache_is_found_by_its_key_or_its_beginning_and_no_branch_writes_into_that_of_main() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let lines = "cache \"vendor/seeds\" key=\"seeds-{hash lock.txt}\" { newest \"seeds-\" }\n \
                 step \"cat vendor/seeds/all 2>/dev/null || echo none; mkdir -p vendor/seeds; echo $PONDRIX_BRANCH >> vendor/seeds/all; test ! -e fail\"";
    let text = one_job(lines).replace("commit=\"main\"", "commit=\"**\"");
    repository.write("pondrix.kdl", &text).unwrap();
    let said = async |branch: &str| {
        let commit = repository.push_to(branch, "Seeds").unwrap();
        let run = world.run_of("plant-labels", &commit).await;
        let detail = world.end_of(&run).await;
        (detail.summary.state, world.log(&run, "verify/unit").await)
    };
    repository.write("lock.txt", "one\n").unwrap();
    // A failed job leaves nothing.
    repository.write("fail", "").unwrap();
    assert_eq!(said("main").await.0, State::Failed);
    repository.remove("fail").unwrap();
    let (_, log) = said("main").await;
    assert!(
        log.contains("nothing under seeds-") && log.contains("none\n") && log.contains("left under seeds-"),
        "{log}"
    );
    let (_, log) = said("main").await;
    assert!(log.contains("found under seeds-") && log.contains("\nmain\n") && !log.contains("left under"), "{log}");
    // Another branch finds what main left, and leaves its own for itself alone.
    repository.write("lock.txt", "two\n").unwrap();
    let (_, log) = said("side").await;
    assert!(log.contains("found under seeds-") && log.contains("\nmain\n") && log.contains("left under"), "{log}");
    let (_, log) = said("side").await;
    assert!(log.contains("\nmain\nside\n"), "{log}");
    let (_, log) = said("main").await;
    assert!(!log.contains("side"), "another branch's files came to main: {log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn test_reports_are_counted_shown_and_flaky_tests_are_known() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let lines = "step \"./report.sh\"\n test-report junit=\"out/*.xml\"";
    repository.write("pondrix.kdl", &one_job(lines)).unwrap();
    let script = |failure: &str| {
        format!(
            "#!/bin/sh\nmkdir out\ncat > out/a.xml <<'END'\n<testsuite name=\"labels\"><testcase name=\"fits\" file=\"labels.sh\" line=\"3\" time=\"2.5\">{failure}</testcase>\
             <testcase name=\"reads\"><skipped/></testcase><testcase name=\"prints\"/></testsuite>\nEND\n{}",
            if failure.is_empty() { "" } else { "exit 1\n" }
        )
    };
    repository.write("report.sh", &script("<failure message=\"too long\">a &lt; b</failure>")).unwrap();
    std::fs::set_permissions(
        repository.folder().join("report.sh"),
        std::os::unix::fs::PermissionsExt::from_mode(0o755),
    )
    .unwrap();
    let run = world.run_of("plant-labels", &repository.push("Reports").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    let Some(JobResult::Tests { report }) = detail.stages[0].jobs[0].results.first() else { panic!("no report") };
    assert_eq!((report.tests, report.failed, report.skipped), (3, 1, 1));
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    for wanted in
        ["tests: 1 passed, 1 failed, 1 skipped", "labels: fits at labels.sh:3", "too long", "slowest: labels: fits 2.5"]
    {
        assert!(shown.out.contains(wanted), "no `{wanted}` in {}", shown.out);
    }
    // The same commit, and now it passes: the test is flaky.
    let flaky = async || world.client.flaky("plant-labels", "verify/unit").await.unwrap().tests;
    assert!(flaky().await.is_empty());
    repository.write("report.sh", &script("")).unwrap();
    let tried = world.pondrix(&["rerun", &run.to_string(), "--follow"]).await;
    assert_eq!(tried.status, 1, "the same commit fails again");
    assert!(flaky().await.is_empty(), "what always fails is not flaky");
    for (number, failure) in ["", "<failure message=\"too long\"/>", ""].into_iter().enumerate() {
        repository.write("report.sh", &script(failure)).unwrap();
        let run = world.run_of("plant-labels", &repository.push(&format!("To and fro {number}")).unwrap()).await;
        world.end_of(&run).await;
    }
    assert_eq!(flaky().await, ["labels: fits"]);
    let shown = world.pondrix(&["show", "plant-labels#2"]).await;
    assert!(shown.out.contains("flaky: labels: fits, which passed and failed lately"), "{}", shown.out);
}
