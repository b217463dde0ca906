//! Words that people know from elsewhere are answered with the word that counts here and their own values.

use super::in_job;
use crate::pipeline::{Fault, read};

/// The help of the fault at a word that is not known.
fn help(text: &str) -> String {
    let faults = read(text).expect_err(text);
    let unknown = |fault: &&Fault| {
        ["is not a word here", "` has no `", "goes with"].iter().any(|words| fault.message.contains(words))
    };
    faults.iter().find(unknown).and_then(|fault| fault.help.clone()).unwrap_or_else(|| panic!("{text}: {faults:?}"))
}

#[test]
fn what_a_job_is_told_in_other_words_is_answered_in_these() {
    for (line, expected) in [
        ("script \"./test.sh\"", "write step \"./test.sh\""),
        ("run \"./test.sh\" name=\"unit\"", "write step \"./test.sh\" name=\"unit\""),
        ("command \"a b\"", "write step \"a b\""),
        ("timeout \"10m\"", "write limit time=\"10m\""),
        ("memory \"1GiB\"", "write limit memory=\"1GiB\""),
        ("needs \"unit\" \"lint\"", "write after \"unit\" \"lint\""),
        ("depends \"unit\"", "write after \"unit\""),
        ("services \"db\" \"x.test/db:1\"", "write service \"db\" \"x.test/db:1\""),
        ("beside \"db\" \"x.test/db:1\" { ready tcp=1; }", "write service \"db\" \"x.test/db:1\""),
        ("sidecar \"db\" \"x.test/db:1\"", "write service \"db\" \"x.test/db:1\""),
        ("artifacts \"site\" \"out/**\"", "write artifact \"site\" \"out/**\""),
        ("keep \"site\" \"out/**\"", "write artifact \"site\" \"out/**\""),
        ("take \"site\" from=\"b\"", "write fetch \"site\" from=\"b\""),
        ("inside host", "write on-host"),
        ("inside \"x.test/y:1\"", "write container \"x.test/y:1\""),
        ("image \"x.test/y:1\"", "write container \"x.test/y:1\""),
        ("host", "it is called `on-host` here"),
        ("only branch=\"main\"", "write when branch=\"main\""),
        ("if tag=\"v*\"", "write when tag=\"v*\""),
        ("except branch=\"main\"", "write unless branch=\"main\""),
        ("report junit=\"out/*.xml\"", "write test-report junit=\"out/*.xml\""),
        ("junit \"out/*.xml\"", "write test-report junit=\"out/*.xml\""),
        ("variables A=\"1\"", "write env A=\"1\""),
        ("retries 2", "write retry 2"),
        ("optional", "it is called `may-fail` here"),
        ("lock \"pond\"", "write exclusive \"pond\""),
        ("pool \"big\"", "write runner pool=\"big\""),
        ("limit timeout=\"10m\"", "write time=\"10m\""),
        ("artifact \"a\" \"b\" for=\"3d\"", "write keep=\"3d\""),
        ("artifact \"a\" \"b\" expire = \"3d\"", "write keep=\"3d\""),
        ("when earlier=\"failed\"", "write result=\"failed\""),
        ("when touched=\"desk/**\"", "write changed=\"desk/**\""),
        ("step \"x\" cwd=\"desk\"", "write folder=\"desk\""),
        ("step \"x\" optional=#true", "write may-fail=#true"),
        ("cache \"v\" key=\"k\" { fallback \"k\"; }", "write newest \"k\""),
    ] {
        assert_eq!(help(&in_job(line)), expected, "{line}");
    }
}

#[test]
fn what_a_file_a_stage_an_image_and_a_rollout_are_told_in_other_words_is_answered_in_these() {
    let stage = |lines: &str| format!("stage \"a\" {{\n {lines}\n}}\n");
    let image = |line: &str| stage(&format!("image \"i\" {{ {line}; push \"x.test/i\" {{ tag \"{{run}}\"; }} }}"));
    let rollout = |line: &str| stage(&format!("rollout \"r\" {{ {line} }}"));
    for (text, expected) in [
        ("ask \"size\" default=\"small\"".to_owned(), "write input \"size\" default=\"small\""),
        ("parameter \"size\"".to_owned(), "write input \"size\""),
        ("cron \"15 5 * * *\"".to_owned(), "write start schedule=\"15 5 * * *\""),
        ("start cron=\"15 5 * * *\"".to_owned(), "write schedule=\"15 5 * * *\""),
        ("start clock=\"15 5 * * *\"".to_owned(), "write schedule=\"15 5 * * *\""),
        ("start commit=\"main\" touching=\"x\"".to_owned(), "write changed=\"x\""),
        ("start branch=\"main\"".to_owned(), "write commit=\"main\""),
        ("branch \"main\"".to_owned(), "write start commit=\"main\""),
        ("description \"hours\"".to_owned(), "write about \"hours\""),
        ("include \"t\" project=\"p\"".to_owned(), "write use \"t\" project=\"p\""),
        (stage("deploy \"desk\" { }"), "write rollout \"desk\""),
        (stage("task \"unit\" { }"), "write job \"unit\""),
        (stage("manual \"Open?\""), "write approval \"Open?\""),
        (image("build-arg A=\"1\""), "write arg A=\"1\""),
        (image("platform \"linux/amd64\" runner=\"each\""), "write build=\"each\""),
        (image("push \"x.test/i\" { latest \"edge\"; }"), "write moving \"edge\""),
        (rollout("environment \"staging\""), "write to \"staging\""),
        (rollout("settle \"2m\""), "write limit time=\"2m\""),
        (rollout("timeout \"2m\""), "write limit time=\"2m\""),
        (rollout("otherwise \"restore\""), "write on-failure \"restore\""),
    ] {
        assert_eq!(help(&text), expected, "{text}");
    }
}
