//! What jobs and recipes leave for the runner to read, keep and remove: however deep, many or long it is, the runner goes
//! on, a neighbour does not notice, and who made it is told what is too much.

use std::path::{Path, PathBuf};

use pondrix_core::State;
use pondrix_standin::garden::{REGISTRY, Repository};
use rustix::process::{Pid, Signal, kill_process};

use crate::attacks::{said, started, world_with};
use crate::processes::EndOf;
use crate::support::{Server, World, one_job, until};

/// Makes some 100,000 folders in each other, and stays in the innermost.
const NEST: &str =
    "p=$(printf 'bed/%.0s' $(seq 1900)); i=0; while [ $i -lt 53 ]; do mkdir -p $p; cd $p; i=$((i+1)); done; echo deep";

/// The folder of the server's own runner.
fn runner(world: &World) -> PathBuf {
    let server = world.folder.path().join("server");
    let all = std::fs::read_dir(server).unwrap().map(|entry| entry.unwrap().path());
    let own: Vec<_> = all.filter(|path| path.join("jobs").is_dir()).collect();
    assert_eq!(own.len(), 1);
    own[0].clone()
}

fn is_empty(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_none())
}

async fn is_emptied(folder: &Path) {
    until("what a job left is removed", async || is_empty(folder).then_some(())).await;
}

/// A project of others, whose jobs are to go on as if nothing was.
struct Neighbour(Repository);

impl Neighbour {
    async fn new(world: &World) -> Self {
        Self(world.project("seed-bank", &[]).await.0)
    }

    async fn goes_on(&self, world: &World) {
        self.0.write("pondrix.kdl", &one_job("step \"echo sown\"")).unwrap();
        let run = world.run_of("seed-bank", &self.0.push("Sow").unwrap()).await;
        world.passes(&run).await;
        assert_eq!(world.log(&run, "verify/unit").await, "sown\n");
    }
}

/// A recipe for one image, and the run of it.
async fn built(world: &World, repository: &Repository, recipe: &str) -> String {
    let image = format!(
        "start commit=\"main\"\nstage \"package\" {{ image \"labels\" {{ push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }} }} }}\n"
    );
    repository.write("pondrix.kdl", &image).unwrap();
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n{recipe}\n")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("A recipe").unwrap()).await;
    let end = world.end_of(&run).await;
    assert_eq!(end.summary.state, State::Failed);
    end.failure.unwrap().what
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hundred_thousand_folders_in_each_other_keep_no_runner_from_its_work_nor_from_starting_again() {
    let mut world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    repository.write("nest.sh", NEST).unwrap();
    let (run, log) = said(&world, &repository, "step \"sh nest.sh\"").await;
    assert!(log.contains("deep\n"), "{log}");
    world.passes(&run).await;
    let folder = runner(&world);
    neighbour.goes_on(&world).await;
    is_emptied(&folder.join("jobs")).await;
    // A command of a recipe: its layer has a depth that is told, and what it made goes.
    let what = built(&world, &repository, "COPY nest.sh /\nRUN sh /nest.sh").await;
    assert!(what.contains("more than 512 folders are in each other, at srv/bed/bed/"), "{what}");
    is_emptied(&folder.join("images/unfinished")).await;
    // Both of them are killed in the middle of it, and find it at their next start.
    let run = started(&world, &repository, "step \"sh nest.sh; sleep 600\"").await;
    let is_deep = async || world.log(&run, "verify/unit").await.contains("deep\n").then_some(());
    until("the folders are there", is_deep).await;
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().kill();
    let process: i32 = std::fs::read_to_string(folder.join("lock")).unwrap().trim().parse().unwrap();
    let end = EndOf::process(Pid::from_raw(process).unwrap()).unwrap();
    kill_process(Pid::from_raw(process).unwrap(), Signal::KILL).unwrap();
    end.comes();
    assert!(!is_empty(&folder.join("jobs")));
    world.server = Some(Server::start_allowing(&world.folder.path().join("server"), &address, &[]));
    world.pondrix(&["stop", &run.to_string()]).await;
    neighbour.goes_on(&world).await;
    is_emptied(&folder.join("removed")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_much_to_keep_is_told_before_any_of_it_is_read() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    let endless = "truncate -s 2199023255552 out";
    let told = "the files are 2TiB long together, and at most 64 GiB are kept";
    let artifact = format!("step \"{endless}\"\nartifact \"all\" \"out\"");
    let (run, log) = said(&world, &repository, &artifact).await;
    let what = world.end_of(&run).await.failure.unwrap().what;
    assert!(what.contains(told), "{what}: {log}");
    let cache = format!("step \"{endless}\"\ncache \"out\" key=\"all\"");
    let (run, log) = said(&world, &repository, &cache).await;
    assert!(log.contains(&format!("cache out: {told}")), "{log}");
    world.passes(&run).await;
    let what = built(&world, &repository, "RUN truncate -s 2199023255552 /out").await;
    assert!(what.contains("the files of the archive are larger than 64 GiB together"), "{what}");
    let deep = "step \"mkdir -p out/$(printf 'bed/%.0s' $(seq 600)); touch kept\"";
    let (run, _) = said(&world, &repository, &format!("{deep}\nartifact \"all\" \"out\"")).await;
    let what = world.end_of(&run).await.failure.unwrap().what;
    assert!(what.contains("more than 512 folders are in each other, at "), "{what}");
    let (run, _) = said(&world, &repository, &format!("{deep}\nartifact \"all\" \"kept\"")).await;
    world.passes(&run).await;
    neighbour.goes_on(&world).await;
}
