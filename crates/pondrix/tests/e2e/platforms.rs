//! Images for several platforms, each built by a runner of its kind.
//!
//! No machine of another kind is here: a runner that says that it emulates one is given what is for it, and the
//! programs that it runs are this machine's.

use std::path::Path;
use std::process::{Child, Command, Stdio};

use pondrix_core::State;
use pondrix_core::run::JobResult;
use pondrix_standin::garden::REGISTRY;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::support::{PONDRIX, World};

/// A runner as a process of its own; ended when dropped.
struct Runner(Child);

impl Runner {
    fn join(world: &World, name: &str, more: &[&str]) -> Self {
        let mut command = Command::new(PONDRIX);
        command
            .args(["runner", "join", "--server", world.url(), "--slots", "1", "--token-file"])
            .arg(world.runner_token(name, &[]))
            .arg("--data")
            .arg(world.folder.path().join(name))
            .args(more);
        Self(command.stdin(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
    }
}

impl Drop for Runner {
    fn drop(&mut self) {
        let _ = kill_process(Pid::from_raw(self.0.id().cast_signed()).unwrap(), Signal::TERM);
        let _ = self.0.wait();
    }
}

fn blob(world: &World, digest: &str) -> Value {
    let path = world.folder.path().join("registry/blobs").join(digest.trim_start_matches("sha256:"));
    serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap()
}

/// A folder with the machine's busybox, which needs nothing else to run.
fn tools(folder: &Path) {
    std::fs::create_dir_all(folder.join("tools/bin")).unwrap();
    let busybox = ["/usr/bin/busybox", "/bin/busybox"].into_iter().find(|path| Path::new(path).exists());
    std::fs::copy(busybox.expect("scripts/setup installs it"), folder.join("tools/bin/busybox")).unwrap();
    std::os::unix::fs::symlink("busybox", folder.join("tools/bin/sh")).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn each_platform_is_built_by_a_runner_of_its_kind_and_the_index_is_tagged_when_all_are_there() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    tools(repository.folder());
    let recipe = "FROM scratch\nARG TARGETARCH\nCOPY tools /\nRUN echo made for $TARGETARCH > /made\n";
    repository.write("image.recipe", recipe).unwrap();
    let pipeline = format!(
        "start commit=\"main\"\nstage \"package\" {{\n image \"labels\" {{\n platform \"linux/amd64\" \"linux/arm64\" build=\"native\"\n \
         push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }}\n push \"{REGISTRY}/beds/labels\" {{ moving \"edge\" }}\n }}\n}}\n"
    );
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let commit = repository.push("For two kinds of machine").unwrap();
    let run = world.run_of("plant-labels", &commit).await;

    // The machine's own kind is built at once; the other waits, and says for what.
    let job = |detail: &pondrix_api::RunDetail, name: &str| {
        detail.stages[0].jobs.iter().find(|job| job.job == name).unwrap().clone()
    };
    world.until(&run, |detail| job(detail, "package/labels:linux-amd64").state == State::Passed).await;
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    let words = "no runner that runs programs for linux/arm64 is here: own-1 does not run programs for linux/arm64";
    assert!(shown.out.contains(words), "{}{}", shown.out, shown.err);
    assert!(world.registry.tags("garden/labels").is_empty(), "a half of it is no release");

    let _runner = Runner::join(&world, "pond-7", &["--emulates", "linux/arm64"]);
    let detail = world.passes(&run).await;
    assert_eq!(job(&detail, "package/labels:linux-amd64").runner.as_deref(), Some("own-1"));
    assert_eq!(job(&detail, "package/labels:linux-arm64").runner.as_deref(), Some("pond-7"));
    let tag = &commit[..12];
    let digest = world.registry.tags("garden/labels")[tag].to_string();
    assert_eq!(digest, world.registry.tags("beds/labels")["edge"].to_string(), "the same index everywhere");
    let index = blob(&world, &digest);
    assert_eq!(index["annotations"]["org.opencontainers.image.revision"], commit);
    let mut layers = Vec::new();
    for (entry, architecture) in index["manifests"].as_array().unwrap().iter().zip(["amd64", "arm64"]) {
        let manifest = blob(&world, entry["digest"].as_str().unwrap());
        assert_eq!(entry["platform"]["architecture"], architecture);
        assert_eq!(blob(&world, manifest["config"]["digest"].as_str().unwrap())["architecture"], architecture);
        layers.push(manifest["layers"].as_array().unwrap().iter().map(|layer| layer["digest"].clone()).collect());
    }
    let [amd, arm]: [Vec<Value>; 2] = layers.try_into().unwrap();
    assert!(amd[0] == arm[0] && amd[1] != arm[1], "what RUN made is each one's own: {amd:?} {arm:?}");

    // The image of the whole is the index; it is shown with what is known of its first image.
    let results = job(&detail, "package/labels").results;
    let platforms = |result: &JobResult| match result {
        JobResult::Image { digest: made, platforms, .. } => (made.to_string() == digest).then(|| platforms.join(" ")),
        _ => None,
    };
    let told: Vec<_> = results.iter().map(platforms).collect();
    assert_eq!(told, vec![Some("linux/amd64 linux/arm64".to_owned()); 2]);
    let shown = world.pondrix(&["show", &run.to_string()]).await.out;
    assert!(shown.contains(&format!(" as {tag}, for linux/amd64, linux/arm64\n")), "{shown}");
    assert!(!shown.contains(" as \n"), "an image without tags is told of without: {shown}");
    let shown = world.pondrix(&["image", "show", &format!("garden/labels:{tag}")]).await;
    assert!(shown.out.contains("made for $TARGETARCH") && shown.out.contains(&digest), "{}{}", shown.out, shown.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_index_is_not_tagged_while_one_of_its_images_fails_and_a_rerun_builds_that_one_alone() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    tools(repository.folder());
    let recipe = "FROM scratch\nARG TARGETARCH\nCOPY tools /\nRUN test $TARGETARCH = amd64\n";
    let pipeline = format!(
        "start commit=\"main\"\nstage \"package\" {{\n image \"labels\" {{\n platform \"linux/amd64\" \"linux/arm64\" build=\"native\"\n \
         push \"{REGISTRY}/garden/labels\" {{ tag \"{{run}}\" }}\n }}\n}}\n"
    );
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let _runner = Runner::join(&world, "pond-7", &["--emulates", "linux/arm64"]);
    let run = world.run_of("plant-labels", &repository.push("Without a recipe").unwrap()).await;
    let barred = world.end_of(&run).await.missing;
    assert!(barred.len() == 1 && barred[0].what.contains("has no file image.recipe"), "told once: {barred:?}");
    repository.write("image.recipe", recipe).unwrap();
    let run = world.run_of("plant-labels", &repository.push("One of them fails").unwrap()).await;
    let detail = world.end_of(&run).await;
    let states = |detail: &pondrix_api::RunDetail| {
        let jobs = &detail.stages[0].jobs;
        jobs.iter().map(|job| (job.job.clone(), job.state)).collect::<Vec<_>>()
    };
    let named = |states: [State; 3]| {
        let names = ["package/labels:linux-amd64", "package/labels:linux-arm64", "package/labels"];
        names.map(str::to_owned).into_iter().zip(states).collect::<Vec<_>>()
    };
    assert_eq!(states(&detail), named([State::Passed, State::Failed, State::Skipped]));
    assert!(world.registry.tags("garden/labels").is_empty());
    let again = world.pondrix(&["rerun", &run.to_string(), "--json"]).await;
    assert_eq!(again.status, 0, "{}", again.err);
    let again: Value = serde_json::from_str(&again.out).unwrap();
    let detail = world.end_of(&again["run"].as_str().unwrap().parse().unwrap()).await;
    assert_eq!(states(&detail), named([State::Passed, State::Failed, State::Skipped]));
    assert_eq!(detail.stages[0].jobs[0].runner, None, "it was carried over, and not built again: {detail:?}");
}
