//! What jobs and recipes leave for the runner to read, keep and remove: however deep, many or long it is, the runner goes
//! on, a neighbour does not notice, and who made it is told what is too much.

use std::path::{Path, PathBuf};

use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository};
use rustix::fs::{Mode, OFlags};
use rustix::process::{Pid, Signal, kill_process};

use crate::attacks::{said, started, world_with};
use crate::processes::EndOf;
use crate::support::{Server, World, listener, one_job, until};

/// Makes 17,100 folders in each other, and stays in the innermost.
const NEST: &str = "set -e; p=$(printf 'a/%.0s' $(seq 1900)); i=0; while [ $i -lt 9 ]; do mkdir -p $p; cd -P $p; i=$((i+1)); done; echo deep";

/// Makes so many folders in each other.
fn nest(top: &Path, depth: usize) {
    let handle = OFlags::PATH | OFlags::DIRECTORY;
    let mut current = rustix::fs::open(top, handle, Mode::empty()).unwrap();
    for _ in 0..depth {
        rustix::fs::mkdirat(&current, "bed", Mode::RWXU).unwrap();
        current = rustix::fs::openat(&current, "bed", handle, Mode::empty()).unwrap();
    }
}

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

/// The run of a recipe for one image.
async fn building(world: &World, repository: &Repository, recipe: &str) -> RunId {
    building_on(world, repository, REGISTRY, recipe).await
}

/// The same on a base of this registry.
async fn building_on(world: &World, repository: &Repository, of: &str, recipe: &str) -> RunId {
    let image = format!(
        "start commit=\"main\"\nstage \"package\" {{ image \"labels\" {{ push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }} }} }}\n"
    );
    repository.write("pondrix.kdl", &image).unwrap();
    repository.write("image.recipe", &format!("FROM {of}/base/shell:1\n{recipe}\n")).unwrap();
    world.run_of("plant-labels", &repository.push("A recipe").unwrap()).await
}

/// Why an image is not built.
async fn built(world: &World, repository: &Repository, recipe: &str) -> String {
    let run = building(world, repository, recipe).await;
    let end = world.end_of(&run).await;
    assert_eq!(end.summary.state, State::Failed);
    end.failure.unwrap().what
}

#[tokio::test(flavor = "multi_thread")]
async fn many_thousand_folders_in_each_other_keep_no_runner_from_its_work_nor_from_starting_again() {
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
    assert!(what.contains("more than 512 nested folders, at srv/a/a/a/"), "{what}");
    is_emptied(&folder.join("images/unfinished")).await;
    // Both of them are killed, and find what a job left at their next start.
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().kill();
    let process: i32 = std::fs::read_to_string(folder.join("lock")).unwrap().trim().parse().unwrap();
    let end = EndOf::process(Pid::from_raw(process).unwrap()).unwrap();
    kill_process(Pid::from_raw(process).unwrap(), Signal::KILL).unwrap();
    end.comes();
    nest(&folder.join("jobs"), 50_000);
    nest(&folder.join("images/unfinished"), 50_000);
    world.server = Some(Server::start_allowing(&world.folder.path().join("server"), &address, &[]));
    neighbour.goes_on(&world).await;
    is_emptied(&folder.join("removed")).await;
    is_emptied(&folder.join("images/removed")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_much_to_keep_is_told_before_any_of_it_is_read() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    let endless = "truncate -s 2199023255552 out";
    let told = "the files are 2TiB in total; the limit is 64 GiB";
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
    assert!(what.contains("more than 512 nested folders, at "), "{what}");
    let (run, _) = said(&world, &repository, &format!("{deep}\nartifact \"all\" \"kept\"")).await;
    world.passes(&run).await;
    neighbour.goes_on(&world).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_job_leaves_is_kept_within_a_time_of_its_own_and_no_longer_than_till_its_stop() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    // Less than the most that is kept: reading it takes many minutes.
    let step = format!("step \"truncate -s {} out\"\nartifact \"all\" \"out\"", 15_u64 << 30);
    // One for each place of the runner.
    let runs = [started(&world, &repository, &step).await, started(&world, &repository, &step).await];
    for run in &runs {
        world.until(run, |detail| detail.stages[0].jobs[0].steps[0].state == State::Passed).await;
    }
    for run in &runs {
        world.pondrix(&["stop", &run.to_string()]).await;
        let end = world.end_of(run).await;
        assert_eq!(end.summary.state, State::Stopped, "{:?}", end.failure);
    }
    // The places are free again.
    neighbour.goes_on(&world).await;
    let (run, _) = said(&world, &repository, &format!("limit time=\"4s\"\n{step}")).await;
    let what = world.end_of(&run).await.failure.unwrap().what;
    assert!(what.contains("storing the job's artifacts, caches and reports took longer than 4s"), "{what}");
    neighbour.goes_on(&world).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hostile_database_in_an_image_costs_its_own_build_a_line_and_nobody_anything_else() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    let database = repository.folder().join("rpmdb.sqlite");
    let endless = "WITH RECURSIVE n(blob) AS (SELECT zeroblob(1000) UNION ALL SELECT blob FROM n) SELECT blob FROM n";
    let connection = rusqlite::Connection::open(&database).unwrap();
    connection.execute_batch(&format!("CREATE VIEW Packages AS {endless}")).unwrap();
    drop(connection);
    // Copied, where it is not unpacked; and made by a command.
    let told = "warning: could not read the packages in var/lib/rpm/rpmdb.sqlite: ";
    for recipe in [
        "COPY rpmdb.sqlite /var/lib/rpm/",
        "COPY rpmdb.sqlite /\nRUN mkdir -p /var/lib/rpm && mv /rpmdb.sqlite /var/lib/rpm/",
    ] {
        let run = building(&world, &repository, recipe).await;
        world.passes(&run).await;
        let log = world.log(&run, "package/labels").await;
        assert!(log.contains(told), "{log}");
    }
    neighbour.goes_on(&world).await;
    // A sound one tells of its packages, through the same sandbox.
    std::fs::remove_file(&database).unwrap();
    repository.write("status", "Package: moss\nStatus: install ok installed\nVersion: 2.5\n").unwrap();
    let run = building(&world, &repository, "COPY status /var/lib/dpkg/status").await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("attached an SBOM with 1 packages"), "{log}");
}

#[tokio::test(flavor = "multi_thread")]
async fn patterns_that_mean_too_much_are_refused_with_their_place() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let (deep, long) = ("{".repeat(300) + &"}".repeat(300), "?".repeat(9000));
    for (pattern, words) in [(&deep, "more than 8 nested braces"), (&long, "it is 9000 bytes long; the limit is 1024")]
    {
        repository.write("pondrix.kdl", &one_job(&format!("step \"true\"\nartifact \"all\" \"{pattern}\""))).unwrap();
        let checked = world.pondrix(&["check", repository.folder().join("pondrix.kdl").to_str().unwrap()]).await;
        assert!(checked.status != 0 && format!("{checked:?}").contains(words), "{checked:?}");
    }
    // Of an ignore file and a recipe.
    repository.write("image.recipe.ignore", &long).unwrap();
    let what = built(&world, &repository, "COPY . /").await;
    assert!(what.contains("it is 9000 bytes long; the limit is 1024"), "{what}");
    repository.write("image.recipe.ignore", "").unwrap();
    let what = built(&world, &repository, &format!("COPY {} /", "?".repeat(9000))).await;
    assert!(what.contains("it is 9000 bytes long; the limit is 1024"), "{what}");
}

/// What writes 64 MB in ways that a count by names misses: below a path that is longer than any that can be opened, into
/// a file that has no name any more, and of a service.
const HIDDEN: [(&str, &str); 2] = [
    (
        "deep.sh",
        "set -e; p=$(printf 'a/%.0s' $(seq 1900)); mkdir -p $p; cd -P $p; mkdir -p $p; cd -P $p; head -c 64000000 /dev/zero > lily",
    ),
    ("nameless.sh", "exec 3>lily; rm lily; head -c 64000000 /dev/zero >&3"),
];

#[tokio::test(flavor = "multi_thread")]
async fn a_limit_of_the_disk_holds_for_files_below_long_names_and_for_those_without_one() {
    let world = world_with(&["--job-disk", "16MiB"]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let told = "the job has written more than its limit of 16MiB";
    // An ordinary user mounts no file system, and a file without a name is not counted there (docs/security.md).
    let tried = if rustix::process::geteuid().is_root() { &HIDDEN[..] } else { &HIDDEN[..1] };
    for (name, script) in tried {
        repository.write(name, script).unwrap();
        let (run, log) = said(&world, &repository, &format!("step \"sh {name}; sleep 600\"")).await;
        assert!(log.contains(told), "{name}: {log}");
        assert_eq!(world.end_of(&run).await.summary.state, State::Failed);
        let what = built(&world, &repository, &format!("COPY {name} /\nRUN sh /{name}; sleep 600")).await;
        assert!(what.contains(told), "{name}: {what}");
    }
    // What fits is kept: artifacts, caches, and a build of several commands.
    let small = "step \"head -c 1000000 /dev/zero > out\"\nartifact \"all\" \"out\"\ncache \"out\" key=\"all\"";
    let (run, log) = said(&world, &repository, small).await;
    world.passes(&run).await;
    assert!(log.contains("artifact all: 1 files, 1000000 bytes") && log.contains("cache out: left under all"), "{log}");
    let run = building(&world, &repository, "RUN echo one > /one\nRUN cat /one > /two && chmod 600 /one").await;
    world.passes(&run).await;
    // Nothing stays mounted.
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap();
    assert!(!mounts.contains(world.folder.path().to_str().unwrap()), "{mounts}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_that_never_answers_holds_no_place_longer_than_till_the_stop() {
    let world = world_with(&[]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let neighbour = Neighbour::new(&world).await;
    let silent = listener().await;
    let address = format!("http://{}", silent.local_addr().unwrap());
    let added = world.pondrix(&["registry", "add", "silent.fernhollow.test", "--at", &address]).await;
    assert_eq!(added.status, 0, "{added:?}");
    let (asked, mut is_asked) = tokio::sync::watch::channel(false);
    let holding = tokio::spawn(async move {
        let mut held = Vec::new();
        while let Ok((connection, _)) = silent.accept().await {
            held.push(connection);
            asked.send_replace(true);
        }
    });
    let run = building_on(&world, &repository, "silent.fernhollow.test", "RUN true").await;
    is_asked.wait_for(|asked| *asked).await.unwrap();
    world.until(&run, |detail| detail.stages[0].jobs[0].state == State::Running).await;
    world.pondrix(&["stop", &run.to_string()]).await;
    assert_eq!(world.end_of(&run).await.summary.state, State::Stopped);
    neighbour.goes_on(&world).await;
    holding.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_step_mounts_hides_nothing_from_the_runner_and_holds_no_folder() {
    let world = world_with(&["--allow-namespaces"]).await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    // An overlay marks the removed file with a device; a process stays behind in the mount namespace.
    let script = "set -e; mkdir low up work over out; echo low > low/a; unshare -U -r -m sh -c 'mount -t overlay over -o \
                  lowerdir=low,upperdir=up,workdir=work,userxattr over; rm over/a; mount -t tmpfs x out; \
                  echo hidden > out/hidden; (sleep 600 &)'; echo below > out/below; echo mounted";
    repository.write("mounts.sh", script).unwrap();
    let (run, log) = said(&world, &repository, "step \"sh mounts.sh\"\nartifact \"all\" \"{up,out}/**\"").await;
    world.passes(&run).await;
    assert!(log.contains("mounted\n") && log.contains("artifact all: 1 files, 6 bytes"), "{log}");
    is_emptied(&runner(&world).join("jobs")).await;
}
