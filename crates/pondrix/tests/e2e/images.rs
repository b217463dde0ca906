//! Image jobs: secrets, what comes from the cache, registries that ask who comes, agents, networks.

use std::path::Path;
use std::process::Command;

use pondrix_core::State;
use pondrix_core::image::Digest;
use pondrix_image::{Manifest, layer};
use pondrix_standin::garden::REGISTRY;

use crate::support::World;

pub(crate) const VALUE: &str = "lily-of-the-pond-4711";

/// A pipeline that builds one image, with more lines in its braces.
pub(crate) fn one_image(lines: &str) -> String {
    format!(
        "start commit=\"main\"\nstage \"package\" {{\n image \"labels\" {{\n {lines}\n push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }}\n }}\n}}\n"
    )
}

/// Every file below a folder, layers and the like unpacked, in which this text stands.
pub(crate) fn found_in(folder: &Path, text: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(path) = waiting.pop() {
        let data = std::fs::symlink_metadata(&path).unwrap();
        if data.is_dir() {
            waiting.extend(std::fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        } else if data.is_file() {
            let mut bytes = Vec::new();
            let mut plain = layer::decompressed(std::fs::File::open(&path).unwrap()).unwrap();
            // A file that only begins like an archive is looked at as far as it is one.
            let _ = std::io::Read::read_to_end(&mut plain, &mut bytes);
            if bytes.windows(text.len()).any(|window| window == text.as_bytes()) {
                found.push(path.display().to_string());
            }
        }
    }
    found
}

fn layers_of(world: &World, tag: &str) -> Vec<Digest> {
    layers_in(world, "garden/labels", tag)
}

fn layers_in(world: &World, repository: &str, tag: &str) -> Vec<Digest> {
    let digest = world.registry.tags(repository)[tag].clone();
    let path = world.folder.path().join("registry/blobs").join(digest.hex());
    let manifest: Manifest = serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap();
    manifest.layers.into_iter().map(|layer| layer.digest).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_build_secret_is_seen_by_its_command_and_lands_nowhere() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1\nRUN --mount=type=secret,id=key test \"$(cat /run/secrets/key)\" = {VALUE} ; echo $? > /seen\n\
         RUN --mount=type=secret,id=key,env=KEY echo \"it is $KEY\" && echo ${{#KEY}} > /length\n"
    );
    // The recipe must not have it in the clear itself.
    let recipe = recipe.replace(&format!("= {VALUE} ; echo $? > /seen"), "!= '' ; echo $? > /seen");
    repository.write("image.recipe", &recipe).unwrap();
    repository.write("pondrix.kdl", &one_image("secret \"NURSERY_KEY\" id=\"key\"")).unwrap();
    let commit = repository.push("With a secret").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let barred = world.end_of(&run).await.missing;
    assert!(barred[0].what.contains("plant-labels has no secret `NURSERY_KEY`"), "{barred:?}");
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "NURSERY_KEY"], VALUE).0);
    repository.write("README.md", "once more").unwrap();
    let commit = repository.push("Now there is one").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("it is (secret NURSERY_KEY)"), "{log}");
    // The folder of the world has the registry, the server's records and the runner's store in it.
    assert_eq!(found_in(world.folder.path(), VALUE), Vec::<String>::new());
    assert_eq!(found_in(world.folder.path(), "it is (secret NURSERY_KEY)").len(), 1, "the search finds what is there");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_runner_made_before_is_known_and_a_changed_line_rebuilds_what_depends_on_it_only() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let recipe = |last: &str| {
        format!(
            "FROM {REGISTRY}/base/shell:1\nRUN head -c 16 /dev/urandom | od -x > /never-twice\nCOPY beds /beds\nRUN cat /beds/* > /all\nCOPY {last} /last\n"
        )
    };
    repository.write("image.recipe", &recipe("README.md")).unwrap();
    repository.write("beds/lily", "lily\n").unwrap();
    repository.write("README.md", "one\n").unwrap();
    repository.write("pondrix.kdl", &one_image("")).unwrap();
    let first = repository.push("First").unwrap();
    let known = async |commit: &str| {
        let run = world.run_of("plant-labels", commit).await;
        world.passes(&run).await;
        let log = world.log(&run, "package/labels").await;
        let line = log.lines().find(|line| line.starts_with("built ")).unwrap().to_owned();
        line.split_once(": ").unwrap().1.to_owned()
    };
    assert_eq!(known(&first).await, "0 of 4 steps from cache");
    repository.write("README.md", "two\n").unwrap();
    let second = repository.push("Only the last copy").unwrap();
    assert_eq!(known(&second).await, "3 of 4 steps from cache");
    repository.write("beds/lily", "lilies\n").unwrap();
    let third = repository.push("What is in the middle").unwrap();
    assert_eq!(known(&third).await, "1 of 4 steps from cache");
    repository.write("unrelated", "x\n").unwrap();
    let fourth = repository.push("What nobody reads").unwrap();
    assert_eq!(known(&fourth).await, "4 of 4 steps from cache");
    // What a command makes may depend on what it can reach.
    repository.write("pondrix.kdl", &one_image("network \"outbound\"")).unwrap();
    let fifth = repository.push("With a network").unwrap();
    assert_eq!(known(&fifth).await, "0 of 4 steps from cache");
    let layers = |commit: &str| layers_of(&world, &commit[..12]);
    let (first, second, third, fourth) = (layers(&first), layers(&second), layers(&third), layers(&fourth));
    assert_eq!(first[..first.len() - 1], second[..second.len() - 1]);
    assert_ne!(first.last(), second.last());
    assert_eq!(first[..first.len() - 3], third[..third.len() - 3]);
    assert_eq!(third, fourth, "another commit's time makes no other layer");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_agent_signs_with_a_key_that_the_command_does_not_see() {
    let world = World::new().await;
    let folder = tempfile::tempdir().unwrap();
    let key = folder.path().join("key");
    let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).status().unwrap();
    assert!(made.success());
    let (repository, _) = world.project("plant-labels", &[]).await;
    let private = std::fs::read_to_string(&key).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "NURSERY_KEY"], &private).0);
    // Nothing in the base image talks to agents: the machine's own client comes along, with what it is linked to.
    let linked = Command::new("ldd").arg("/usr/bin/ssh-add").output().unwrap();
    let linked = String::from_utf8(linked.stdout).unwrap();
    let libraries = linked.split_whitespace().filter(|word| word.starts_with('/'));
    for path in libraries.chain(["/usr/bin/ssh-add"]) {
        let copy = repository.folder().join("client").join(path.trim_start_matches('/'));
        std::fs::create_dir_all(copy.parent().unwrap()).unwrap();
        std::fs::copy(path, copy).unwrap();
    }
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1\nCOPY client /\nRUN --mount=type=ssh /usr/bin/ssh-add -l | grep ED25519 > /answer\n"
    );
    repository.write("image.recipe", &recipe).unwrap();
    repository.write("pondrix.kdl", &one_image("ssh \"NURSERY_KEY\"")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("With an agent").unwrap()).await;
    world.passes(&run).await;
    let text = private.lines().nth(2).unwrap();
    assert_eq!(found_in(world.folder.path(), text), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_build_has_no_network_unless_the_pipeline_says_so_and_the_message_says_how() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for (line, words) in [
        ("ADD http://127.0.0.1:9/seeds /seeds", "write network \"outbound\" in the image of the pipeline file"),
        ("RUN --network=host true", "write network \"host\" in the image of the pipeline file"),
    ] {
        repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n{line}\n")).unwrap();
        repository.write("pondrix.kdl", &one_image("")).unwrap();
        let run = world.run_of("plant-labels", &repository.push("Far away").unwrap()).await;
        let detail = world.end_of(&run).await;
        assert_eq!(detail.summary.state, State::Failed);
        assert!(world.log(&run, "package/labels").await.contains(words));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_image_for_several_platforms_is_an_index_and_nothing_foreign_is_run() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let recipe = format!(
        "FROM --platform=$BUILDPLATFORM {REGISTRY}/base/shell:1 AS make\nARG TARGETARCH\nRUN echo for $TARGETARCH | tee /made\nFROM scratch\nCOPY --from=make /made /made\n"
    );
    repository.write("image.recipe", &recipe).unwrap();
    repository.write("pondrix.kdl", &one_image("platform \"linux/amd64\" \"linux/arm64\"")).unwrap();
    let commit = repository.push("For two kinds of machine").unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(
        log.contains("make> for amd64") && log.contains("make> for arm64"),
        "a stage's lines begin with its name: {log}"
    );
    let blob = |digest: &str| -> serde_json::Value {
        let hex = digest.trim_start_matches("sha256:");
        serde_json::from_slice(&std::fs::read(world.folder.path().join("registry/blobs").join(hex)).unwrap()).unwrap()
    };
    let index = blob(&world.registry.tags("garden/labels")[&commit[..12]].to_string());
    let entries = index["manifests"].as_array().unwrap();
    let mut told = Vec::new();
    for entry in entries {
        let manifest = blob(entry["digest"].as_str().unwrap());
        let config = blob(manifest["config"]["digest"].as_str().unwrap());
        assert_eq!(config["architecture"], entry["platform"]["architecture"]);
        told.push((
            entry["platform"]["architecture"].as_str().unwrap().to_owned(),
            manifest["layers"][0]["digest"].clone(),
        ));
    }
    assert_eq!((told[0].0.as_str(), told[1].0.as_str()), ("amd64", "arm64"));
    assert_ne!(told[0].1, told[1].1, "each has what was made for it");
    let shown = world.pondrix(&["image", "show", &format!("garden/labels:{}", &commit[..12])]).await;
    assert!(shown.out.contains("COPY --from=make /made /made"), "{}{}", shown.out, shown.err);
    repository
        .write("image.recipe", &format!("FROM scratch\nCOPY --from={REGISTRY}/base/shell:1 /bin /bin\nRUN true\n"))
        .unwrap();
    let run = world.run_of("plant-labels", &repository.push("What runs elsewhere").unwrap()).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert!(failure.what.contains("cannot run what is for linux/arm64"), "{}", failure.what);
    assert!(world.log(&run, "package/labels").await.contains("FROM --platform=$BUILDPLATFORM"));
}

#[tokio::test(flavor = "multi_thread")]
async fn images_are_listed_shown_and_compared_with_what_is_in_them() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let status = |version: &str| {
        format!(
            "Package: libpond\nStatus: install ok installed\nVersion: {version}\n\nPackage: moss\nStatus: install ok installed\nVersion: 1\n"
        )
    };
    repository
        .write(
            "image.recipe",
            &format!("FROM {REGISTRY}/base/shell:1\nCOPY status /var/lib/dpkg/status\nCOPY beds /beds\n"),
        )
        .unwrap();
    repository.write("pondrix.kdl", &one_image("layers \"zstd\"")).unwrap();
    repository.write("status", &status("1.0")).unwrap();
    repository.write("beds/lily", "lily\n").unwrap();
    repository.write("beds/fern", "fern\n").unwrap();
    let first = repository.push("First").unwrap();
    world.passes(&world.run_of("plant-labels", &first).await).await;
    repository.write("status", &status("1.1")).unwrap();
    repository.write("beds/lily", "lilies\n").unwrap();
    repository.remove("beds/fern").unwrap();
    repository.write("beds/moss", "moss\n").unwrap();
    let second = repository.push("Second").unwrap();
    let run = world.run_of("plant-labels", &second).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    for wanted in ["image.recipe:2  COPY status /var/lib/dpkg/status", "attached an SBOM with 2 packages"] {
        assert!(log.contains(wanted), "no `{wanted}` in\n{log}");
    }

    let list = world.pondrix(&["image", "list"]).await;
    let rows: Vec<_> = list.out.lines().skip(1).collect();
    assert!(rows.len() == 2 && rows[0].contains(&second[..12]) && rows[1].contains("plant-labels#1"), "{}", list.out);
    let name = |commit: &str| format!("labels:{}", &commit[..12]);
    let shown = world.pondrix(&["image", "show", &name(&second)]).await.out;
    for wanted in
        ["by plant-labels#2 package/labels", "base/shell:1 (sha256:", "COPY beds /beds", "debian   libpond", "1.1"]
    {
        assert!(shown.contains(wanted), "no `{wanted}` in\n{shown}");
    }
    let diff = world.pondrix(&["image", "diff", &name(&first), &name(&second)]).await.out;
    for wanted in [
        "debian   libpond  1.0   1.1",
        "/beds/fern            gone",
        "/beds/moss            new",
        "/beds/lily            content",
    ] {
        assert!(diff.contains(wanted), "no `{wanted}` in\n{diff}");
    }
    assert!(!diff.contains("libpond\n") && !diff.contains("moss  1"), "{diff}");
    let same = world.pondrix(&["image", "diff", &name(&first), &name(&first)]).await.out;
    assert!(same.contains("The same packages, and the same files."), "{same}");
    let unknown = world.pondrix(&["image", "show", "labels:none"]).await;
    assert!(unknown.status != 0 && unknown.err.contains("pondrix image list"), "{}", unknown.err);
    // The bill of materials is attached to the image, and says the same.
    let detail = world.client.image(&name(&second)).await.unwrap();
    let registry = world.client.registries().await.unwrap().registries.remove(0).address;
    let address = format!("{registry}/v2/garden/labels/referrers/{}", detail.summary.digest);
    let attached: serde_json::Value = reqwest::get(address).await.unwrap().json().await.unwrap();
    assert_eq!(attached["manifests"][0]["artifactType"], "application/spdx+json");
    let annotations = &attached["manifests"][0]["annotations"];
    assert_eq!(annotations["pondrix.run"], "plant-labels#2");
    assert_eq!(annotations["pondrix.run.address"], format!("{}/runs/plant-labels/2", world.url()));
    assert_eq!(found_in(&world.folder.path().join("registry"), "pkg:deb/libpond@1.1").len(), 1);
    let zstd = layers_of(&world, &second[..12]).pop().unwrap();
    let bytes = std::fs::read(world.folder.path().join("registry/blobs").join(zstd.hex())).unwrap();
    assert!(bytes.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]), "the layer is compressed as the pipeline says");

    // What the base says of itself stays to be seen where the image says something else.
    let recipe =
        format!("FROM {REGISTRY}/garden/{}\nLABEL bed=south org.opencontainers.image.licenses=MIT\n", name(&first));
    repository.write("image.recipe", &recipe).unwrap();
    let third = repository.push("Third").unwrap();
    world.passes(&world.run_of("plant-labels", &third).await).await;
    let shown = world.pondrix(&["image", "show", &name(&third)]).await.out;
    let row = |key: &str| {
        let lines = shown.lines().filter(|line| line.starts_with(key));
        lines.map(|line| line.split_whitespace().skip(1).collect::<Vec<_>>().join(" ")).collect::<Vec<_>>()
    };
    assert_eq!(row("org.opencontainers.image.revision"), [third.clone(), format!("{first} base")], "{shown}");
    assert_eq!(
        (row("bed"), row("org.opencontainers.image.licenses")),
        (vec!["south".to_owned()], vec!["MIT".to_owned()])
    );
    assert!(shown.contains(", made 20"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn names_without_a_registry_mean_the_one_that_was_chosen_and_a_taken_tag_stops_a_build_before_it_begins() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", "FROM shell:1\nRUN true\n").unwrap();
    let pipeline = one_image("").replace("{commit.short}", "{input.version}");
    repository.write("pondrix.kdl", &format!("input \"version\" default=\"v1\"\n{pipeline}")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("A short name").unwrap()).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert!(failure.what.contains("pondrix registry add HOST --bare-names"), "{}", failure.what);
    let chosen = world.pondrix(&["registry", "add", REGISTRY, "--bare-names", "base"]).await;
    assert_eq!(chosen.status, 0, "{}", chosen.err);
    repository.write("README.md", "once more").unwrap();
    world.passes(&world.run_of("plant-labels", &repository.push("Now it is chosen").unwrap()).await).await;
    assert!(world.registry.tags("garden/labels").contains_key("v1"));
    repository.write("README.md", "and another commit").unwrap();
    let run = world.run_of("plant-labels", &repository.push("The same version").unwrap()).await;
    let failure = world.end_of(&run).await.failure.unwrap();
    assert!(failure.what.contains("the tag v1 of") && failure.what.contains("never moved"), "{}", failure.what);
    assert!(!world.log(&run, "package/labels").await.contains("RUN true"), "nothing was built");

    // Most recipes name no tag either: what that means is taken, and told with the line that keeps it.
    let registry = world.client.registries().await.unwrap().registries.remove(0).address;
    let manifest = |tag: &str| format!("{registry}/v2/base/shell/manifests/{tag}");
    let shell = reqwest::get(manifest("1")).await.unwrap();
    let kind = shell.headers()["content-type"].clone();
    let put = reqwest::Client::new().put(manifest("latest")).header("content-type", kind);
    assert!(put.body(shell.bytes().await.unwrap()).send().await.unwrap().status().is_success());
    for (from, version) in [("shell", "v2"), (&*format!("{REGISTRY}/base/shell"), "v3")] {
        repository.write("image.recipe", &format!("FROM {from}\nRUN true\n")).unwrap();
        repository.write("pondrix.kdl", &format!("input \"version\" default=\"{version}\"\n{pipeline}")).unwrap();
        let run = world.run_of("plant-labels", &repository.push("No tag").unwrap()).await;
        world.passes(&run).await;
        let log = world.log(&run, "package/labels").await;
        let digest = world.registry.tags("base/shell")["latest"].clone();
        let keeps = format!("write {REGISTRY}/base/shell@{digest}");
        assert!(log.contains("warning: no tag is named") && log.contains(&keeps), "{log}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_runner_finds_in_the_registry_what_the_first_one_made_and_fetches_only_what_it_needs() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1 AS build\nRUN od -x /dev/urandom | head -n 1 > /never-twice; touch /besides\n\
         FROM {REGISTRY}/base/shell:1\nCOPY --from=build /never-twice /\nCOPY beds /beds\n"
    );
    repository.write("image.recipe", &recipe).unwrap();
    repository.write("beds/lily", "lily\n").unwrap();
    repository.write("pondrix.kdl", &one_image(&format!("cache \"{REGISTRY}/garden/steps\""))).unwrap();
    let first = repository.push("First").unwrap();
    world.passes(&world.run_of("plant-labels", &first).await).await;
    // Another runner is one that has nothing in its store.
    let store = world.folder.path().join("server/runner-1/images");
    for part in ["blobs", "layers", "steps"] {
        std::fs::remove_dir_all(store.join(part)).unwrap();
        std::fs::create_dir(store.join(part)).unwrap();
    }
    repository.write("beds/lily", "lilies\n").unwrap();
    let second = repository.push("Second").unwrap();
    let run = world.run_of("plant-labels", &second).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("3 steps are cached in") && log.contains("from cache in the registry"), "{log}");
    assert!(log.contains("2 of 3 steps from cache") && log.contains("3 steps are cached for other runners"), "{log}");
    let (first, second) = (layers_of(&world, &first[..12]), layers_of(&world, &second[..12]));
    assert_eq!(first[..first.len() - 1], second[..second.len() - 1]);
    assert_ne!(first.last(), second.last());
    // What the first stage made is in no image, and nothing was run or copied that would have needed it.
    let cached = layers_in(&world, "garden/steps", "steps-labels");
    let is_here = |layer: &&Digest| store.join("blobs").join(layer.hex()).exists();
    let fetched: Vec<_> = cached.iter().filter(is_here).collect();
    assert_eq!(cached.len(), 3);
    assert_eq!(fetched, second[second.len() - 2..].iter().collect::<Vec<_>>());
    // One that is gone from the registry is made again.
    let never_twice = cached.iter().find(|layer| !second.contains(layer)).unwrap();
    std::fs::remove_file(world.folder.path().join("registry/blobs").join(never_twice.hex())).unwrap();
    for part in ["blobs", "layers", "steps"] {
        std::fs::remove_dir_all(store.join(part)).unwrap();
        std::fs::create_dir(store.join(part)).unwrap();
    }
    repository.write("beds/lily", "more lilies\n").unwrap();
    let third = repository.push("Third").unwrap();
    world.passes(&world.run_of("plant-labels", &third).await).await;
    assert_ne!(layers_of(&world, &third[..12])[..second.len() - 1], second[..second.len() - 1]);
}

/// A command that says what an earlier one left in the folder that it keeps, and leaves something there.
fn kept(leaves: &str) -> String {
    format!(
        "FROM {REGISTRY}/base/shell:1\n\
         RUN --mount=type=cache,target=/kept {{ cat /kept/left || echo nothing; }} > /found; {leaves}\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_unprotected_branch_leaves_gets_into_nothing_that_a_protected_one_builds() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let pipeline = one_image(&format!("cache \"{REGISTRY}/garden/steps\""));
    let everywhere = pipeline.replace("start commit=\"main\"", "start commit=\"*\"");
    repository.write("pondrix.kdl", &everywhere).unwrap();
    repository.write("image.recipe", &kept("true")).unwrap();
    repository.push("An image").unwrap();
    let found = async |world: &World, own: &str, commit: &str| {
        let run = world.run_of("plant-labels", commit).await;
        world.passes(&run).await;
        let layers = layers_of(world, &format!("{own}{}", &commit[..12]));
        let path = world.folder.path().join("registry/blobs").join(layers.last().unwrap().hex());
        let plain = layer::decompressed(std::fs::File::open(path).unwrap()).unwrap();
        let mut archive = tar::Archive::new(plain);
        let mut entries = archive.entries().unwrap().map(Result::unwrap);
        let mut file = entries.find(|entry| entry.path().unwrap().ends_with("found")).unwrap();
        let mut text = String::new();
        std::io::Read::read_to_string(&mut file, &mut text).unwrap();
        (text, world.log(&run, "package/labels").await)
    };
    // A branch leaves something in the folder, and then does word for word what the trusted one is about to do.
    repository.git(&["checkout", "--quiet", "-b", "weeds"]).unwrap();
    repository.write("image.recipe", &kept("echo weed > /kept/left")).unwrap();
    let (text, _) = found(&world, "branch-weeds-", &repository.push_to("weeds", "Something is left").unwrap()).await;
    assert_eq!(text, "nothing\n");
    let last = kept("echo lily > /kept/left");
    repository.write("image.recipe", &last).unwrap();
    let (text, log) = found(&world, "branch-weeds-", &repository.push_to("weeds", "The same words").unwrap()).await;
    assert!(text == "weed\n" && log.contains("1 steps are cached for other runners"), "{text}{log}");
    // Nor does it give the name of a release to what it built.
    assert!(log.contains("tags of its images begin with branch-weeds-"), "{log}");
    repository.git(&["checkout", "--quiet", "main"]).unwrap();
    repository.write("image.recipe", &last).unwrap();
    let trusted = repository.push("What is trusted").unwrap();
    let (text, log) = found(&world, "", &trusted).await;
    assert_eq!(text, "nothing\n", "{log}");
    assert!(log.contains("0 of 1 steps from cache"), "{log}");
    let lists = world.registry.tags("garden/steps");
    assert_ne!(lists["steps-labels"], lists["steps-labels_untrusted"]);
    // Another branch may take what was trusted, and another project takes nothing of either.
    repository.git(&["checkout", "--quiet", "-b", "ferns"]).unwrap();
    repository.write("note", "a fern\n").unwrap();
    let (text, log) = found(&world, "branch-ferns-", &repository.push_to("ferns", "A branch of it").unwrap()).await;
    assert!(text == "nothing\n" && log.contains("1 of 1 steps from cache"), "{text}{log}");
    let (other, _) = world.project("seed-bank", &[]).await;
    other.write("pondrix.kdl", &everywhere.replace("garden/labels", "garden/seeds")).unwrap();
    other.write("image.recipe", &last).unwrap();
    let run = world.run_of("seed-bank", &other.push("The same words").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("0 of 1 steps from cache"), "{log}");
}
