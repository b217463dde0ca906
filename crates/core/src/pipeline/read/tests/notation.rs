//! Slips of the notation: each is one fault, where the writer went wrong, with the mended form.

use proptest::prelude::*;

use super::WHOLE;
use crate::pipeline::read;

/// A wrong file, and its faults: place, message, help.
type Case = (&'static str, &'static [(&'static str, &'static str, &'static str)]);

/// Each in the file below, in place of the line that it replaces.
const FILE: &str = r#"start commit="main"
stage "v" {
    job "u" {
        container "x.test/y:1"
        step "./t.sh"
    }
}
stage "w" {
    job "u" { container "x.test/y:1"; step "x" }
}
"#;

/// What stands in the place of a line of the file.
const LINES: &[(usize, Case)] = &[
    (
        7,
        (
            "} stage \"x\" { }",
            &[(
                "7:3",
                "a new line or `;` goes between `}` and `stage`",
                "begin a new line with `stage`, or write `}; stage`",
            )],
        ),
    ),
    (5, ("        step true", &[("5:14", "`true` is written with a `#` in front of it", "write #true")])),
    (5, ("        may-fail=true", &[("5:17", "no `=` stands behind a line's first word", "write may-fail")])),
    (
        5,
        (
            "        job \"q\" { may-fail=true }",
            &[("5:27", "no `=` stands behind a line's first word", "write may-fail")],
        ),
    ),
    (
        5,
        ("        step \"x\" may-fail=true", &[("5:27", "`true` is written with a `#` in front of it", "write #true")]),
    ),
    (
        5,
        (
            "        step \"x\" may-fail=false {",
            &[
                ("5:27", "`false` is written with a `#` in front of it", "write #false"),
                (
                    "5:33",
                    "this brace is never closed: `step \"x\" may-fail=false`",
                    "write `}` on a line of its own where it ends",
                ),
            ],
        ),
    ),
    (1, ("# opening hours", &[("1:1", "a comment begins with `//` here", "write // opening hours")])),
    (5, ("        step \"x\" # the tests", &[("5:18", "a comment begins with `//` here", "write // the tests")])),
    (
        1,
        (
            "start commit='main'",
            &[("1:14", "strings are written in double quotes, not in single quotes", "write \"main\"")],
        ),
    ),
    (
        5,
        (
            "        step 'echo hi'",
            &[("5:14", "strings are written in double quotes, not in single quotes", "write \"echo hi\"")],
        ),
    ),
    (
        5,
        (
            "        step 'echo \"hi\"'",
            &[("5:14", "strings are written in double quotes, not in single quotes", "write \"echo \\\"hi\\\"\"")],
        ),
    ),
    (
        5,
        (
            "        step \u{201c}echo hi\u{201d}",
            &[("5:14", "strings are written in double quotes, not in these", "write \"echo hi\"")],
        ),
    ),
    (
        1,
        (
            "start commit=\u{201c}main\u{201d}",
            &[("1:14", "strings are written in double quotes, not in these", "write \"main\"")],
        ),
    ),
    (5, ("        step `date`", &[("5:14", "strings are written in double quotes, not in these", "write \"date\"")])),
    (
        5,
        (
            "        step \"echo \"hi\"\"",
            &[("5:20", "this quote ends the string, and more of it follows", "write \"echo \\\"hi\\\"\"")],
        ),
    ),
    (
        5,
        (
            "        step \"say \"hello world\" twice\"",
            &[(
                "5:19",
                "this quote ends the string, and more of it follows",
                "write \"say \\\"hello world\\\" twice\"",
            )],
        ),
    ),
    (
        5,
        (
            "        step \"grep \\d+ x\"",
            &[("5:20", "a backslash in front of `d` means nothing here", "write \"grep \\\\d+ x\"")],
        ),
    ),
    (
        5,
        (
            "        step \"a\\.b \\\"c\\\" \\w\"",
            &[("5:16", "a backslash in front of `.` means nothing here", "write \"a\\\\.b \\\"c\\\" \\\\w\"")],
        ),
    ),
    (
        5,
        (
            "        step \"\"\"echo hi\"\"\"",
            &[(
                "5:14",
                "three quotes begin a multi-line string, whose first line begins below them",
                "write \"echo hi\"",
            )],
        ),
    ),
    (
        5,
        (
            "        step \"\"\"\n      echo hi\n        \"\"\"",
            &[(
                "6:7",
                "this line begins further left than the closing quotes below it",
                "write 8 spaces in front of `echo hi`, or move the closing quotes left",
            )],
        ),
    ),
    (
        5,
        (
            "        step \"\"\"\n\techo hi\n        \"\"\"",
            &[(
                "6:2",
                "this line does not begin with the same spaces or tabs as the closing quotes below it",
                "write 8 spaces in front of `echo hi`, or move the closing quotes left",
            )],
        ),
    ),
    (
        5,
        (
            "        step \"\"\"\n        echo hi\"\"\"",
            &[(
                "6:16",
                "the closing quotes of a multi-line string stand alone on their line",
                "write \"\"\" on a line of its own",
            )],
        ),
    ),
    (5, ("        step \"./t.sh", &[("5:14", "this string has no closing quote", "write \"./t.sh\"")])),
    (6, ("", &[("3:13", "this brace is never closed: `job \"u\"`", "write `}` on a line of its own where it ends")])),
    (7, ("", &[("2:11", "this brace is never closed: `stage \"v\"`", "write `}` on a line of its own where it ends")])),
    (
        10,
        ("", &[("8:11", "this brace is never closed: `stage \"w\"`", "write `}` on a line of its own where it ends")]),
    ),
    (10, ("}}", &[("10:2", "this brace closes nothing", "take it out")])),
    (
        4,
        (
            "        container: \"x.test/y:1\"",
            &[("4:18", "no `:` stands behind a word", "write container \"x.test/y:1\"")],
        ),
    ),
    (
        4,
        (
            "        container: x.test/y:1",
            &[
                ("4:18", "no `:` stands behind a word", "write container x.test/y:1"),
                ("4:20", "`x.test/y:1` must stand in quotes", "write \"x.test/y:1\""),
            ],
        ),
    ),
    (
        4,
        (
            "        container = \"x.test/y:1\"",
            &[("4:19", "no `=` stands behind a line's first word", "write container \"x.test/y:1\"")],
        ),
    ),
    (
        4,
        (
            "        container=\"x.test/y:1\"",
            &[("4:18", "no `=` stands behind a line's first word", "write container \"x.test/y:1\"")],
        ),
    ),
    (5, ("        step \"x\" time: \"10m\"", &[("5:22", "no `:` stands behind a name", "write time=\"10m\"")])),
    (4, ("        container x.test/y:1", &[("4:19", "`x.test/y:1` must stand in quotes", "write \"x.test/y:1\"")])),
    (5, ("        step ./t.sh", &[("5:14", "`./t.sh` must stand in quotes", "write \"./t.sh\"")])),
    (5, ("        step \"x\" time=10m", &[("5:23", "`10m` must stand in quotes", "write \"10m\"")])),
    (5, ("        step \"x\",", &[("5:17", "no commas stand between values", "take it out: a space is enough")])),
    (5, ("        after [\"a\", \"b\"]", &[("5:15", "no brackets stand around values", "write after \"a\" \"b\"")])),
    (5, ("        step(\"./t.sh\")", &[("5:13", "no brackets stand around values", "write step \"./t.sh\"")])),
    (
        5,
        (
            "        - step \"x\"",
            &[(
                "5:9",
                "lists have no dashes here",
                "write each on a line of its own that begins with its word, without `-`: step \"x\"",
            )],
        ),
    ),
    (
        5,
        (
            "        \u{200b}step \"x\"",
            &[("5:9", "a letter that cannot be seen stands here", "take it out, or type the line anew")],
        ),
    ),
    (2, ("stage \"v\"\n{", &[("3:1", "this brace belongs on the line of `stage \"v\"`", "write stage \"v\" {")])),
    (7, ("},", &[("7:2", "no comma stands behind a brace", "take it out")])),
];

/// The file with another text in place of one of its lines.
fn with_line(number: usize, line: &str) -> String {
    let mut lines: Vec<&str> = FILE.lines().collect();
    lines[number - 1] = line;
    if line.is_empty() {
        lines.remove(number - 1);
    }
    lines.join("\n") + "\n"
}

#[test]
fn each_slip_is_told_where_it_is_with_the_mended_form_and_nothing_else_is_told() {
    assert!(read(FILE).is_ok());
    for (number, (line, expected)) in LINES {
        let text = with_line(*number, line);
        let faults = read(&text).expect_err(&text);
        let found: Vec<_> = faults
            .iter()
            .map(|fault| {
                let place = format!("{}:{}", fault.place.line, fault.place.column);
                (place, fault.message.as_str(), fault.help.as_deref().unwrap_or_default())
            })
            .collect();
        let found: Vec<_> = found.iter().map(|(place, message, help)| (place.as_str(), *message, *help)).collect();
        assert_eq!(found, *expected, "{text}");
    }
}

#[test]
fn what_the_notation_allows_is_no_slip() {
    for (number, line) in [
        (5, "        step \"x\" may-fail = #true"),
        (5, "        step name=lint \"a\\tb \\\"c\\\" \\u{e9}\""),
        (5, "        step #\"a raw \"text\" with \\d\"#"),
        (5, "\tstep \"x\" \\\n\t    name=\"lint\" // and a comment\n\t/* another */ /- step \"left out\""),
        (5, "        step \"\"\"\n            a\n\n            b\n            \"\"\""),
        (2, "(deprecated)stage \"v\"{"),
    ] {
        let text = with_line(number, line);
        let faults = read(&text).err().unwrap_or_default();
        let slips: Vec<_> = faults.iter().filter(|fault| !fault.message.contains("means nothing here")).collect();
        assert!(slips.is_empty(), "{text}\n{slips:#?}");
    }
}

#[test]
fn a_text_of_many_braces_in_each_other_is_a_fault_and_not_the_end_of_the_process() {
    let closed = |open: &str, close: &str, depth: usize| format!("{}{}", open.repeat(depth), close.repeat(depth));
    for (text, message) in [
        (closed("a {\n", "}\n", 80), "braces stand more than 64 deep in each other here"),
        (closed("a {\n", "}\n", 3_900), "braces stand more than 64 deep in each other here"),
        // Braces in texts close nothing.
        (closed("a \"}}}}\" {\n", "}\n", 3_900), "braces stand more than 64 deep in each other here"),
        (closed("a \"}}}}\" {\n", "}\n", 30_000), "braces stand more than 64 deep in each other here"),
        ("a {}".repeat(30_000), "more than 4000 braces are opened up to here, in a file that is no plain one"),
        (" ".repeat(2 << 20), "the file is longer than 1024 KiB, which no pipeline file may be"),
    ] {
        let faults = read(&text).unwrap_err();
        assert_eq!(faults[0].message, message);
    }
    // Whatever is said of these, somebody lives to say it, and soon.
    for text in
        ["a {\n", "a {", "{}", "(", "/*"].into_iter().flat_map(|open| [open.repeat(3_900), open.repeat(300_000)])
    {
        assert!(!read(&text).unwrap_err().is_empty());
    }
}

proptest! {
    #[test]
    fn a_file_that_is_not_taken_has_a_fault_at_a_place_inside_it(
        at in 0usize..1300, cut in 0usize..30, put in "[a-z\"'{}()\\[\\]=:;#,/\\\\ \n\u{201c}-]{0,8}"
    ) {
        let letters: Vec<char> = WHOLE.chars().collect();
        let at = at.min(letters.len());
        let damaged: String = letters[..at].iter().copied().chain(put.chars())
            .chain(letters[(at + cut).min(letters.len())..].iter().copied()).collect();
        if let Err(faults) = read(&damaged) {
            prop_assert!(!faults.is_empty());
            for fault in faults {
                let lines = damaged.lines().count().max(1);
                prop_assert!(fault.place.line <= lines + 1 && fault.place.column <= fault.source.chars().count() + 1, "{fault:?}");
                prop_assert!(!fault.message.is_empty());
            }
        }
    }
}
