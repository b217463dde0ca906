//! The stand-in registry by the specification's own requests, and the image crate's client against it.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod client;
mod hostile;
mod reference;
mod rights;
mod trips;

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;

use pondrix_core::image::{Digest, Reference, Registries, Repository};
use pondrix_image::build::{Alone, BuildInput, Built, build};
use pondrix_image::recipe::Recipe;
use pondrix_image::registry::{Pull, Pulling, PushRequest, RegistryError, Wanted, pull, pull_and_tell, push};
use pondrix_image::{Config, Descriptor, Manifest, Platform, Store, digest_of, media};
use pondrix_sandbox::{IdMap, Launcher};
use pondrix_standin::registry::{Behaviour, Registry};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// A registry, a store, and a client.
struct Place {
    registry: Arc<Registry>,
    url: String,
    registries: Registries,
    http: Client,
    folder: tempfile::TempDir,
    stop: CancellationToken,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

impl Place {
    async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let registry = Registry::new(&folder.path().join("registry")).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let stop = CancellationToken::new();
        tokio::spawn(Arc::clone(&registry).serve(listener, stop.clone()));
        let registries = Registries::at([("pond.test", url.clone())]);
        Self { registry, url, registries, http: http_client(), folder, stop }
    }

    fn store(&self, name: &str) -> Store {
        Store::open(&self.folder.path().join(name), IdMap::for_this_process()).unwrap()
    }

    async fn ask(&self, method: Method, path: &str, body: Vec<u8>) -> reqwest::Response {
        self.http.request(method, format!("{}{path}", self.url)).body(body).send().await.unwrap()
    }

    /// Puts a blob in one request.
    async fn put_blob(&self, name: &str, bytes: &[u8]) -> Descriptor {
        let digest = digest_of(bytes);
        let path = format!("/v2/{name}/blobs/uploads/?digest={digest}");
        assert_eq!(self.ask(Method::POST, &path, bytes.to_vec()).await.status(), StatusCode::CREATED);
        descriptor(media::LAYER_GZIP, bytes)
    }

    async fn put_manifest(&self, name: &str, version: &str, document: &Value) -> (StatusCode, Digest) {
        let bytes = serde_json::to_vec(document).unwrap();
        let answer = self.ask(Method::PUT, &format!("/v2/{name}/manifests/{version}"), bytes.clone()).await;
        (answer.status(), digest_of(&bytes))
    }

    /// Puts an image of layers for a processor; its manifest's digest and size.
    async fn put_image(&self, name: &str, version: &str, architecture: &str, layers: &[Layer]) -> (Digest, u64) {
        let mut descriptors = Vec::new();
        for layer in layers {
            descriptors.push(self.put_blob(name, &layer.blob).await);
        }
        let config = json!({ "architecture": architecture, "os": "linux", "config": { "Env": ["POND=lily"] },
            "rootfs": { "type": "layers", "diff_ids": layers.iter().map(|layer| &layer.diff_id).collect::<Vec<_>>() } });
        let config = serde_json::to_vec(&config).unwrap();
        self.put_blob(name, &config).await;
        let manifest = json!({ "schemaVersion": 2, "mediaType": media::MANIFEST,
            "config": descriptor(media::CONFIG, &config), "layers": descriptors });
        let (status, digest) = self.put_manifest(name, version, &manifest).await;
        assert_eq!(status, StatusCode::CREATED);
        (digest, serde_json::to_vec(&manifest).unwrap().len() as u64)
    }
}

fn http_client() -> Client {
    // The image crate installs the TLS that every client of this process uses.
    let _ = pondrix_image::registry::Registry::new("127.0.0.1:1", &Registries::default());
    Client::new()
}

fn descriptor(kind: &str, bytes: &[u8]) -> Descriptor {
    Descriptor {
        media_type: kind.to_owned(),
        digest: digest_of(bytes),
        size: bytes.len() as u64,
        platform: None,
        annotations: BTreeMap::new(),
        artifact_type: None,
    }
}

struct Layer {
    blob: Vec<u8>,
    diff_id: Digest,
}

enum Compression {
    Gzip,
    Zstd,
    /// With a frame in front that is to be skipped.
    ZstdBehindAnother,
    Plain,
}

/// A layer with these files; a name that ends with a slash is a folder.
fn layer(files: &[(&str, &str)], compression: &Compression) -> Layer {
    let mut archive = tar::Builder::new(Vec::new());
    for (name, text) in files {
        let mut header = tar::Header::new_gnu();
        header.set_mode(if name.ends_with('/') { 0o755 } else { 0o644 });
        header.set_entry_type(if name.ends_with('/') { tar::EntryType::Directory } else { tar::EntryType::Regular });
        header.set_size(text.len() as u64);
        header.set_mtime(0);
        archive.append_data(&mut header, name, text.as_bytes()).unwrap();
    }
    let plain = archive.into_inner().unwrap();
    let diff_id = digest_of(&plain);
    let blob = match compression {
        Compression::Gzip => {
            let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            gzip.write_all(&plain).unwrap();
            gzip.finish().unwrap()
        }
        Compression::Zstd => zstd::encode_all(&plain[..], 3).unwrap(),
        Compression::ZstdBehindAnother => {
            let skipped = [&[0x5a, 0x2a, 0x4d, 0x18, 3, 0, 0, 0][..], b"odd"].concat();
            [skipped, zstd::encode_all(&plain[..], 3).unwrap()].concat()
        }
        Compression::Plain => plain,
    };
    Layer { blob, diff_id }
}

fn image(text: &str) -> Reference {
    format!("pond.test/{text}").parse().unwrap()
}

/// An image's files, for whoever has a store alone.
fn files_of<'a>(image: &'a Reference, platform: &'a Platform) -> Pull<'a> {
    Pull { image, platform, wanted: Wanted::Files, project: None }
}

#[tokio::test]
async fn a_blob_is_uploaded_in_pieces_and_a_piece_out_of_order_is_refused() {
    let place = Place::new().await;
    let begun = place.ask(Method::POST, "/v2/a/b/blobs/uploads/", Vec::new()).await;
    assert_eq!(begun.status(), StatusCode::ACCEPTED);
    let location = begun.headers()["location"].to_str().unwrap().to_owned();
    let patch = async |range: &str, bytes: &[u8]| {
        let request = place.http.patch(format!("{}{location}", place.url)).header("content-range", range);
        request.body(bytes.to_vec()).send().await.unwrap()
    };
    let first = patch("0-4", b"lilie").await;
    assert_eq!((first.status(), first.headers()["range"].to_str().unwrap()), (StatusCode::ACCEPTED, "0-4"));
    assert_eq!(patch("9-12", b"late").await.status(), StatusCode::RANGE_NOT_SATISFIABLE);
    assert_eq!(patch("5-5", b"s").await.status(), StatusCode::ACCEPTED);
    let status = place.ask(Method::GET, &location, Vec::new()).await;
    assert_eq!((status.status(), status.headers()["range"].to_str().unwrap()), (StatusCode::NO_CONTENT, "0-5"));
    let digest = digest_of(b"lilies");
    let ended = place.ask(Method::PUT, &format!("{location}?digest={digest}"), Vec::new()).await;
    assert_eq!(ended.status(), StatusCode::CREATED);
    let back = place.ask(Method::GET, &format!("/v2/a/b/blobs/{digest}"), Vec::new()).await;
    assert_eq!(back.bytes().await.unwrap().as_ref(), b"lilies");
    assert_eq!(place.ask(Method::GET, &location, Vec::new()).await.status(), StatusCode::NOT_FOUND, "it is over");
}

#[tokio::test]
async fn bytes_under_another_digest_are_refused_and_forgotten() {
    let place = Place::new().await;
    let wrong = digest_of(b"other");
    let path = format!("/v2/a/blobs/uploads/?digest={wrong}");
    let answer = place.ask(Method::POST, &path, b"bytes".to_vec()).await;
    assert_eq!(answer.status(), StatusCode::BAD_REQUEST);
    let told: Value = answer.json().await.unwrap();
    assert_eq!(told["errors"][0]["code"], "DIGEST_INVALID");
    let head = place.ask(Method::HEAD, &format!("/v2/a/blobs/{wrong}"), Vec::new()).await;
    assert_eq!(head.status(), StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn a_blob_is_mounted_from_another_repository_and_unknown_ones_begin_an_upload() {
    let place = Place::new().await;
    let blob = place.put_blob("one", b"shared").await;
    let mount = |digest: &Digest| format!("/v2/two/blobs/uploads/?mount={digest}&from=one");
    let mounted = place.ask(Method::POST, &mount(&blob.digest), Vec::new()).await;
    assert_eq!(mounted.status(), StatusCode::CREATED);
    let head = place.ask(Method::HEAD, &format!("/v2/two/blobs/{}", blob.digest), Vec::new()).await;
    assert_eq!(head.headers()["content-length"], "6");
    let unknown = place.ask(Method::POST, &mount(&digest_of(b"unknown")), Vec::new()).await;
    assert_eq!(unknown.status(), StatusCode::ACCEPTED);
}

#[tokio::test]
async fn tags_are_listed_in_pages() {
    let place = Place::new().await;
    for tag in ["c", "a", "b"] {
        place.put_image("pond", tag, "amd64", &[]).await;
    }
    let list = async |query: &str| -> Value {
        place.ask(Method::GET, &format!("/v2/pond/tags/list{query}"), Vec::new()).await.json().await.unwrap()
    };
    assert_eq!(list("").await, json!({ "name": "pond", "tags": ["a", "b", "c"] }));
    assert_eq!(list("?n=2").await["tags"], json!(["a", "b"]));
    assert_eq!(list("?n=2&last=b").await["tags"], json!(["c"]));
    assert_eq!(place.ask(Method::GET, "/v2/none/tags/list", Vec::new()).await.status(), StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn a_manifest_that_names_a_missing_blob_or_another_digest_is_refused() {
    let place = Place::new().await;
    let missing = descriptor(media::LAYER_GZIP, b"never sent");
    let manifest = json!({ "schemaVersion": 2, "config": missing, "layers": [] });
    let (status, digest) = place.put_manifest("pond", "1", &manifest).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    assert!(place.registry.tags("pond").is_empty());
    let other = digest_of(b"x").to_string();
    assert_eq!(place.put_manifest("pond", &other, &json!({})).await.0, StatusCode::BAD_REQUEST);
    let head = place.ask(Method::HEAD, &format!("/v2/pond/manifests/{digest}"), Vec::new()).await;
    assert_eq!(head.status(), StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn an_image_is_pulled_through_an_index_for_this_machine_with_layers_of_every_compression() {
    let place = Place::new().await;
    let layers = [
        layer(
            &[("etc/", ""), ("etc/old", "old"), ("etc/kept", "kept"), ("var/", ""), ("var/a", "a")],
            &Compression::Gzip,
        ),
        layer(&[("etc/.wh.old", ""), ("etc/new", "new")], &Compression::Zstd),
        layer(&[("srv/", "")], &Compression::ZstdBehindAnother),
        layer(&[("var/", ""), ("var/.wh..wh..opq", ""), ("var/b", "b")], &Compression::Plain),
    ];
    let here = pondrix_image::Platform::here();
    let (own, own_size) = place.put_image("base", "own", &here.architecture, &layers).await;
    let (foreign, foreign_size) = place.put_image("base", "foreign", "pond64", &[]).await;
    let entry = |digest: &Digest, size: u64, architecture: &str| {
        json!({ "mediaType": media::MANIFEST, "digest": digest,
        "size": size, "platform": { "architecture": architecture, "os": "linux" } })
    };
    let index = json!({ "schemaVersion": 2, "mediaType": media::INDEX,
        "manifests": [entry(&foreign, foreign_size, "pond64"), entry(&own, own_size, &here.architecture)] });
    assert_eq!(place.put_manifest("base", "1", &index).await.0, StatusCode::CREATED);

    let store = place.store("store");
    let told = std::sync::Mutex::new(Vec::new());
    let tell = |now: Pulling| told.lock().unwrap().push(now);
    let pulled = pull_and_tell(files_of(&image("base:1"), &here), &place.registries, &store, &tell).await.unwrap();
    // From nothing to everything, never back, in bytes and in layers.
    let all = std::mem::take(&mut *told.lock().unwrap());
    let bytes: u64 = pulled.manifest.layers.iter().map(|layer| layer.size).sum();
    let layers = pulled.manifest.layers.len();
    let at = |layers_here, bytes_here| Pulling { layers, layers_here, bytes, bytes_here };
    assert_eq!((all.first(), all.last()), (Some(&at(0, 0)), Some(&at(layers, bytes))));
    assert!(all.is_sorted_by_key(|now| (now.bytes_here, now.layers_here)), "{all:?}");
    pull_and_tell(files_of(&image("base:1"), &here), &place.registries, &store, &tell).await.unwrap();
    assert_eq!(*told.lock().unwrap(), [], "nothing was missing");
    assert_eq!(pulled.digest, own);
    assert_eq!(pulled.config.config.variables()["POND"], "lily");
    let folders = store.layers(&pulled).unwrap();
    assert_eq!(std::fs::read_to_string(folders[0].join("etc/old")).unwrap(), "old");
    assert_eq!(std::fs::read_to_string(folders[1].join("etc/new")).unwrap(), "new");
    assert!(std::fs::symlink_metadata(folders[1].join("etc/old")).unwrap().file_type().is_char_device());

    // By digest it is not asked for again, even when the registry is gone.
    place.stop.cancel();
    let by_digest: Reference = format!("pond.test/base@{own}").parse().unwrap();
    assert_eq!(pull(&by_digest, &place.registries, &store).await.unwrap().digest, own);
}

use std::os::unix::fs::FileTypeExt;

#[tokio::test]
async fn an_index_without_this_machine_says_what_there_is() {
    let place = Place::new().await;
    let (foreign, size) = place.put_image("base", "foreign", "pond64", &[]).await;
    let index = json!({ "schemaVersion": 2, "manifests": [{ "mediaType": media::MANIFEST, "digest": foreign, "size": size,
        "platform": { "architecture": "pond64", "os": "linux" } }] });
    place.put_manifest("base", "1", &index).await;
    let error = pull(&image("base:1"), &place.registries, &place.store("store")).await.unwrap_err();
    assert!(
        matches!(error, RegistryError::Platform { .. }) && error.to_string().contains("it has linux/pond64"),
        "{error}"
    );
}

#[tokio::test]
async fn nothing_of_a_registry_that_gives_wrong_bytes_enters_the_store() {
    let place = Place::new().await;
    let layers = [layer(&[("a", "a")], &Compression::Gzip)];
    let (digest, _) = place.put_image("base", "1", "amd64", &layers).await;
    place.registry.behave(Behaviour::GivesWrongBlobs);
    let store = place.store("store");
    let error = pull(&image("base:1"), &place.registries, &store).await.unwrap_err();
    assert!(matches!(error, RegistryError::WrongDigest { .. }), "{error}");
    assert!(!store.has_blob(&digest) && !store.has_blob(&digest_of(&layers[0].blob)));
    place.registry.behave(Behaviour::Good);
    assert!(pull(&image("base:1"), &place.registries, &store).await.is_ok(), "and it is no harm afterwards");
}

#[tokio::test]
async fn a_layer_that_is_not_what_its_configuration_says_is_refused() {
    let place = Place::new().await;
    let mut wrong = layer(&[("a", "a")], &Compression::Gzip);
    wrong.diff_id = digest_of(b"something else");
    place.put_image("base", "1", "amd64", &[wrong]).await;
    let store = place.store("store");
    let pulled = pull(&image("base:1"), &place.registries, &store).await.unwrap();
    let error = store.layers(&pulled).unwrap_err();
    assert!(matches!(error, pondrix_image::StoreError::WrongDigest { .. }), "{error}");
}

#[tokio::test]
async fn what_is_not_there_or_makes_no_sense_is_told_so() {
    let place = Place::new().await;
    let store = place.store("store");
    let error = pull(&image("none:1"), &place.registries, &store).await.unwrap_err();
    assert_eq!(error.to_string(), "the registry pond.test refused to give none: 404 there is no 1");
    place.ask(Method::PUT, "/v2/odd/manifests/1", b"{\"config\":{}}".to_vec()).await;
    let config = place.put_blob("odd", b"{}").await;
    let odd = json!({ "schemaVersion": 2, "config": config, "layers": [] });
    place.put_manifest("odd", "1", &odd).await;
    let error = pull(&image("odd:1"), &place.registries, &store).await.unwrap_err();
    assert!(error.to_string().contains("the image's configuration is not what it should be"), "{error}");
}

/// Builds a recipe over a context.
async fn built(place: &Place, store: &Store, context: &[(&str, &str)], recipe: &str) -> Built {
    built_with(place, store, context, recipe, pondrix_image::Compression::Gzip).await
}

async fn built_with(
    place: &Place,
    store: &Store,
    context: &[(&str, &str)],
    recipe: &str,
    compression: pondrix_image::Compression,
) -> Built {
    let scratch = place.folder.path().to_owned();
    let folder = tempfile::tempdir_in(&scratch).unwrap();
    for (name, text) in context {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    let input = BuildInput { compression, ..BuildInput::new(Recipe::read(recipe).unwrap(), folder.path(), &scratch) };
    let outside = Alone {
        registries: place.registries.clone(),
        store: store.clone(),
        launcher: Launcher::new(),
        handle: tokio::runtime::Handle::current(),
        log: std::fs::File::options().write(true).open("/dev/null").unwrap(),
        halted: false.into(),
    };
    let store = store.clone();
    tokio::task::spawn_blocking(move || build(&input, &store, &outside).unwrap()).await.unwrap()
}

#[tokio::test]
async fn what_is_built_is_pushed_pulled_and_unpacked_as_it_was_and_lower_layers_are_shared() {
    let place = Place::new().await;
    let store = place.store("builder");
    let repository = |name: &str| -> Repository { format!("pond.test/{name}").parse().unwrap() };
    let base = built(&place, &store, &[("etc/motd", "hello\n")], "FROM scratch\nCOPY etc /etc\nENV A=1").await;
    let (base_name, app_name) = (repository("base"), repository("app"));
    let moving = ["1".parse().unwrap()];
    let request = PushRequest { image: &base.image, repository: &base_name, tags: &[], moving: &moving, base: None };
    let pushed = push(&request, &place.registries, &store).await.unwrap();
    assert_eq!((pushed.sent, pushed.there), (2, 0));
    let again = push(&request, &place.registries, &store).await.unwrap();
    assert_eq!((again.sent, again.there), (0, 2), "what is there is not sent again");

    let recipe = "FROM pond.test/base:1\nCOPY page /srv/page\nCMD [\"x\"]";
    let app = built(&place, &store, &[("page", "lilies\n")], recipe).await;
    assert_eq!(app.base_layers, 1);
    let request =
        PushRequest { image: &app.image, repository: &app_name, tags: &moving, moving: &[], base: Some(&base_name) };
    let pushed = push(&request, &place.registries, &store).await.unwrap();
    assert_eq!((pushed.sent, pushed.there), (2, 1), "the base's layer is mounted");

    let other = place.store("runner");
    let pulled = pull(&image("app:1"), &place.registries, &other).await.unwrap();
    assert_eq!(pulled.digest, app.image.digest);
    let annotations = &pulled.manifest.annotations;
    assert_eq!(annotations["org.opencontainers.image.base.name"], "pond.test/base:1");
    assert_eq!(annotations["org.opencontainers.image.base.digest"], base.image.digest.to_string());
    let folders = other.layers(&pulled).unwrap();
    assert_eq!(std::fs::read_to_string(folders[0].join("etc/motd")).unwrap(), "hello\n");
    assert_eq!(std::fs::read_to_string(folders[1].join("srv/page")).unwrap(), "lilies\n");
    assert_eq!(pulled.config.config.command(), ["x"]);
    assert_eq!(pulled.config.config.variables()["A"], "1");
}

#[tokio::test]
async fn a_tag_that_is_pushed_once_is_never_moved_and_a_moving_one_is() {
    let place = Place::new().await;
    let store = place.store("builder");
    let repository: Repository = "pond.test/app".parse().unwrap();
    let one = built(&place, &store, &[("f", "1")], "FROM scratch\nCOPY f /f").await;
    let two = built(&place, &store, &[("f", "2")], "FROM scratch\nCOPY f /f").await;
    let (once, moving) = (["v1".parse().unwrap()], ["edge".parse().unwrap()]);
    let request = |image| PushRequest { image, repository: &repository, tags: &once, moving: &moving, base: None };
    push(&request(&one.image), &place.registries, &store).await.unwrap();
    push(&request(&one.image), &place.registries, &store).await.expect("the same image may come again");
    let error = push(&request(&two.image), &place.registries, &store).await.unwrap_err();
    assert!(matches!(error, RegistryError::TagTaken { .. }), "{error}");
    let tags = place.registry.tags("app");
    assert_eq!((&tags["v1"], &tags["edge"]), (&one.image.digest, &one.image.digest), "neither was moved");
    let only_moving = PushRequest { tags: &[], ..request(&two.image) };
    push(&only_moving, &place.registries, &store).await.unwrap();
    assert_eq!(place.registry.tags("app")["edge"], two.image.digest);
}

#[test]
fn documents_of_images_read_back_as_they_were_written() {
    let manifest = json!({ "schemaVersion": 2, "mediaType": media::MANIFEST,
        "config": descriptor(media::CONFIG, b"c"), "layers": [descriptor(media::LAYER_GZIP, b"l")],
        "annotations": { "a": "b" } });
    let read: Manifest = serde_json::from_value(manifest.clone()).unwrap();
    assert_eq!(serde_json::to_value(&read).unwrap(), manifest);
    let config = json!({ "created": "2026-01-01T00:00:00Z", "architecture": "amd64", "os": "linux",
        "config": { "User": "web", "ExposedPorts": { "80/tcp": {} }, "Env": ["A=1"], "Entrypoint": ["a"], "Cmd": ["b"],
                    "WorkingDir": "/srv", "Labels": { "l": "1" } },
        "rootfs": { "type": "layers", "diff_ids": [digest_of(b"l")] },
        "history": [{ "created_by": "COPY", "created": "2026-01-01T00:00:00Z" }, { "created_by": "ENV", "empty_layer": true }] });
    let read: Config = serde_json::from_value(config.clone()).unwrap();
    assert_eq!(serde_json::to_value(&read).unwrap(), config);
}
