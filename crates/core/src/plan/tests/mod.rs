//! Plans.

use proptest::prelude::*;

use super::*;
use crate::pipeline;

fn on(branch: &str) -> Start {
    Start { kind: StartKind::Commit, branch: branch.into(), tag: None, changed: None, inputs: BTreeMap::new() }
}

fn tagged(tag: &str) -> Start {
    Start { branch: String::new(), tag: Some(tag.into()), ..on("") }
}

fn changing(paths: &[&str]) -> Start {
    Start { changed: Some(paths.iter().map(|path| (*path).to_owned()).collect()), ..on("main") }
}

/// A job of one step with these lines in it.
fn job(name: &str, lines: &str) -> String {
    format!("job \"{name}\" {{ container \"x.test/y:1\"; step \"true\"\n {lines}\n }}\n")
}

fn read(text: &str) -> Pipeline {
    pipeline::read(text).unwrap_or_else(|faults| panic!("{text}\n{faults:#?}"))
}

fn why(text: &str, start: &Start) -> Option<String> {
    Plan::new(&read(text), start).jobs().next().unwrap().left_out.clone()
}

#[test]
fn a_condition_leaves_a_job_out_and_says_why() {
    let starts = "start commit=\"*\"; start tag=\"v*\"; start schedule=\"0 5 * * *\"\n";
    let with = |lines: &str| format!("{starts}stage \"a\" {{ {} }}", job("b", lines));
    for (lines, start, expected) in [
        ("when branch=\"main\"", on("main"), None),
        ("when branch=\"main\"", on("fix"), Some("only on branch main, and this is fix")),
        ("when branch=\"main\"", tagged("v1"), Some("only on branch main, and this is of tag v1")),
        ("when tag=\"v*\"", on("main"), Some("only for a tag v*, and no tag started this")),
        ("when tag=\"v2*\"", tagged("v1"), Some("only for a tag v2*, and this is v1")),
        ("when start=\"schedule\"", on("main"), Some("only when started by schedule, and this was by commit")),
        ("when changed=\"desk/**\"", changing(&["desk/a/b"]), None),
        ("when changed=\"desk/**\"", changing(&["docs/a"]), Some("only when desk/** changed, and nothing of it did")),
        ("when changed=\"desk/**\"", on("main"), None),
        ("when branch=\"fix\"\n when changed=\"desk/**\"", on("main"), None),
        ("when branch=\"a\"\n when branch=\"b\"", on("c"), Some("no `when` holds: only on branch a, and this is c")),
        ("unless branch=\"main\"", on("main"), Some("not when branch=main")),
        ("unless branch=\"main\"", on("fix"), None),
    ] {
        assert_eq!(why(&with(lines), &start).as_deref(), expected, "{lines}");
    }
}

#[test]
fn a_stage_that_is_left_out_leaves_its_jobs_out_and_a_rollout_follows_its_image() {
    let text = format!(
        "stage \"a\" {{ unless branch=\"main\"\n {} }}\nstage \"p\" {{ image \"desk\" {{ when branch=\"fix\"; push \"x.test/d\" {{ tag \"{{run}}\" }} }} }}\n\
         stage \"s\" {{ rollout \"desk\" {{ to \"staging\"; image \"desk\"; manifests \"d/*\" }} }}",
        job("b", "")
    );
    let plan = Plan::new(&read(&text), &on("main"));
    let whys: Vec<_> = plan.jobs().map(|job| job.left_out.clone().unwrap()).collect();
    let expected =
        ["its stage: not when branch=main", "only on branch fix, and this is main", "the image `desk` is left out"];
    assert_eq!(whys, expected);
    assert_eq!(plan.nothing_to_do().unwrap(), format!("every job is left out: {}", whys[0]));
    assert_eq!(Plan::new(&read(&text), &on("fix")).nothing_to_do(), None);
}

#[test]
fn a_matrix_makes_a_job_of_each_combination_and_after_means_all_of_them() {
    let text = format!(
        "stage \"a\" {{ {} {} }}",
        job("labels", "matrix { base \"Debian 12\" \"alpine\"; size \"s\" \"l\"; without base=\"alpine\" size=\"l\" }"),
        job("sum", "after \"labels\"")
    );
    let plan = Plan::new(&read(&text), &on("main"));
    let keys: Vec<_> = plan.jobs().map(|job| job.key.to_string()).collect();
    assert_eq!(keys, ["a/labels:debian-12:s", "a/labels:debian-12:l", "a/labels:alpine:s", "a/sum"]);
    let sum = plan.jobs().last().unwrap();
    assert_eq!(sum.after.iter().map(ToString::to_string).collect::<Vec<_>>(), keys[..3]);
    assert_eq!(plan.jobs().next().unwrap().matrix["base"], "Debian 12");
}

#[test]
fn variables_of_the_file_of_the_stage_and_of_the_job_add_up_and_the_nearest_counts() {
    let text = format!(
        "env A=\"file\" B=\"file\" C=\"file\"\nstage \"a\" {{ env B=\"stage\" C=\"stage\"\n {} }}",
        job("b", "env C=\"job\"")
    );
    let plan = Plan::new(&read(&text), &on("main"));
    let JobKind::Steps(steps) = &plan.jobs().next().unwrap().kind else { panic!("it has steps") };
    let shown: Vec<_> = steps.env.iter().map(|(name, value)| format!("{name}={value}")).collect();
    assert_eq!(shown, ["A=file", "B=stage", "C=job"]);
}

#[test]
fn a_start_fits_by_branch_and_changed_files_by_tag_or_by_clock() {
    let text = format!(
        "start commit=\"main\" changed=\"{{desk,deploy}}/**\"\nstart tag=\"v*\"\nstart schedule=\"0 5 * * *\" branch=\"nightly\"\nstage \"a\" {{ {} }}",
        job("b", "")
    );
    let pipeline = read(&text);
    assert_eq!(check_start(&pipeline, &changing(&["deploy/x.yaml"])), Ok(()));
    assert_eq!(
        check_start(&pipeline, &changing(&["docs/x"])).unwrap_err().to_string(),
        "nothing that fits `{desk,deploy}/**` was changed"
    );
    assert_eq!(check_start(&pipeline, &on("fix")).unwrap_err().to_string(), "no `start` of its pipeline fits");
    assert_eq!(check_start(&pipeline, &tagged("v1")), Ok(()));
    assert!(check_start(&pipeline, &tagged("x1")).is_err());
    assert_eq!(check_start(&pipeline, &Start { kind: StartKind::Schedule, ..on("nightly") }), Ok(()));
}

#[test]
fn inputs_are_checked_and_filled_up_all_at_once() {
    let text = format!(
        "input \"size\" default=\"s\" {{ one-of \"s\" \"l\" }}\ninput \"count\" kind=\"number\" least=1 most=3\ninput \"dry\" kind=\"yes-no\" default=#false\ninput \"note\" longest=3 default=\"\"\nstage \"a\" {{ {} }}",
        job("b", "")
    );
    let declared = read(&text).inputs;
    let said = |pairs: &[(&str, &str)]| {
        inputs(&declared, &pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect())
    };
    let values = said(&[("count", "2"), ("dry", "yes")]).unwrap();
    assert_eq!(values.values().collect::<Vec<_>>(), ["2", "yes", "", "s"]);
    let faults = said(&[("count", "4"), ("size", "m"), ("note", "long"), ("cuont", "1")]).unwrap_err();
    assert_eq!(
        faults.0.iter().map(ToString::to_string).collect::<Vec<_>>(),
        [
            "`m` cannot be the input `size`: write one of s, l",
            "`4` cannot be the input `count`: write a whole number from 1 to 3",
            "`long` cannot be the input `note`: write a text of at most 3 letters",
            "the pipeline has no input `cuont`; did you mean `count`?",
        ]
    );
    assert_eq!(said(&[]).unwrap_err().to_string(), "the input `count` has no value: write --input count=VALUE");
}

#[test]
fn files_are_taken_from_the_nearest_job_before_that_keeps_them_or_from_the_one_that_is_named() {
    let keeps = "artifact \"site\" \"out/**\"";
    let text = format!(
        "stage \"a\" {{ {} }}\nstage \"b\" {{ {} {} }}\nstage \"c\" {{ {} {} }}",
        job("old", keeps),
        job("taker", "after \"new\"\n fetch \"site\""),
        job("new", &format!("matrix {{ bed \"rose\" }}\n {keeps}")),
        job("far", "fetch \"site\" from=\"old\""),
        job("near", "fetch \"site\" to=\"in\""),
    );
    let plan = Plan::new(&read(&text), &on("main"));
    let taken = |key: &str| plan.job(&JobKey::from_text(key)).unwrap().fetches[0].to_string();
    assert_eq!(taken("b/taker"), "b/new:rose", "though it stands behind it in the file");
    assert_eq!((taken("c/far").as_str(), taken("c/near").as_str()), ("a/old", "b/new:rose"));
}

proptest! {
    #[test]
    fn a_plan_is_acyclic_and_its_keys_are_unique(edges in prop::collection::vec((0usize..6, 0usize..6), 0..12)) {
        let jobs = (0..6).map(|at| {
            let after = edges.iter().filter(|(_, to)| *to == at).map(|(from, _)| format!("after \"j{from}\"\n"));
            job(&format!("j{at}"), &(after.collect::<String>() + if at % 2 == 0 { "matrix { v \"1\" \"2\" }" } else { "" }))
        });
        let text = format!("stage \"a\" {{ {} }}", jobs.collect::<String>());
        let Ok(pipeline) = pipeline::read(&text) else {
            // What is refused has a circle: no order of the six has every edge forward.
            let mut left: Vec<usize> = (0..6).collect();
            while let Some(at) = left.iter().position(|to| edges.iter().all(|(f, t)| t != to || !left.contains(f))) {
                left.remove(at);
            }
            prop_assert!(!left.is_empty(), "a sound file was refused: {}", text);
            return Ok(());
        };
        let plan = Plan::new(&pipeline, &on("main"));
        let mut done: Vec<&JobKey> = Vec::new();
        let mut left: Vec<_> = plan.jobs().collect();
        while !left.is_empty() {
            let before = left.len();
            let ready: Vec<_> = left.iter().filter(|job| job.after.iter().all(|key| done.contains(&key))).map(|job| &job.key).collect();
            left.retain(|job| !ready.contains(&&job.key));
            done.extend(ready);
            prop_assert!(left.len() < before, "a circle: {}", text);
        }
        done.sort();
        done.dedup();
        prop_assert_eq!(done.len(), 9);
    }
}

#[test]
fn an_image_whose_platforms_have_runners_of_their_own_is_an_index_behind_a_job_for_each() {
    let text = |platforms: &str| {
        format!(
            "stage \"p\" {{ {}\n image \"desk\" {{ after \"first\"; retry 2; platform {platforms}; \
             push \"x.test/d\" {{ tag \"{{run}}\"; moving \"edge\" }} }}\n {} }}\n\
             stage \"s\" {{ rollout \"desk\" {{ to \"staging\"; image \"desk\"; manifests \"d/*\" }} }}",
            job("first", ""),
            job("last", "after \"desk\"")
        )
    };
    let plan = Plan::new(&read(&text("\"linux/amd64\" \"linux/arm/v7\" build=\"native\"")), &on("main"));
    let keys: Vec<_> = plan.jobs().map(|job| job.key.as_str()).collect();
    assert_eq!(keys, ["p/first", "p/desk:linux-amd64", "p/desk:linux-arm-v7", "p/desk", "p/last", "s/desk"]);
    let after =
        |key: &str| plan.job(&JobKey::from_text(key)).unwrap().after.iter().map(JobKey::as_str).collect::<Vec<_>>();
    assert_eq!(after("p/desk:linux-arm-v7"), ["p/first"]);
    assert_eq!(after("p/desk"), ["p/first", "p/desk:linux-amd64", "p/desk:linux-arm-v7"]);
    assert_eq!(after("p/last"), ["p/desk"]);
    let part = plan.job(&JobKey::from_text("p/desk:linux-arm-v7")).unwrap();
    let JobKind::Image(image) = &part.kind else { panic!("it builds an image") };
    assert_eq!((part.needs.platform.as_deref(), part.retry.times), (Some("linux/arm/v7"), 2));
    assert_eq!(image.platforms, ["linux/arm/v7"]);
    assert!(image.pushes[0].tags.is_empty() && image.pushes[0].moving.is_empty(), "the index alone is tagged");
    let (index, image) = plan.image_job("desk").unwrap();
    assert_eq!((index.key.as_str(), index.parts.len(), &index.needs.platform), ("p/desk", 2, &None));
    assert_eq!(image.pushes[0].tags.len(), 1);

    let parts = plan.jobs().filter(|job| plan.is_part(&job.key)).count();
    assert_eq!(parts, 2);

    let one = Plan::new(&read(&text("\"linux/arm64\" build=\"native\"")), &on("main"));
    let (job, _) = one.image_job("desk").unwrap();
    assert_eq!((job.parts.len(), job.needs.platform.as_deref()), (0, Some("linux/arm64")), "one needs no index");
    let shared = Plan::new(&read(&text("\"linux/amd64\" \"linux/arm64\"")), &on("main"));
    assert_eq!(shared.jobs().count(), 4, "one runner builds all where nothing is said");
}
