//! Images that are built on others: when a base moves, what was built on it is built again.

use pondrix_api::RunSummary;
use pondrix_core::State;
use pondrix_core::pipeline::StartKind;
use pondrix_standin::garden::REGISTRY;

use crate::support::{World, until};

fn pipeline(starts: &str, image: &str) -> String {
    format!(
        "start commit=\"main\"\n{starts}\nstage \"package\" {{ image \"image\" {{ push \"{REGISTRY}/{image}\" {{ moving \"1\" }} }} }}\n"
    )
}

async fn newest(world: &World, project: &str) -> Option<RunSummary> {
    let name = project.parse().unwrap();
    world.client.runs(Some(&name), 1, None).await.ok()?.runs.into_iter().next()
}

/// Waits until a project's newest run is of this number, and over.
async fn passed(world: &World, project: &str, number: u64) -> RunSummary {
    let mut found = None;
    until(&format!("{project}#{number}"), async || {
        found = newest(world, project).await.filter(|run| run.number == number && run.state.is_over());
        found.is_some().then_some(())
    })
    .await;
    let run = found.unwrap();
    assert_eq!(run.state, State::Passed, "{:?}", run.note);
    run
}

#[tokio::test(flavor = "multi_thread")]
async fn a_base_that_moves_starts_what_was_built_on_it_in_order_and_once_each() {
    let world = World::looking_every("1s").await;
    let recipe = |base: &str| format!("FROM {REGISTRY}/{base}\nCOPY bed.txt /bed.txt\n");
    let mut repositories = Vec::new();
    for (name, starts, base, image) in [
        ("soil", "", "base/shell:1", "garden/soil"),
        ("bed", "start base-moved", "garden/soil:1", "garden/bed"),
        ("label", "start base-moved", "garden/bed:1", "garden/label"),
        ("bench", "", "garden/soil:1", "garden/bench"),
    ] {
        let (repository, _) = world.project(name, &[]).await;
        repository.write("pondrix.kdl", &pipeline(starts, image)).unwrap();
        repository.write("image.recipe", &recipe(base)).unwrap();
        repository.write("bed.txt", name).unwrap();
        repository.push("First").unwrap();
        passed(&world, name, 1).await;
        repositories.push(repository);
    }
    repositories[0].write("bed.txt", "loam").unwrap();
    repositories[0].push("Better soil").unwrap();
    for name in ["bed", "label"] {
        let run = passed(&world, name, 2).await;
        assert_eq!(run.start, StartKind::BaseMoved, "{name}");
    }
    let shown = world.pondrix(&["show", "label#2"]).await;
    let bed = world.client.run(&"bed#2".parse().unwrap()).await.unwrap();
    let digest = bed.stages[0].jobs[0].results.iter().find_map(|result| match result {
        pondrix_core::run::JobResult::Image { digest, .. } => Some(digest.short()),
        _ => None,
    });
    let on = format!("on {REGISTRY}/garden/bed:1@{}", digest.unwrap());
    assert!(shown.out.contains(&on), "{on} is not in {}", shown.out);
    assert_eq!(newest(&world, "bench").await.unwrap().number, 1, "it has no `start base-moved`");
    // Once each: everything but what does not follow is current, so that nothing more is to start.
    let chain = world.pondrix(&["image", "chain", "--json"]).await;
    let chain: serde_json::Value = serde_json::from_str(&chain.out).unwrap();
    let links = chain["links"].as_array().unwrap();
    let state = |project: &str| links.iter().find(|link| link["project"] == project).map(|link| link["state"].clone());
    assert_eq!((state("bed"), state("label")), (Some("current".into()), Some("current".into())), "{chain}");
    assert_eq!((newest(&world, "bed").await.unwrap().number, newest(&world, "label").await.unwrap().number), (2, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_base_that_somebody_else_pushes_is_noticed_by_asking_its_registry_or_at_once_by_a_hook() {
    somebody_else_pushes(&World::looking_every("1s").await, false).await;
    somebody_else_pushes(&World::new().await, true).await;
}

/// Has the base move past the server; with a hook, the registry tells of it.
async fn somebody_else_pushes(world: &World, with_hook: bool) {
    let (repository, project) = world.project("bed", &[]).await;
    repository.write("pondrix.kdl", &pipeline("start base-moved", "garden/bed")).unwrap();
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\nCOPY bed.txt /bed.txt\n")).unwrap();
    repository.write("bed.txt", "fern").unwrap();
    repository.push("First").unwrap();
    passed(world, "bed", 1).await;
    // The tag is given to another image, past the server: the one that was just built.
    let tags = world.registry.tags("garden/bed");
    let http = reqwest::Client::new();
    let registry = world.client.registries().await.unwrap().registries.remove(0).address;
    let manifests = format!("{registry}/v2/garden/bed/manifests/{}", tags["1"]);
    const KIND: &str = "application/vnd.oci.image.manifest.v1+json";
    let manifest = http.get(manifests).header("accept", KIND).send().await.unwrap().bytes().await.unwrap();
    let parsed: serde_json::Value = serde_json::from_slice(&manifest).unwrap();
    let blobs = parsed["layers"].as_array().unwrap().iter().chain([&parsed["config"]]);
    for blob in blobs {
        let digest = blob["digest"].as_str().unwrap();
        let mount = format!("{registry}/v2/base/shell/blobs/uploads/?mount={digest}&from=garden/bed");
        assert!(http.post(mount).send().await.unwrap().status().is_success());
    }
    let put = http.put(format!("{registry}/v2/base/shell/manifests/1")).header("content-type", KIND).body(manifest);
    assert!(put.send().await.unwrap().status().is_success());
    if with_hook {
        assert!(
            http.post(project.hook.as_ref().unwrap())
                .body("a registry's own words")
                .send()
                .await
                .unwrap()
                .status()
                .is_success()
        );
    }
    assert_eq!(passed(world, "bed", 2).await.start, StartKind::BaseMoved);
}
