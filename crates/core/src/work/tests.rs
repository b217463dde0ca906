//! What jobs become for a runner.

use super::*;
use crate::pipeline;
use crate::plan::{Plan, Start};

fn facts(branch: &str) -> RunFacts {
    RunFacts {
        id: "visitor-desk#7".parse().unwrap(),
        commit: "0123456789abcdef0123456789abcdef01234567".into(),
        branch: branch.into(),
        tag: None,
        commit_time: Time::from_millis(1_790_000_000_000),
        start: StartKind::Manual,
        inputs: [("extra-tag".to_owned(), "{run}".to_owned())].into(),
        is_try: false,
        was_trusted: true,
    }
}

fn jobs(text: &str) -> Vec<PlannedJob> {
    let start =
        Start { kind: StartKind::Manual, branch: "main".into(), tag: None, changed: None, inputs: BTreeMap::new() };
    let pipeline = pipeline::read(text).unwrap_or_else(|faults| panic!("{faults:#?}"));
    Plan::new(&pipeline, &start).jobs().cloned().collect()
}

#[test]
fn tags_are_filled_in_for_the_run_even_on_a_branch_no_tag_could_hold() {
    let text =
        r#"stage "p" { image "desk" { push "x.test/desk" { tag "{branch}-{commit.short}"; moving "{branch}" } } }"#;
    let planned = &jobs(text)[0];
    let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
    let work = ImageWork::new(planned, job, &facts("fix/; rm -rf /"), "ssh://x", true, &Outputs::new()).unwrap();
    assert_eq!(work.pushes[0].tags[0].as_str(), "fix---rm--rf---0123456789ab");
    assert_eq!(work.pushes[0].moving[0].as_str(), "fix---rm--rf--");
    assert_eq!(work.annotations["org.opencontainers.image.created"], "2026-09-21T14:13:20.000Z");
}

#[test]
fn a_run_of_files_that_are_not_committed_pushes_under_tags_of_its_own_only() {
    let text = r#"stage "p" { image "desk" { push "x.test/desk" { tag "{commit.short}"; moving "edge" } } }"#;
    let planned = &jobs(text)[0];
    let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
    let facts = RunFacts { is_try: true, ..facts("main") };
    let push = ImageWork::new(planned, job, &facts, "", true, &Outputs::new()).unwrap().pushes.remove(0);
    assert_eq!((push.tags[0].as_str(), push.moving[0].as_str()), ("try-7-0123456789ab", "try-7-edge"));
}

#[test]
fn what_a_project_does_not_trust_pushes_under_tags_of_its_branch_or_tag_only() {
    let text = r#"stage "p" { image "desk" { push "x.test/desk" { tag "1.0-{run}"; moving "edge" } } }"#;
    let planned = &jobs(text)[0];
    let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
    let tags = |facts: &RunFacts, is_trusted| {
        let push = ImageWork::new(planned, job, facts, "", is_trusted, &Outputs::new()).unwrap().pushes.remove(0);
        (push.tags[0].to_string(), push.moving[0].to_string())
    };
    let told = |one: &str, other: &str| (one.to_owned(), other.to_owned());
    let branch = facts("fix/weeds");
    assert_eq!(tags(&branch, true), told("1.0-7", "edge"));
    assert_eq!(tags(&branch, false), told("branch-fix-weeds-1.0-7", "branch-fix-weeds-edge"));
    let tag = RunFacts { tag: Some("v1".to_owned()), ..facts("") };
    assert_eq!(tags(&tag, false), told("tag-v1-1.0-7", "tag-v1-edge"));
    let long = RunFacts { branch: "x".repeat(300), ..facts("") };
    assert_eq!(tags(&long, false).0, format!("branch-{}-1.0-7", "x".repeat(56)));
    // A try is trusted by nobody, whatever it comes after.
    let of_try = RunFacts { is_try: true, ..branch };
    assert_eq!(tags(&of_try, true), tags(&of_try, false));
}

#[test]
fn an_index_is_made_of_what_each_of_its_jobs_pushed_and_of_nothing_while_one_pushed_nothing() {
    let text = r#"stage "p" { image "desk" { platform "linux/amd64" "linux/arm64" build="native"; push "x.test/desk" { tag "{run}" } } }"#;
    let planned = jobs(text);
    assert!(ImagePart::all(&planned[0], &Run::new(&Plan::default())).unwrap().is_empty());
    let start =
        Start { kind: StartKind::Manual, branch: "main".into(), tag: None, changed: None, inputs: BTreeMap::new() };
    let mut run = Run::new(&Plan::new(&pipeline::read(text).unwrap(), &start));
    let digest = |letter: char| format!("sha256:{}", letter.to_string().repeat(64)).parse::<Digest>().unwrap();
    for (at, letter) in [(0, 'a'), (1, 'b')] {
        let refused = ImagePart::all(&planned[2], &run).unwrap_err().to_string();
        assert_eq!(refused, format!("{} pushed no image", planned[at].key));
        run.stages[0].jobs.change(at).unwrap().results.push(JobResult::Image {
            repository: "x.test/desk".parse().unwrap(),
            digest: digest(letter),
            tags: Vec::new(),
            base: None,
            platforms: Vec::new(),
        });
    }
    let parts = ImagePart::all(&planned[2], &run).unwrap();
    let told: Vec<_> = parts.into_iter().map(|part| (part.platform, part.digest)).collect();
    assert_eq!(told, [("linux/amd64".to_owned(), digest('a')), ("linux/arm64".to_owned(), digest('b'))]);
}

#[test]
fn an_input_may_be_several_tags_or_none() {
    let text = "input \"extra-tag\"\nstage \"p\" { image \"d\" { push \"x.test/d\" { tag \"{commit.short}\" \"{input.extra-tag}\" } } }";
    let planned = &jobs(text)[0];
    let JobKind::Image(job) = &planned.kind else { panic!("it is an image job") };
    let tags = |said: &str| {
        let facts = RunFacts { inputs: [("extra-tag".to_owned(), said.to_owned())].into(), ..facts("main") };
        let work = ImageWork::new(planned, job, &facts, "", true, &Outputs::new());
        work.map(|work| work.pushes[0].tags.iter().map(Tag::to_string).collect::<Vec<_>>())
    };
    assert_eq!(tags("").unwrap(), ["0123456789ab"]);
    assert_eq!(tags(" v1  v1.2 v1 ").unwrap(), ["0123456789ab", "v1", "v1.2"]);
    assert!(matches!(tags("v1 -x"), Err(WorkError::Tag(_))));
}

#[test]
fn commands_see_values_as_variables_and_stay_as_they_were_written() {
    let text = r#"stage "v" { job "u" { container "x.test/y:1"; env A="1"; step "echo {branch}" } }"#;
    let planned = &jobs(text)[0];
    let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
    let outputs = Outputs::from([(("unit-a".to_owned(), "version".to_owned()), "1.2".to_owned())]);
    let work = StepsWork::new(planned, job, &facts("; rm -rf /"), 2, &outputs, None).unwrap();
    assert_eq!(work.steps[0].command, "echo {branch}");
    assert_eq!(work.env["PONDRIX_BRANCH"], "; rm -rf /");
    assert_eq!((work.env["A"].as_str(), work.env["SOURCE_DATE_EPOCH"].as_str()), ("1", "1790000000"));
    assert_eq!((work.env["PONDRIX_INPUT_EXTRA_TAG"].as_str(), work.env["PONDRIX_ATTEMPT"].as_str()), ("{run}", "2"));
}

#[test]
fn a_job_of_a_matrix_sees_its_own_values() {
    let text =
        r#"stage "v" { job "u" { matrix { base "shell" "web" }; container "x.test/{matrix.base}:1"; step "x" } }"#;
    let planned = jobs(text);
    let images = planned.iter().map(|planned| {
        let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
        let work = StepsWork::new(planned, job, &facts("main"), 1, &Outputs::new(), None).unwrap();
        (work.image.unwrap().to_string(), work.env["PONDRIX_MATRIX_BASE"].clone(), work.env["PONDRIX_JOB"].clone())
    });
    let expected = ["shell", "web"].map(|base| (format!("x.test/{base}:1"), base.to_owned(), format!("u:{base}")));
    assert_eq!(images.collect::<Vec<_>>(), expected);
}

#[test]
fn an_input_cannot_become_a_name_that_no_image_has() {
    let text = "input \"base\"\nstage \"v\" { job \"u\" { container \"x.test/{input.base}:1\"; step \"x\" } }";
    let planned = &jobs(text)[0];
    let JobKind::Steps(job) = &planned.kind else { panic!("it has steps") };
    let facts = RunFacts { inputs: [("base".to_owned(), "../../etc".to_owned())].into(), ..facts("main") };
    assert!(matches!(StepsWork::new(planned, job, &facts, 1, &Outputs::new(), None), Err(WorkError::Tag(_))));
}
