//! How much of what all share a project may have.

use pondrix_core::State;

use crate::images::one_image;
use crate::someone::Someone;
use crate::support::{World, one_job, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_project_has_no_more_room_for_artifacts_and_logs_than_its_quota_and_others_do_not_notice() {
    let world = World::new().await;
    let job = "step \"head -c 3000000 /dev/zero > page; head -c 300000 /dev/zero | tr '\\\\0' x; echo; echo end of it\"\n \
               artifact \"page\" \"page\"";
    let (labels, first) = world.run_of_pipeline("plant-labels", &one_job(job)).await;
    world.passes(&first).await;
    let set = world.pondrix(&["quota", "set", "plant-labels", "--artifacts", "4MiB", "--logs", "400KiB"]).await;
    assert_eq!(set.out, "plant-labels may have 4MiB of artifacts, 400KiB of logs\n", "{}", set.err);
    let shown = world.pondrix(&["quota", "show", "plant-labels"]).await.out;
    assert!(shown.contains("of 4MiB") && shown.contains("of 400KiB"), "{shown}");
    // There is room for less than another one.
    let second = world.run_of("plant-labels", &labels.push("Again").unwrap()).await;
    let ended = world.end_of(&second).await;
    assert_eq!(ended.summary.state, State::Failed);
    let why = format!("{:?}", ended.failure);
    assert!(why.contains("that plant-labels has left for artifacts"), "{why}");
    let log = world.log(&second, "verify/unit").await;
    assert!(log.contains("the most that is kept of a job") && log.contains("end of it"), "{} bytes", log.len());
    // With nothing left nothing begins, and it says what helps.
    world.pondrix(&["quota", "set", "plant-labels", "--artifacts", "2MiB", "--minutes", "0"]).await;
    let third = world.run_of("plant-labels", &labels.push("Once more").unwrap()).await;
    let barred = world.end_of(&third).await.missing;
    let words: Vec<_> = barred.iter().map(|fault| fault.what.as_str()).collect();
    assert!(words.iter().any(|what| what.contains("the artifacts of plant-labels take")), "{words:?}");
    assert!(words.iter().any(|what| what.contains("minutes in 30 days, and may take 0")), "{words:?}");
    assert!(barred.iter().all(|fault| fault.fix.contains("pondrix quota show plant-labels")));
    let (_, other) = world.run_of_pipeline("visitor-desk", &one_job(job)).await;
    world.passes(&other).await;
    // What is said for all holds where nothing is said of one.
    world.pondrix(&["quota", "set", "*", "--artifacts", "1MiB"]).await;
    world.pondrix(&["quota", "set", "plant-labels"]).await;
    let started = world.pondrix(&["start", "visitor-desk", "--follow"]).await;
    assert!(started.out.contains("may take 1MiB"), "{}", started.out);
    let tomas = Someone::new(&world, "tomas", &["--role", "maintain", "--project", "plant-labels"]).await;
    assert!(tomas.pondrix(&["quota", "show"]).await.out.contains("plant-labels"));
    assert!(!tomas.pondrix(&["quota", "show"]).await.out.contains("visitor-desk"));
    assert_eq!(tomas.pondrix(&["quota", "set", "plant-labels", "--artifacts", "9GiB"]).await.status, 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn caches_of_builds_that_are_over_a_projects_quota_go_from_the_runner() {
    let world = World::new().await;
    world.pondrix(&["quota", "set", "*", "--runner-caches", "1MiB"]).await;
    let (labels, _) = world.project("plant-labels", &[]).await;
    labels
        .write(
            "image.recipe",
            "FROM registry.fernhollow.test/base/shell:1\n\
             RUN --mount=type=cache,target=/small head -c 1000 /dev/zero > /small/kept\n\
             RUN --mount=type=cache,target=/large head -c 4000000 /dev/zero > /large/file\n\
             RUN --mount=type=cache,target=/small head -c 1000 /dev/zero > /small/again\n",
        )
        .unwrap();
    labels.write("pondrix.kdl", &one_image("")).unwrap();
    let run = world.run_of("plant-labels", &labels.push("Build").unwrap()).await;
    world.passes(&run).await;
    let server = world.folder.path().join("server");
    let left = || -> Vec<u64> {
        let caches = walk(&server).into_iter().filter(|path| path.to_string_lossy().contains("build-caches"));
        caches
            .filter_map(|path| std::fs::metadata(path).ok())
            .filter(std::fs::Metadata::is_file)
            .map(|data| data.len())
            .collect()
    };
    until("the large cache to go", async || (!left().contains(&4_000_000)).then_some(())).await;
    assert!(left().contains(&1000), "what fits stays: {:?}", left());
}

fn walk(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let (mut all, mut waiting) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(path) = waiting.pop() {
        for entry in std::fs::read_dir(&path).into_iter().flatten().flatten() {
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                waiting.push(entry.path());
            } else {
                all.push(entry.path());
            }
        }
    }
    all
}
