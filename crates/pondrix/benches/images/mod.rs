//! Images: building, pushing and pulling, against tar, gzip and curl.

pub(super) mod many;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use pondrix_core::image::{Reference, Registries, Repository};
use pondrix_image::build::{Alone, BuildInput, build};
use pondrix_image::recipe::Recipe;
use pondrix_image::registry::{Pull, PushRequest, Registry, Wanted, pull_and_tell, push};
use pondrix_image::{Platform, Store};
use pondrix_sandbox::{IdMap, Launcher};
use serde_json::{Value, json};
use tokio::runtime::Handle;

use super::support::{PONDRIX, family};
use super::{measure_of, median};

/// The word that makes this program build, or pull, and end.
pub(super) const CHILD_WORD: &str = "--image-child";
/// The recipe: what changes seldom first.
const RECIPE: &str = "FROM scratch\nCOPY large /large\nCOPY small /small\nCOPY last /last\n";
/// That of an image of one layer.
const BASE_RECIPE: &str = "FROM scratch\nCOPY . /\n";
/// How many files a distribution's base has.
const BASE_FILES: u64 = 8_700;
const HOST: &str = "bench.test";

/// The part of this program that runs as a process of its own, so that its memory can be told: it builds an image of
/// this name, or `pull`s it.
pub(super) async fn child(arguments: &[String]) {
    let [what, image, registry, folder, context] = arguments else { panic!("{arguments:?}") };
    let registries = Registries::at([(HOST, registry.clone())]);
    let store = Store::open(&Path::new(folder).join("store"), IdMap::for_this_process()).unwrap();
    let name: Repository = format!("{HOST}/{image}").parse().unwrap();
    // A runner has its client from earlier jobs.
    Registry::new(HOST, &registries).unwrap();
    let since = Instant::now();
    if what == "pull" {
        let image: Reference = format!("{name}:1").parse().unwrap();
        let pull = Pull { image: &image, platform: &Platform::here(), wanted: Wanted::Files, project: None };
        let pulled = pull_and_tell(pull, &registries, &store, &|_| ()).await;
        store.layers(&pulled.unwrap()).unwrap();
    } else {
        let recipe = if image == "base" { BASE_RECIPE } else { RECIPE };
        let mut input = BuildInput::new(Recipe::read(recipe).unwrap(), Path::new(context), Path::new(folder));
        // As for a runner, which keeps the files of projects.
        input.seen = Some(Path::new(folder).join("seen"));
        let outside = Alone {
            registries: registries.clone(),
            store: store.clone(),
            launcher: Launcher::with_helper(PONDRIX),
            handle: Handle::current(),
            log: fs::File::create(Path::new(folder).join("log")).unwrap(),
            halted: false.into(),
        };
        let builder = store.clone();
        let built = tokio::task::spawn_blocking(move || build(&input, &builder, &outside).unwrap()).await.unwrap();
        let moving = ["1".parse().unwrap()];
        let request = PushRequest { image: &built.image, repository: &name, tags: &[], moving: &moving, base: None };
        push(&request, &registries, &store).await.unwrap();
    }
    println!("{} {}", since.elapsed().as_micros(), peak_of("self"));
}

/// The most memory that a process had resident so far, in KiB (proc(5), `VmHWM`).
fn peak_of(process: &str) -> u64 {
    let status = fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok()).unwrap_or(0)
}

/// What something took: time, and memory at most, in KiB.
struct Cost {
    time: Duration,
    peak: u64,
}

/// Has the disk take what waits for it, so that nobody is measured with what another wrote.
fn nothing_to_write() {
    assert!(Command::new("sync").status().unwrap().success());
}

fn ours(what: &str, image: &str, registry: &str, folder: &Path, context: &Path) -> Cost {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args([CHILD_WORD, what, image, registry]).arg(folder).arg(context).stderr(Stdio::inherit());
    nothing_to_write();
    let output = command.output().unwrap();
    assert!(output.status.success());
    let said = String::from_utf8(output.stdout).unwrap();
    let (time, peak) = said.trim().split_once(' ').unwrap();
    Cost { time: Duration::from_micros(time.parse().unwrap()), peak: peak.parse().unwrap() }
}

/// Runs a line of a shell; of its memory is told what all its processes had at most together.
fn shell(line: &str) -> Cost {
    nothing_to_write();
    let since = Instant::now();
    let mut child = Command::new("bash").args(["-ceo", "pipefail", line]).spawn().unwrap();
    let mut peaks = std::collections::BTreeMap::new();
    loop {
        let ended = child.try_wait().unwrap();
        for (process, _) in family(child.id()) {
            let peak = peaks.entry(process).or_insert(0);
            *peak = peak_of(&process.to_string()).max(*peak);
        }
        match ended {
            Some(status) => {
                assert!(status.success(), "{line}");
                return Cost { time: since.elapsed(), peak: peaks.values().sum() };
            }
            None => std::thread::sleep(Duration::from_millis(10)),
        }
    }
}

/// Some 500 MB: six large files that compress a little, twenty thousand small ones that compress well.
fn context(folder: &Path) -> u64 {
    let mut state = 4711_u64;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    let mut total = 0;
    let mut write = |path: PathBuf, bytes: &[u8]| {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
        total += bytes.len() as u64;
    };
    for file in 0..6 {
        // Half of the bits of each byte are by chance.
        let bytes: Vec<u8> = (0..(50 << 20) / 8).flat_map(|_| (next() & 0x0f0f_7f7f_0f0f_7f7f).to_le_bytes()).collect();
        write(folder.join(format!("large/{file}")), &bytes);
    }
    let words = ["lily", "pond", "fern", "moss", "the", "of", "bed", "label", "warden", "seed"];
    for file in 0..20_000 {
        let mut text = String::new();
        while text.len() < 10_000 {
            let number = next();
            text += words[usize::try_from(number % 10).unwrap()];
            text += &format!(" {} ", number >> 50);
        }
        write(folder.join(format!("small/{}/{file}.txt", file % 100)), text.as_bytes());
    }
    write(folder.join("last/note.txt"), b"one\n");
    total
}

struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The reference registry server, with its storage in a folder.
fn registry(folder: &Path, port: u16) -> Server {
    let settings = format!(
        "version: 0.1\nlog:\n  level: error\nstorage:\n  filesystem:\n    rootdirectory: {}\nhttp:\n  addr: 127.0.0.1:{port}\n",
        folder.join("storage").display()
    );
    fs::write(folder.join("settings.yaml"), settings).unwrap();
    let mut command = Command::new("docker-registry");
    command.arg("serve").arg(folder.join("settings.yaml")).stdout(Stdio::null()).stderr(Stdio::null());
    let server = Server(command.spawn().expect("docker-registry is there: scripts/setup installs it"));
    while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
        std::thread::sleep(Duration::from_millis(20));
    }
    server
}

/// Files as a distribution's base has them: most of some kilobytes, few of more, in a tenth as many folders; some
/// 120 MB, which become a third of that.
fn base(folder: &Path) {
    let words = ["lily", "pond", "fern", "moss", "the", "of", "bed", "label", "warden", "seed"];
    let mut state = 99_u64;
    for file in 0..BASE_FILES {
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            state >> 33
        };
        let length = 250_usize << (next() % 9);
        let mut text = String::new();
        while text.len() < length {
            let number = next();
            text += words[usize::try_from(number % 10).unwrap()];
            text += &format!(" {} ", number >> 17);
        }
        let path = folder.join(format!("usr/share/{}/{file}", file % (BASE_FILES / 10)));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
}

/// A folder for what is measured.
fn place() -> tempfile::TempDir {
    // Not in /tmp, which may be in memory and small.
    let target = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target");
    fs::create_dir_all(&target).unwrap();
    tempfile::tempdir_in(target).unwrap()
}

/// All measures of images that need no server.
pub(super) async fn measures() -> Vec<Value> {
    let place = place();
    tokio::task::spawn_blocking(move || of_one_machine(place.path())).await.unwrap()
}

fn of_one_machine(place: &Path) -> Vec<Value> {
    let folder = |name: &str| {
        let folder = place.join(name);
        fs::create_dir_all(&folder).unwrap();
        folder
    };
    let context_folder = folder("context");
    let total = context(&context_folder);
    println!("  the context has {} MB", total / 1_000_000);
    let port = 28_050;
    let _server = registry(&folder("registry"), port);
    let url = format!("http://127.0.0.1:{port}");
    let upload = |file: &Path, name: &str| {
        format!(
            "place=$(curl -sS -D - -o /dev/null -X POST {url}/v2/{name}/blobs/uploads/ | tr -d '\\r' | sed -n 's/^Location: //p'); \
             digest=$(sha256sum {file} | cut -d' ' -f1); \
             curl -sS -f -o /dev/null -X PUT -H 'Content-Type: application/octet-stream' -T {file} \"$place&digest=sha256:$digest\"",
            file = file.display()
        )
    };
    let archive = folder("bare").join("context.tar.gz");
    // Both find the context in memory.
    shell(&format!("find {} -type f -exec cat {{}} + > /dev/null", context_folder.display()));
    let bare = shell(&format!(
        "tar -C {} -cf - . | gzip -6 > {}; {}",
        context_folder.display(),
        archive.display(),
        upload(&archive, "bare")
    ));
    let cold = ours("build", "bench", &url, &folder("ours"), &context_folder);
    let mut all = vec![
        measure_of("image of 500 MB, cold, built and pushed", "s", cold.time, bare.time, 0.25),
        memory("memory of that", cold.peak, bare.peak),
    ];
    let known: Vec<Duration> =
        (0..5).map(|_| ours("build", "bench", &url, &folder("ours"), &context_folder).time).collect();
    all.push(measure_of("image, nothing changed", "ms", median(known), Duration::from_millis(100), 1.0));
    let changed: Vec<Duration> = (0..5)
        .map(|round| {
            fs::write(context_folder.join("last/note.txt"), format!("{round}\n")).unwrap();
            ours("build", "bench", &url, &folder("ours"), &context_folder).time
        })
        .collect();
    all.push(measure_of("image, one small file changed", "s", median(changed), cold.time, 0.1));
    // What is pulled is what was pushed: its layers, one after the other, are the bare work.
    let store = place.join("ours/store");
    let pulled = |image: &str, store: &Path, context: &Path| {
        let layers = layers_of(store);
        let size: u64 = layers.iter().map(|(_, size)| size).sum();
        println!("  the image has {} MB in {} layers", size / 1_000_000, layers.len());
        let unpacked = folder(&format!("unpacked-{image}"));
        let fetch = |(digest, _): &(String, u64)| {
            format!("curl -sS -f {url}/v2/{image}/blobs/{digest} | gunzip | tar -x -C {}", unpacked.display())
        };
        let bare = shell(&layers.iter().map(fetch).collect::<Vec<_>>().join("; "));
        (ours("pull", image, &url, &folder(&format!("pulled-{image}")), context), bare)
    };
    let (cost, bare) = pulled("bench", &store, &context_folder);
    all.push(measure_of("image pulled and unpacked", "s", cost.time, bare.time, 0.5));
    all.push(memory("memory of that", cost.peak, bare.peak));
    let base_folder = folder("base");
    base(&base_folder);
    ours("build", "base", &url, &folder("ours-base"), &base_folder);
    let (cost, bare) = pulled("base", &place.join("ours-base/store"), &base_folder);
    all.push(measure_of("base of 8,700 files pulled and unpacked", "ms", cost.time, bare.time, 0.8));
    all
}

fn memory(name: &str, ours: u64, bare: u64) -> Value {
    let (ours, bare) = (ours as f64 / 1024.0, bare as f64 / 1024.0);
    println!("{name}: {ours:.0} MiB, bare {bare:.0} MiB (bar 200 MiB)");
    json!({ "name": name, "unit": "MiB", "ours": ours, "bare": bare, "ratio": ours / 200.0, "bar": 1.0 })
}

/// The layers of the newest image in a store.
fn layers_of(store: &Path) -> Vec<(String, u64)> {
    let blobs = fs::read_dir(store.join("blobs")).unwrap().map(|entry| entry.unwrap().path());
    let small = blobs.filter(|path| fs::metadata(path).unwrap().len() < 1 << 20);
    let manifest = |path: &PathBuf| {
        let document: Value = serde_json::from_slice(&fs::read(path).ok()?).ok()?;
        document["layers"].is_array().then_some((fs::metadata(path).ok()?.modified().ok()?, document))
    };
    let mut all: Vec<_> = small.filter_map(|path| manifest(&path)).collect();
    all.sort_by_key(|(made, _)| *made);
    let (_, newest) = all.pop().unwrap();
    let layer = |layer: &Value| (layer["digest"].as_str().unwrap().to_owned(), layer["size"].as_u64().unwrap());
    newest["layers"].as_array().unwrap().iter().map(layer).collect()
}
