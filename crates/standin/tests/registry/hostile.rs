//! The client against a registry that means no good: whatever it answers, the client ends, keeps what it was told to
//! keep to itself, and takes no more than it can.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use axum::body::{Body, Bytes};
use axum::extract::Request;
use axum::http::{HeaderMap, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use axum::{Json, Router};
use pondrix_core::image::Registries;
use pondrix_image::registry::{Attachment, PushRequest, Registry, RegistryError, pull, pull_and_tell, push};
use pondrix_image::{Descriptor, Store, digest_of, media};
use pondrix_sandbox::IdMap;
use serde_json::{Value, json};
use tokio::net::TcpListener;

use super::client::{repository, signed_in};
use super::{Compression, Place, built, descriptor, files_of, image, layer};

/// A server that answers every request as a function says.
async fn answering<F>(answer: F) -> SocketAddr
where
    F: Fn(Request) -> Response + Clone + Send + Sync + 'static,
{
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let router = Router::new().fallback(move |request: Request| {
        let answer = answer.clone();
        async move { answer(request) }
    });
    tokio::spawn(axum::serve(listener, router).into_future());
    address
}

fn at(address: SocketAddr) -> Registries {
    let _ = Registry::new("pond.test", &Registries::default());
    Registries::at([("pond.test", format!("http://{address}"))])
}

fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), IdMap::for_this_process()).unwrap();
    (folder, store)
}

/// A manifest with layers of these sizes, and the blob of each.
fn manifest(sizes: &[u64], blob: &[u8]) -> Value {
    let layers = sizes.iter().map(|size| Descriptor { size: *size, ..descriptor(media::LAYER_GZIP, blob) });
    json!({ "schemaVersion": 2, "mediaType": media::MANIFEST,
        "config": descriptor(media::CONFIG, CONFIG), "layers": layers.collect::<Vec<_>>() })
}

/// A configuration with one layer.
const CONFIG: &[u8] = br#"{"architecture":"amd64","os":"linux","rootfs":{"type":"layers","diff_ids":["sha256:b5bb9d8014a0f9b1d61e21e796d78dccdf1352f23cd32812f4850b878ae4944c"]}}"#;

fn endless() -> Response {
    let piece = Bytes::from(vec![b'x'; 64 * 1024]);
    let pieces = futures_util::stream::repeat_with(move || Ok::<_, std::io::Error>(piece.clone()));
    Body::from_stream(pieces).into_response()
}

/// A registry that gives an image of one layer, in which a lily is, and for that layer's blob these bytes.
async fn giving(wanted: &[u8], given: Vec<u8>) -> SocketAddr {
    giving_of("lily", wanted, wanted.len(), given).await
}

/// The same with another text for the lily, where the blob is said to have another size.
async fn giving_of(text: &str, wanted: &[u8], size: usize, given: Vec<u8>) -> SocketAddr {
    let config = String::from_utf8(CONFIG.to_vec()).unwrap();
    let id = config.split('"').find(|word| word.starts_with("sha256:")).unwrap();
    let diff_id = layer(&[("lily", text)], &Compression::Gzip).diff_id;
    let config = config.replace(id, &diff_id.to_string()).into_bytes();
    let document = json!({ "schemaVersion": 2, "mediaType": media::MANIFEST,
        "config": descriptor(media::CONFIG, &config), "layers": [Descriptor { size: size as u64, ..descriptor(media::LAYER_GZIP, wanted) }] });
    let digest = digest_of(wanted).to_string();
    answering(move |request| match request.uri().path() {
        path if path.ends_with(&digest) => given.clone().into_response(),
        path if path.contains("/blobs/") => config.clone().into_response(),
        _ => Json(document.clone()).into_response(),
    })
    .await
}

fn kept(folder: &tempfile::TempDir, name: &str) -> usize {
    std::fs::read_dir(folder.path().join(name)).unwrap().count()
}

/// An image's files, brought as a job brings them.
async fn files(address: SocketAddr, store: &Store) -> Result<pondrix_image::Image, RegistryError> {
    let (image, here) = (image("app:1"), pondrix_image::Platform::here());
    pull_and_tell(files_of(&image, &here), &at(address), store, &|_| ()).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_layer_that_is_unpacked_while_it_comes_is_kept_only_if_it_is_what_was_announced() {
    let of = |text: &str| layer(&[("lily", text)], &Compression::Gzip).blob;
    let (wanted, other) = (of("lily"), of("weed"));
    for (given, is_kept) in [(other, false), (wanted[..60].to_vec(), false), (wanted.clone(), true)] {
        let (folder, store) = store();
        let pulled = files(giving(&wanted, given).await, &store).await;
        assert_eq!(pulled.is_ok(), is_kept, "{pulled:?}");
        assert_eq!((kept(&folder, "layers"), kept(&folder, "unfinished")), (usize::from(is_kept), 0));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_blob_that_is_another_one_with_the_right_files_runs_here_and_is_given_to_nobody() {
    let wanted = layer(&[("lily", "lily")], &Compression::Gzip).blob;
    // The system that something was compressed on (RFC 1952, section 2.3.1) changes nothing of what it unpacks to.
    let mut other = wanted.clone();
    other[9] ^= 1;
    let place = Place::new().await;
    let (name, digest) = (repository("copy"), digest_of(&wanted));
    let push_it = async |image: &pondrix_image::Image, store: &Store| {
        let moving = ["1".parse().unwrap()];
        let request = PushRequest { image, repository: &name, tags: &[], moving: &moving, base: None };
        push(&request, &place.registries, store).await
    };
    let (folder, store) = store();
    let pulled = files(giving(&wanted, other.clone()).await, &store).await.unwrap();
    let layers = store.layers(&pulled).unwrap();
    assert_eq!(std::fs::read_to_string(layers[0].join("lily")).unwrap(), "lily");
    let error = push_it(&pulled, &store).await.unwrap_err().to_string();
    assert!(error.contains(&digest.to_string()) && error.contains(&digest_of(&other).to_string()), "{error}");
    assert!(!store.has_blob(&digest));
    // Its files are there now, and prove nothing of what comes.
    let error = files(giving(&wanted, other).await, &store).await.unwrap_err();
    assert!(matches!(error, RegistryError::WrongDigest { .. }), "{error}");
    let pulled = files(giving(&wanted, wanted.clone()).await, &store).await.unwrap();
    push_it(&pulled, &store).await.unwrap();
    assert_eq!(kept(&folder, "unfinished"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_image_that_calls_its_layer_by_the_name_of_another_ones_keeps_nobody_from_that() {
    let of = |text: &str| layer(&[("lily", text)], &Compression::Gzip).blob;
    let (_folder, store) = store();
    let lily = of("lily");
    let weed = of("weed");
    let foreign = files(giving_of("weed", &lily, weed.len(), weed).await, &store).await.unwrap();
    assert_eq!(std::fs::read_to_string(store.layers(&foreign).unwrap()[0].join("lily")).unwrap(), "weed");
    let honest = files(giving(&lily, lily.clone()).await, &store).await.unwrap();
    assert_eq!(std::fs::read_to_string(store.layers(&honest).unwrap()[0].join("lily")).unwrap(), "lily");
    assert_eq!(digest_of(&std::fs::read(store.blob_path(&digest_of(&lily))).unwrap()), digest_of(&lily));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_right_blob_is_looked_at_once_before_it_is_given_to_others() {
    let wanted = layer(&[("lily", "lily")], &Compression::Gzip).blob;
    let (folder, store) = store();
    let pulled = files(giving(&wanted, wanted.clone()).await, &store).await.unwrap();
    assert_eq!(kept(&folder, "unproved"), 1);
    let place = Place::new().await;
    let (name, moving) = (repository("copy"), ["1".parse().unwrap()]);
    let request = PushRequest { image: &pulled, repository: &name, tags: &[], moving: &moving, base: None };
    push(&request, &place.registries, &store).await.unwrap();
    assert_eq!(kept(&folder, "unproved"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_document_without_end_is_not_read_to_its_end() {
    let (_folder, store) = store();
    let address = answering(|_| endless()).await;
    let error = pull(&image("app:1"), &at(address), &store).await.unwrap_err();
    assert!(error.to_string().contains("longer than 4 MiB"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_layer_is_taken_as_far_as_it_was_announced_and_not_kept_when_it_goes_on() {
    let (folder, store) = store();
    let document = manifest(&[1000], b"a layer");
    let layer = digest_of(b"a layer").to_string();
    // Of the two blobs of this image only the layer is endless.
    let address = answering(move |request| match request.uri().path() {
        path if path.ends_with(&layer) => endless(),
        path if path.contains("/blobs/") => CONFIG.into_response(),
        _ => Json(document.clone()).into_response(),
    })
    .await;
    let error = pull(&image("app:1"), &at(address), &store).await.unwrap_err();
    assert!(error.to_string().contains("longer than the 1000 bytes announced"), "{error}");
    let kept = |name: &str| std::fs::read_dir(folder.path().join(name)).unwrap().count();
    assert!(kept("blobs") <= 1, "more than the configuration is kept");
    assert!(!folder.path().join("blobs").join(digest_of(b"a layer").hex()).exists());
    assert_eq!(kept("unfinished"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_image_that_no_disk_could_hold_is_not_begun() {
    let (_folder, store) = store();
    let asked = Arc::new(AtomicUsize::new(0));
    for sizes in [&[1 << 60][..], &[u64::MAX, u64::MAX]] {
        let (document, count) = (manifest(sizes, b"a layer"), Arc::clone(&asked));
        let address = answering(move |request| {
            count.fetch_add(usize::from(request.uri().path().contains("/blobs/")), Ordering::Relaxed);
            Json(document.clone()).into_response()
        })
        .await;
        let error = pull(&image("app:1"), &at(address), &store).await.unwrap_err();
        assert!(matches!(error, RegistryError::NoRoom { .. }), "{error}");
        assert!(error.to_string().starts_with("pond.test/app:1 has "), "{error}");
    }
    assert_eq!(asked.load(Ordering::Relaxed), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_image_of_more_layers_than_can_be_mounted_is_refused_before_they_are_fetched() {
    let (_folder, store) = store();
    let document = manifest(&[7; 401], b"a layer");
    let address = answering(move |_| Json(document.clone()).into_response()).await;
    let error = pull(&image("app:1"), &at(address), &store).await.unwrap_err();
    assert!(error.to_string().contains("401 layers"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn redirects_that_go_round_in_a_circle_are_given_up() {
    let (_folder, store) = store();
    let asked = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&asked);
    let address = answering(move |request| {
        count.fetch_add(1, Ordering::Relaxed);
        (StatusCode::TEMPORARY_REDIRECT, [("location", request.uri().to_string())]).into_response()
    })
    .await;
    let error = pull(&image("app:1"), &at(address), &store).await.unwrap_err();
    assert!(error.to_string().contains("more than 5 redirects"), "{error}");
    assert!(asked.load(Ordering::Relaxed) < 50, "{asked:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_whose_pages_lead_to_themselves_end() {
    // The third page is the first again; or there is one more each time, and never anything in it.
    let page = |circle: bool| {
        move |request: Request| {
            let number: u32 =
                request.uri().query().and_then(|query| query.strip_prefix("p=")?.parse().ok()).unwrap_or(0);
            let next = if circle { (number + 1) % 3 } else { number + 1 };
            let next = format!("<{}?p={next}>; rel=\"next\"", request.uri().path());
            let body = match request.uri().path().contains("/referrers/") {
                true => json!({ "schemaVersion": 2, "manifests": [] }),
                false => json!({ "name": "app", "tags": ["lily"] }),
            };
            ([("link", next)], Json(body)).into_response()
        }
    };
    let client = Registry::new("pond.test", &at(answering(page(true)).await)).unwrap();
    let error = client.referrers(&repository("app"), &digest_of(b"x")).await.unwrap_err();
    assert!(error.to_string().contains("round in a circle"), "{error}");
    let error = client.tags(&repository("app")).await.unwrap_err();
    assert!(error.to_string().contains("round in a circle"), "{error}");
    let client = Registry::new("pond.test", &at(answering(page(false)).await)).unwrap();
    let error = client.referrers(&repository("app"), &digest_of(b"x")).await.unwrap_err();
    assert!(error.to_string().contains("more than 100 pages"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_at_another_host_is_not_asked_for() {
    let asked = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&asked);
    let elsewhere = answering(move |_| {
        count.fetch_add(1, Ordering::Relaxed);
        StatusCode::OK.into_response()
    })
    .await;
    let page = move |_| {
        let next = format!("<http://{elsewhere}/v2/app/tags/list>; rel=\"next\"");
        ([("link", next)], Json(json!({ "tags": ["lily"] }))).into_response()
    };
    let client = Registry::new("pond.test", &at(answering(page).await)).unwrap();
    assert_eq!(client.tags(&repository("app")).await.unwrap(), ["lily"]);
    assert_eq!(asked.load(Ordering::Relaxed), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_attached_document_of_any_length_is_not_taken() {
    let (_folder, store) = store();
    let kind = "application/x-note";
    let attached = serde_json::to_vec(&manifest(&[300 << 20], b"a note")).unwrap();
    let entry = Descriptor { artifact_type: Some(kind.to_owned()), ..descriptor(media::MANIFEST, &attached) };
    let address = answering(move |request| match request.uri().path().contains("/referrers/") {
        true => Json(json!({ "schemaVersion": 2, "manifests": [entry] })).into_response(),
        false => attached.clone().into_response(),
    })
    .await;
    let client = Registry::new("pond.test", &at(address)).unwrap();
    let error = client.attached(&image("app:1"), &digest_of(b"x"), kind, &store).await.unwrap_err();
    assert!(error.to_string().contains("300 MiB long, and at most 256 are taken"), "{error}");
}

/// What a server was shown to sign in, request by request.
type Shown = Arc<Mutex<Vec<(Uri, HeaderMap)>>>;

#[tokio::test(flavor = "multi_thread")]
async fn a_place_for_an_upload_elsewhere_is_not_shown_what_signs_in_here() {
    let place = Place::new().await;
    let store = place.store("builder");
    let app = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let shown = Shown::default();
    let seen = Arc::clone(&shown);
    let elsewhere = answering(move |request| {
        seen.lock().unwrap().push((request.uri().clone(), request.headers().clone()));
        StatusCode::CREATED.into_response()
    })
    .await;
    let asks = answering(move |request| {
        if !request.headers().contains_key("authorization") {
            return (StatusCode::UNAUTHORIZED, [("www-authenticate", "Basic realm=\"pond\"")]).into_response();
        }
        match request.method().as_str() {
            "POST" => (StatusCode::ACCEPTED, [("location", format!("http://{elsewhere}/upload"))]).into_response(),
            _ => StatusCode::NOT_FOUND.into_response(),
        }
    })
    .await;
    let (name, moving) = (repository("app"), ["edge".parse().unwrap()]);
    let request = PushRequest { image: &app.image, repository: &name, tags: &[], moving: &moving, base: None };
    let registries = signed_in(&at(asks), "ines", "lily-pad-4711");
    // The bytes go where it says; that the manifest is not there afterwards ends the push.
    push(&request, &registries, &store).await.unwrap_err();
    let shown = shown.lock().unwrap();
    assert!(!shown.is_empty());
    assert!(shown.iter().all(|(_, headers)| !headers.contains_key("authorization")), "{shown:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_is_good_for_ever_is_good_and_one_that_is_none_is_told() {
    for (life, token) in [(json!(u64::MAX), "petal"), (json!(0), "petal"), (json!(60), "")] {
        let answer = move |request: Request| {
            let address = request.headers()["host"].to_str().unwrap().to_owned();
            if request.uri().path() == "/token" {
                return Json(json!({ "token": token, "expires_in": life })).into_response();
            }
            if request.headers().get("authorization").is_some_and(|shown| shown == "Bearer petal") {
                return Json(json!({ "tags": ["lily"] })).into_response();
            }
            let challenge = format!("Bearer realm=\"http://{address}/token\",service=\"pond\"");
            (StatusCode::UNAUTHORIZED, [("www-authenticate", challenge)]).into_response()
        };
        let client = Registry::new("pond.test", &at(answering(answer).await)).unwrap();
        match client.tags(&repository("app")).await {
            Ok(tags) => assert_eq!((tags.as_slice(), token), (&["lily".to_owned()][..], "petal")),
            Err(error) => assert!(token.is_empty() && error.to_string().contains("none in the answer"), "{error}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_layer_whose_bytes_are_damaged_behind_the_archives_end_is_refused_too() {
    let place = Place::new().await;
    let mut whole = layer(&[("lily", "pad")], &Compression::Plain);
    // Two empty blocks end an archive: whatever follows is nobody's file, and still of the digest.
    let honest = whole.diff_id.clone();
    whole.blob.extend(vec![7; 4096]);
    place.put_image("app", "1", pondrix_image::Platform::here().architecture.as_str(), &[whole]).await;
    let store = place.store("other");
    let pulled = pull(&image("app:1"), &place.registries, &store).await.unwrap();
    let error = store.layers(&pulled).unwrap_err();
    assert!(error.to_string().contains("content that should be"), "{error}");
    assert!(!store.layer_path(&honest).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_lists_documents_that_are_none_is_told_and_nothing_is_attached_to_nothing() {
    let (_folder, store) = store();
    let client = Registry::new("pond.test", &at(answering(|_| "petals".into_response()).await)).unwrap();
    let subject = descriptor(media::MANIFEST, b"an image");
    let error = client.referrers(&repository("app"), &subject.digest).await.unwrap_err();
    assert!(matches!(error, RegistryError::Nonsense { .. }), "{error}");
    let attachment = Attachment { kind: "application/x-note", bytes: b"a note", annotations: [].into() };
    let refuses = answering(|request| match request.method().as_str() {
        "PUT" => (StatusCode::INSUFFICIENT_STORAGE, "no bed is free").into_response(),
        "POST" => (StatusCode::ACCEPTED, [("location", "/here")]).into_response(),
        _ => StatusCode::NOT_FOUND.into_response(),
    })
    .await;
    let client = Registry::new("pond.test", &at(refuses)).unwrap();
    let error = client.attach(&repository("app"), &subject, &attachment, &store).await.unwrap_err();
    assert!(error.to_string().contains("507") && error.to_string().contains("no bed is free"), "{error}");
}
