//! Which runs may roll out where: rules that the server keeps, and that no commit can widen.

use pondrix_api::PlanView;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository};

use reqwest::Method;

use crate::someone::Someone;
use crate::support::{World, one_job};

/// A pipeline that makes an image and rolls it out to staging, with more said of the last stage.
pub(crate) fn rolling_out(more: &str) -> String {
    format!(
        "start commit=\"**\"\nstage \"package\" {{ image \"app\" {{ push \"{REGISTRY}/pond\" {{ tag \"{{run}}\" }} }} }}\n\
         stage \"out\" {{\n {more}\n rollout \"app\" {{ to \"staging\"; image \"app\"; manifests \"app.yaml\" }}\n}}\n"
    )
}

/// An application without a wish.
const APP: &str = "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: app}\nspec:\n  replicas: 1\n  \
                   selector: {matchLabels: {app: app}}\n  template:\n    metadata: {labels: {app: app}}\n    \
                   spec:\n      containers: [{name: app, image: app, command: [/bin/sh, -c, 'sleep 1000']}]\n";

pub(crate) async fn app(world: &World, pipeline: &str) -> Repository {
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n")).unwrap();
    repository.write("app.yaml", APP).unwrap();
    repository.write("pondrix.kdl", pipeline).unwrap();
    repository
}

/// Pushes to a branch of its own, and answers its run.
pub(crate) async fn push_to(world: &World, repository: &Repository, branch: &str) -> RunId {
    repository.git(&["checkout", "--quiet", "-B", branch]).unwrap();
    repository.write("README.md", branch).unwrap();
    repository.git(&["add", "--all"]).unwrap();
    repository.git(&["commit", "--quiet", "--message", branch]).unwrap();
    repository.git(&["push", "--quiet", "origin", &format!("HEAD:refs/heads/{branch}")]).unwrap();
    let commit = repository.git(&["rev-parse", "HEAD"]).unwrap();
    world.run_of("plant-labels", &commit).await
}

async fn set(world: &World, arguments: &[&str]) {
    let said = world.pondrix(&[&["environment", "set", "staging"], arguments].concat()).await;
    assert_eq!(said.status, 0, "{said:?}");
}

/// What the preflight of a run found, of a run that it ended.
async fn refused(world: &World, run: &RunId) -> String {
    let detail = world.end_of(run).await;
    assert_eq!(detail.summary.state, State::Failed, "{detail:?}");
    assert!(detail.stages.iter().flat_map(|stage| &stage.jobs).all(|job| job.state == State::Skipped), "{detail:?}");
    let missing: Vec<_> =
        detail.missing.iter().map(|one| format!("{}: {} -> {}", one.job, one.what, one.fix)).collect();
    missing.join("\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_branch_that_edits_its_own_pipeline_does_not_reach_an_environment_of_protected_refs() {
    let world = World::new().await;
    let repository = app(&world, &rolling_out("")).await;
    set(&world, &["--ref", "protected"]).await;
    world.passes(&world.run_of("plant-labels", &repository.push("The default branch").unwrap()).await).await;
    // Whatever a branch's file says of itself, it is not main.
    repository.write("pondrix.kdl", &rolling_out("when branch=\"*\"")).unwrap();
    let run = push_to(&world, &repository, "plan-b").await;
    let told = refused(&world, &run).await;
    assert!(
        told.contains("out/app: environment `staging`: it takes protected refs only, and this run carries the branch `plan-b`; plant-labels protects main (the rule `refs`, set by admin)")
            && told.contains("ask admin"),
        "{told}"
    );
    // Whoever asks what a start would do is told before it does.
    let admin = Someone::with(&world, "admin", &world.token);
    let plan = async |branch: &str| {
        let body = serde_json::json!({ "branch": branch, "inputs": {} });
        let answer = admin.ask(&Method::POST, "/api/v1/projects/plant-labels/plan", body).await;
        answer.json::<PlanView>().await.unwrap().refused
    };
    assert!(plan("main").await.is_empty());
    let told = plan("plan-b").await;
    assert!(told.len() == 1 && told[0].what.contains("it takes protected refs only"), "{told:?}");
    // Nor when somebody who may run starts it by hand, or does it again.
    let started = world.pondrix(&["start", "plant-labels", "--branch", "plan-b"]).await;
    assert_eq!(started.status, 0, "{started:?}");
    assert!(refused(&world, &"plant-labels#3".parse().unwrap()).await.contains("protected refs only"));
    assert_eq!(world.pondrix(&["rerun", "plant-labels#2", "--all"]).await.status, 0);
    assert!(refused(&world, &"plant-labels#4".parse().unwrap()).await.contains("protected refs only"));
    // The project's maintainers say what is protected, on the server.
    let protecting =
        world.pondrix(&["project", "set", "plant-labels", "--protect", "main", "--protect", "plan-*"]).await;
    assert!(protecting.out.contains("protects main, plan-*"), "{protecting:?}");
    // That is for runs that begin from now on: what an earlier one carries, nobody looked at.
    assert_eq!(world.pondrix(&["rerun", "plant-labels#2", "--all"]).await.status, 0);
    let told = refused(&world, &"plant-labels#5".parse().unwrap()).await;
    assert!(told.contains("`plan-b`, which was not trusted when the run was made"), "{told}");
    assert_eq!(world.pondrix(&["start", "plant-labels", "--branch", "plan-b"]).await.status, 0);
    world.passes(&"plant-labels#6".parse().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn each_rule_of_an_environment_is_told_with_who_set_it_and_lets_through_what_it_names() {
    let world = World::new().await;
    let repository = app(&world, &rolling_out("")).await;
    let run = world.run_of("plant-labels", &repository.push("First").unwrap()).await;
    world.passes(&run).await;
    let wren = Someone::new(&world, "wren", &["--role", "run"]).await;
    let odile = Someone::new(&world, "odile", &["--role", "run", "--team", "keepers"]).await;
    let mut number = 1;
    for (arguments, rule, words, opens) in [
        (
            &["--project", "visitor-*"][..],
            "projects",
            "it takes rollouts of visitor-*, and this is plant-labels",
            &["--project", "*"][..],
        ),
        (&["--start", "commit"], "starts", "it takes runs of commit, and this one began by `rerun`", &["--any-start"]),
        (
            &["--ref", "release/*"],
            "refs",
            "it takes release/*, and this run carries the branch `main`",
            &["--ref", "any"],
        ),
        (
            &["--starter", "team:keepers"],
            "people",
            "team:keepers may start what rolls out there, and wren did",
            &["--any-starter"],
        ),
    ] {
        set(&world, arguments).await;
        assert_eq!(wren.pondrix(&["rerun", "plant-labels#1", "--all"]).await.status, 0);
        number += 1;
        let told = refused(&world, &format!("plant-labels#{number}").parse().unwrap()).await;
        assert!(told.contains(words) && told.contains(&format!("(the rule `{rule}`, set by admin)")), "{told}");
        if rule == "people" {
            assert_eq!(odile.pondrix(&["rerun", "plant-labels#1", "--all"]).await.status, 0);
            number += 1;
            world.passes(&format!("plant-labels#{number}").parse().unwrap()).await;
        }
        set(&world, opens).await;
    }
    let frozen = world.pondrix(&["environment", "freeze", "staging", "--reason", "the spring fair"]).await;
    assert!(frozen.out.contains("the spring fair"), "{frozen:?}");
    assert_eq!(odile.pondrix(&["rerun", "plant-labels#1", "--all"]).await.status, 0);
    number += 1;
    let told = refused(&world, &format!("plant-labels#{number}").parse().unwrap()).await;
    assert!(told.contains("nothing is rolled out there since") && told.contains("the spring fair (admin)"), "{told}");
    assert!(world.pondrix(&["environment", "list"]).await.out.contains("nothing now: the spring fair"));
    assert_eq!(odile.pondrix(&["environment", "thaw", "staging"]).await.status, 4, "who may run may not thaw");
    assert_eq!(world.pondrix(&["environment", "thaw", "staging"]).await.status, 0);
    // A time that never is now: the 31st of January, or the 30th where that is today.
    let day = if day_of_month() == 31 { "30" } else { "31" };
    set(&world, &["--window", &format!("0 0 {day} 1 *"), "--zone", "UTC"]).await;
    assert_eq!(odile.pondrix(&["rerun", "plant-labels#1", "--all"]).await.status, 0);
    number += 1;
    let late: RunId = format!("plant-labels#{number}").parse().unwrap();
    let detail = world.end_of(&late).await;
    let rollout = &detail.stages[1].jobs[0];
    let reason = rollout.reason.clone().unwrap_or_default();
    assert!(reason.contains("a rollout begins in the minutes") && reason.contains("(the rule `window`"), "{reason}");
    assert_eq!(detail.stages[0].state, State::Passed, "only the rollout's own moment counts");
    let shown = world.pondrix(&["environment", "show", "staging"]).await;
    assert!(shown.out.contains(&format!("0 0 {day} 1 * in UTC")) && shown.out.contains("by admin"), "{shown:?}");
}

/// The day of the month, in UTC.
fn day_of_month() -> u32 {
    let out = std::process::Command::new("date").args(["-u", "+%d"]).output().unwrap();
    String::from_utf8_lossy(&out.stdout).trim().parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn two_others_must_say_yes_before_a_rollout_to_an_environment_that_wants_that_whatever_the_pipeline_asks() {
    let world = World::new().await;
    let ines = Someone::new(&world, "ines", &["--role", "maintain", "--team", "keepers"]).await;
    let odile = Someone::new(&world, "odile", &["--role", "approve", "--team", "keepers"]).await;
    let tomas = Someone::new(&world, "tomas", &["--role", "approve", "--team", "keepers"]).await;
    let maren = Someone::new(&world, "maren", &["--role", "approve", "--team", "keepers"]).await;
    let wren = Someone::new(&world, "wren", &["--role", "run"]).await;
    let repository = app(&world, &rolling_out("approval \"Open it?\" by=\"wren\"")).await;
    repository.push("First").unwrap();
    set(&world, &["--approver", "team:keepers", "--approvals", "2"]).await;
    assert_eq!(ines.pondrix(&["start", "plant-labels"]).await.status, 0);
    let run: RunId = world.newest("plant-labels").await;
    let waits = world.until(&run, |run| run.summary.state == State::Waiting).await;
    let asked = waits.stages[1].approval.clone().unwrap();
    assert_eq!(asked.whose.as_deref(), Some("wren, and 2 of team:keepers for staging"));
    let name = run.to_string();
    // Neither whoever started it counts nor whoever wrote the commit, and whoever is nobody of these may not answer.
    assert!(waits.summary.author == "Tomas" && waits.summary.by.as_deref() == Some("ines"), "{:?}", waits.summary);
    for own in [&ines, &tomas] {
        let own = own.pondrix(&["approve", &name]).await;
        assert!(
            own.status == 4 && own.err.contains("the yes of whoever started a run, or wrote its commit"),
            "{own:?}"
        );
    }
    let other = Someone::new(&world, "otto", &["--role", "run"]).await.pondrix(&["approve", &name]).await;
    assert!(other.status == 4 && other.err.contains("only wren, or 2 of team:keepers may answer that"), "{other:?}");
    assert_eq!(odile.pondrix(&["approve", &name]).await.status, 0);
    assert_eq!(odile.pondrix(&["approve", &name]).await.status, 1, "twice is once");
    assert_eq!(wren.pondrix(&["approve", &name]).await.status, 0);
    let waits = world.client.run(&run).await.unwrap();
    assert_eq!(waits.summary.state, State::Waiting, "a second keeper is wanted");
    let asked = waits.stages[1].approval.clone().unwrap();
    assert_eq!(asked.said_yes, ["odile", "wren"]);
    assert_eq!(asked.whose.as_deref(), Some("2 of team:keepers for staging"));
    let shown = wren.pondrix(&["show", &name]).await;
    assert!(shown.out.contains("started by ines"), "{shown:?}");
    assert!(shown.out.contains("2 of team:keepers for staging") && shown.out.contains("odile"), "{shown:?}");
    assert_eq!(maren.pondrix(&["approve", &name]).await.status, 0);
    world.passes(&run).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_that_is_set_while_a_run_goes_on_holds_for_its_rollout() {
    let world = World::new().await;
    let repository = app(&world, &rolling_out("approval \"Open it?\"")).await;
    let run = world.run_of("plant-labels", &repository.push("First").unwrap()).await;
    world.until(&run, |run| run.summary.state == State::Waiting).await;
    set(&world, &["--approver", "team:keepers"]).await;
    assert_eq!(world.pondrix(&["approve", &run.to_string()]).await.status, 0);
    let detail = world.end_of(&run).await;
    let reason = detail.stages[1].jobs[0].reason.clone().unwrap_or_default();
    assert_eq!(detail.summary.state, State::Failed);
    assert!(reason.contains("staging wants the yes of team:keepers before anything is rolled out there"), "{reason}");
}

#[tokio::test(flavor = "multi_thread")]
async fn rollouts_touch_the_environments_namespace_and_the_kinds_that_it_takes() {
    let world = World::new().await;
    let repository = app(&world, &rolling_out("")).await;
    for (manifest, words) in [
        (
            APP.replace("metadata: {name: app}\nspec", "metadata: {name: app, namespace: kube-system}\nspec"),
            "it is the namespace staging, and deployment/app says kube-system (the rule `namespace`",
        ),
        (
            format!(
                "{APP}---\napiVersion: rbac.authorization.k8s.io/v1\nkind: ClusterRoleBinding\nmetadata: {{name: all}}\n"
            ),
            "it takes no objects of the kind `ClusterRoleBinding` (rbac.authorization.k8s.io/v1)",
        ),
    ] {
        repository.write("app.yaml", &manifest).unwrap();
        let run = world.run_of("plant-labels", &repository.push("Reaching out").unwrap()).await;
        let detail = world.end_of(&run).await;
        let reason = detail.stages[1].jobs[0].reason.clone().unwrap_or_default();
        assert!(detail.summary.state == State::Failed && reason.contains(words), "{reason}");
    }
    let own = APP.replace("metadata: {name: app}\nspec", "metadata: {name: app, namespace: staging}\nspec");
    repository.write("app.yaml", &own).unwrap();
    world.passes(&world.run_of("plant-labels", &repository.push("Its own").unwrap()).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kubeconfig_runs_no_program_and_names_no_file_of_the_server_and_is_kept_sealed() {
    let world = World::new().await;
    let place = world.folder.path();
    let server = world.cluster_address();
    let kubeconfig = |cluster: &str, user: &str| {
        format!(
            "apiVersion: v1\nkind: Config\ncurrent-context: here\ncontexts: [{{name: here, context: {{cluster: one, user: me}}}}]\n\
             clusters: [{{name: one, cluster: {{server: '{server}'{cluster}}}}}]\nusers: [{{name: me, user: {{{user}}}}}]\n"
        )
    };
    let proof = place.join("it-ran");
    let exec = format!(
        "exec: {{apiVersion: client.authentication.k8s.io/v1, interactiveMode: Never, command: touch, args: ['{}']}}",
        proof.display()
    );
    let file = place.join("mine.kubeconfig");
    std::fs::write(&file, kubeconfig("", &exec)).unwrap();
    let file_name = file.display().to_string();
    let set = ["environment", "set", "staging", "--kubeconfig", &file_name];
    let refused = world.pondrix(&set).await;
    assert!(refused.status != 0 && refused.err.contains("runs a program (`exec`)"), "{refused:?}");
    assert!(refused.err.contains("kubectl create token"), "the next step: {refused:?}");
    // Whoever speaks to the API himself names no file either.
    let client = reqwest::Client::new();
    for user in ["client-key: /etc/shadow", "tokenFile: /etc/shadow", exec.as_str()] {
        let body = serde_json::json!({ "name": "staging", "kubeconfig": kubeconfig("", user) });
        let url = format!("{}/api/v1/environments", world.url());
        let answer = client.put(url).bearer_auth(&world.token).json(&body).send().await.unwrap();
        assert_eq!(answer.status().as_u16(), 422, "{user}");
    }
    assert!(!proof.exists(), "a program of the kubeconfig ran");
    // The command line sends what is in the files that it names, relative to it.
    std::fs::write(place.join("token.txt"), "s3cret-of-the-cluster\n").unwrap();
    std::fs::write(&file, kubeconfig("", "tokenFile: token.txt")).unwrap();
    assert_eq!(world.pondrix(&set).await.status, 0);
    let listed = world.pondrix(&["environment", "list", "--json"]).await;
    assert!(listed.out.contains(&server) && !listed.out.contains("s3cret"), "{listed:?}");
    let repository = app(&world, &rolling_out("")).await;
    world.passes(&world.run_of("plant-labels", &repository.push("First").unwrap()).await).await;
    let mut looked = 0;
    let mut folders = vec![place.join("server")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
            if entry.file_type().unwrap().is_dir() {
                folders.push(entry.path());
            } else if let Ok(bytes) = std::fs::read(entry.path()) {
                looked += 1;
                let is_there = bytes.windows(21).any(|part| part == b"s3cret-of-the-cluster");
                assert!(!is_there, "{}", entry.path().display());
            }
        }
    }
    assert!(looked > 10, "{looked} files");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_manifest_whose_name_would_be_another_address_is_not_applied() {
    let world = World::new().await;
    set(&world, &["--ref", "any"]).await;
    let repository = app(&world, &rolling_out("")).await;
    let applied = async || {
        let address = format!("{}/apis/apps/v1/deployments", world.cluster_address());
        let list: serde_json::Value = reqwest::get(address).await.unwrap().json().await.unwrap();
        list["items"].as_array().unwrap().len()
    };
    for (part, found, words) in [
        ("name: app}\nspec", "name: \"app/../../../elsewhere/deployments/app?x=y\"}\nspec", "metadata.name `app/.."),
        ("apps/v1", "apps/v1/namespaces/elsewhere", "apiVersion `apps/v1/namespaces"),
        ("kind: Deployment", "kind: ../Deployment", "kind `../Deployment` cannot be"),
        ("name: app}\nspec", "name: app, namespace: a/b}\nspec", "metadata.namespace `a/b` cannot be"),
    ] {
        repository.write("app.yaml", &APP.replacen(part, found, 1)).unwrap();
        let run = world.run_of("plant-labels", &repository.push("Elsewhere").unwrap()).await;
        let failure = world.end_of(&run).await.failure.unwrap();
        assert!(failure.what.contains("app.yaml: ") && failure.what.contains(words), "{part}: {}", failure.what);
    }
    assert_eq!(applied().await, 0);
    repository.write("app.yaml", APP).unwrap();
    world.passes(&world.run_of("plant-labels", &repository.push("Here").unwrap()).await).await;
    assert_eq!(applied().await, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_protected_secret_is_given_to_runs_of_protected_refs_and_to_no_other_however_it_is_asked_for() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let pipeline = one_job("secret \"PRINTER_KEY\"\n step \"test \\\"$PRINTER_KEY\\\" = s3cret-of-the-printer\"");
    let pipeline = pipeline.replace("start commit=\"main\"", "start commit=\"**\"");
    assert!(pipeline.contains("**"), "{pipeline}");
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let set = ["secret", "set", "plant-labels", "PRINTER_KEY", "--protected"];
    let (well, said) = world.pondrix_with(&set, "s3cret-of-the-printer");
    assert!(well && said.contains("for runs of protected refs"), "{said}");
    world.passes(&world.run_of("plant-labels", &repository.push("Of the default branch").unwrap()).await).await;
    let run = push_to(&world, &repository, "plan-b").await;
    let told = refused(&world, &run).await;
    assert!(
        told.contains("the secret `PRINTER_KEY` is for runs of protected refs, and this one carries the branch `plan-b`; plant-labels protects main"),
        "{told}"
    );
    // A new value is for whom the old one was, and somebody says it when it is for others.
    let (_, said) = world.pondrix_with(&set[..4], "s3cret-of-the-printer");
    assert!(said.contains("for runs of protected refs"), "{said}");
    // What is protected may change between the preflight and the moment at which the job is given.
    let mut protected = world.pondrix(&["project", "set", "plant-labels", "--protect", "plan-b"]).await;
    assert_eq!(protected.status, 0, "{protected:?}");
    let waiting = pipeline.replace("job \"unit\"", "approval \"Begin?\"\n job \"unit\"");
    repository.write("pondrix.kdl", &waiting).unwrap();
    let run = push_to(&world, &repository, "plan-b").await;
    world.until(&run, |run| run.summary.state == State::Waiting).await;
    protected = world.pondrix(&["project", "set", "plant-labels", "--protect-default"]).await;
    assert!(protected.out.contains("protects main;"), "{protected:?}");
    assert_eq!(world.pondrix(&["approve", &run.to_string()]).await.status, 0);
    let detail = world.end_of(&run).await;
    let reason = detail.stages[0].jobs[0].reason.clone().unwrap_or_default();
    assert_eq!(
        (detail.summary.state, reason.contains("is for runs of protected refs")),
        (State::Failed, true),
        "{reason}"
    );
    let (_, said) = world.pondrix_with(&[&set[..4], &["--unprotected"]].concat(), "s3cret-of-the-printer");
    assert!(said.contains("for every run that names it"), "{said}");
    assert_eq!(world.pondrix(&["rerun", &run.to_string(), "--all"]).await.status, 0);
    let again = world.newest("plant-labels").await;
    world.until(&again, |run| run.summary.state == State::Waiting).await;
    assert_eq!(world.pondrix(&["approve", &again.to_string()]).await.status, 0);
    world.passes(&again).await;
}
