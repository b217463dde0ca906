use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Barrier;

use std::time::{Duration, SystemTime};

use super::*;
use crate::Descriptor;
use crate::oci::media;

fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), IdMap::for_this_process()).unwrap();
    (folder, store)
}

/// A layer with one file, compressed: its blob, and the digest of its plain bytes.
fn layer_of(store: &Store, text: &str) -> (Descriptor, Digest) {
    let mut archive = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(text.len() as u64);
    header.set_mode(0o644);
    archive.append_data(&mut header, "lily", text.as_bytes()).unwrap();
    let plain = archive.into_inner().unwrap();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(&plain).unwrap();
    let bytes = gzip.finish().unwrap();
    let blob = Descriptor {
        media_type: media::LAYER_GZIP.to_owned(),
        digest: store.add_blob(&bytes).unwrap(),
        size: bytes.len() as u64,
        platform: None,
        annotations: BTreeMap::new(),
        artifact_type: None,
    };
    (blob, digest_of(&plain))
}

fn is_empty(folder: &Path) -> bool {
    fs::read_dir(folder).unwrap().next().is_none()
}

#[test]
fn content_that_changed_on_the_disk_is_not_believed() {
    let (_folder, store) = store();
    let digest = store.add_blob(b"lily").unwrap();
    assert_eq!(store.read_blob(&digest).unwrap(), b"lily");
    assert_eq!(store.add_blob(b"lily").unwrap(), digest, "once is enough");
    fs::write(store.blob_path(&digest), "weed").unwrap();
    let error = store.read_blob(&digest).unwrap_err().to_string();
    assert_eq!(error, format!("content that should be {digest} is {}", digest_of(b"weed")));
}

#[test]
fn a_layer_that_is_not_what_it_is_said_to_be_leaves_nothing_behind() {
    let (folder, store) = store();
    let (blob, diff_id) = layer_of(&store, "lily");
    let other = digest_of(b"another");
    assert!(matches!(store.unpack_layer(&blob, &other), Err(StoreError::WrongDigest { .. })));
    let whole = fs::read(store.blob_path(&blob.digest)).unwrap();
    for damaged in [&whole[..whole.len() - 4], &whole[..20], b"", b"no layer at all, and longer than a name"] {
        fs::write(store.blob_path(&blob.digest), damaged).unwrap();
        assert!(store.unpack_layer(&blob, &diff_id).is_err());
    }
    fs::remove_file(store.blob_path(&blob.digest)).unwrap();
    assert!(store.unpack_layer(&blob, &diff_id).unwrap_err().to_string().contains("could not open"));
    assert!(is_empty(&folder.path().join("layers")) && is_empty(&folder.path().join("unfinished")));
    fs::write(store.blob_path(&blob.digest), &whole).unwrap();
    store.unpack_layer(&blob, &diff_id).unwrap();
    assert_eq!(fs::read_to_string(store.layer_path(&diff_id).join("lily")).unwrap(), "lily");
}

#[test]
fn a_layer_that_many_want_at_once_is_there_once() {
    let (folder, store) = store();
    let (blob, diff_id) = layer_of(&store, &"lily".repeat(100_000));
    let begin = Barrier::new(8);
    std::thread::scope(|scope| {
        let unpack = || {
            begin.wait();
            store.unpack_layer(&blob, &diff_id)
        };
        let all: Vec<_> = (0..8).map(|_| scope.spawn(unpack)).collect();
        assert!(all.into_iter().all(|one| one.join().unwrap().is_ok()));
    });
    assert_eq!(fs::read_dir(folder.path().join("layers")).unwrap().count(), 1);
    assert!(is_empty(&folder.path().join("unfinished")));
    assert_eq!(fs::metadata(store.layer_path(&diff_id).join("lily")).unwrap().len(), 400_000);
}

#[test]
fn an_image_is_there_when_all_that_it_names_is() {
    let (_folder, store) = store();
    let (blob, diff_id) = layer_of(&store, "lily");
    let mut config = Config::empty(&crate::Platform::here());
    config.rootfs.diff_ids.push(diff_id.clone());
    let config_bytes = serde_json::to_vec(&config).unwrap();
    let described = Descriptor {
        media_type: media::CONFIG.to_owned(),
        digest: digest_of(&config_bytes),
        size: config_bytes.len() as u64,
        ..blob.clone()
    };
    let document = serde_json::json!({ "schemaVersion": 2, "config": described, "layers": [blob] });
    let manifest = store.add_blob(&serde_json::to_vec(&document).unwrap()).unwrap();
    assert!(store.image(&manifest).is_err(), "its configuration is not there");
    store.add_blob(&config_bytes).unwrap();
    let image = store.image(&manifest).unwrap();
    assert_eq!(store.layers(&image).unwrap(), [store.layer_path(&diff_id)]);
    let nonsense = store.add_blob(b"[]").unwrap();
    let error = store.image(&nonsense).unwrap_err().to_string();
    assert!(error.starts_with("the manifest is not what it should be: "), "{error}");
}

#[test]
fn records_that_nobody_asks_for_are_forgotten_and_those_in_use_stay() {
    let ((_folder, store), realm) = (store(), Realm::default());
    let keys = [digest_of(b"RUN true"), digest_of(b"RUN false")];
    let long_ago = SystemTime::now() - Duration::from_secs(1000);
    for key in &keys {
        store.remember(&realm, key, &Remembered { layer: None }).unwrap();
        File::options()
            .append(true)
            .open(store.step_path(&realm.own_name(key)))
            .unwrap()
            .set_modified(long_ago)
            .unwrap();
    }
    assert!(store.remembered(&realm, &keys[0]).is_some());
    assert_eq!(store.forget_records(Duration::from_secs(500)).unwrap(), 1);
    assert!(store.remembered(&realm, &keys[0]).is_some() && store.remembered(&realm, &keys[1]).is_none());
}

#[test]
fn what_an_instruction_made_is_known_as_long_as_its_layer_is_there() {
    let ((_folder, store), realm) = (store(), Realm::default());
    let (key, other) = (digest_of(b"RUN true"), digest_of(b"RUN false"));
    assert_eq!(store.remembered(&realm, &key), None);
    let (blob, diff_id) = layer_of(&store, "lily");
    let made = Remembered { layer: Some((blob.clone(), diff_id)) };
    store.remember(&realm, &key, &made).unwrap();
    store.remember(&realm, &other, &Remembered { layer: None }).unwrap();
    assert_eq!(
        (store.remembered(&realm, &key), store.remembered(&realm, &other)),
        (Some(made), Some(Remembered { layer: None }))
    );
    fs::remove_file(store.blob_path(&blob.digest)).unwrap();
    assert_eq!(store.remembered(&realm, &key), None);
    assert!(store.remembered(&realm, &other).is_some(), "nothing is always there");
    fs::write(store.step_path(&realm.own_name(&other)), "{").unwrap();
    assert_eq!(store.remembered(&realm, &other), None, "and what does not parse is not known");
}

#[test]
fn what_is_not_trusted_is_taken_by_nobody_else_and_what_is_by_all_of_its_project() {
    let (_folder, store) = store();
    let project = |name: &str| name.parse::<pondrix_core::ProjectName>().unwrap();
    let realms =
        ["seed-bank", "plant-labels"].map(|name| [true, false].map(|trusted| Realm::of(&project(name), trusted)));
    let realms: Vec<_> = realms.into_iter().flatten().collect();
    // Who may take what was left where.
    let takes = [
        [true, true, false, false],
        [false, true, false, false],
        [false, false, true, true],
        [false, false, false, true],
    ];
    for (from, wanted) in realms.iter().zip(takes) {
        let key = digest_of(format!("{from:?}").as_bytes());
        store.remember(from, &key, &Remembered { layer: None }).unwrap();
        let found: Vec<_> = realms.iter().map(|realm| store.remembered(realm, &key).is_some()).collect();
        assert_eq!(found, wanted, "{from:?}");
    }
}
