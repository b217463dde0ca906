//! No recipe, image or job sees the machine's root: the ways that led there are tried through the real runner, as root's and
//! as an ordinary user's. What is mounted at which place by hand is tried in the sandbox's own tests.

use pondrix_core::{RunId, State};
use pondrix_standin::garden::{REGISTRY, Repository};

use crate::support::{World, one_job};

/// What is said where the machine is seen; the recipe's own words, which its log repeats, are others.
const SEEN: &str = "42 seen in ";

/// Reads the machine's folders wherever they were to be seen, by the name of a file that only the machine has.
fn looks(world: &World) -> String {
    let machine = std::fs::canonicalize(world.folder.path()).unwrap().join("server/records.db");
    assert!(machine.is_file());
    let machine = machine.display();
    format!(
        "for way in /.. /x /x/.. /mnt /mnt/.. /sys /proc/1/root /proc/1/cwd /run /run/.. /proc/self/fd/*; do \
         test -e $way{machine} && echo $((6*7)) seen in $way; done; ls -d /../lost+found /../boot 2>/dev/null; echo looked; "
    )
}

/// A pipeline that builds the recipe, on a runner of the pool.
fn building(here: &str) -> String {
    format!(
        "start commit=\"main\"\nstage \"package\" {{ image \"labels\" {{ {here}push \"{REGISTRY}/garden/labels\" {{ tag \"{{run}}\" }} }} }}\n"
    )
}

/// What became of a build: what its failure says, and its log.
async fn built(world: &World, repository: &Repository, recipe: &str) -> (String, String) {
    repository.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\n{recipe}")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("A recipe").unwrap()).await;
    let ended = world.end_of(&run).await;
    let what = ended.failure.map(|failure| failure.what).unwrap_or_default();
    (what, world.log(&run, "package/labels").await)
}

/// Recipes that had the machine's root shown to them.
pub(crate) async fn recipes_find_no_way_out(world: &World, repository: &Repository, here: &str) {
    let looks = looks(world);
    repository.write("pondrix.kdl", &building(here)).unwrap();
    // A link in a folder is copied as it is.
    let link = |name: &str, target: &str| {
        let folder = repository.folder().join("links");
        drop(std::fs::remove_dir_all(&folder));
        std::fs::create_dir(&folder).unwrap();
        std::os::unix::fs::symlink(target, folder.join(name)).unwrap();
    };
    link("x", "/proc/self/fd/18");
    let mount = |target: &str| format!("RUN --mount=type=tmpfs,target={target} {looks} cat /../etc/hostname\n");
    // What is written in the recipe, in an argument, and in a link that an instruction made or copied.
    for (recipe, words) in [
        (mount("/proc/self/fd/18"), "nothing can be mounted at /proc/self/fd/18"),
        (format!("ARG AT=/proc/self/fd/18\n{}", mount("$AT")), "nothing can be mounted at /proc/self/fd/18"),
        (format!("RUN ln -s /proc/self/fd /x\n{}", mount("/x/18")), "which is /proc/self/fd/18 in this image"),
        (format!("COPY links /\n{}", mount("/x")), "which is /proc/self/fd/18 in this image"),
        (format!("WORKDIR /proc/self\n{}", mount("fd/18")), "which is /proc/self/fd/18 in this image"),
        (mount("/"), "nothing can be mounted at /"),
    ] {
        let (what, log) = built(world, repository, &recipe).await;
        assert!(what.contains(words) && !log.contains(SEEN), "{recipe}: {what}\n{log}");
    }
    // A link where the sandbox mounts something of its own: no command can put one there, and an image that has one is
    // refused.
    for (name, target) in [("sys", "/proc/self/fd/19"), ("proc", "/x"), ("dev", "/"), ("sys", ".."), ("dev", "/dev")] {
        let made = format!("RUN rmdir /{name}; ln -s {target} /{name} || true\nRUN {looks}\n");
        let (_, log) = built(world, repository, &made).await;
        assert!(log.contains("looked") && !log.contains(SEEN), "{made}: {log}");
        link(name, target);
        let from = format!("FROM {REGISTRY}/base/shell:1 AS shell\nFROM scratch\n");
        let recipe = format!("{from}COPY --from=shell /bin /bin\nCOPY links /\nRUN {looks}\n");
        let (what, log) = built(world, repository, &recipe).await;
        let words = format!("the image has a link or a file at /{name}");
        assert!(what.contains(&words) && !log.contains(SEEN), "{recipe}: {what}\n{log}");
    }
}

/// Jobs that put a link where the next step's secret file is mounted, and name every descriptor.
pub(crate) async fn steps_find_no_way_out(world: &World, repository: &Repository, here: &str) {
    let looks = looks(world);
    repository.write("looks.sh", &looks).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "KEY"], "opens-every-gate").0);
    let moves: String = (3..40)
        .flat_map(|number| {
            let link = |at: &str| {
                format!("step \"rm -rf /gone{number}; mv {at} /gone{number}; ln -s /proc/self/fd/{number} {at}\"\nstep \"sh looks.sh\" may-fail=#true\n")
            };
            [link("/run"), format!("step \"rm /run; mv /gone{number} /run\"\n")]
        })
        .collect();
    let job = format!("{here}secret \"KEY\" file=\"key\"\nstep \"test $(cat $KEY) = opens-every-gate\"\n{moves}");
    repository.write("pondrix.kdl", &one_job(&job)).unwrap();
    let run = world.run_of("plant-labels", &repository.push("Links").unwrap()).await;
    world.end_of(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert!(!log.contains(SEEN), "{log}");
}

/// The mount points and open descriptors that something inside has, and what else it lists.
const LISTS: &str = "cat /proc/self/mountinfo; ls -l /proc/self/fd || true; echo listed";

/// Every mount that there may be inside, by its place.
const MOUNTS: [&str; 32] = [
    "/",
    "/proc",
    "/sys",
    "/dev",
    "/dev/null",
    "/dev/zero",
    "/dev/full",
    "/dev/random",
    "/dev/urandom",
    "/dev/pts",
    "/dev/shm",
    "/tmp",
    "/workspace",
    "/etc/hosts",
    "/etc/resolv.conf",
    "/run/pondrix",
    "/sys/firmware",
    "/proc/acpi",
    "/proc/asound",
    "/proc/kallsyms",
    "/proc/kcore",
    "/proc/key-users",
    "/proc/keys",
    "/proc/kmsg",
    "/proc/latency_stats",
    "/proc/sched_debug",
    "/proc/scsi",
    "/proc/timer_list",
    "/proc/bus",
    "/proc/fs",
    "/proc/irq",
    "/proc/sys",
];

/// Whether a log lists the mounts that are meant, and no others, and the standard descriptors alone.
fn lists_what_is_meant(log: &str) {
    assert!(log.contains("listed"), "{log}");
    let mut places = Vec::new();
    for line in log.lines().filter(|line| line.contains(" - ")) {
        let words: Vec<_> = line.split(' ').collect();
        let separator = words.iter().position(|word| *word == "-").unwrap();
        let from =
            words.iter().position(|word| word.contains(':') && word.starts_with(|c: char| c.is_ascii_digit())).unwrap();
        assert!(separator > from + 2, "{line}");
        places.push(words[from + 2].to_owned());
    }
    let unknown: Vec<_> =
        places.iter().filter(|at| !MOUNTS.contains(&at.as_str()) && *at != "/proc/sysrq-trigger").collect();
    assert!(unknown.is_empty() && places.len() > 14, "{unknown:?}: {log}");
    for line in log.lines().filter(|line| line.contains(" -> ")) {
        let is_known = [" 0 -> /dev/null", " 1 -> pipe:", " 2 -> pipe:"].iter().any(|known| line.contains(known));
        assert!(is_known || line.contains("/proc/") && line.ends_with("/fd"), "{line}");
    }
}

/// What a job, a service and a build list.
pub(crate) async fn lists_of_each_are_as_meant(world: &World, repository: &Repository, here: &str) {
    let service = format!(
        "service \"pond\" \"{REGISTRY}/base/shell:1\" {{\nrun \"{LISTS}; while true; do nc -l -p 7001 < /dev/null; done\"\nready tcp=7001 within=\"1m\"\n}}\n"
    );
    repository.write("pondrix.kdl", &one_job(&format!("{here}{service}step \"{LISTS}\""))).unwrap();
    let run: RunId = world.run_of("plant-labels", &repository.push("Lists").unwrap()).await;
    assert_eq!(world.end_of(&run).await.summary.state, State::Passed);
    let log = world.log(&run, "verify/unit").await;
    let (of_service, of_step): (Vec<_>, Vec<_>) = log.lines().partition(|line| line.starts_with("pond> "));
    for lines in [of_service, of_step] {
        lists_what_is_meant(&lines.join("\n"));
    }
    repository.write("pondrix.kdl", &building(here)).unwrap();
    let (what, log) = built(world, repository, &format!("RUN {LISTS}\n")).await;
    assert_eq!(what, "");
    lists_what_is_meant(&log);
}

#[tokio::test(flavor = "multi_thread")]
async fn no_recipe_and_no_step_sees_the_machines_root() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    recipes_find_no_way_out(&world, &repository, "").await;
    steps_find_no_way_out(&world, &repository, "").await;
    lists_of_each_are_as_meant(&world, &repository, "").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_mounted_for_a_network_are_no_part_of_a_layer_wherever_links_lead() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &building("")).unwrap();
    let etc = repository.folder().join("links/etc");
    std::fs::create_dir_all(&etc).unwrap();
    std::os::unix::fs::symlink("../run/resolve/stub.conf", etc.join("resolv.conf")).unwrap();
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1 AS shell\nFROM scratch AS one\nCOPY --from=shell /bin /bin\nCOPY links /\n\
         RUN cat /etc/hosts; ls /run/resolve/stub.conf; touch /made\n\
         FROM {REGISTRY}/base/shell:1\nCOPY --from=one / /seen/\nRUN find /seen -path /seen/bin -prune -o -print\n"
    );
    let (what, log) = built(&world, &repository, &format!("RUN true\n{recipe}")).await;
    assert_eq!(what, "", "{log}");
    assert!(log.contains("localhost") && log.contains("/run/resolve/stub.conf\n"), "it is seen while it runs: {log}");
    let mut seen: Vec<_> = log
        .lines()
        .filter_map(|line| line.rsplit_once("> ").map_or(line, |(_, said)| said).strip_prefix("/seen"))
        .collect();
    seen.sort_unstable();
    assert_eq!(seen, ["", "/etc", "/etc/resolv.conf", "/made"], "{log}");
}
