//! Programs that build anew only what is newer than what they built before, with a cache mount: what they make is of
//! the files of the commit, whatever was built before.

use std::fs;
use std::time::SystemTime;

use pondrix_core::RunId;
use pondrix_image::Manifest;
use pondrix_standin::garden::{REGISTRY, Repository};

use crate::again::in_checkout;
use crate::support::{Server, World};

/// As make(1) does it, in a few lines: of each source an object that is not older than it, and of the objects the
/// program.
const MAKE: &str = "#!/bin/sh -e
objects=$1; shift
rm -f /app
for source in $(find \"$@\" -name '*.c' | sort); do
    object=$objects/$(echo $source | tr / _).o
    if [ ! -e $object ] || [ $source -nt $object ]; then
        echo compiles $source
        cat $source > $object
    fi
    cat $object >> /app
done
";

/// The last layer of an image has the program, which holds what it was compiled from.
fn program(world: &World, tag: &str) -> String {
    let bytes = layer(world, &layers(world, tag).pop().unwrap());
    let mut archive = tar::Archive::new(&bytes[..]);
    let mut app = archive.entries().unwrap().map(Result::unwrap).find(|entry| entry.path().unwrap().ends_with("app"));
    let mut text = String::new();
    std::io::Read::read_to_string(app.as_mut().expect("the layer has a program"), &mut text).unwrap();
    text
}

/// The digests of the layers of an image.
fn layers(world: &World, tag: &str) -> Vec<String> {
    let digest = world.registry.tags("garden/labels")[tag].clone();
    let manifest = fs::read(world.folder.path().join("registry/blobs").join(digest.hex())).unwrap();
    let manifest: Manifest = serde_json::from_slice(&manifest).unwrap();
    manifest.layers.iter().map(|layer| layer.digest.hex().to_owned()).collect()
}

fn layer(world: &World, hex: &str) -> Vec<u8> {
    let blob = fs::File::open(world.folder.path().join("registry/blobs").join(hex)).unwrap();
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut pondrix_image::layer::decompressed(blob).unwrap(), &mut bytes).unwrap();
    bytes
}

/// The sources that a build compiled.
async fn compiled(world: &World, run: &RunId) -> Vec<String> {
    let log = world.log(run, "package/labels").await;
    let names = log.lines().filter_map(|line| line.split_once("compiles ").map(|(_, name)| name.to_owned()));
    names.collect()
}

/// What the program should hold: every source of the checkout.
fn sources(repository: &Repository) -> String {
    let mut names: Vec<_> =
        fs::read_dir(repository.folder().join("src")).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    names.iter().map(|name| fs::read_to_string(name).unwrap()).collect()
}

/// A project with a recipe, which builds what is pushed to any branch.
async fn project(world: &World, recipe: &str) -> Repository {
    let (repository, _) = world.project("plant-labels", &[]).await;
    // What is not protected has folders of its own.
    let protect = ["project", "set", "plant-labels", "--protect", "main", "--protect", "side"];
    assert_eq!(world.pondrix(&protect).await.status, 0);
    let push = format!("push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }}");
    let pipeline = format!("start commit=\"*\"\nstage \"package\" {{ image \"labels\" {{ {push} }} }}\n");
    repository.write("pondrix.kdl", &pipeline).unwrap();
    repository.write("make.sh", MAKE).unwrap();
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\nWORKDIR /w\n{recipe}")).unwrap();
    repository
}

/// Pushes what stands in the checkout, and looks that the program is made of it and which sources were compiled.
async fn builds(world: &World, repository: &Repository, branch: &str, compiles: &[&str]) {
    let commit = repository.push_to(branch, "Sources").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(program(world, &commit[..12]), sources(repository), "on {branch}");
    let names: Vec<String> = compiles.iter().map(|name| format!("src/{name}.c")).collect();
    assert_eq!(compiled(world, &run).await, names, "on {branch}");
}

/// A moment some days ago: what is built from here on is newer than every commit.
fn some_days_ago() -> u64 {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap();
    now.as_secs() - 10 * 86_400
}

/// What happens to a project; of each push, the sources that have to be compiled and no others.
async fn history(world: &World, repository: &Repository) {
    let write =
        |name: &str, text: &str| repository.write(&format!("src/{name}.c"), &format!("{name} {text}\n")).unwrap();
    let day = some_days_ago();
    repository.set_clock(day);
    write("fern", "1");
    write("lily", "1");
    write("rose", "1");
    builds(world, repository, "main", &["fern", "lily", "rose"]).await;
    let first = repository.git(&["rev-parse", "HEAD"]).unwrap();

    // From here on, objects are of now, and commits of long ago: as of commits that waited while others were built.
    write("lily", "2");
    builds(world, repository, "main", &["lily"]).await;

    // Reverted: what it was before, and changed now.
    write("lily", "1");
    write("moss", "1");
    builds(world, repository, "main", &["lily", "moss"]).await;

    // A branch from before: what main changed since is as old as it was, and has to be compiled, too.
    repository.git(&["checkout", "--quiet", "-b", "side", &first]).unwrap();
    write("rose", "side");
    let commit = repository.push_to("side", "Sources").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(program(world, &commit[..12]), sources(repository));
    assert!(compiled(world, &run).await.contains(&"src/rose.c".to_owned()));

    // And back, and merged.
    repository.git(&["checkout", "--quiet", "main"]).unwrap();
    repository.git(&["merge", "--quiet", "--no-ff", "--no-edit", "side"]).unwrap();
    let commit = repository.push_to("main", "Merged").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(program(world, &commit[..12]), sources(repository));

    // A clock that is behind by an hour: its commit is older than what main changed before.
    repository.set_clock(day - 3600);
    write("fern", "behind");
    let commit = repository.push_to("main", "Behind").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(program(world, &commit[..12]), sources(repository));
    assert!(compiled(world, &run).await.contains(&"src/fern.c".to_owned()));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_cache_holds_of_other_commits_gets_into_no_program_and_only_what_changed_is_compiled() {
    let recipe = "COPY make.sh .\nCOPY src src\nRUN --mount=type=cache,target=/objects sh make.sh /objects src\n";
    let mut world = World::new().await;
    let repository = project(&world, recipe).await;
    history(&world, &repository).await;

    // What is tried is newer than all of it, and does not stay when it is gone. Nobody trusts it: it has a folder of its
    // own, in which nothing is when it is used for the first time.
    repository.write("src/lily.c", "lily for a try\n").unwrap();
    let first = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(first.out.matches("compiles ").count(), 4, "{}{}", first.out, first.err);
    repository.write("src/lily.c", "lily tried\n").unwrap();
    let tried = in_checkout(&world, &repository, &["try"]).await;
    assert_eq!(tried.status, 0, "{}{}", tried.out, tried.err);
    let tags = world.registry.tags("garden/labels");
    let mut tried_tags = tags.keys().filter(|tag| tag.starts_with("try-"));
    assert!(tried_tags.any(|tag| program(&world, tag) == sources(&repository)), "{tags:?}");
    assert_eq!(tried.out.matches("compiles ").count(), 1, "{}", tried.out);
    repository.git(&["checkout", "--quiet", "src/lily.c"]).unwrap();
    repository.set_clock(some_days_ago() + 10_000);
    repository.write("src/zinnia.c", "zinnia\n").unwrap();
    let commit = repository.push("After a try").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    assert_eq!(program(&world, &commit[..12]), sources(&repository));

    // A runner that knows nothing of the project makes the same image.
    let knowing = world.registry.tags("garden/labels");
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let folder = world.folder.path().join("server");
    fs::remove_dir_all(folder.join("runner-1")).unwrap();
    world.server = Some(Server::start(&folder, &listen, "1h").0);
    let again = in_checkout(&world, &repository, &["rerun", &format!("#{}", run.number), "--all", "--follow"]).await;
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert_eq!(again.out.matches("compiles ").count(), 5, "{}", again.out);
    assert_eq!(world.registry.tags("garden/labels"), knowing);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_built_first_for_its_dependencies_alone_does_not_stay_when_the_sources_come() {
    let recipe = "COPY make.sh .\nCOPY dependencies dependencies\n\
                  RUN mkdir src && echo nothing > src/fern.c && echo nothing > src/lily.c\n\
                  RUN --mount=type=cache,target=/objects sh make.sh /objects dependencies src\n\
                  COPY src src\n\
                  RUN --mount=type=cache,target=/objects sh make.sh /objects src && sh make.sh /objects dependencies\n";
    let world = World::new().await;
    let repository = project(&world, &recipe.replace(" && sh make.sh /objects dependencies", "")).await;
    repository.set_clock(some_days_ago());
    repository.write("dependencies/soil.c", "soil 1\n").unwrap();
    let write =
        |name: &str, text: &str| repository.write(&format!("src/{name}.c"), &format!("{name} {text}\n")).unwrap();
    write("fern", "1");
    write("lily", "1");
    let first = ["dependencies/soil.c", "src/fern.c", "src/lily.c", "src/fern.c", "src/lily.c"];
    let changed = [&["src/lily.c"][..], &first, &["src/fern.c"]];
    for (number, compiles) in [&first[..]].into_iter().chain(changed).enumerate() {
        match number {
            0 => {}
            1 => write("lily", "2"),
            2 => repository.write("dependencies/soil.c", "soil 2\n").unwrap(),
            _ => write("fern", "2"),
        }
        let commit = repository.push("Sources").unwrap();
        let run = world.run_of("plant-labels", &commit).await;
        world.passes(&run).await;
        assert_eq!(program(&world, &commit[..12]), sources(&repository), "{number}");
        assert_eq!(compiled(&world, &run).await, compiles, "{number}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_context_that_is_mounted_and_not_copied_has_the_same_times_and_the_same_care() {
    let recipe = "RUN --mount=type=bind,target=. --mount=type=cache,target=/objects sh make.sh /objects src\n";
    let world = World::new().await;
    let repository = project(&world, recipe).await;
    history(&world, &repository).await;
}
