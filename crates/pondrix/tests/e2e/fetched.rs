//! What recipes name that is elsewhere, and builds fetch.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use axum::Router;
use axum::routing::get;
use pondrix_image::digest_of;
use pondrix_standin::garden::REGISTRY;

use crate::images::one_image;
use crate::support::{Server, World, listener};

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_from_an_address_has_the_digest_that_is_asked_for_or_is_not_used() {
    let mut world = World::new().await;
    let mut server = world.server.take().unwrap();
    let address = server.url.trim_start_matches("http://").to_owned();
    server.end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &address, &["--allow-host-network"]));
    let listener = listener().await;
    let nursery = format!("http://{}", listener.local_addr().unwrap());
    let seeds = Router::new().route("/list/seeds.txt", get(async || "lily\nfern\n"));
    tokio::spawn(axum::serve(listener, seeds).into_future());
    let digest = digest_of(b"lily\nfern\n");
    let (repository, _) = world.project("plant-labels", &[]).await;
    let recipe = |checksum: &str| {
        format!(
            "FROM {REGISTRY}/base/shell:1\nADD --checksum={checksum} {nursery}/list/seeds.txt /seeds/\nRUN grep -q fern /seeds/seeds.txt\n"
        )
    };
    repository.write("image.recipe", &recipe(&digest.to_string())).unwrap();
    repository.write("pondrix.kdl", &one_image("network \"host\"")).unwrap();
    world.passes(&world.run_of("plant-labels", &repository.push("What was asked for").unwrap()).await).await;
    let other = digest_of(b"weeds").to_string();
    repository.write("image.recipe", &recipe(&other)).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Something else").unwrap()).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert!(failure.what.contains(&format!("where {other} is asked for")), "{}", failure.what);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_commit_names_is_fetched_from_public_addresses_only_or_from_those_that_the_runners_owner_opens() {
    let mut world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    // It counts who comes; one of its addresses leads back to itself.
    let listener = listener().await;
    let at = listener.local_addr().unwrap();
    let callers = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&callers);
    let answer = Router::new().fallback(async move || {
        count.fetch_add(1, Ordering::Relaxed);
        "lily\n"
    });
    tokio::spawn(axum::serve(listener, answer).into_future());
    let failure = async |world: &World, recipe: &str| {
        repository.write("image.recipe", recipe).unwrap();
        repository.write("pondrix.kdl", &one_image("network \"outbound\"")).unwrap();
        let run = world.run_of("plant-labels", &repository.push("From somewhere").unwrap()).await;
        world.end_of(&run).await.failure.map(|failure| failure.what).unwrap_or_default()
    };
    let base = format!("FROM {REGISTRY}/base/shell:1\n");
    let inside = at.ip();
    for recipe in [
        format!("{base}ADD http://{at}/seeds /seeds\n"),
        format!("{base}ADD http://localhost:{}/seeds /seeds\n", at.port()),
        format!("FROM {at}/seeds:1\n"),
        format!("{base}COPY --from=localhost:{}/seeds:1 /a /a\n", at.port()),
        format!("{base}ADD http://169.254.169.254/latest/meta-data /seeds\n"),
    ] {
        let what = failure(&world, &recipe).await;
        assert!(what.contains("which is not of the public network") && what.contains("--reach"), "{recipe}: {what}");
    }
    assert_eq!(callers.load(Ordering::Relaxed), 0, "it was asked");
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    let allowed = ["--reach", &inside.to_string()];
    world.server = Some(Server::start_allowing(&data, &address, &allowed));
    let what = failure(&world, &format!("{base}ADD http://{at}/seeds /seeds\n")).await;
    // A machine without a network of its own has no way out; what was named is fetched before.
    assert!(!what.contains("public network"), "{what}");
    assert_eq!(callers.load(Ordering::Relaxed), 1);
}
