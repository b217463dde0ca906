//! Damaged recipes, ignore files, layers, documents and package databases: each is read or refused, quickly, and nothing
//! breaks. A few of them, always the same, in every test; others for as long as `make fuzz` is told to.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use pondrix_core::image::{Digest, packages};
use pondrix_image::recipe::{Ignore, Recipe};
use pondrix_image::{Config, Descriptor, Image, Index, Manifest, Platform, Store, digest_of, layer, media};
use pondrix_sandbox::IdMap;

/// How many damaged things are tried of each kind where no time is said.
const FEW: u64 = 150;
/// How long one may take on a busy machine.
const PATIENCE: Duration = Duration::from_secs(60);

/// Numbers that look like chance, and come again with the same seed (xorshift64*).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    fn below(&mut self, most: usize) -> usize {
        usize::try_from(self.next() % most.max(1) as u64).unwrap()
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }
}

/// Damages a sample in some ways, with words that mean something to who reads it.
fn damaged(chance: &mut Chance, samples: &[Vec<u8>], words: &[&str]) -> Vec<u8> {
    let mut bytes = chance.of(samples).clone();
    for _ in 0..=chance.below(8) {
        let at = chance.below(bytes.len() + 1);
        let end = (at + chance.below(64)).min(bytes.len());
        match chance.below(9) {
            0 if at < bytes.len() => bytes[at] ^= 1 << chance.below(8),
            1 if at < bytes.len() => {
                bytes[at] = *chance.of(&[0, 0xff, 0x7f, 0x80, b'0', b'9', b'/', b'\n', b'$', b'"'])
            }
            2 => drop(bytes.splice(at..at, chance.of(words).bytes())),
            3 => drop(bytes.drain(at..end)),
            4 => {
                let piece = bytes[at..end].to_vec();
                drop(bytes.splice(at..at, piece));
            }
            5 => {
                let other = chance.of(samples);
                let from = chance.below(other.len() + 1);
                let piece = other[from..(from + chance.below(200)).min(other.len())].to_vec();
                drop(bytes.splice(at..end, piece));
            }
            6 => bytes.truncate(at),
            7 => drop(bytes.splice(at..end, chance.next().to_string().bytes())),
            _ => drop(bytes.splice(at..end, chance.next().to_be_bytes())),
        }
    }
    bytes
}

/// Tries damaged samples on something, a few or for as long as is said, and tells how many those were.
fn tried(name: &str, samples: Vec<Vec<u8>>, words: &[&'static str], read: impl Fn(&[u8]) + Send + 'static) {
    let number = |name| std::env::var(name).ok().map(|text: String| text.parse::<u64>().unwrap());
    let time = number("PONDRIX_FUZZ_SECONDS").map(Duration::from_secs);
    let mut chance = Chance(number("PONDRIX_FUZZ_SEED").unwrap_or(20_261_125) | 1);
    let (give, given) = mpsc::channel::<Vec<u8>>();
    let (told, answers) = mpsc::channel();
    let reader = std::thread::spawn(move || {
        for bytes in given {
            read(&bytes);
            told.send(()).unwrap();
        }
    });
    let (begun, mut count, mut slowest) = (Instant::now(), 0, Duration::ZERO);
    while time.map_or(count < FEW, |time| begun.elapsed() < time) {
        // What is not damaged is read first.
        let bytes = match samples.get(usize::try_from(count).unwrap()) {
            Some(sample) => sample.clone(),
            None => damaged(&mut chance, &samples, words),
        };
        let from = Instant::now();
        give.send(bytes.clone()).unwrap();
        if answers.recv_timeout(PATIENCE).is_err() {
            let kept = std::env::temp_dir().join(format!("pondrix-fuzz-{name}-{count}"));
            std::fs::write(&kept, &bytes).unwrap();
            panic!("{name}: number {count} broke it, or took too long; it is in {}", kept.display());
        }
        slowest = slowest.max(from.elapsed());
        count += 1;
    }
    drop(give);
    reader.join().unwrap();
    println!("{name}: {count} tried in {:?}, the slowest took {slowest:?}", begun.elapsed());
}

/// The recipes, and the ignore files, of the cases that are built.
fn cases(section: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../pondrix/tests/recipes");
    let mut names: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    let sections = names.iter().flat_map(|name| {
        let text = std::fs::read_to_string(name).unwrap();
        let parts = text.split("=== ").filter_map(|part| part.split_once('\n'));
        let wanted = parts.filter(|(head, _)| head.split_whitespace().next() == Some(section));
        wanted.map(|(_, body)| body.as_bytes().to_vec()).collect::<Vec<_>>()
    });
    sections.collect()
}

#[test]
fn a_damaged_recipe_is_read_or_refused_with_a_place_in_it() {
    let words = [
        "FROM ",
        "COPY ",
        "RUN ",
        "ADD ",
        "ARG ",
        "--mount=type=",
        "--from=",
        "<<E\n",
        "\\\n",
        "${A:-",
        "}",
        "[\"",
        "# escape=`\n",
        "ONBUILD ",
        "HEALTHCHECK ",
        "AS ",
        "\u{feff}",
        "%%",
        "//",
        "\u{1f331}",
    ];
    tried("recipe", cases("recipe"), &words, |bytes| {
        let text = String::from_utf8_lossy(bytes);
        for fault in Recipe::read(&text).err().into_iter().flatten() {
            assert!(fault.place.line <= text.lines().count().max(1), "{fault:?}");
            drop(fault.render("image.recipe"));
        }
        if let Ok(recipe) = Recipe::read(&text) {
            assert!(recipe.declared().len() <= text.len());
            assert!(recipe.stage_named("one", recipe.stages.len()).is_none_or(|stage| stage < recipe.stages.len()));
        }
        for line in text.lines() {
            drop(Recipe::read_trigger(line));
        }
    });
}

#[test]
fn a_damaged_ignore_file_is_read_or_refused_and_answers_for_every_path() {
    let words = ["!", "**", "*", "/", "[a-", "]", "\\", "{a,b}", "?", "#", "\r\n", "..", "\u{feff}", "\u{1f331}"];
    tried("ignore", cases("ignore"), &words, |bytes| {
        let text = String::from_utf8_lossy(bytes);
        let Ok(ignore) = Ignore::read(&text) else { return };
        for path in ["a", "a/b", "", ".", "a b/c.d", "a/../b", "\u{1f331}/x"] {
            assert!(ignore.left_out_by(Path::new(path)).is_none_or(|line| line <= text.lines().count()));
        }
    });
}

/// Archives of several kinds, plain and compressed.
fn archives() -> Vec<Vec<u8>> {
    let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let files = [
        "layer/samples/holes-0.0.tar",
        "layer/samples/holes-0.1.tar",
        "layer/samples/holes-1.0.tar",
        "layer/samples/holes-gnu.tar",
        "build/samples/beds.tar.gz",
        "build/samples/beds.tar.zst",
    ];
    let mut all: Vec<_> = files.iter().map(|name| std::fs::read(samples.join(name)).unwrap()).collect();
    let mut archive = tar::Builder::new(Vec::new());
    for (name, kind, link) in [
        ("a/", tar::EntryType::Directory, ""),
        ("a/f", tar::EntryType::Regular, ""),
        ("a/l", tar::EntryType::Symlink, "../b"),
        ("a/h", tar::EntryType::Link, "a/f"),
        ("b/.wh.c", tar::EntryType::Regular, ""),
        ("b/.wh..wh..opq", tar::EntryType::Regular, ""),
        ("p", tar::EntryType::Fifo, ""),
        ("a/l/x", tar::EntryType::Regular, ""),
    ] {
        archive.append_pax_extensions([("SCHILY.xattr.user.pond", &b"lily"[..])]).unwrap();
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o755);
        header.set_size(0);
        if link.is_empty() {
            archive.append_data(&mut header, name, std::io::empty()).unwrap();
        } else {
            archive.append_link(&mut header, name, link).unwrap();
        }
    }
    all.push(archive.into_inner().unwrap());
    all
}

#[test]
fn a_damaged_layer_is_unpacked_or_refused_and_nothing_outside_it_is_touched() {
    let words =
        ["../", "/", ".wh.", ".wh..wh..opq", "a/l/", "ustar", "0000644\0", "17 path=../evil\n", "GNU.sparse.map="];
    let folder = tempfile::tempdir().unwrap();
    let place = folder.path().to_owned();
    tried("layer", archives(), &words, move |bytes| {
        let Ok(plain) = layer::decompressed(Cursor::new(bytes.to_vec())) else { return };
        let root = place.join("layer");
        // A few bytes may unpack to any number of them: that is bounded where layers come from.
        let plain = std::io::Read::take(plain, 16 << 20);
        drop(layer::unpack(plain, &root, IdMap::for_this_process()));
        let names: Vec<_> = std::fs::read_dir(&place).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        assert!(names.iter().all(|name| name == "layer"), "{names:?}");
        if root.exists() {
            pondrix_files::remove(&root).unwrap();
        }
    });
}

#[test]
fn a_damaged_document_is_read_or_refused_and_what_is_read_is_written_as_it_was() {
    let digest = digest_of(b"lily");
    let part =
        serde_json::json!({ "mediaType": media::LAYER_GZIP, "digest": digest, "size": 5, "annotations": { "a": "b" } });
    let samples = [
        serde_json::json!({ "schemaVersion": 2, "mediaType": media::MANIFEST, "config": part, "layers": [part, part], "subject": part }),
        serde_json::json!({ "schemaVersion": 2, "manifests": [{ "mediaType": media::MANIFEST, "digest": digest, "size": 7,
            "platform": { "architecture": "arm64", "os": "linux", "variant": "v8" } }] }),
        serde_json::json!({ "architecture": "amd64", "os": "linux", "rootfs": { "type": "layers", "diff_ids": [digest] },
            "config": { "Env": ["A=b"], "Cmd": ["sh"], "Labels": { "a": "b" }, "Healthcheck": { "Test": ["NONE"], "Interval": 5 } },
            "history": [{ "created_by": "RUN", "empty_layer": true }] }),
    ];
    let samples = samples.iter().map(|sample| sample.to_string().into_bytes()).collect();
    let words = ["null", "\"layers\":", "[", "{", "sha256:", "-1", "1e99", "\\u0000", "\"size\":18446744073709551616"];
    fn same<T: serde::de::DeserializeOwned + serde::Serialize + PartialEq + std::fmt::Debug>(bytes: &[u8]) {
        if let Ok(read) = serde_json::from_slice::<T>(bytes) {
            let written = serde_json::to_vec(&read).unwrap();
            assert_eq!(serde_json::from_slice::<T>(&written).unwrap(), read);
        }
    }
    tried("document", samples, &words, |bytes| {
        same::<Manifest>(bytes);
        same::<Index>(bytes);
        same::<Config>(bytes);
        drop(String::from_utf8_lossy(bytes).parse::<Platform>());
    });
}

/// An image of one layer with this file.
fn image_with(store: &Store, path: &str, bytes: &[u8]) -> Image {
    let mut archive = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_mode(0o755);
    header.set_size(bytes.len() as u64);
    archive.append_data(&mut header, path, bytes).unwrap();
    let plain = archive.into_inner().unwrap();
    let digest: Digest = store.add_blob(&plain).unwrap();
    let part = Descriptor {
        media_type: media::LAYER.to_owned(),
        digest: digest.clone(),
        size: plain.len() as u64,
        platform: None,
        annotations: [].into(),
        artifact_type: None,
    };
    let mut config = Config::empty(&Platform::here());
    config.rootfs.diff_ids.push(digest.clone());
    let manifest = Manifest {
        schema_version: 2,
        media_type: None,
        artifact_type: None,
        config: part.clone(),
        layers: vec![part],
        subject: None,
        annotations: [].into(),
    };
    Image { digest, manifest, config }
}

#[test]
fn a_damaged_package_database_names_packages_or_none() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/inventory/samples");
    let mut samples: Vec<Vec<u8>> = vec![
        b"Package: moss\nStatus: install ok installed\nVersion: 1\nLicense: MIT\n\nPackage: fern\n".to_vec(),
        b"P:moss\nV:1\nL:MIT\n\nP:fern\nV:2\n".to_vec(),
        b"Metadata-Version: 2.1\nName: moss\nVersion: 1\nLicense: MIT\n\nText\n".to_vec(),
        br#"{"name":"moss","version":"1","license":{"type":"MIT"}}"#.to_vec(),
        b"[[package]]\nname = \"moss\"\nversion = \"1\"\n".to_vec(),
        br#"{"packages":[{"name":"moss","version":"1","source":"crates.io","dependencies":[0]}]}"#.to_vec(),
    ];
    let mut names: Vec<PathBuf> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    samples.extend(names.iter().map(|name| {
        let bytes = std::fs::read(name).unwrap();
        if name.extension().is_some_and(|kind| kind == "zst") { zstd::decode_all(&bytes[..]).unwrap() } else { bytes }
    }));
    let words =
        ["\n\n", "Package: ", "Version: ", "SQLite format 3\0", "\u{8e}\u{ad}", "name", "\0\0\0\u{1}", "[[package]]\n"];
    let place = tempfile::tempdir().unwrap();
    let at = place.path().to_owned();
    tried("packages", samples, &words, move |bytes| {
        let text = String::from_utf8_lossy(bytes);
        drop(packages::debian(&text));
        drop(packages::alpine(&text));
        drop(packages::python(&text));
        drop(packages::npm(&text));
        drop(packages::cargo_lock(&text));
        drop(packages::cargo_program(bytes));
        drop(packages::rpm_header(bytes));
        let folder = at.join("store");
        let store = Store::open(&folder, IdMap::for_this_process()).unwrap();
        let store = store.inspected_by(std::sync::Arc::new(pondrix_image::inventory::InspectorHere));
        for path in
            ["usr/lib/sysimage/rpm/rpmdb.sqlite", "var/lib/rpm/Packages", "var/lib/rpm/Packages.db", "bin/program"]
        {
            drop(store.packages(&image_with(&store, path, bytes)).unwrap());
        }
        std::fs::remove_dir_all(&folder).unwrap();
    });
    drop(place);
}
