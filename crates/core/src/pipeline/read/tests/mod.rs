//! The reader.

mod faults;
mod notation;
mod print;
mod synonyms;
mod templates;

use proptest::prelude::*;

use super::*;
use crate::pipeline::{JobKind, StartRule};

const WHOLE: &str = r#"
about "Opening hours"
start commit="main"
start commit="release/*"
stage "verify" {
    job "unit" {
        container "registry.fernhollow.test/base/shell:1"
        limit time="10m"
        env TZ="UTC" LANG="C"
        step "./test.sh"
        step name="lint" """
            sh -n desk/*.sh
            echo fine
            """
    }
}
stage "package" {
    image "desk" {
        recipe "image.recipe" context="."
        arg BASE="registry.fernhollow.test/base/web:1"
        push "registry.fernhollow.test/visitor/desk" {
            tag "{commit.short}" "{commit.short}-{run}"
            moving "edge"
        }
    }
}
stage "staging" {
    rollout "desk" { to "staging"; image "desk"; manifests "deploy/*.yaml"; limit time="2m" }
}
"#;

/// Messages of a faulty text, each with its line and column.
fn faults(text: &str) -> Vec<String> {
    let faults = read(text).expect_err("the text has faults");
    faults.iter().map(|f| format!("{}:{} {}", f.place.line, f.place.column, f.message)).collect()
}

fn in_job(line: &str) -> String {
    format!("stage \"a\" {{\n job \"b\" {{\n container \"x.test/y:1\"\n step \"true\"\n {line}\n }}\n}}\n")
}

#[test]
fn a_whole_file_is_read() {
    let pipeline = read(WHOLE).unwrap();
    assert_eq!(pipeline.about.as_deref(), Some("Opening hours"));
    let starts = |name: &str| {
        pipeline.starts.iter().any(|rule| matches!(rule, StartRule::Commit { branch, .. } if branch.matches(name)))
    };
    assert!(starts("main") && starts("release/2"));
    assert!(!starts("release/2/x") && !starts("mainly"));
    let names: Vec<_> =
        pipeline.jobs().map(|(stage, job)| format!("{}/{}", stage.name.value, job.name.value)).collect();
    assert_eq!(names, ["verify/unit", "package/desk", "staging/desk"]);
    let JobKind::Steps(unit) = &pipeline.stages[0].jobs[0].kind else { panic!("unit has steps") };
    assert_eq!(unit.time.seconds(), 600);
    assert_eq!(unit.steps[1].command, "sh -n desk/*.sh\necho fine");
    assert_eq!((unit.steps[0].name.as_str(), unit.steps[1].name.as_str()), ("./test.sh", "lint"));
    assert_eq!(unit.env["TZ"], "UTC");
}

#[test]
fn what_is_stored_of_a_pipeline_reads_back_equal() {
    let pipeline = read(WHOLE).unwrap();
    let stored = serde_json::to_string(&pipeline).unwrap();
    assert_eq!(serde_json::from_str::<Pipeline>(&stored).unwrap(), pipeline);
}

#[test]
fn an_unknown_word_is_a_fault_with_the_nearest_known_one() {
    let text = WHOLE.replace("moving", "movign").replace("recipe \"", "recpie \"");
    let faults = read(&text).unwrap_err();
    assert_eq!(faults[0].message, "`recpie` is not a word here");
    assert_eq!(faults[0].help.as_deref(), Some("did you mean `recipe`?"));
    assert_eq!(faults[1].message, "`movign` is not a word here");
    assert_eq!(faults[1].help.as_deref(), Some("did you mean `moving`?"));
    assert_eq!(faults[1].place, crate::pipeline::Place { line: 23, column: 13, width: 6 });
    assert_eq!(faults.len(), 2, "all faults are told at once");
}

#[test]
fn a_fault_is_shown_with_its_line_underlined() {
    let fault = &read(&in_job("limit tiem=\"1m\"")).unwrap_err()[0];
    let shown = "\
fault: `limit` has no `tiem`
   at pondrix.kdl:5:8
  |
5 |  limit tiem=\"1m\"
  |        ^^^^
   help: did you mean `time`?
";
    assert_eq!(fault.render("pondrix.kdl"), shown);
}

#[test]
fn values_that_cannot_work_are_faults_where_they_stand() {
    for (line, expected) in [
        (
            "limit time=\"10\"",
            "5:8 `10` is not a length of time: write a number with a unit, as in `90s`, `10m`, `1h30m` or `3d`",
        ),
        ("step", "5:2 `step` lacks a command"),
        ("step \" \"", "5:7 this step has no command"),
        ("step \"a\" \"b\"", "5:11 `step` takes no further value"),
        ("env A-B=\"x\"", "5:6 `A-B` cannot be a variable's name"),
        ("env CI=\"x\"", "5:6 `CI` is set by Pondrix itself"),
        ("container \"x.test/z:1\"", "5:2 this job says twice where it runs"),
        ("step #true", "5:7 `#true` is not a string"),
        ("step \"x\" { y; }", "5:13 `y` is not a word here"),
        ("container \"z\" { y; }", "5:18 `container` takes no braces"),
    ] {
        let found = faults(&in_job(line));
        assert!(found.iter().any(|f| f == expected), "{line}: {found:?}");
    }
}

#[test]
fn a_job_without_place_or_step_and_a_stage_without_job_are_faults() {
    assert_eq!(
        faults("stage \"a\" { job \"b\" { }\n }"),
        ["1:13 this job does not say where it runs", "1:13 this job has no step",]
    );
    assert_eq!(faults("stage \"a\""), ["1:1 this stage has nothing to do"]);
    assert_eq!(faults(""), ["1:1 the file has no `stage`"]);
}

#[test]
fn a_tag_that_never_changes_must_be_called_moving() {
    let text = WHOLE.replace("tag \"{commit.short}\" \"{commit.short}-{run}\"", "tag \"v1\"");
    let found = read(&text).unwrap_err();
    assert_eq!(found[0].message, "the tag `v1` would be the same for every run, and a `tag` is pushed once");
    assert_eq!(found[0].help.as_deref(), Some("write `moving \"v1\"`, or put {commit.short} or {run} into it"));
    let by_base = WHOLE.replace("start commit=\"main\"", "start commit=\"main\"\nstart base-moved");
    let found = faults(&by_base);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(found[0].contains("would find the tag `{commit.short}` taken"), "{}", found[0]);
}

#[test]
fn tags_that_no_registry_would_take_are_faults() {
    for (tag, expected) in [
        ("{commit.shrot}", "`{commit.shrot}` is not known"),
        ("a b-{run}", "`a b-{run}` cannot be a tag"),
        ("-{run}", "`-{run}` cannot be a tag"),
        ("{run", "a `{` or `}` has no partner; write `{{` or `}}` for the brace itself"),
    ] {
        let found = faults(&WHOLE.replace("\"{commit.short}-{run}\"", &format!("\"{tag}\"")));
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].ends_with(expected), "{tag}: {found:?}");
    }
}

#[test]
fn a_rollout_of_an_image_that_no_earlier_stage_builds_is_a_fault() {
    let found = read(&WHOLE.replace("image \"desk\"; man", "image \"dsk\"; man")).unwrap_err();
    assert_eq!(found[0].message, "no earlier stage builds an image `dsk`");
    assert_eq!(found[0].help.as_deref(), Some("did you mean `desk`?"));
}

#[test]
fn paths_that_leave_the_repository_are_faults() {
    for (from, to) in [("context=\".\"", "context=\"../x\""), ("\"image.recipe\"", "\"/etc/passwd\"")] {
        let found = faults(&WHOLE.replace(from, to));
        assert!(found[0].contains("is not a path inside the repository"), "{found:?}");
    }
}

#[test]
fn names_that_stand_twice_are_faults() {
    let twice = WHOLE.replace("stage \"staging\"", "stage \"verify\"");
    assert!(faults(&twice)[0].ends_with("two stages are called `verify`"));
}

#[test]
fn what_is_not_kdl_is_a_fault_with_its_place() {
    assert_eq!(faults("stage \"a\" {\n  job 1A {\n  }\n}\n"), ["2:7 `1A` must stand in quotes"]);
    assert!(!faults("stage \"a\" {\n  job \"b {\n}\n").is_empty());
}

proptest! {
    #[test]
    fn no_text_makes_the_reader_panic(text in "(.|\n){0,80}") {
        let _ = read(&text);
    }

    #[test]
    fn no_damage_to_a_good_file_makes_the_reader_panic(at in 0usize..1200, cut in 0usize..40, put in "[a-z\"{}=;\n]{0,5}") {
        let letters: Vec<char> = WHOLE.chars().collect();
        let at = at.min(letters.len());
        let damaged: String = letters[..at].iter().copied().chain(put.chars())
            .chain(letters[(at + cut).min(letters.len())..].iter().copied()).collect();
        let _ = read(&damaged);
    }
}
