//! Registries that refuse, lie, or are silent; and what is pushed to good ones.

use pondrix_api::{RegistryChange, RunDetail};
use pondrix_core::State;
use pondrix_standin::garden::{REGISTRY, VISITOR_DESK};
use pondrix_standin::registry::Behaviour;

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
