//! A registry with which each kind of request goes wrong once; and corners of images that are in use.

use std::collections::BTreeMap;

use pondrix_core::image::{Digest, Registries};
use pondrix_image::build::Built;
use pondrix_image::registry::{
    Attachment, Pulling, PushRequest, Registry, RegistryError, pull, pull_and_tell, pull_for, push,
};

use pondrix_image::{Config, Descriptor, Platform, media};
use pondrix_standin::registry::{Guard, Trip};
use serde_json::{Value, json};

use super::client::{large, repository, signed_in};
use super::{Compression, Place, built, files_of, http_client, image, layer};

const USER: &str = "ines";
const PASSWORD: &str = "lily-pad-4711";

/// What a push and an attached document ask for.
const KINDS: [&str; 11] = [
    "GET manifest",
    "HEAD blob",
    "POST uploads",
    "PATCH upload",
    "GET upload",
    "PUT upload",
    "PUT manifest",
    "GET referrers",
    "GET token",
    "GET blob",
    "HEAD manifest",
];

async fn pushed(place: &Place, app: &Built, name: &str, registries: &Registries) -> Result<(), RegistryError> {
    let store = place.store("builder");
    let (name, moving) = (repository(name), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    push(&request, registries, &store).await?;
    let bytes = store.read_blob(&app.image.digest).unwrap();
    let subject = descriptor(media::MANIFEST, &app.image.digest, bytes.len() as u64);
    let attachment = Attachment { kind: "text/plain", bytes: b"a note", annotations: BTreeMap::new() };
    Registry::new("pond.test", registries)?.attach(&name, &subject, &attachment, &store).await.map(drop)
}

fn descriptor(kind: &str, digest: &Digest, size: u64) -> Descriptor {
    Descriptor {
        media_type: kind.to_owned(),
        digest: digest.clone(),
        size,
        platform: None,
        annotations: BTreeMap::new(),
        artifact_type: None,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_kind_of_request_goes_wrong_once_a_push_comes_to_its_end() {
    let place = Place::new().await;
    let store = place.store("builder");
    let small = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let text = large().iter().map(|byte| char::from(*byte)).collect::<String>();
    let large = built(&place, &store, &[("f", &text)], "FROM scratch\nCOPY f /f").await;
    place.registry.guard(Some(Guard {
        user: USER.to_owned(),
        password: PASSWORD.to_owned(),
        token_uses: Some(u32::MAX),
        below: "",
    }));
    // One that knows no referrers has a tag read and written, too.
    place.registry.know_referrers(false);
    let right = signed_in(&place.registries, USER, PASSWORD);
    let trips =
        [Trip::Status(503), Trip::Status(429), Trip::Status(401), Trip::Reset, Trip::ResetAfter, Trip::NoLocation];
    for (number, kind) in KINDS.into_iter().enumerate() {
        for (turn, trip) in trips.into_iter().enumerate() {
            place.registry.trip(kind, trip);
            // Only what is long is sent in pieces.
            let app = if kind.ends_with(" upload") && kind != "PUT upload" { &large } else { &small };
            let name = format!("app-{number}-{turn}");
            if kind == "GET upload" {
                // Asked for after something else went wrong.
                place.registry.break_after(20 << 20);
            }
            let result = pushed(&place, app, &name, &right).await;
            match (kind, trip) {
                // There is nothing else that could say where to go on, and who gives tokens and says no is believed.
                ("POST uploads", Trip::NoLocation) => {
                    let error = result.unwrap_err().to_string();
                    assert!(error.contains("place for an upload") && error.contains("no Location"), "{error}");
                }
                ("GET token", Trip::Status(401)) => {
                    let error = result.unwrap_err();
                    assert!(matches!(error, RegistryError::SignIn { .. }), "{error}");
                }
                _ => result.unwrap_or_else(|error| panic!("{kind}, {trip:?}: {error}")),
            }
            if matches!(kind, "GET blob" | "HEAD manifest" | "GET referrers") {
                // A push asks for none of these by itself.
                let name = repository(&name);
                let client = Registry::new("pond.test", &right).unwrap();
                client.referrers(&name, &app.image.digest).await.unwrap();
                client.has_image(&name.at(app.image.digest.clone())).await.unwrap();
                let version = image(&format!("{}:edge", name.path()));
                pull(&version, &right, &place.store(&format!("other-{number}-{turn}"))).await.unwrap();
            }
            assert!(!place.registry.has_trips(), "nothing asked for {kind}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_for_without_its_content_is_asked_for_with_it_where_only_that_is_allowed() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    pushed(&place, &app, "app", &place.registries).await.unwrap();
    let client = Registry::new("pond.test", &place.registries).unwrap();
    let (there, nowhere) = (app.image.digest.clone(), pondrix_image::digest_of(b"nowhere"));
    for status in [403, 405] {
        for (digest, is_there) in [(&there, true), (&nowhere, false)] {
            place.registry.trip("HEAD manifest", Trip::Status(status));
            let found = client.has_image(&repository("app").at(digest.clone())).await.unwrap();
            assert_eq!(found, is_there, "{status}");
            assert!(!place.registry.has_trips());
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn layers_are_taken_from_the_bases_repository_where_a_token_covers_both_and_sent_where_it_does_not() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let right = signed_in(&place.registries, USER, PASSWORD);
    let guard = Guard { user: USER.to_owned(), password: PASSWORD.to_owned(), token_uses: Some(u32::MAX), below: "" };
    place.registry.guard(Some(guard));
    pushed(&place, &app, "base", &right).await.unwrap();
    let (base, name) = (repository("base"), repository("team/app"));
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &[], base: Some(&base) };
    let done = push(&request, &right, &store).await.unwrap();
    assert_eq!((done.sent, done.there), (0, 2), "no byte of a layer was sent");
    // A registry that refuses to look there at all has the bytes sent.
    place.registry.trip("POST uploads", Trip::Status(403));
    let other = repository("team/other");
    let request = PushRequest { repository: &other, ..request };
    let done = push(&request, &right, &store).await.unwrap();
    assert!(done.sent >= 1 && !place.registry.has_trips(), "{done:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_several_jobs_pull_at_once_is_fetched_once_and_each_is_told_how_far_it_is() {
    let place = Place::new().await;
    let store = place.store("builder");
    let text = large().iter().map(|byte| char::from(*byte)).collect::<String>();
    let app = built(&place, &store, &[("f", &text), ("g", "2")], "FROM scratch\nCOPY f /f\nCOPY g /g").await;
    pushed(&place, &app, "app", &place.registries).await.unwrap();
    let (before, other) = (place.registry.blobs_given(), place.store("other"));
    // It breaks off once, and whoever fetches goes on.
    place.registry.break_after(10 << 20);
    let pulled = async || {
        let last = std::sync::Mutex::new(None);
        let tell = |now: Pulling| *last.lock().unwrap() = Some(now);
        let name = image("app:edge");
        let here = Platform::here();
        pull_and_tell(files_of(&name, &here), &place.registries, &other, &tell)
            .await
            .map(|pulled| (pulled.digest, last.into_inner()))
    };
    let all = futures_util::future::join_all((0..4).map(|_| pulled())).await;
    for one in all {
        let (digest, last) = one.unwrap();
        assert_eq!(digest, app.image.digest);
        // One that comes when all is there has nothing to tell.
        if let Some(last) = last.unwrap() {
            assert_eq!((last.layers_here, last.bytes_here), (last.layers, last.bytes));
        }
    }
    // Two layers and the configuration; one of them in two parts, where it was long enough to break off before its end.
    let given = place.registry.blobs_given() - before;
    assert!((3..=4).contains(&given), "{given}");
}

/// The list under an image's tag for what is attached, as the registry has it.
async fn attached_by_tag(place: &Place, subject: &Digest) -> Value {
    let address = format!("{}/v2/app/manifests/sha256-{}", place.url, subject.hex());
    http_client().get(address).send().await.unwrap().json().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_of_what_is_attached_keeps_what_others_put_there_and_is_not_replaced_where_it_makes_no_sense() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    place.registry.know_referrers(false);
    place.registry.know_conditions(true);
    pushed(&place, &app, "app", &place.registries).await.unwrap();
    let digest = &app.image.digest;
    let tag = format!("{}/v2/app/manifests/sha256-{}", place.url, digest.hex());
    let put = async |document: &Value| {
        let put = http_client().put(&tag).header("content-type", media::INDEX).body(document.to_string());
        assert!(put.send().await.unwrap().status().is_success());
    };
    // What others say in it, that we know nothing of.
    let mut list = attached_by_tag(&place, digest).await;
    list["odd"] = json!({ "kept": true });
    list["manifests"][0]["data"] = json!("kept, too");
    put(&list).await;
    let client = Registry::new("pond.test", &place.registries).unwrap();
    let subject = descriptor(media::MANIFEST, digest, store.read_blob(digest).unwrap().len() as u64);
    // Ten at once, each of which finds that another one was quicker.
    let notes: Vec<String> = (0..5).map(|number| format!("note {number}")).collect();
    let attach = async |note: &String| {
        let attachment = Attachment { kind: "text/plain", bytes: note.as_bytes(), annotations: BTreeMap::new() };
        client.attach(&repository("app"), &subject, &attachment, &store).await
    };
    let all = futures_util::future::join_all(notes.iter().map(attach)).await;
    assert!(all.iter().all(Result::is_ok), "{all:?}");
    let now = attached_by_tag(&place, digest).await;
    assert_eq!((&now["odd"], &now["manifests"][0]["data"]), (&json!({ "kept": true }), &json!("kept, too")));
    assert_eq!(now["manifests"].as_array().unwrap().len(), 6);

    for nonsense in [json!({ "schemaVersion": 2, "odd": 1 }), json!([1, 2])] {
        put(&nonsense).await;
        let error = attach(&"one more".to_owned()).await.unwrap_err().to_string();
        assert!(error.contains("nothing of it was replaced") && error.contains(digest.hex()), "{error}");
        assert_eq!(attached_by_tag(&place, digest).await, nonsense);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_entry_without_a_variant_is_for_the_usual_one_and_one_with_it_comes_first() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    pushed(&place, &app, "app", &place.registries).await.unwrap();
    let size = store.read_blob(&app.image.digest).unwrap().len();
    let index = |platforms: &[&str]| {
        let entries = platforms.iter().map(|platform| {
            let platform: Platform = platform.parse().unwrap();
            json!({ "mediaType": media::MANIFEST, "digest": app.image.digest, "size": size, "platform": platform })
        });
        json!({ "schemaVersion": 2, "mediaType": media::INDEX, "manifests": entries.collect::<Vec<_>>(), "annotations": null })
    };
    for (entries, wanted, fits) in [
        (&["linux/arm64"][..], "linux/arm64/v8", true),
        (&["linux/arm64"], "linux/arm64/v9", false),
        (&["linux/arm64/v8"], "linux/arm64", true),
        (&["linux/arm"], "linux/arm/v7", true),
        (&["linux/arm"], "linux/arm/v6", false),
        (&["linux/arm/v6", "linux/arm"], "linux/arm/v6", true),
        (&["linux/riscv64"], "linux/riscv64/odd", false),
    ] {
        let put = http_client().put(format!("{}/v2/app/manifests/many", place.url));
        let put = put.header("content-type", media::INDEX).body(index(entries).to_string());
        assert!(put.send().await.unwrap().status().is_success());
        let other = place.store("other");
        let pulled = pull_for(&image("app:many"), &wanted.parse().unwrap(), &place.registries, &other).await;
        assert_eq!(pulled.is_ok(), fits, "{entries:?} for {wanted}");
    }
}

#[test]
fn nothing_that_is_written_as_null_is_nothing_and_what_others_noted_stays() {
    let text = r#"{"architecture":"amd64","os":"linux","created":null,"author":null,"history":null,
        "config":{"User":null,"WorkingDir":null,"Env":null,"Cmd":null,"Labels":null,"OnBuild":null,"ExposedPorts":null},
        "rootfs":{"type":"layers","diff_ids":[]}}"#;
    let config: Config = serde_json::from_str(text).unwrap();
    assert_eq!((config.config.user.as_str(), config.history.len()), ("", 0));
    let text = r#"{"architecture":"amd64","os":"linux","config":null,"rootfs":{"type":"layers","diff_ids":[]},
        "history":[{"created_by":"RUN","author":"Wren","comment":"by hand","empty_layer":null}]}"#;
    let config: Config = serde_json::from_str(text).unwrap();
    let written = serde_json::to_value(&config).unwrap();
    assert_eq!(written["history"], json!([{ "created_by": "RUN", "author": "Wren", "comment": "by hand" }]));
}

#[tokio::test(flavor = "multi_thread")]
async fn layers_of_an_older_base_have_the_names_of_the_specification_in_what_is_built_on_it() {
    let place = Place::new().await;
    let base = layer(&[("f", "1")], &Compression::Gzip);
    let blob = place.put_blob("base", &base.blob).await;
    let config = json!({ "architecture": Platform::here().architecture, "os": "linux", "author": "Ines",
        "rootfs": { "type": "layers", "diff_ids": [base.diff_id] },
        "history": [{ "created_by": "COPY f /f", "author": "Ines", "comment": "by hand" }] });
    let config = serde_json::to_vec(&config).unwrap();
    place.put_blob("base", &config).await;
    let old = "application/vnd.docker.image.rootfs.diff.tar.gzip";
    let manifest = json!({ "schemaVersion": 2, "mediaType": media::OLD_MANIFEST,
        "config": { "mediaType": "application/vnd.docker.container.image.v1+json",
                    "digest": pondrix_image::digest_of(&config), "size": config.len() },
        "layers": [{ "mediaType": old, "digest": blob.digest, "size": blob.size }] });
    assert!(place.put_manifest("base", "1", &manifest).await.0.is_success());
    let store = place.store("builder");
    let app = built(&place, &store, &[("g", "2")], "FROM pond.test/base:1\nCOPY g /g").await;
    let kinds: Vec<_> = app.image.manifest.layers.iter().map(|layer| layer.media_type.as_str()).collect();
    assert_eq!(kinds, [media::LAYER_GZIP, media::LAYER_GZIP]);
    assert_eq!(app.image.manifest.layers[0].digest, blob.digest, "it is the same blob");
    let first = &app.image.config.history[0];
    assert_eq!((first.author.as_deref(), first.comment.as_deref()), (Some("Ines"), Some("by hand")));
}
