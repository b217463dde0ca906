//! The client against a registry that asks who comes, has no time, breaks off, sends elsewhere.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use axum::Router;
use axum::http::HeaderMap;
use axum::routing::any;
use pondrix_core::image::{Account, Registries, Repository};
use pondrix_image::registry::{Attachment, PushRequest, Registry, RegistryError, pull, push};
use pondrix_image::{Descriptor, media};
use pondrix_standin::registry::Guard;
use tokio::net::TcpListener;

use super::{Place, built, image};

/// More than one piece of an upload, and hard to compress.
pub(crate) fn large() -> Vec<u8> {
    let mut state = 4711_u64;
    let next = |_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    };
    (0..5 << 20).flat_map(next).collect()
}

pub(crate) fn signed_in(registries: &Registries, user: &str, password: &str) -> Registries {
    let mut registries = registries.clone();
    let account = Account {
        user: user.to_owned(),
        password: password.to_owned(),
        audience: None,
        repositories: Vec::new(),
        projects: Vec::new(),
    };
    for access in registries.by_host.values_mut() {
        access.accounts = vec![account.clone()];
    }
    registries
}

pub(crate) fn repository(name: &str) -> Repository {
    format!("pond.test/{name}").parse().unwrap()
}

fn guard(token_uses: Option<u32>) -> Option<Guard> {
    Some(Guard { user: "ines".to_owned(), password: "lily-pad-4711".to_owned(), token_uses, below: "" })
}

#[tokio::test(flavor = "multi_thread")]
async fn who_signs_in_pushes_and_pulls_and_who_does_not_is_told_how() {
    for token_uses in [None, Some(u32::MAX)] {
        let place = Place::new().await;
        let store = place.store("builder");
        let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
        place.registry.guard(guard(token_uses));
        let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
        let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
        let error = push(&request, &place.registries, &store).await.unwrap_err();
        assert!(matches!(error, RegistryError::SignIn { user: None, .. }), "{error}");
        assert!(error.to_string().contains("pondrix registry add pond.test --user NAME"), "{error}");
        let wrong = signed_in(&place.registries, "ines", "something else");
        let error = push(&request, &wrong, &store).await.unwrap_err();
        assert!(matches!(&error, RegistryError::SignIn { user: Some(user), .. } if user == "ines"), "{error}");
        assert!(!error.to_string().contains("something else"), "{error}");
        let right = signed_in(&place.registries, "ines", "lily-pad-4711");
        push(&request, &right, &store).await.unwrap();
        let pulled = pull(&image("app:edge"), &right, &place.store("other")).await.unwrap();
        assert_eq!(pulled.digest, app.image.digest);
        let client = Registry::new("pond.test", &right).unwrap();
        client.answers().await.unwrap();
        client.may_pull(&repository("nothing/yet")).await.unwrap();
        client.may_push(&repository("nothing/yet")).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_ends_in_the_middle_of_a_push_is_asked_for_anew() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1"), ("g", "2")], "FROM scratch\nCOPY f /f\nCOPY g /g").await;
    place.registry.guard(guard(Some(2)));
    let right = signed_in(&place.registries, "ines", "lily-pad-4711");
    let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    push(&request, &right, &store).await.unwrap();
    assert!(place.registry.tokens_given() > 3, "{} tokens", place.registry.tokens_given());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_has_no_time_is_asked_again_and_one_that_never_has_is_given_up() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    place.registry.be_busy(3);
    push(&request, &place.registries, &store).await.unwrap();
    place.registry.be_busy(u32::MAX);
    let error = pull(&image("app:edge"), &place.registries, &place.store("other")).await.unwrap_err();
    assert!(matches!(error, RegistryError::Refused { status: 503, .. }), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_and_downloads_that_break_off_go_on_where_they_did() {
    let place = Place::new().await;
    let store = place.store("builder");
    let large = large();
    let text = large.iter().map(|byte| char::from(*byte)).collect::<String>();
    let app = built(&place, &store, &[("f", &text)], "FROM scratch\nCOPY f /f").await;
    assert!(app.image.manifest.layers[0].size > 33 << 20, "{}", app.image.manifest.layers[0].size);
    let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    place.registry.break_after(20 << 20);
    push(&request, &place.registries, &store).await.unwrap();
    assert_eq!(place.registry.asked_how_far(), 1, "it went on, and did not begin anew");
    place.registry.break_after(10 << 20);
    let pulled = pull(&image("app:edge"), &place.registries, &place.store("other")).await.unwrap();
    assert_eq!(pulled.digest, app.image.digest);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_redirect_to_another_host_does_not_carry_what_signs_in() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    place.registry.guard(guard(None));
    let right = signed_in(&place.registries, "ines", "lily-pad-4711");
    push(&request, &right, &store).await.unwrap();
    let seen = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&seen);
    let elsewhere = Router::new().fallback(any(async move |headers: HeaderMap| {
        assert!(!headers.contains_key("authorization"), "{headers:?}");
        count.fetch_add(1, Ordering::Relaxed);
        axum::http::StatusCode::NOT_FOUND
    }));
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    // Another name of the same machine is another host.
    let address = format!("http://localhost:{}", listener.local_addr().unwrap().port());
    tokio::spawn(axum::serve(listener, elsewhere).into_future());
    place.registry.fetch_blobs_at(Some(address));
    let error = pull(&image("app:edge"), &right, &place.store("other")).await.unwrap_err();
    assert!(matches!(error, RegistryError::Refused { status: 404, .. }), "{error}");
    assert!(seen.load(Ordering::Relaxed) > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn tags_come_in_pages_and_all_are_found() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let name = repository("app");
    let moving: Vec<_> = (0..7).map(|number| format!("t{number}").parse().unwrap()).collect();
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    push(&request, &place.registries, &store).await.unwrap();
    let client = Registry::new("pond.test", &place.registries).unwrap();
    let all: Vec<String> = moving.iter().map(ToString::to_string).collect();
    assert_eq!(client.tags(&name).await.unwrap(), all);
    assert_eq!(client.tags_by(&name, 3).await.unwrap(), all);
    assert!(client.tags(&repository("none")).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_attached_to_an_image_is_found_whether_or_not_the_registry_keeps_lists() {
    for knows in [true, false] {
        let place = Place::new().await;
        place.registry.know_referrers(knows);
        attach_and_find(&place, "pond.test").await;
        assert_eq!(place.registry.tags("app").len(), if knows { 1 } else { 2 }, "a tag stands in for the list");
    }
}

/// Pushes an image to a registry, attaches two documents to it, and finds them.
pub(crate) async fn attach_and_find(place: &Place, host: &str) {
    let store = place.store("builder");
    let app = built(place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let (name, moving): (Repository, _) = (format!("{host}/app").parse().unwrap(), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    push(&request, &place.registries, &store).await.unwrap();
    let client = Registry::new(host, &place.registries).unwrap();
    let subject = Descriptor {
        media_type: media::MANIFEST.to_owned(),
        size: store.read_blob(&app.image.digest).unwrap().len() as u64,
        ..super::descriptor(media::MANIFEST, &store.read_blob(&app.image.digest).unwrap())
    };
    for (kind, bytes) in [("application/x-list", &b"a list"[..]), ("application/x-note", b"a note")] {
        let attachment = Attachment { kind, bytes, annotations: [].into() };
        for _ in 0..2 {
            client.attach(&name, &subject, &attachment, &store).await.unwrap();
        }
    }
    let found = client.referrers(&name, &app.image.digest).await.unwrap();
    let mut kinds: Vec<_> = found.iter().filter_map(|entry| entry.artifact_type.clone()).collect();
    kinds.sort();
    assert_eq!(kinds, ["application/x-list", "application/x-note"], "each once");
    let (image, other) = (format!("{host}/app:edge").parse().unwrap(), place.store("other"));
    let note = client.attached(&image, &app.image.digest, "application/x-note", &other).await.unwrap();
    assert_eq!(note.as_deref(), Some(&b"a note"[..]));
    assert_eq!(client.attached(&image, &app.image.digest, "application/x-none", &other).await.unwrap(), None);
}
