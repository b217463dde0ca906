//! What is fuzzed, on texts that are made of the words of pipeline files.

#[path = "../../../fuzz/reader.rs"]
mod reader;

use proptest::collection::vec;
use proptest::prelude::*;

/// What pipeline files consist of, and what looks like it.
const PIECES: [&str; 48] = [
    "start",
    "stage",
    "job",
    "image",
    "rollout",
    "step",
    "container",
    "matrix",
    "without",
    "after",
    "when",
    "unless",
    "input",
    "param",
    "use",
    "approval",
    "exclusive",
    "artifact",
    "fetch",
    "output",
    "cache",
    "service",
    "secret",
    "push",
    "tag",
    "moving",
    "to",
    "manifests",
    "limit",
    "retry",
    "commit=",
    "branch=",
    "within=",
    "time=",
    "from=",
    "=",
    "{",
    "}",
    ";",
    "\n",
    "\"",
    "\"main\"",
    "\"a b\"",
    "\"{commit.short}\"",
    "\"{matrix.base}\"",
    "#",
    "/*",
    "\\",
];

fn text() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        8 => prop::sample::select(PIECES.to_vec()).prop_map(str::to_owned),
        2 => "[a-z\"{}=;#/\\\\ \n\u{e9}\u{0}-\u{3}]{0,6}",
        1 => Just("\n---\n".to_owned()),
    ];
    vec((piece, prop_oneof![3 => Just(" "), 1 => Just("")]), 0..60)
        .prop_map(|pieces| pieces.into_iter().map(|(piece, gap)| piece + gap).collect())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn whatever_stands_in_a_file_is_read_or_has_faults_inside_it(text in text()) {
        reader::read(&text);
    }
}

#[test]
fn whole_files_and_what_is_left_when_each_byte_is_taken_away_are_read() {
    let whole = "start commit=\"main\"\nstage \"verify\" {\n    job \"unit\" {\n        container \"x.test/base/shell:1\"\n        \
                 step \"true\"\n        matrix { base \"a\" \"b\" }\n    }\n}\nuse \"t\" from=\"p\" at=\"main\" { x \"1\" }\n---\nparam \"x\"\n";
    reader::read(whole);
    for at in 0..whole.len() {
        if whole.is_char_boundary(at) && whole.is_char_boundary(at + 1) {
            reader::read(&[&whole[..at], &whole[at + 1..]].concat());
        }
    }
}
