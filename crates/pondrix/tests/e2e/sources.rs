//! The files of commits, as jobs get them: all at first, then what changed.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::time::SystemTime;

use pondrix_image::{Manifest, layer};
use pondrix_standin::garden::{REGISTRY, Repository};

use crate::support::{World, one_job};

/// What is at each path: a folder, a link, or a file that may be a program.
type Tree = BTreeMap<String, String>;

/// The files of a checkout.
fn checked_out(folder: &Path) -> Tree {
    let mut tree = Tree::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(path) = waiting.pop() {
        for entry in fs::read_dir(&path).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(folder).unwrap().to_str().unwrap().to_owned();
            let data = fs::symlink_metadata(&path).unwrap();
            if name == ".git" {
                continue;
            }
            let what = if data.is_symlink() {
                format!("to {}", fs::read_link(&path).unwrap().display())
            } else if data.is_dir() {
                waiting.push(path);
                "folder".to_owned()
            } else {
                let program = if data.permissions().mode() & 0o100 == 0 { "file" } else { "program" };
                format!("{program} {}", fs::read_to_string(&path).unwrap())
            };
            tree.insert(name, what);
        }
    }
    tree
}

/// The files of the only layer of an image.
fn built(world: &World, tag: &str) -> Tree {
    built_at(world, tag).into_iter().map(|(path, (what, _))| (path, what)).collect()
}

/// The same, with the time of each, in seconds since 1970.
fn built_at(world: &World, tag: &str) -> BTreeMap<String, (String, u64)> {
    let blob = |hex: &str| world.folder.path().join("registry/blobs").join(hex);
    let digest = world.registry.tags("garden/labels")[tag].clone();
    let manifest: Manifest = serde_json::from_slice(&fs::read(blob(digest.hex())).unwrap()).unwrap();
    let [layer] = &manifest.layers[..] else { panic!("{:?}", manifest.layers) };
    let plain = layer::decompressed(fs::File::open(blob(layer.digest.hex())).unwrap()).unwrap();
    let mut tree = BTreeMap::new();
    for entry in tar::Archive::new(plain).entries().unwrap() {
        let mut entry = entry.unwrap();
        let name = entry.path().unwrap().to_str().unwrap().trim_end_matches('/').to_owned();
        let kind = entry.header().entry_type();
        let what = if kind.is_symlink() {
            format!("to {}", entry.link_name().unwrap().unwrap().display())
        } else if kind.is_dir() {
            "folder".to_owned()
        } else {
            let program = if entry.header().mode().unwrap() & 0o100 == 0 { "file" } else { "program" };
            let mut text = String::new();
            std::io::Read::read_to_string(&mut entry, &mut text).unwrap();
            format!("{program} {text}")
        };
        tree.insert(name, (what, entry.header().mtime().unwrap()));
    }
    tree
}

/// This moment, in seconds since 1970.
fn now() -> u64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs()
}

/// When a file was changed last, on the way back by first parents.
fn changed_at(repository: &Repository, path: &str) -> u64 {
    let path = format!(":(literal){path}");
    let log = ["log", "-1", "--no-patch", "--first-parent", "--format=%ct", "HEAD", "--", &path];
    repository.git(&log).unwrap().parse().unwrap()
}

/// Makes a commit of what stands in the checkout, has it built, and compares. Answers the job's log.
async fn compared(world: &World, repository: &Repository, what: &str) -> String {
    let commit = repository.push(what).unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(built(world, &commit[..12]), checked_out(repository.folder()), "{what}");
    for (path, (kind, time)) in built_at(world, &commit[..12]).iter().filter(|(_, (kind, _))| kind != "folder") {
        assert_eq!(*time, changed_at(repository, path), "{what}: {path}, a {kind}");
    }
    world.log(&run, "package/labels").await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_has_a_commits_files_fetches_what_changed_and_builds_from_the_same_files_as_a_checkout_has() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    // Some of the commits are of a clock that is ahead.
    repository.set_clock(now() - 700);
    repository.write("image.recipe", "FROM scratch\nCOPY . /\n").unwrap();
    repository.write("pondrix.kdl", &images(&[("labels", "")])).unwrap();
    let folder = repository.folder().to_owned();
    let write = |path: &str, text: &str| repository.write(path, text).unwrap();
    for path in ["file", "beds/north/lily", "beds/south/fern", "turns/into-a-file", "program"] {
        write(path, path);
    }
    symlink("beds/north", folder.join("way")).unwrap();
    let log = compared(&world, &repository, "Everything").await;
    assert!(!log.contains("are kept here"), "{log}");

    write("file", "other");
    write("beds/north/lily", "lilies");
    let log = compared(&world, &repository, "Two files are other").await;
    assert!(log.contains("are kept here: 2 changed since, 0 removed"), "{log}");

    repository.remove("beds/north/lily").unwrap();
    fs::remove_dir(folder.join("beds/north")).unwrap();
    let log = compared(&world, &repository, "A folder went, and a link leads nowhere").await;
    assert!(log.contains("are kept here: 0 changed since, 1 removed"), "{log}");

    repository.remove("file").unwrap();
    write("file/is/a/folder", "now");
    fs::remove_dir_all(folder.join("turns")).unwrap();
    write("turns", "a file");
    repository.remove("way").unwrap();
    write("way", "no link any more");
    repository.remove("beds/south/fern").unwrap();
    symlink("../../way", folder.join("beds/south/fern")).unwrap();
    fs::set_permissions(folder.join("program"), fs::Permissions::from_mode(0o755)).unwrap();
    compared(&world, &repository, "Everything is of another kind").await;

    // Names that git would take for patterns, options, or its own words.
    for name in ["*.txt", "[ab]", ":(exclude)way", "--output=x", "with space", "ünï", ":top", "!not", "#", "q\"uote"]
    {
        write(name, name);
    }
    compared(&world, &repository, "Odd names").await;
    write("[ab]", "once more");
    repository.remove("*.txt").unwrap();
    let log = compared(&world, &repository, "Only these").await;
    assert!(log.contains("are kept here: 1 changed since, 1 removed"), "{log}");

    // Somebody took a file away that the runner has to take away now: it fetches all of them.
    let kept = world.folder.path().join("server/runner-1/sources/plant-labels/files");
    fs::remove_file(kept.join("with space")).unwrap();
    repository.remove("with space").unwrap();
    let log = compared(&world, &repository, "What is not here cannot be removed").await;
    assert!(!log.contains("are kept here"), "{log}");

    // A branch changed a file and changed it back: the merge changed nothing, and the file is as old as it was. Another
    // one changed a file, which the merge did for those who come this way.
    let before = repository.git(&["rev-parse", "HEAD"]).unwrap();
    for (branch, texts) in [("back", vec!["side", "other name"]), ("kept", vec!["side"])] {
        repository.git(&["checkout", "--quiet", "-b", branch, &before]).unwrap();
        for text in texts {
            write("[ab]", text);
            repository.git(&["commit", "--quiet", "--all", "--message", "On a branch"]).unwrap();
        }
        repository.git(&["checkout", "--quiet", "main"]).unwrap();
        repository.git(&["merge", "--quiet", "--no-ff", "--no-edit", "-X", "theirs", branch]).unwrap();
        compared(&world, &repository, &format!("Merged {branch}")).await;
    }

    repository.git(&["commit", "--quiet", "--allow-empty", "--message", "Nothing"]).unwrap();
    let log = compared(&world, &repository, "Nothing at all").await;
    assert!(log.contains("are kept here: 0 changed since, 0 removed"), "{log}");
    assert!(log.contains("1 of 1 steps from cache"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_a_repository_leaves_out_of_its_archives_are_there_as_in_a_checkout() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write(".gitattributes", "tests export-ignore\nversion export-subst\n*.bat eol=crlf\n").unwrap();
    repository.write("tests/lily.sh", "echo lily is tested\n").unwrap();
    repository.write("version", "$Format:%H$\n").unwrap();
    repository.write("lily.bat", "lily\n").unwrap();
    let steps = "step \"sh tests/lily.sh\"\n step \"cat version\"\n step \"od -c lily.bat\"";
    repository.write("pondrix.kdl", &one_job(steps)).unwrap();
    let run = world.run_of("plant-labels", &repository.push("With attributes").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("lily is tested") && log.contains("$Format:%H$"), "{log}");
    assert!(log.contains("y  \\r  \\n"), "line ends are those of a checkout: {log}");
}

/// A pipeline with these images of the recipe, each with more lines in its braces.
fn images(images: &[(&str, &str)]) -> String {
    let image = |(name, more): &(&str, &str)| {
        format!(" image \"{name}\" {{ {more}\n push \"{REGISTRY}/garden/{name}\" {{ tag \"{{commit.short}}\" }} }}\n")
    };
    let images: String = images.iter().map(image).collect();
    format!("start commit=\"main\"\nstage \"package\" {{\n{images}}}\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_only_tried_do_not_get_among_those_of_commits() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", "FROM scratch\nCOPY . /\n").unwrap();
    repository.write("pondrix.kdl", &images(&[("labels", "")])).unwrap();
    repository.write("beds/lily", "lily").unwrap();
    repository.write("beds/moss", "moss").unwrap();
    repository.set_clock(now() - 5000);
    compared(&world, &repository, "Committed").await;
    repository.write("beds/lily", "not committed").unwrap();
    let before = now();
    repository.write("new", "not committed").unwrap();
    let mut command = std::process::Command::new(crate::support::PONDRIX);
    command.arg("try").current_dir(repository.folder());
    command.env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", &world.token);
    let tried = crate::support::said(command).await;
    assert_eq!(tried.status, 0, "{}{}", tried.out, tried.err);
    let tags = world.registry.tags("garden/labels");
    let tag = tags.keys().find(|tag| tag.starts_with("try-2-")).expect("it was pushed");
    assert_eq!(built(&world, tag), checked_out(repository.folder()), "what stands in the folder is tried");
    let times: BTreeMap<_, _> = built_at(&world, tag).into_iter().map(|(path, (_, time))| (path, time)).collect();
    for changed in ["beds/lily", "new"] {
        assert!((before..=now()).contains(&times[changed]), "{changed} is newer than all that was built before");
    }
    assert_eq!(times["beds/moss"], changed_at(&repository, "beds/moss"), "and what is not changed is as old as it is");
    repository.git(&["checkout", "--quiet", "beds/lily"]).unwrap();
    repository.remove("new").unwrap();
    repository.write("beds/fern", "fern").unwrap();
    let log = compared(&world, &repository, "Committed again").await;
    assert!(log.contains("are kept here: 1 changed since, 0 removed"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn images_of_one_commit_are_built_from_the_same_files_while_another_commit_gets_its_own() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    // Each build of the first commit goes on until both are under way: the network of the machine is not theirs, but
    // what the test writes into a cache is.
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1\nARG NAME\nCOPY beds /beds\nRUN --mount=type=cache,target=/meet echo here > /meet/$NAME && \
         until test -e /meet/one -a -e /meet/two; do sleep 0.05; done\n"
    );
    repository.write("image.recipe", &recipe).unwrap();
    let pipeline = images(&[("one", "arg NAME=\"one\""), ("two", "arg NAME=\"two\"")]);
    repository.write("pondrix.kdl", &pipeline).unwrap();
    repository.write("beds/lily", "lily").unwrap();
    let commit = repository.push("Two at once").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    repository.write("beds/lily", "lilies").unwrap();
    let commit = repository.push("And two more").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    let logs = [world.log(&run, "package/one").await, world.log(&run, "package/two").await];
    // The one that comes second finds them brought up to date already, or, while that goes on, fetches its own.
    assert!(logs.iter().any(|log| log.contains("are kept here: 1 changed since, 0 removed")), "{logs:?}");
    for name in ["one", "two"] {
        let digest = world.registry.tags(&format!("garden/{name}"))[&commit[..12]].clone();
        let blob = |hex: &str| world.folder.path().join("registry/blobs").join(hex);
        let manifest: Manifest = serde_json::from_slice(&fs::read(blob(digest.hex())).unwrap()).unwrap();
        let texts = manifest.layers.iter().map(|layer| {
            let mut bytes = Vec::new();
            let mut plain = layer::decompressed(fs::File::open(blob(layer.digest.hex())).unwrap()).unwrap();
            std::io::Read::read_to_end(&mut plain, &mut bytes).unwrap();
            String::from_utf8_lossy(&bytes).contains("lilies")
        });
        assert_eq!(texts.filter(|found| *found).count(), 1, "{name} has what its commit has");
    }
}
