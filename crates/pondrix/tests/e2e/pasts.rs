//! Recipes of all kinds, built by runners with different pasts: what was built before makes no other image.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::time::{Duration, SystemTime};

use pondrix_image::build::BuildInput;
use pondrix_image::digest_of;
use pondrix_standin::garden::REGISTRY;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::recipes::{Case, Place, place};

/// An instruction.
fn any_instruction() -> impl Strategy<Value = String> {
    let file = || prop::sample::select(vec!["a", "b", "src", "src/c", "."]);
    let make = "for f in $(find /w -name '[abc]' -type f | sort); do o=/kept/$(echo $f | tr / _); \
                if [ ! -e $o ] || [ $f -nt $o ]; then cat $f > $o; fi; cat $o; done";
    prop_oneof![
        4 => (file(), prop::sample::select(vec!["/w/", "/w/x/", "/w/src/"])).prop_map(|(from, to)| format!("COPY {from} {to}")),
        1 => file().prop_map(|from| format!("COPY --link --chown=5:6 {from} /w/linked/")),
        1 => Just("COPY --from=first /seen /w/first".to_owned()),
        1 => Just("WORKDIR /w/deep".to_owned()),
        1 => Just("ENV A=$A:b".to_owned()),
        1 => Just("USER 7:8\nWORKDIR /w/own\nUSER root".to_owned()),
        2 => Just("RUN mkdir -p /w && find /w -type f | sort | while read f; do echo $f; cat $f; done > /seen".to_owned()),
        1 => Just("RUN mkdir -p /w && rm -rf /w/x /w/deep".to_owned()),
        // What a program makes that goes by times, and files that it moves out of what it keeps.
        3 => Just(format!("RUN --mount=type=cache,target=/kept mkdir -p /w && {make} > /made")),
        1 => Just("RUN --mount=type=cache,target=/kept touch /kept/one && cp -p /kept/one /taken && cp /kept/one /copied".to_owned()),
        1 => Just("RUN --mount=type=bind,target=/c --mount=type=cache,target=/other \
                   if [ ! -e /other/a ] || [ /c/a -nt /other/a ]; then cat /c/a > /other/a; fi; cat /other/a > /bound".to_owned()),
    ]
}

/// What is in the files, by numbers: a commit after the other.
type History = Vec<[u8; 3]>;

fn case(folder: &Path, number: usize, instructions: &[String], contents: [u8; 3]) -> Case {
    let mut text =
        format!("=== recipe\nFROM {REGISTRY}/base/shell:1 AS first\nCOPY a /\nRUN cat /a > /seen\nFROM first\n");
    for instruction in instructions {
        let _ = writeln!(text, "{instruction}");
    }
    for (name, content) in ["a", "b", "src/c"].iter().zip(contents) {
        let _ = write!(text, "=== file {name}\n{name} {content}\n");
    }
    let file = folder.join(format!("case-{number}.txt"));
    fs::write(&file, text).unwrap();
    Case::read(&file)
}

/// Gives each file of the context the time of its last change, which follows from its content here: a commit of an odd
/// number is older than one of an even.
fn with_times(input: &mut BuildInput) {
    for name in ["a", "b", "src/c"] {
        let path = input.context.join(name);
        let content = fs::read(&path).unwrap();
        let number = u64::from(digest_of(&content).bytes()[0]);
        let time = SystemTime::UNIX_EPOCH + Duration::from_secs(1_600_000_000 + 1000 * number);
        fs::File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
    }
    input.own_times = true;
}

fn digests_agree(place: &Place, instructions: &[String], history: &History) -> Result<(), TestCaseError> {
    let folder = tempfile::tempdir_in(&place.folder).unwrap();
    let knowing = folder.path().join("knowing");
    for (number, contents) in history.iter().enumerate() {
        let case = case(folder.path(), number, instructions, *contents);
        let built = |folder: &Path| {
            let (built, log) = place.build_in(folder, &case, with_times);
            built
                .map(|(built, _)| built.image.digest)
                .map_err(|faults| TestCaseError::fail(format!("{faults:?}\n{log}")))
        };
        let (known, fresh) = (built(&knowing)?, built(&folder.path().join(format!("fresh-{number}")))?);
        prop_assert_eq!(known, fresh, "commit {} of {:?}", number, instructions);
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_makes_the_same_image_of_a_commit_whatever_its_runner_built_before() {
    let folder = tempfile::tempdir().unwrap();
    let (place, stop) = place(folder.path()).await;
    let tried = tokio::task::spawn_blocking(move || {
        let instructions = prop::collection::vec(any_instruction(), 1..6);
        let history = prop::collection::vec(prop::array::uniform3(0_u8..3), 2..5);
        let mut runner =
            TestRunner::new(Config { cases: 16, max_shrink_iters: 60, failure_persistence: None, ..Config::default() });
        runner.run(&(instructions, history), |(instructions, history)| digests_agree(&place, &instructions, &history))
    });
    let tried = tried.await.unwrap();
    stop.cancel();
    tried.unwrap_or_else(|error| panic!("{error}"));
}
