//! What parses, but cannot work.

use super::{faults, in_job};
use crate::pipeline::read;

/// A file with these lines in front of a stage with these lines and a sound job.
fn file(front: &str, stage: &str) -> String {
    format!("{front}\nstage \"verify\" {{\n{stage}\njob \"unit\" {{ container \"x.test/y:1\"; step \"true\" }}\n}}\n")
}

fn job(name: &str, lines: &str) -> String {
    format!("job \"{name}\" {{ container \"x.test/y:1\"; step \"true\"; {lines} }}")
}

/// The one fault of a text, without its place.
fn only_fault(text: &str) -> String {
    let found = read(text).expect_err(text);
    assert_eq!(found.len(), 1, "{text}\n{found:#?}");
    found[0].message.clone()
}

#[test]
fn jobs_that_wait_for_each_other_are_named_in_their_order() {
    let circle = [job("a", "after \"c\""), job("b", "after \"a\""), job("c", "after \"b\""), job("d", "after \"a\"")];
    let text = file("", &circle.join("\n"));
    assert_eq!(only_fault(&text), "these jobs wait for each other: `a` after `c` after `b` after `a`");
    let itself = file("", &job("a", "after \"a\""));
    assert_eq!(only_fault(&itself), "these jobs wait for each other: `a` after `a`");
    let missing = read(&file("", &job("a", "after \"untit\""))).unwrap_err();
    assert_eq!(missing[0].message, "this stage has no job `untit`");
    assert_eq!(missing[0].help.as_deref(), Some("did you mean `unit`?"));
}

#[test]
fn a_condition_that_can_never_hold_says_why() {
    for (front, stage, expected) in [
        ("", "when start=\"schedule\"", "no `start schedule` makes such a run"),
        ("start tag=\"*\"", "when tag=\"v*\" branch=\"main\"", "a run of a tag (`v*`) has no branch (`main`)"),
        ("", "when branch=\"main\"\nunless branch=\"main\"", "an `unless` says the same"),
        ("", "when start=\"manual\" branch=\"a\"\nunless branch=\"a\"", "an `unless` says the same"),
    ] {
        let found = only_fault(&file(front, stage));
        assert_eq!(found, format!("this `when` can never hold: {expected}"));
    }
    let in_a_job = file("", &format!("when branch=\"main\"\n{}", job("a", "when branch=\"fix\"")));
    assert_eq!(only_fault(&in_a_job), "this `when` can never hold: `main` is not `fix`");
    let by_unless =
        file("", "when branch=\"main\"\njob \"z\" { container \"x.test/y:1\"; step \"true\"; unless branch=\"main\" }");
    assert_eq!(only_fault(&by_unless), "this can never be in a run: an `unless` says the same");
    assert!(read(&file("", "when branch=\"main\" start=\"manual\"\nunless start=\"schedule\"")).is_ok());
}

#[test]
fn a_stage_that_waits_for_a_failure_before_any_can_happen_is_never_reached() {
    let found = only_fault(&file("", "when result=\"failed\""));
    assert!(found.starts_with("nothing reaches the stage `verify`"), "{found}");
    let behind = file("", "")
        + "stage \"clean\" { when result=\"failed\"\njob \"x\" { container \"x.test/y:1\"; step \"true\" }\n}";
    assert!(read(&behind).is_ok());
}

#[test]
fn what_words_do_not_allow_is_a_fault_where_it_stands() {
    for (line, expected) in [
        ("retry 0", "5:8 `0` cannot stand here"),
        ("retry \"2\"", "5:8 `\"2\"` cannot stand here"),
        ("retry 2 only=\"failed\"", "5:10 `failed` cannot be told apart"),
        ("may-fail #true", "5:11 `may-fail` takes no further value"),
        ("when", "5:2 `when` says no condition"),
        ("when brnch=\"main\"", "5:7 `when` has no `brnch`"),
        ("when start=\"push\"", "5:7 `push` is not a reason to start"),
        ("when result=\"broken\"", "5:7 `broken` is not a result of what came before"),
        ("unless result=\"failed\"", "5:9 `unless` has no `result`"),
        ("matrix { base \"a\" \"a\"; }", "5:20 `a` stands twice"),
        (
            "matrix { base \"a12345678901234567890123456\"; size \"b12345678901234567890123456\"; }",
            "5:2 the values `a12345678901234567890123456:b12345678901234567890123456` are too long for the name of a job",
        ),
        ("matrix { base \"a b\" \"a-b\"; }", "5:2 two jobs of this matrix would be called `a-b`"),
        ("matrix { base \"a\"; without base=\"b\"; }", "5:29 `base` has no value `b`"),
        ("matrix { base \"a\"; without bsae=\"a\"; }", "5:29 the matrix has no `bsae`"),
        ("matrix { base \"a\"; without base=\"a\"; }", "5:2 this matrix leaves everything out"),
        ("matrix { }", "5:2 this matrix has no values"),
        ("runner", "5:2 `runner` needs nothing"),
        ("runner { tool \"/bin/sh\"; }", "5:16 `/bin/sh` is not a program's name"),
        ("limit", "5:2 `limit` limits nothing"),
        (
            "limit memory=\"1G\"",
            "5:8 `1G` is not an amount of bytes: write a number with a unit, as in `512MiB`, `2GiB` or `500MB`",
        ),
        ("limit processes=0", "5:8 `0` cannot stand here"),
        ("limit cpu=\"2\"", "5:8 `\"2\"` cannot stand here"),
        ("limit cpu=0", "5:8 `0` cannot stand here"),
        ("exclusive \"A b\"", "5:12 `A b` cannot be a name"),
        ("step \"x\" may-fail=\"yes\"", "5:11 `yes` does not say yes or no"),
        (
            "secret \"A-B\"",
            "5:9 `A-B` cannot be a secret's name: letters, digits and `_`, with no digit in front, at most 128",
        ),
        ("secret \"PONDRIX_X\"", "5:9 `PONDRIX_X` is a name that Pondrix itself uses; choose another"),
        ("secret \"A\" file=\"../x\"", "5:13 `../x` is not a file's name"),
        ("secret \"A\"\n secret \"A\"", "6:9 two secrets of this job have the same variable or file"),
        ("identity \"\"", "5:11 `` names nobody that an identity could be for"),
        ("identity \"a vault\"", "5:11 `a vault` names nobody that an identity could be for"),
        ("identity \"x\" lasts=\"2h\"", "5:15 an identity does not last 2h"),
        ("identity \"x\" file=\"../x\"", "5:15 `../x` is not a file's name"),
        (
            "identity \"x\"\n identity \"y\"",
            "6:11 the variable PONDRIX_IDENTITY, or the file, has something else already",
        ),
        (
            "secret \"A\" file=\"f\"\n identity \"x\" file=\"f\"",
            "6:11 the variable PONDRIX_IDENTITY, or the file, has something else already",
        ),
        ("step \"x\" folder=\"../y\"", "5:11 `../y` is not a path inside the repository"),
    ] {
        let found = faults(&in_job(line));
        assert!(found.iter().any(|fault| fault == expected), "{line}: {found:?}");
    }
}

#[test]
fn starts_and_inputs_say_one_sound_thing_each() {
    for (front, expected) in [
        ("start", "`start` does not say what starts a run"),
        ("start commit=\"main\" tag=\"v*\"", "`start` says more than one thing"),
        ("start tag=\"v*\" changed=\"x\"", "`changed` goes with `commit` only"),
        ("start commit=\"main\" zone=\"UTC\"", "`zone` goes with `schedule` only"),
        (
            "start schedule=\"0 0 * * *\" zone=\"Europe/Lisbonne\"",
            "`Europe/Lisbonne` is not a time zone: write one as in `Europe/Lisbon` or `UTC`",
        ),
        ("input \"n\" kind=\"numbr\"", "`numbr` is not a kind of input"),
        ("input \"n\" kind=\"number\" least=3 most=1", "no number is at least `least` and at most `most`"),
        ("input \"n\" kind=\"number\" most=3 default=4", "`4` would not be accepted"),
        ("input \"n\" default=\"c\" { one-of \"a\" \"b\" }", "`c` would not be accepted"),
        ("input \"n\" kind=\"text\" { one-of \"a\" }", "a `kind` and `one-of` cannot both be said"),
        ("input \"n\" least=1", "only a number has a least and a most"),
        ("input \"n\"\ninput \"n\"", "two inputs are called `n`"),
        ("supersede\nsupersede", "`supersede` is said twice"),
    ] {
        assert_eq!(only_fault(&file(front, "")), expected, "{front}");
    }
}

#[test]
fn a_template_may_use_inputs_matrix_and_tag_only_where_they_have_a_value() {
    let image = |lines: &str, tag: &str| {
        format!("stage \"p\" {{ image \"desk\" {{ {lines}\n push \"x.test/d\" {{ tag \"{tag}\" }} }} }}")
    };
    let with_input = |text: String| format!("start tag=\"v*\"\ninput \"level\"\n{text}");
    for (lines, tag, expected) in [
        ("", "{run}-{input.level}", None),
        ("", "{run}-{input.levle}", Some("`{input.levle}` is not known")),
        ("", "{run}-{matrix.base}", Some("`{matrix.base}` is not known")),
        ("", "{tag}", Some("`{tag}` has no value in runs that no tag started")),
        ("when tag=\"v*\"", "{tag}", None),
        ("matrix { base \"a\" \"b\"; }", "{run}-{matrix.base}", None),
        ("matrix { base \"a\" \"b\"; }", "{run}", Some("every job of the matrix would push the tag `{run}`")),
        ("matrix { base \"a\"; }", "{run}", None),
    ] {
        let text = with_input(image(lines, tag));
        match expected {
            None => assert!(read(&text).is_ok(), "{text}: {:?}", read(&text)),
            Some(expected) => assert_eq!(only_fault(&text), expected, "{text}"),
        }
    }
}

#[test]
fn a_rollout_of_an_image_with_a_matrix_is_a_fault() {
    let text = "stage \"p\" { image \"desk\" { matrix { base \"a\" \"b\"; }; push \"x.test/d\" { tag \"{run}-{matrix.base}\" } } }\n\
                stage \"s\" { rollout \"r\" { to \"staging\"; image \"desk\"; manifests \"d/*\" } }";
    assert_eq!(only_fault(text), "`desk` is an image for each value of a matrix");
}

#[test]
fn a_job_that_would_wait_for_its_own_stage_is_a_fault() {
    let text = file("", &format!("exclusive \"pond\"\n{}", job("a", "exclusive \"pond\"")));
    assert_eq!(only_fault(&text), "the stage `verify` holds `pond` already");
}

#[test]
fn files_that_nobody_keeps_in_time_are_a_fault() {
    let keeps = job("keeper", "artifact \"site\" \"out/**\"");
    let next = |lines: &str| format!("stage \"next\" {{ {} }}\n", job("taker", lines));
    assert!(read(&(file("", &keeps) + &next("fetch \"site\""))).is_ok());
    assert!(read(&file("", &format!("{keeps}\n{}", job("taker", "after \"keeper\"; fetch \"site\"")))).is_ok());
    let side_by_side = file("", &format!("{keeps}\n{}", job("taker", "fetch \"site\"")));
    assert_eq!(only_fault(&side_by_side), "no job before this one leaves an artifact `site`");
    let misspelt = read(&(file("", &keeps) + &next("fetch \"siet\""))).unwrap_err();
    assert_eq!(misspelt[0].help.as_deref(), Some("did you mean `site`?"));
    assert_eq!(
        only_fault(&(file("", &keeps) + &next("fetch \"site\" from=\"unit\""))),
        "`unit` leaves no artifact `site` before this job"
    );
    let matrix = job("keeper", "artifact \"site\" \"out/**\"; matrix { bed \"rose\" \"fern\"; }");
    assert_eq!(
        only_fault(&(file("", &matrix) + &next("fetch \"site\""))),
        "every job of the matrix `keeper` leaves an artifact `site`"
    );
    assert!(read(&(file("", &matrix) + &next("fetch \"site\" from=\"keeper:fern\""))).is_ok());
}

#[test]
fn an_output_that_is_used_before_it_exists_is_a_fault() {
    let image = "image \"desk\" { push \"x.test/d\" { tag \"{job.maker.version}-{run}\" } }";
    let maker = job("maker", "output \"version\" file=\"out/VERSION\"");
    assert!(read(&(file("", &maker) + &format!("stage \"p\" {{ {image} }}"))).is_ok());
    assert_eq!(only_fault(&file("", &format!("{maker}\n{image}"))), "`{job.maker.version}` is not known");
    let matrix = job("maker", "output \"version\" file=\"v\"; matrix { bed \"rose\"; }");
    assert_eq!(
        only_fault(&(file("", &matrix) + &format!("stage \"p\" {{ {image} }}"))),
        "`{job.maker.version}` is not known"
    );
}

#[test]
fn files_may_not_leave_the_workspace_and_keys_must_name_something() {
    for (line, expected) in [
        ("artifact \"a\" \"../x\"", "5:15 `../x` is not a path inside the repository"),
        ("artifact \"a\" \"/etc/*\"", "5:15 `/etc/*` is not a path inside the repository"),
        ("artifact \"a\"", "5:2 `artifact` lacks a path"),
        (
            "artifact \"a\" \"x\" keep=\"soon\"",
            "5:19 `soon` is not a length of time: write a number with a unit, as in `90s`, `10m`, `1h30m` or `3d`",
        ),
        ("output \"v\"", "5:2 this output has no file"),
        ("output \"v\" file=\"/etc/passwd\"", "5:13 `/etc/passwd` is not a path inside the repository"),
        ("cache \"x\"", "5:2 this cache has no key"),
        ("cache \".\" key=\"a\"", "5:8 `.` cannot be a cache"),
        ("cache \"x\" key=\"{hash ../y}\"", "5:12 `../y` is not a pattern of paths inside the repository"),
        ("cache \"x\" key=\"{hash}\"", "5:12 `{hash}` names no files"),
        ("cache \"x\" key=\"{brnch}\"", "5:12 `{brnch}` is not known"),
        ("test-report xml=\"a\"", "5:2 `test-report` names no report"),
        ("test-report junit=\"../a\"", "5:14 `../a` is not a path inside the repository"),
    ] {
        let found = faults(&in_job(line));
        assert!(found.iter().any(|fault| fault == expected), "{line}: {found:?}");
    }
}
