//! Recipes, each with what it makes: every file of `tests/recipes`.
//!
//! A file has parts, each under a line `=== WORD …`: `recipe`, `file PATH [MODE]`, `link PATH TARGET`,
//! `archive PATH` (a tar of the lines `NAME TEXT`), `ignore`, `target NAME`, `arg NAME=VALUE`,
//! `secret NAME VALUE`, and last `image` or `fault` with what comes of it. `PONDRIX_UPDATE=1` writes the last
//! part anew.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use pondrix_core::image::Registries;
use pondrix_core::pipeline::Fault;
use pondrix_image::build::{Alone, BuildError, BuildInput, Built, Secret, build};
use pondrix_image::recipe::{Ignore, Recipe};
use pondrix_image::{Compression, Config, Store, layer};
use pondrix_sandbox::{IdMap, Launcher};
use pondrix_standin::garden::REGISTRY;
use pondrix_standin::registry::Registry;
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;

use crate::support::{PONDRIX, listener, push_bases};

/// A case, by its parts.
pub(crate) struct Case {
    name: String,
    parts: Vec<(String, String)>,
}

impl Case {
    pub(crate) fn read(path: &Path) -> Self {
        let text = fs::read_to_string(path).unwrap();
        let mut parts: Vec<(String, String)> = Vec::new();
        for line in text.split_inclusive('\n') {
            match line.strip_prefix("=== ") {
                Some(head) => parts.push((head.trim().to_owned(), String::new())),
                None => parts.last_mut().unwrap_or_else(|| panic!("{path:?} begins without a part")).1.push_str(line),
            }
        }
        Self { name: path.file_stem().unwrap().to_str().unwrap().to_owned(), parts }
    }

    fn of<'a>(&'a self, word: &'a str) -> impl Iterator<Item = (Vec<&'a str>, &'a str)> {
        let parts = self.parts.iter().map(|(head, body)| (head.split(' ').collect::<Vec<_>>(), body.as_str()));
        parts.filter(move |(head, _)| head[0] == word).map(|(head, body)| (head[1..].to_vec(), body))
    }

    /// Writes the context's files, which belong to root inside as a commit's do.
    fn write(&self, folder: &Path, ids: IdMap) {
        let place = |name: &str| {
            let path = folder.join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            path
        };
        for (head, body) in self.of("file") {
            let last = head.last().and_then(|word| u32::from_str_radix(word, 8).ok());
            let name = if last.is_some() { &head[..head.len() - 1] } else { &head[..] };
            let path = place(&name.join(" "));
            fs::write(&path, body).unwrap();
            fs::set_permissions(&path, PermissionsExt::from_mode(last.unwrap_or(0o644))).unwrap();
        }
        for (head, _) in self.of("link") {
            symlink(head[1], place(head[0])).unwrap();
        }
        for (head, body) in self.of("archive") {
            let mut tar = tar::Builder::new(Vec::new());
            for line in body.lines() {
                let (name, text) = line.split_once(' ').unwrap();
                let mut header = tar::Header::new_gnu();
                header.set_size(text.len() as u64);
                header.set_mode(0o640);
                header.set_uid(7);
                header.set_gid(8);
                header.set_mtime(1_000_000_000);
                tar.append_data(&mut header, name, text.as_bytes()).unwrap();
            }
            let plain = tar.into_inner().unwrap();
            let bytes = match head[0].rsplit('.').next().unwrap() {
                "gz" => {
                    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                    gzip.write_all(&plain).unwrap();
                    gzip.finish().unwrap()
                }
                "zst" => zstd::encode_all(&plain[..], 3).unwrap(),
                _ => plain,
            };
            fs::write(place(head[0]), bytes).unwrap();
        }
        let mut waiting = vec![folder.to_owned()];
        while let Some(path) = waiting.pop() {
            ids.give(&path, 0, 0).unwrap();
            if fs::symlink_metadata(&path).unwrap().is_dir() {
                waiting.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            }
        }
    }
}

/// Where cases are built.
pub(crate) struct Place {
    registries: Registries,
    pub(crate) folder: PathBuf,
    handle: Handle,
}

impl Place {
    /// Builds a case in a folder of its own, with nothing known from before; answers what it made, and its log.
    fn build(&self, case: &Case, round: usize) -> (Result<(Built, Store), Vec<Fault>>, String) {
        let folder = self.folder.join(format!("{}-{round}", case.name));
        self.build_in(&folder, case, |_| ())
    }

    /// Builds a case in a folder, where what was built there before is known.
    pub(crate) fn build_in(
        &self,
        folder: &Path,
        case: &Case,
        change: impl FnOnce(&mut BuildInput),
    ) -> (Result<(Built, Store), Vec<Fault>>, String) {
        let (context, scratch) = (folder.join("context"), folder.join("scratch"));
        fs::create_dir_all(&context).unwrap();
        fs::create_dir_all(&scratch).unwrap();
        let launcher = Launcher::with_helper(PONDRIX);
        case.write(&context, launcher.ids());
        let store = Store::open(&folder.join("store"), launcher.ids()).unwrap();
        let (_, text) = case.of("recipe").next().unwrap();
        let recipe = match Recipe::read(text) {
            Ok(recipe) => recipe,
            Err(faults) => return (Err(faults), String::new()),
        };
        let pair = |head: Vec<&str>| {
            let joined = head.join(" ");
            joined.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned())).unwrap()
        };
        let mut input = BuildInput {
            target: case.of("target").next().map(|(head, _)| head[0].to_owned()),
            ignore: case.of("ignore").next().map_or(Ignore::default(), |(_, rules)| Ignore::read(rules).unwrap()),
            args: case.of("arg").map(|(head, _)| pair(head)).collect(),
            secrets: case
                .of("secret")
                .map(|(head, _)| (head[0].to_owned(), Secret(head[1].as_bytes().to_vec())))
                .collect(),
            annotations: BTreeMap::from([("org.opencontainers.image.version".to_owned(), "7".to_owned())]),
            moment: 1_700_000_000,
            ..BuildInput::new(recipe, &context, &scratch)
        };
        change(&mut input);
        let log = fs::File::options().create(true).append(true).open(folder.join("log")).unwrap();
        let outside = Alone {
            registries: self.registries.clone(),
            store: store.clone(),
            launcher,
            handle: self.handle.clone(),
            log,
            halted: false.into(),
        };
        let built = match build(&input, &store, &outside) {
            Ok(built) => Ok((built, store)),
            Err(BuildError::Recipe(faults)) => Err(faults),
            Err(other) => panic!("{}: {other}", case.name),
        };
        (built, fs::read_to_string(folder.join("log")).unwrap())
    }
}

/// An image's configuration and the files above its base, for people.
fn told(built: &Built, store: &Store) -> String {
    let mut told = String::new();
    let Config { config, author, .. } = &built.image.config;
    let mut say = |what: &str, value: Option<String>| {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            let _ = writeln!(told, "{what}: {value}");
        }
    };
    let list = |list: &Option<Vec<String>>| list.as_ref().map(|list| serde_json::to_string(list).unwrap());
    let keys = |map: &Option<BTreeMap<String, serde_json::Value>>| {
        map.as_ref().map(|map| map.keys().cloned().collect::<Vec<_>>().join(" "))
    };
    say("author", author.clone());
    say("user", Some(config.user.clone()));
    say("folder", Some(config.working_dir.clone()));
    say("env", list(&config.env));
    say("entrypoint", list(&config.entrypoint));
    say("cmd", list(&config.cmd));
    say("shell", list(&config.shell));
    say("ports", keys(&config.exposed_ports));
    say("volumes", keys(&config.volumes));
    say("stop", config.stop_signal.clone());
    say("health", config.healthcheck.as_ref().map(|health| serde_json::to_string(health).unwrap()));
    say("on build", list(&config.on_build));
    // The base has the machine's busybox in it.
    let own = |(key, _): &(&String, &String)| !key.ends_with("base.digest") && !key.ends_with("title");
    let labels: BTreeMap<_, _> = config.labels.iter().flatten().filter(own).collect();
    say("labels", Some(serde_json::to_string(&labels).unwrap()));
    say("layers", Some(format!("{} and the base's", built.image.manifest.layers.len() - built.base_layers)));
    for blob in &built.image.manifest.layers[built.base_layers..] {
        let file = fs::File::open(store.blob_path(&blob.digest)).unwrap();
        let mut archive = tar::Archive::new(layer::decompressed(file).unwrap());
        let _ = writeln!(told, "--");
        for entry in archive.entries().unwrap() {
            let mut entry = entry.unwrap();
            let header = entry.header().clone();
            let (kind, path) = (header.entry_type(), entry.path().unwrap().display().to_string());
            let mode = header.mode().unwrap();
            let owner = format!("{}:{}", header.uid().unwrap(), header.gid().unwrap());
            let time = match header.mtime().unwrap() {
                946_684_800 => String::new(),
                other => format!(" at {other}"),
            };
            let link = entry.link_name().unwrap().map(|link| link.display().to_string()).unwrap_or_default();
            let _ = if kind.is_dir() {
                writeln!(told, "{path}/ {mode:o} {owner}{time}")
            } else if kind.is_symlink() {
                writeln!(told, "{path} -> {link} {owner}{time}")
            } else if kind.is_hard_link() {
                writeln!(told, "{path} = {link}")
            } else {
                let mut text = Vec::new();
                entry.read_to_end(&mut text).unwrap();
                match std::str::from_utf8(&text) {
                    Ok(text) => writeln!(told, "{path} {mode:o} {owner}{time} {text:?}"),
                    Err(_) => writeln!(told, "{path} {mode:o} {owner}{time} (no text)"),
                }
            };
        }
    }
    told
}

/// What comes of a case: the word of its last part, and its text.
fn outcome(place: &Place, case: &Case) -> (&'static str, String) {
    let (first, log) = place.build(case, 1);
    match first {
        Ok((built, store)) => {
            // Another folder, another store, another moment of the clock: the same bytes.
            let (again, _) = place.build(case, 2);
            let (again, _) = again.unwrap();
            assert_eq!(again.image.digest, built.image.digest, "{}: built again it is another image", case.name);
            ("image", told(&built, &store))
        }
        Err(faults) => {
            let shown: String = faults.iter().map(|fault| fault.render("image.recipe")).collect();
            let said: String = log
                .lines()
                .filter(|line| !line.starts_with("image.recipe:") && !line.contains("> "))
                .map(|line| format!("{line}\n"))
                .collect();
            ("fault", if said.is_empty() { shown } else { format!("{shown}-- said\n{said}") })
        }
    }
}

/// A place whose bases are in a registry, which serves until it is told to stop.
pub(crate) async fn place(folder: &Path) -> (Place, CancellationToken) {
    let registry = Registry::new(&folder.join("registry")).unwrap();
    let at = listener().await;
    let registries = Registries::at([(REGISTRY, format!("http://{}", at.local_addr().unwrap()))]);
    let stop = CancellationToken::new();
    tokio::spawn(Arc::clone(&registry).serve(at, stop.clone()));
    push_bases(&registries, &Launcher::with_helper(PONDRIX)).await;
    (Place { registries, folder: folder.to_owned(), handle: Handle::current() }, stop)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_recipe_of_the_folder_makes_what_it_says_and_always_the_same_bytes() {
    let folder = tempfile::tempdir().unwrap();
    let (place, stop) = place(folder.path()).await;
    let failures = tokio::task::spawn_blocking(move || {
        let cases = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/recipes");
        let mut paths: Vec<_> = fs::read_dir(&cases).unwrap().map(|entry| entry.unwrap().path()).collect();
        paths.sort();
        assert!(paths.len() >= 40, "there are {} cases only", paths.len());
        let next = AtomicUsize::new(0);
        let work = || {
            let mut failures = Vec::new();
            while let Some(path) = paths.get(next.fetch_add(1, Ordering::Relaxed)) {
                let case = Case::read(path);
                let (word, found) = outcome(&place, &case);
                let (head, expected) = case.parts.last().unwrap();
                if (head.as_str(), expected.as_str()) != (word, found.as_str()) {
                    if std::env::var_os("PONDRIX_UPDATE").is_some() {
                        let is_outcome = |(head, _): &&(String, String)| head != "image" && head != "fault";
                        let kept =
                            case.parts.iter().filter(is_outcome).map(|(head, body)| format!("=== {head}\n{body}"));
                        fs::write(path, kept.collect::<String>() + &format!("=== {word}\n{found}")).unwrap();
                    }
                    failures.push(format!("{}: expected {head}\n{expected}\nfound {word}\n{found}", case.name));
                }
            }
            failures
        };
        std::thread::scope(|scope| {
            let other = scope.spawn(work);
            let own = work();
            own.into_iter().chain(other.join().unwrap()).collect::<Vec<_>>()
        })
    });
    let failures = failures.await.unwrap();
    stop.cancel();
    assert!(failures.is_empty(), "{}", failures.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_built_before_in_another_form_or_with_another_key_makes_no_other_image() {
    let folder = tempfile::tempdir().unwrap();
    let (place, stop) = place(folder.path()).await;
    let agent = folder.path().join("agent");
    let _listener = std::os::unix::net::UnixListener::bind(&agent).unwrap();
    let file = folder.path().join("forms.txt");
    let recipe = format!(
        "=== recipe\nFROM {REGISTRY}/base/shell:1\nCOPY rose /rose\nRUN --mount=type=ssh,required=false (ls /run || true) > /seen\n\
         === file rose\nred\n=== image\n"
    );
    fs::write(&file, recipe).unwrap();
    let digests = tokio::task::spawn_blocking(move || {
        let case = Case::read(&file);
        let forms: [&dyn Fn(&mut BuildInput); 4] = [
            &|_| (),
            &|input| input.compression = Compression::Zstd,
            &|input| drop(input.agents.insert("default".to_owned(), agent.clone())),
            &|_| (),
        ];
        let build = |folder: &Path, form: &dyn Fn(&mut BuildInput)| {
            let (built, log) = place.build_in(folder, &case, form);
            built.unwrap_or_else(|_| panic!("{log}")).0
        };
        let shared = place.folder.join("shared");
        let of_form = |(number, form): (usize, &&dyn Fn(&mut BuildInput))| {
            let fresh = build(&place.folder.join(format!("fresh-{number}")), *form);
            let known = build(&shared, *form);
            assert_eq!(known.image.digest, fresh.image.digest, "form {number}");
            assert_eq!(fresh.known, 0);
            (fresh.image.digest.to_string(), known.known)
        };
        forms.iter().enumerate().map(of_form).collect::<Vec<_>>()
    });
    let digests = digests.await.unwrap();
    stop.cancel();
    let known: Vec<_> = digests.iter().map(|(_, known)| *known).collect();
    assert_eq!(known, [0, 0, 1, 2], "each form is made once; what has no key in it is known");
    assert_eq!(digests[0], (digests[3].0.clone(), 0));
    assert!(digests[0].0 != digests[1].0 && digests[0].0 != digests[2].0);
}
