//! Many small files: a commit of a hundred thousand, built by a runner, against git, tar and gzip.

use std::fmt::Write as _;
use std::time::Duration;

use pondrix_api::RunDetail;
use pondrix_core::Time;
use pondrix_standin::garden::{REGISTRY, Repository};
use serde_json::Value;

use super::super::support::World;
use super::super::{measure_of, median};
use super::shell;

const FILES: usize = 100_000;
const FOLDERS: usize = 1_000;
/// How often what changes little is built.
const ROUNDS: usize = 3;

/// Writes files of some hundred bytes, which compress as sources do.
fn fill(repository: &Repository) {
    let words = ["lily", "pond", "fern", "moss", "the", "of", "bed", "label", "warden", "seed"];
    let mut number = 1_usize;
    for file in 0..FILES {
        let mut text = String::new();
        while text.len() < 100 + file % 600 {
            number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let _ = writeln!(text, "{} {}", words[(number >> 40) % words.len()], number >> 52);
        }
        repository.write(&format!("beds/{}/{file}.txt", file % FOLDERS), &text).unwrap();
    }
}

/// How long the image job of a commit took on its runner.
async fn built(world: &World, repository: &Repository, message: &str) -> Duration {
    let commit = repository.push(message).unwrap();
    let run = world.run_of("plant-labels", &commit).await;
    let run = world.until_within(&run, Duration::from_secs(600), |run| run.summary.state.is_over()).await;
    assert_eq!(run.summary.state, pondrix_core::State::Passed, "{:?}", run.failure);
    took(&run)
}

fn took(run: &RunDetail) -> Duration {
    let (job, step) = (&run.stages[0].jobs[0], &run.stages[0].jobs[0].steps[0]);
    let between = |from: Option<Time>, to: Option<Time>| from.zip(to).map_or(0, |(from, to)| to.since(from));
    println!(
        "  of {} ms: until its first step {}, building {}, pushing and telling {}",
        between(job.started, job.ended),
        between(job.started, step.started),
        between(step.started, step.ended),
        between(step.ended, job.ended)
    );
    Duration::from_millis(between(job.started, job.ended))
}

pub(crate) async fn measures() -> Vec<Value> {
    let folder = super::place();
    let place = folder.path();
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    fill(&repository);
    repository.write("image.recipe", "FROM scratch\nCOPY beds /beds\n").unwrap();
    let pipeline = format!(
        "start commit=\"main\"\nstage \"package\" {{\n image \"labels\" {{\n push \"{REGISTRY}/garden/labels\" {{ tag \"{{commit.short}}\" }}\n }}\n}}\n"
    );
    repository.write("pondrix.kdl", &pipeline).unwrap();
    let first = built(&world, &repository, "A hundred thousand beds").await;
    let mut changed = Vec::new();
    for round in 0..ROUNDS {
        repository.write("beds/7/7.txt", &format!("{round}\n")).unwrap();
        changed.push(built(&world, &repository, "One bed").await);
    }
    let mut unchanged = Vec::new();
    for round in 0..ROUNDS {
        repository.write("README.md", &format!("{round}\n")).unwrap();
        unchanged.push(built(&world, &repository, "None of the beds").await);
    }
    let (bare, out) = (repository.bare.display(), place.join("many"));
    let (out, packed) = (out.display(), place.join("many.tar.gz"));
    let packed = packed.display();
    let taken_out = shell(&format!("mkdir {out}; git -C {bare} archive --format=tar main | tar -x -C {out}"));
    let archived = shell(&format!("tar -C {out} -cf - beds | gzip -6 > {packed}"));
    vec![
        measure_of("image of 100,000 files, the first", "s", first, taken_out.time + archived.time, 1.0),
        measure_of("image of 100,000 files, one changed", "s", median(changed), archived.time, 1.0),
        measure_of("image of 100,000 files, none changed", "ms", median(unchanged), Duration::from_millis(500), 1.0),
    ]
}
