//! Test reports in JUnit's XML, as many test runners write them.
//!
//! The form has no standard; read is what Ant's and Maven's schemas, and the runners of several
//! languages, have in common: `testsuites`, `testsuite`, `testcase`, and in these `failure`, `error` and
//! `skipped`. A file that is cut off or damaged tells what it told until then, and that it is damaged.

use std::collections::BTreeMap;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use serde::{Deserialize, Serialize};

/// What reports say of one job's tests.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Report {
    /// How many tests there are.
    pub tests: u32,
    /// How many of them failed, those with errors among them.
    pub failed: u32,
    /// How many were skipped.
    pub skipped: u32,
    /// How long all of them took, in milliseconds.
    pub millis: u64,
    /// Those that failed: the first [`MOST_FAILURES`] of them.
    pub failures: Vec<Failure>,
    /// Those that took longest, the longest first.
    pub slowest: Vec<Slow>,
    /// What is wrong with the files, each in words.
    pub damage: Vec<String>,
}

/// A test that failed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Failure {
    /// The test: its class or suite and its name.
    pub test: String,
    /// What it said, in one line.
    pub message: String,
    /// Where, as far as the report says: `FILE:LINE`.
    pub place: Option<String>,
    /// The rest of what it said, cut where it is long.
    pub details: String,
}

/// A test that took long.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Slow {
    /// The test.
    pub test: String,
    /// How long it took, in milliseconds.
    pub millis: u64,
}

/// How many failures are told at the most.
pub const MOST_FAILURES: usize = 100;
const MOST_SLOW: usize = 10;
const MOST_DAMAGE: usize = 20;
const LONGEST_MESSAGE: usize = 300;
const LONGEST_DETAILS: usize = 4000;

/// A test that is being read.
#[derive(Default)]
struct Case {
    test: String,
    place: Option<String>,
    millis: u64,
    skipped: bool,
    failure: Option<Failure>,
}

fn cut(text: &str, most: usize) -> String {
    match text.char_indices().nth(most) {
        Some((end, _)) => format!("{}\u{2026}", &text[..end]),
        None => text.to_owned(),
    }
}

/// Seconds as written (`0.25`, `1,234.5`) in milliseconds.
fn millis(text: &str) -> u64 {
    let seconds: f64 = text.replace(',', "").trim().parse().unwrap_or(0.0);
    if seconds.is_finite() && seconds > 0.0 { (seconds * 1000.0).round().min(1e15) as u64 } else { 0 }
}

fn attributes(tag: &BytesStart<'_>) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    for attribute in tag.attributes().with_checks(false).flatten() {
        let name = String::from_utf8_lossy(attribute.key.local_name().as_ref()).into_owned();
        let raw = String::from_utf8_lossy(&attribute.value).into_owned();
        // What is no reference is a letter like any other.
        let value = quick_xml::escape::unescape(&raw).map(|text| text.into_owned()).unwrap_or(raw);
        found.insert(name, value);
    }
    found
}

/// Turns control characters into blanks, so that what a test said cannot move a reader's cursor.
fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { ' ' } else { c }).collect()
}

impl Report {
    /// Adds what a file says. `name` is the file's, for what is wrong with it.
    pub fn add(&mut self, name: &str, text: &str) {
        let mut reader = Reader::from_str(text);
        reader.config_mut().check_end_names = false;
        let mut suite = Vec::new();
        let mut case: Option<Case> = None;
        let mut inside_failure = false;
        let mut seen_any = false;
        loop {
            let event = match reader.read_event() {
                Ok(event) => event,
                Err(error) => {
                    self.damaged(format!("{name}: at byte {}: {error}", reader.error_position()));
                    break;
                }
            };
            match event {
                Event::Start(tag) => {
                    seen_any |= self.opens(&tag, &mut suite, &mut case);
                    inside_failure |= matches!(tag.local_name().as_ref(), b"failure" | b"error") && case.is_some();
                }
                Event::Empty(tag) => {
                    seen_any |= self.opens(&tag, &mut suite, &mut case);
                    match tag.local_name().as_ref() {
                        b"testcase" => self.close(case.take()),
                        b"testsuite" => drop(suite.pop()),
                        _ => {}
                    }
                }
                Event::Text(text) if inside_failure => {
                    let text = text.decode().map(|text| text.into_owned()).unwrap_or_default();
                    add_details(case.as_mut(), &text);
                }
                Event::GeneralRef(name) if inside_failure => {
                    let name = String::from_utf8_lossy(&name).into_owned();
                    let text = quick_xml::escape::unescape(&format!("&{name};")).map(|t| t.into_owned());
                    add_details(case.as_mut(), &text.unwrap_or_default());
                }
                Event::CData(text) if inside_failure => {
                    add_details(case.as_mut(), &String::from_utf8_lossy(&text));
                }
                Event::End(tag) => match tag.local_name().as_ref() {
                    b"failure" | b"error" => inside_failure = false,
                    b"testcase" => self.close(case.take()),
                    b"testsuite" => drop(suite.pop()),
                    _ => {}
                },
                Event::Eof => {
                    if case.is_some() || !suite.is_empty() {
                        self.damaged(format!("{name}: it ends in the middle"));
                    }
                    break;
                }
                _ => {}
            }
        }
        // A test whose end is missing was begun all the same.
        self.close(case.take());
        if !seen_any {
            self.damaged(format!("{name}: it has no `testsuite` and no `testcase`"));
        }
        self.slowest.sort_by_key(|slow| std::cmp::Reverse(slow.millis));
        self.slowest.truncate(MOST_SLOW);
    }

    fn damaged(&mut self, words: String) {
        if self.damage.len() < MOST_DAMAGE {
            self.damage.push(plain(&cut(&words, LONGEST_MESSAGE)));
        }
    }

    /// Takes a tag. Answers whether it is one of these reports.
    fn opens(&mut self, tag: &BytesStart<'_>, suite: &mut Vec<String>, case: &mut Option<Case>) -> bool {
        let found = attributes(tag);
        let text = |name: &str| found.get(name).cloned().unwrap_or_default();
        match tag.local_name().as_ref() {
            b"testsuites" => true,
            b"testsuite" => {
                suite.push(text("name"));
                true
            }
            b"testcase" => {
                self.close(case.take());
                let class = Some(text("classname")).filter(|class| !class.is_empty());
                let class = class.or_else(|| suite.last().cloned()).filter(|class| !class.is_empty());
                let name = text("name");
                let test = class.map_or_else(|| name.clone(), |class| format!("{class}: {name}"));
                let line = Some(text("line")).filter(|line| !line.is_empty());
                let place = Some(text("file")).filter(|file| !file.is_empty());
                let place = place.map(|file| line.map_or_else(|| file.clone(), |line| format!("{file}:{line}")));
                let test = plain(&cut(&test, LONGEST_MESSAGE));
                *case = Some(Case { test, place, millis: millis(&text("time")), ..Case::default() });
                true
            }
            b"skipped" | b"disabled" => {
                if let Some(case) = case {
                    case.skipped = true;
                }
                false
            }
            b"failure" | b"error" => {
                if let Some(case) = case
                    && case.failure.is_none()
                {
                    let message = Some(text("message")).filter(|message| !message.trim().is_empty());
                    let message = message.unwrap_or_else(|| text("type"));
                    case.failure = Some(Failure { message, ..Failure::default() });
                }
                false
            }
            _ => false,
        }
    }

    fn close(&mut self, case: Option<Case>) {
        let Some(case) = case else { return };
        self.tests = self.tests.saturating_add(1);
        self.millis = self.millis.saturating_add(case.millis);
        if case.skipped {
            self.skipped += 1;
        }
        if case.millis > 0 {
            self.slowest.push(Slow { test: case.test.clone(), millis: case.millis });
            if self.slowest.len() > 4 * MOST_SLOW {
                self.slowest.sort_by_key(|slow| std::cmp::Reverse(slow.millis));
                self.slowest.truncate(MOST_SLOW);
            }
        }
        if let Some(mut failure) = case.failure {
            self.failed += 1;
            let details = plain(failure.details.trim());
            let first = failure.message.lines().chain(details.lines()).map(str::trim).find(|line| !line.is_empty());
            failure.message = plain(&cut(first.unwrap_or("it failed"), LONGEST_MESSAGE));
            failure.details = cut(&details, LONGEST_DETAILS);
            failure.test = case.test;
            failure.place = case.place.map(|place| plain(&place));
            if self.failures.len() < MOST_FAILURES {
                self.failures.push(failure);
            }
        }
    }
}

fn add_details(case: Option<&mut Case>, text: &str) {
    if let Some(failure) = case.and_then(|case| case.failure.as_mut())
        && failure.details.len() < 4 * LONGEST_DETAILS
    {
        failure.details.push_str(text);
    }
}

/// What a test did over several runs, the newest first: whether it failed in each.
///
/// A test is flaky when it went from well to failing and back, or did both for one commit: a test that
/// failed until it was mended does not.
#[must_use]
pub fn is_flaky(history: &[(&str, bool)]) -> bool {
    let both_for_one = history
        .iter()
        .any(|(commit, failed)| history.iter().any(|(other, other_failed)| commit == other && failed != other_failed));
    let changes = history.windows(2).filter(|pair| pair[0].1 != pair[1].1).count();
    both_for_one || changes > 2
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(text: &str) -> Report {
        let mut report = Report::default();
        report.add("a.xml", text);
        report
    }

    #[test]
    fn suites_in_suites_with_failures_errors_and_skipped_tests_are_counted() {
        let report = read(
            r#"<?xml version="1.0" encoding="UTF-8"?>
<testsuites tests="4"><testsuite name="desk" tests="4" time="1.5">
  <properties><property name="a" value="b"/></properties>
  <testcase classname="desk.Hours" name="seven days" time="0.25" file="desk/hours.py" line="12">
    <failure message="1 != 7" type="AssertionError">Traceback
  &lt;here&gt; &amp; there</failure>
  </testcase>
  <testcase name="opens" time="1,000.5"/>
  <testcase classname="desk.Hours" name="closes"><error type="IOError"><![CDATA[no <file>
second]]></error><system-out>not this</system-out></testcase>
  <testsuite name="inner"><testcase name="waits"><skipped/></testcase></testsuite>
</testsuite></testsuites>"#,
        );
        assert_eq!((report.tests, report.failed, report.skipped, report.damage.len()), (4, 2, 1, 0));
        assert_eq!(report.millis, 1_000_750);
        let first = &report.failures[0];
        assert_eq!((first.test.as_str(), first.message.as_str()), ("desk.Hours: seven days", "1 != 7"));
        assert_eq!(first.place.as_deref(), Some("desk/hours.py:12"));
        assert_eq!(first.details, "Traceback\n  <here> & there");
        assert_eq!(report.failures[1].message, "IOError");
        assert_eq!(report.failures[1].details, "no <file>\nsecond");
        assert_eq!(report.slowest[0], Slow { test: "desk: opens".into(), millis: 1_000_500 });
    }

    #[test]
    fn a_file_that_is_cut_off_tells_what_it_told_until_then() {
        let report = read(r#"<testsuite name="a"><testcase name="one"/><testcase name="two"><failure>bad"#);
        assert_eq!((report.tests, report.failed), (2, 1));
        assert_eq!(report.damage, ["a.xml: it ends in the middle"]);
        assert_eq!(report.failures[0].message, "bad");
    }

    #[test]
    fn what_is_no_report_is_said_to_be_none() {
        assert_eq!(read("").damage, ["a.xml: it has no `testsuite` and no `testcase`"]);
        assert_eq!(read("<html><body/></html>").damage.len(), 1);
    }

    #[test]
    fn a_test_is_flaky_when_it_did_both_for_one_commit_or_went_to_and_fro() {
        assert!(is_flaky(&[("b", false), ("b", true)]));
        assert!(is_flaky(&[("d", false), ("c", true), ("b", false), ("a", true)]));
        assert!(!is_flaky(&[("d", false), ("c", false), ("b", true), ("a", true)]), "it was mended");
        assert!(!is_flaky(&[("c", true), ("b", true), ("a", false)]), "it broke");
        assert!(!is_flaky(&[]));
    }

    proptest! {
        #[test]
        fn no_text_makes_the_reader_panic_and_counts_add_up(
            text in "(<testsuite>|<testcase name=\"a\">|</testcase>|<failure>|</failure>|<skipped/>|&amp;|&x;|[<>\"a&\u{7} ]){0,40}",
        ) {
            let report = read(&text);
            prop_assert!(report.failed <= report.tests && report.skipped <= report.tests);
            prop_assert!(report.failures.len() <= report.failed as usize);
        }
    }
}
