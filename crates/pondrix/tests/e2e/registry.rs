//! Registries that refuse, lie, or are silent; who signs in at them; and what is pushed to good ones.

use std::process::Command;

use pondrix_api::{RegistryChange, RunDetail};
use pondrix_core::State;
use pondrix_standin::garden::{REGISTRY, VISITOR_DESK};
use pondrix_standin::registry::{Behaviour, Guard};

use crate::images::{VALUE, found_in, one_image};
use crate::support::{World, one_job};

/// A run of the visitor desk that must fail before it pushes anything; as it ended.
async fn broken(world: &World, behaviour: Behaviour) -> RunDetail {
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    world.registry.behave(behaviour);
    let commit = repository.push("A push that fails").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    assert!(world.registry.tags("visitor/desk").is_empty(), "something half-pushed is named by a tag");
    assert_eq!(detail.stages[2].state, State::Skipped, "nothing was rolled out");
    detail
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_refuses_is_quoted_before_anything_runs() {
    let world = World::new().await;
    let detail = broken(&world, Behaviour::RefusesPushes("the pond is closed to you".to_owned())).await;
    let [fault] = &detail.missing[..] else { panic!("{:?}", detail.missing) };
    assert!(fault.what.contains("403 DENIED: the pond is closed to you"), "{}", fault.what);
    assert!(fault.fix.contains("have registry.fernhollow.test allow pushing into visitor/desk"), "{}", fault.fix);
    assert!(detail.stages.iter().flat_map(|stage| &stage.jobs).all(|job| job.started.is_none()), "something ran");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_lies_about_a_digest_is_not_believed_and_nothing_is_tagged() {
    let world = World::new().await;
    let what = broken(&world, Behaviour::LiesAboutDigests).await.failure.unwrap().what;
    assert!(what.contains("was asked for; nothing of it was used"), "{what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_gives_wrong_bytes_is_not_believed() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    world.registry.behave(Behaviour::GivesWrongBlobs);
    let commit = repository.push("A pull that fails").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert_eq!(failure.job, "verify/unit");
    assert!(failure.what.contains("was asked for; nothing of it was used"), "{}", failure.what);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_failed_for_what_may_pass_says_so_and_passes_when_it_is_done_again() {
    let world = World::new().await;
    let pipeline = one_job("step \"echo hello\"");
    world.registry.behave(Behaviour::HasNoTimeForBlobs);
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert_eq!(failure.job, "verify/unit");
    let words = "; that may pass: do it again with `pondrix rerun`";
    assert!(failure.what.contains("503") && failure.what.ends_with(words), "{}", failure.what);
    world.registry.behave(Behaviour::Good);
    let again = world.pondrix(&["rerun", &run.to_string(), "--follow"]).await;
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_does_not_answer_is_named() {
    let world = World::new().await;
    let closed = RegistryChange {
        host: REGISTRY.to_owned(),
        address: Some("http://127.0.0.1:9".to_owned()),
        ..RegistryChange::default()
    };
    world.client.set_registry(&closed).await.unwrap();
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let commit = repository.push("Nobody answers").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    let faults = world.end_of(&run).await.missing;
    assert_eq!(faults.len(), 2, "the image that jobs run in and the push: {faults:?}");
    for fault in faults {
        assert!(fault.what.contains("the registry registry.fernhollow.test did not answer"), "{}", fault.what);
        assert!(fault.what.contains("Connection refused"), "{}", fault.what);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_gives_the_same_digest_again_and_layers_that_are_there_are_not_sent_again() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let commit = repository.push("Once").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    world.passes(&run).await;
    let tags = world.registry.tags("visitor/desk");
    let sent = world.registry.blobs_received();
    let log = world.log(&run, "package/desk").await;
    assert!(log.contains(" there already"), "the base's layers are the registry's own: {log}");
    let again = world.pondrix(&["start", "visitor-desk", "--follow"]).await;
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    let now = world.registry.tags("visitor/desk");
    assert_eq!(now.len(), tags.len() + 1, "the second run has a tag of its own: {now:?}");
    assert!(now.values().all(|digest| *digest == tags["edge"]), "the same commit gives the same image: {now:?}");
    assert_eq!(world.registry.blobs_received(), sent, "nothing was sent twice");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_that_names_another_image_is_never_moved() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let first = repository.push("Once").unwrap();
    let run = world.run_of("visitor-desk", &first).await;
    world.passes(&run).await;
    let before = world.registry.tags("visitor/desk")[&format!("{}-1", &first[..12])].clone();
    // Somebody else pushed another image under the tag that the next commit will get.
    repository.write("desk/greeting.txt", "Another Fernhollow\n").unwrap();
    repository.set_hook(None).unwrap();
    let second = repository.push("Twice").unwrap();
    let registry = world.client.registries().await.unwrap().registries.remove(0).address;
    let http = reqwest::Client::new();
    let manifest = http.get(format!("{registry}/v2/visitor/desk/manifests/{before}")).send().await.unwrap();
    let bytes = manifest.bytes().await.unwrap();
    let put =
        http.put(format!("{registry}/v2/visitor/desk/manifests/{}-2", &second[..12])).body(bytes).send().await.unwrap();
    assert!(put.status().is_success());
    let started = world.pondrix(&["start", "visitor-desk", "--follow"]).await;
    assert_eq!(started.status, 1);
    assert!(started.out.contains("a `tag` is never moved"), "{}", started.out);
    assert_eq!(world.registry.tags("visitor/desk")[&format!("{}-2", &second[..12])], before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_asks_who_comes_is_proved_and_then_used() {
    let world = World::new().await;
    let (user, password) = ("ines".to_owned(), VALUE.to_owned());
    world.registry.guard(Some(Guard { user, password, token_uses: Some(3), below: "" }));
    let recipe = format!("FROM {REGISTRY}/base/shell:1\nRUN true\n");
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", &recipe).unwrap();
    repository.write("pondrix.kdl", &one_image("")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Nobody signs in").unwrap()).await;
    let barred = &world.end_of(&run).await.missing[0];
    assert!(barred.what.contains("it wants a name and a password"), "{barred:?}");
    assert!(barred.fix.contains(&format!("pondrix registry add {REGISTRY} --user NAME")), "{barred:?}");
    let name = format!("{REGISTRY}/garden/labels");
    let test = world.pondrix(&["registry", "test", &name]).await;
    assert_eq!(test.status, 1, "{}", test.out);
    assert!(test.out.starts_with("answers  no") && test.out.contains("--user NAME"), "{}", test.out);
    let (_, said) = world.pondrix_with(&["registry", "add", REGISTRY, "--user", "ines"], "not-this-one");
    assert!(
        said.contains("ines signs in for all repositories of all projects") && !said.contains("not-this-one"),
        "{said}"
    );
    let test = world.pondrix(&["registry", "test", &name]).await;
    assert!(test.status == 1 && test.out.contains("does not take the name ines"), "{}", test.out);
    let (added, said) = world.pondrix_with(&["registry", "add", REGISTRY, "--user", "ines"], VALUE);
    assert!(added, "{said}");
    let test = world.pondrix(&["registry", "test", &name]).await;
    assert_eq!(test.out.matches(" yes ").count(), 3, "{}", test.out);
    repository.write("README.md", "once more").unwrap();
    let run = world.run_of("plant-labels", &repository.push("Signed in").unwrap()).await;
    world.passes(&run).await;
    let list = world.pondrix(&["registry", "list"]).await;
    assert!(list.out.contains("ines") && !list.out.contains(VALUE), "{}", list.out);
    assert_eq!(found_in(&world.folder.path().join("server"), VALUE), Vec::<String>::new(), "it is sealed");
    assert_eq!(world.pondrix(&["registry", "remove", REGISTRY]).await.status, 0);
    let again = world.pondrix(&["registry", "remove", REGISTRY]).await;
    assert!(again.err.contains("pondrix registry list"), "{}", again.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_is_never_sent_to_another_place_than_it_was_given_for() {
    let world = World::new().await;
    assert!(world.pondrix_with(&["registry", "add", REGISTRY, "--user", "ines"], VALUE).0);
    // A place that asks who comes, and remembers what it is told.
    let heard = std::sync::Arc::new(std::sync::Mutex::new(Vec::new()));
    let listener = crate::support::listener().await;
    let elsewhere = format!("http://{}", listener.local_addr().unwrap());
    let remembered = std::sync::Arc::clone(&heard);
    let asks = axum::Router::new().fallback(move |headers: axum::http::HeaderMap| async move {
        let said = headers.get("authorization").map(|value| value.to_str().unwrap().to_owned());
        remembered.lock().unwrap().push(said);
        (axum::http::StatusCode::UNAUTHORIZED, [("www-authenticate", "Basic realm=\"pond\"")])
    });
    tokio::spawn(axum::serve(listener, asks).into_future());
    let moved = world.pondrix(&["registry", "add", REGISTRY, "--at", &elsewhere]).await;
    assert!(moved.out.contains("The password of ines was for another place, and is forgotten"), "{}", moved.out);
    assert!(moved.out.contains(&format!("pondrix registry add {REGISTRY} --user ines")), "{}", moved.out);
    let test = world.pondrix(&["registry", "test", &format!("{REGISTRY}/garden/labels")]).await;
    assert_eq!(test.status, 1, "{}", test.out);
    let said = heard.lock().unwrap().clone();
    assert!(!said.is_empty() && said.iter().all(Option::is_none), "{said:?}");
    // Given for that place, it is sent there; and the same place once more loses nothing.
    assert!(world.pondrix_with(&["registry", "add", REGISTRY, "--user", "ines"], VALUE).0);
    let same = world.pondrix(&["registry", "add", REGISTRY, "--at", &elsewhere, "--layers", "zstd"]).await;
    assert!(same.out.contains("ines signs in") && !same.out.contains("forgotten"), "{}", same.out);
    world.pondrix(&["registry", "test", &format!("{REGISTRY}/garden/labels")]).await;
    assert!(heard.lock().unwrap().iter().any(Option::is_some));
    // Other authorities are another place, too.
    let authority = world.folder.path().join("authority.pem");
    let made = Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ed25519",
            "-nodes",
            "-subj",
            "/CN=pond",
            "-days",
            "2",
            "-keyout",
            "/dev/null",
            "-out",
        ])
        .arg(&authority)
        .output();
    assert!(made.unwrap().status.success());
    let other = world.pondrix(&["registry", "add", REGISTRY, "--certificates", authority.to_str().unwrap()]).await;
    assert!(other.out.contains("is forgotten"), "{} {}", other.out, other.err);
}

const GARDENER: &str = "lily-pad-4711";
const READER: &str = "heron-feather-9";

fn guarded(user: &str, password: &str, below: &'static str, token_uses: Option<u32>) -> Guard {
    Guard { user: user.to_owned(), password: password.to_owned(), token_uses, below }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_signs_in_for_one_project_and_its_repositories_does_so_for_no_other() {
    for token_uses in [None, Some(u32::MAX)] {
        let world = World::new().await;
        let guards = [("gardener", GARDENER, "garden/"), ("reader", READER, "base/")];
        world.registry.guard(guards.map(|(user, password, below)| guarded(user, password, below, token_uses)));
        for (arguments, password) in [
            ("--user gardener --repository garden/* --project plant-*", GARDENER),
            ("--user reader --repository base/** --project plant-labels", READER),
        ] {
            let words: Vec<_> = ["registry", "add", REGISTRY].into_iter().chain(arguments.split(' ')).collect();
            let (added, said) = world.pondrix_with(&words, password);
            assert!(added, "{said}");
        }
        let list = world.pondrix(&["registry", "list"]).await.out;
        assert!(list.contains("gardener for garden/* of plant-*") && list.contains("reader for base/**"), "{list}");
        // The base is asked for by the runner, which knows only who pushes.
        let push = |name: &'static str, repository: &'static str| {
            let world = &world;
            async move {
                let (project, _) = world.project(name, &[]).await;
                project.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\nRUN true\n")).unwrap();
                let file = one_image("").replace("garden/labels", repository);
                project.write("pondrix.kdl", &file).unwrap();
                world.run_of(name, &project.push("Labels").unwrap()).await
            }
        };
        let own = push("plant-labels", "garden/labels").await;
        world.passes(&own).await;
        // Another project has nobody sign in, also not for the base that is in the runner's store by now.
        let others = push("visitor-desk", "garden/labels").await;
        let barred = &world.end_of(&others).await.missing[0];
        assert!(barred.what.contains("it wants a name and a password"), "{barred:?}");
        // One whose images may be pushed, and not its base be read.
        let half = push("plant-beds", "garden/beds").await;
        let ended = world.end_of(&half).await;
        let failure = ended.failure.as_ref().unwrap();
        assert!(failure.what.contains("it wants a name and a password"), "{failure:?}");
        let tested = |project: &'static str, repository: &str| {
            let (world, name) = (&world, format!("{REGISTRY}/{repository}"));
            async move { world.pondrix(&["registry", "test", &name, "--project", project]).await.out }
        };
        assert_eq!(tested("plant-labels", "garden/labels").await.matches(" yes ").count(), 3);
        assert!(tested("visitor-desk", "garden/labels").await.contains("it wants a name and a password"));
        // What is said of somebody is changed without their password, and somebody is forgotten alone.
        let wider = ["registry", "add", REGISTRY, "--user", "reader", "--same-password", "--project", "*"];
        let said = world.pondrix(&wider).await;
        assert!(said.out.contains("reader signs in for base/** of *"), "{}{}", said.out, said.err);
        // Who signs in for all is not who does for the base, which another names more closely.
        let all = ["registry", "add", REGISTRY, "--user", "gardener", "--same-password", "--repository", "**"];
        assert_eq!(world.pondrix(&all).await.status, 0);
        let again = world.pondrix(&["start", "plant-labels", "--follow"]).await;
        assert_eq!(again.status, 0, "{}{}", again.out, again.err);
        let stranger = ["registry", "add", REGISTRY, "--user", "nobody", "--same-password"];
        let said = world.pondrix(&stranger).await;
        assert!(said.err.contains("nobody does not sign in at"), "{}", said.err);
        assert_eq!(world.pondrix(&["registry", "remove", REGISTRY, "--user", "gardener"]).await.status, 0);
        let list = world.pondrix(&["registry", "list"]).await.out;
        assert!(!list.contains("gardener") && list.contains("reader"), "{list}");
        for secret in [GARDENER, READER] {
            assert_eq!(found_in(world.folder.path(), secret), Vec::<String>::new(), "it is sealed, and in no log");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn name_and_password_go_where_tokens_were_given_when_they_were_set_and_nowhere_else() {
    let world = World::new().await;
    // A registry that is answered for by whoever this says gives tokens.
    let realm = std::sync::Arc::new(std::sync::Mutex::new(String::new()));
    let heard = std::sync::Arc::new(std::sync::Mutex::new(Vec::new()));
    let giver = async |name: &'static str| {
        let listener = crate::support::listener().await;
        let address = format!("http://{}", listener.local_addr().unwrap());
        let heard = std::sync::Arc::clone(&heard);
        let gives = axum::Router::new().fallback(move |headers: axum::http::HeaderMap| async move {
            if headers.contains_key("authorization") {
                heard.lock().unwrap().push(name);
            }
            r#"{"token":"t"}"#
        });
        tokio::spawn(axum::serve(listener, gives).into_future());
        address
    };
    let (good, bad) = (giver("good").await, giver("bad").await);
    let listener = crate::support::listener().await;
    let address = format!("http://{}", listener.local_addr().unwrap());
    let said = std::sync::Arc::clone(&realm);
    let asks = axum::Router::new().fallback(move |headers: axum::http::HeaderMap| async move {
        let status = if headers.contains_key("authorization") { 200 } else { 401 };
        let challenge = format!("Bearer realm=\"{}/token\"", said.lock().unwrap());
        (axum::http::StatusCode::from_u16(status).unwrap(), [("www-authenticate", challenge)])
    });
    tokio::spawn(axum::serve(listener, asks).into_future());
    let host = "lake.fernhollow.test";
    good.clone_into(&mut realm.lock().unwrap());
    let (added, words) = world.pondrix_with(&["registry", "add", host, "--at", &address, "--user", "ines"], VALUE);
    assert!(added && words.contains(&format!("Name and password are shown to {good}")), "{words}");
    let name = format!("{host}/garden/labels");
    let test = async || world.pondrix(&["registry", "test", &name]).await.out;
    assert!(test().await.starts_with("answers  yes"));
    assert!(!heard.lock().unwrap().is_empty() && heard.lock().unwrap().iter().all(|name| *name == "good"));
    bad.clone_into(&mut realm.lock().unwrap());
    let refused = test().await;
    assert!(refused.contains(&format!("sends those who sign in to {bad}, and {good} was settled")), "{refused}");
    assert!(heard.lock().unwrap().iter().all(|name| *name == "good"), "it was sent elsewhere");
    let settled = world.pondrix(&["registry", "add", host, "--signs-in-at", &bad]).await;
    assert_eq!(settled.status, 0, "{}", settled.err);
    assert!(test().await.starts_with("answers  yes"));
    assert!(heard.lock().unwrap().contains(&"bad"));
}
