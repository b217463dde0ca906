//! One store for the images of several projects, of which each has only what a registry gives it.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use axum::Router;
use axum::extract::Request;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use pondrix_core::ProjectName;
use pondrix_core::image::{Digest, Reference, Registries};
use pondrix_image::registry::{Pull, RegistryError, Wanted, pull_and_tell};
use pondrix_image::{Image, Manifest, Platform, Store, digest_of, media};
use serde_json::{Value, json};
use tokio::net::TcpListener;

use super::{Compression, Layer, Place, built, descriptor, layer};

/// Brings an image for a project into a store, as a job does.
async fn bring(project: &str, image: &str, registries: &Registries, store: &Store) -> Result<Image, RegistryError> {
    let (project, image): (ProjectName, Reference) = (project.parse().unwrap(), image.parse().unwrap());
    let pull = Pull { image: &image, platform: &Platform::here(), wanted: Wanted::Files, project: Some(&project) };
    pull_and_tell(pull, registries, store, &|_| ()).await
}

/// A registry of somebody's own, that says it has everything, and has nothing but what is told of it here. Answers its
/// host, and how many blobs it gave.
async fn thief(documents: Vec<Vec<u8>>, blobs: Vec<Vec<u8>>) -> (String, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = listener.local_addr().unwrap().to_string();
    let given = Arc::new(AtomicUsize::new(0));
    let counter = Arc::clone(&given);
    let answer = move |request: Request| -> Response {
        let path = request.uri().path();
        let of_name = |all: &[Vec<u8>]| all.iter().find(|one| path.ends_with(&digest_of(one).to_string())).cloned();
        if path.contains("/manifests/") {
            let document = of_name(&documents).unwrap_or_else(|| documents[0].clone());
            return ([("content-type", media::MANIFEST)], document).into_response();
        }
        match of_name(&blobs) {
            Some(blob) => {
                counter.fetch_add(usize::from(request.method() == "GET"), Ordering::Relaxed);
                blob.into_response()
            }
            None if request.method() == "HEAD" => StatusCode::OK.into_response(),
            None => StatusCode::NOT_FOUND.into_response(),
        }
    };
    let router = Router::new().fallback(async move |request: Request| answer(request));
    tokio::spawn(axum::serve(listener, router).into_future());
    (host, given)
}

fn config(diff_ids: &[&Digest]) -> Vec<u8> {
    let here = Platform::here();
    let rootfs = json!({ "type": "layers", "diff_ids": diff_ids });
    serde_json::to_vec(&json!({ "architecture": here.architecture, "os": "linux", "rootfs": rootfs })).unwrap()
}

fn manifest(config: &[u8], layers: &[Value]) -> Vec<u8> {
    let config = descriptor(media::CONFIG, config);
    let document = json!({ "schemaVersion": 2, "mediaType": media::MANIFEST, "config": config, "layers": layers });
    serde_json::to_vec(&document).unwrap()
}

/// A place with an image that a project has brought into a store.
async fn with_a_lily() -> (Place, Store, Layer, Image) {
    let place = Place::new().await;
    let lily = || layer(&[("lily", "of nobody else")], &Compression::Gzip);
    place.put_image("desk/app", "1", &Platform::here().architecture, &[lily()]).await;
    let store = place.store("shared");
    let image = bring("desk", "pond.test/desk/app:1", &place.registries, &store).await.unwrap();
    (place, store, lily(), image)
}

fn text(store: &Store, image: &Image) -> String {
    let layers = store.layers(image).unwrap();
    std::fs::read_to_string(layers.last().unwrap().join("lily")).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_has_anothers_layer_by_its_digest_from_a_registry_that_says_it_has_it() {
    let (_place, store, lily, image) = with_a_lily().await;
    let registries = Registries::default();
    // By the digest of the image, of which the registry knows nothing.
    let own = layer(&[("lily", "a weed")], &Compression::Gzip);
    let own_config = config(&[&own.diff_id]);
    let own_layer = serde_json::to_value(descriptor(media::LAYER_GZIP, &own.blob)).unwrap();
    let (host, _) =
        thief(vec![manifest(&own_config, std::slice::from_ref(&own_layer))], vec![own_config.clone()]).await;
    let error = bring("pike", &format!("{host}/app@{}", image.digest), &registries, &store).await.unwrap_err();
    assert!(matches!(error, RegistryError::WrongDigest { .. }), "{error}");
    // By the digest of its layer, or of its configuration, in an image of one's own.
    let layers = serde_json::to_value(&image.manifest.layers).unwrap();
    let lily_config = config(&[&lily.diff_id]);
    let by_layer = manifest(&lily_config, layers.as_array().unwrap());
    let by_config = json!({ "schemaVersion": 2, "mediaType": media::MANIFEST, "config": image.manifest.config,
                            "layers": [own_layer] });
    for document in [by_layer, serde_json::to_vec(&by_config).unwrap()] {
        let (host, _) = thief(vec![document], vec![lily_config.clone(), own.blob.clone()]).await;
        let error = bring("pike", &format!("{host}/app:1"), &registries, &store).await.unwrap_err();
        assert!(matches!(&error, RegistryError::Refused { status: 404, .. }), "{error}");
    }
    // By what it unpacks to, for a layer of one's own.
    let (host, _) = thief(vec![manifest(&lily_config, &[own_layer])], vec![lily_config, own.blob]).await;
    let error = bring("pike", &format!("{host}/app:1"), &registries, &store).await.unwrap_err();
    assert!(error.to_string().contains("content that should be"), "{error}");
    // Who had it has it still, without a word to anybody.
    let nowhere = Registries::at([("pond.test", "http://127.0.0.1:9")]);
    let again = bring("desk", &format!("pond.test/desk/app@{}", image.digest), &nowhere, &store).await.unwrap();
    assert_eq!(text(&store, &again), "of nobody else");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_gave_something_else_under_a_layers_name_before_it_came_has_no_right_to_it() {
    let place = Place::new().await;
    let store = place.store("shared");
    let lily = layer(&[("lily", "of nobody else")], &Compression::Gzip);
    let weed = layer(&[("lily", "a weed")], &Compression::Gzip);
    let named = |blob: &[u8]| {
        let named = pondrix_image::Descriptor { size: blob.len() as u64, ..descriptor(media::LAYER_GZIP, &lily.blob) };
        serde_json::to_value(named).unwrap()
    };
    let registries = Registries::default();
    // The first answers with a weed to the name of the lily's layer.
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = listener.local_addr().unwrap().to_string();
    let of_weed = config(&[&weed.diff_id]);
    let document = manifest(&of_weed, &[named(&weed.blob)]);
    let (weeds, name) = (weed.blob.clone(), digest_of(&of_weed).to_string());
    let router = Router::new().fallback(async move |request: Request| match request.uri().path() {
        path if path.contains("/manifests/") => ([("content-type", media::MANIFEST)], document.clone()).into_response(),
        path if path.ends_with(&name) => of_weed.clone().into_response(),
        _ => weeds.clone().into_response(),
    });
    tokio::spawn(axum::serve(listener, router).into_future());
    let brought = bring("pike", &format!("{host}/app:1"), &registries, &store).await.unwrap();
    assert_eq!(text(&store, &brought), "a weed");
    let (lily_blob, lily_diff) = (lily.blob.clone(), lily.diff_id.clone());
    place.put_image("desk/app", "1", &Platform::here().architecture, &[lily]).await;
    let own = bring("desk", "pond.test/desk/app:1", &place.registries, &store).await.unwrap();
    assert_eq!(text(&store, &own), "of nobody else");
    let of_lily = config(&[&lily_diff]);
    let layers = [serde_json::to_value(descriptor(media::LAYER_GZIP, &lily_blob)).unwrap()];
    let (host, _) = thief(vec![manifest(&of_lily, &layers)], vec![of_lily]).await;
    let error = bring("pike", &format!("{host}/app:1"), &registries, &store).await.unwrap_err();
    assert!(matches!(&error, RegistryError::Refused { status: 404, .. }), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_gives_another_project_what_is_here_by_saying_so_and_any_other_by_giving_it_once() {
    let (place, store, lily, image) = with_a_lily().await;
    let digest = format!("pond.test/desk/app@{}", image.digest);
    for project in ["seed-bank", "seed-bank"] {
        let brought = bring(project, &digest, &place.registries, &store).await.unwrap();
        assert_eq!(text(&store, &brought), "of nobody else");
    }
    let bytes = |digest: &Digest| std::fs::read(store.blob_path(digest)).unwrap();
    let Manifest { config, .. } = &image.manifest;
    let (host, given) = thief(vec![bytes(&image.digest)], vec![bytes(&config.digest), lily.blob]).await;
    for _ in 0..2 {
        let brought = bring("wren", &format!("{host}/app:1"), &Registries::default(), &store).await.unwrap();
        assert_eq!(text(&store, &brought), "of nobody else");
        assert_eq!(given.load(Ordering::Relaxed), 2, "configuration and layer, once");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_layer_unpacks_to_is_known_of_built_layers_and_of_those_that_came_and_else_looked_at() {
    let place = Place::new().await;
    let store = place.store("own");
    let lily = layer(&[("base", "pond")], &Compression::Gzip);
    place.put_image("base", "1", &Platform::here().architecture, &[lily]).await;
    let made = built(&place, &store, &[("lily", "grown")], "FROM pond.test/base:1\nCOPY lily /\n").await;
    assert_eq!(text(&store, &made.image), "grown");
    let folder = |name: &str| place.folder.path().join("own").join(name);
    let noted = |folder: &Path| std::fs::read_dir(folder).unwrap().count();
    assert_eq!(noted(&folder("pairs")), 2);
    // One that an earlier version unpacked.
    std::fs::remove_dir_all(folder("pairs")).unwrap();
    std::fs::create_dir(folder("pairs")).unwrap();
    assert_eq!(text(&store, &made.image), "grown");
    assert_eq!(noted(&folder("pairs")), 2);
}
