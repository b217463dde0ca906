//! `start` and `input`.

use super::values::{is_name, once, pattern};
use crate::Schedule;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{DEFAULT_LONGEST, Input, InputKind, Spanned, StartRule};
use crate::pipeline::nodes::Line;

const INPUT_WORDS: [&str; 1] = ["one-of"];
const INPUT_KINDS: [&str; 3] = ["text", "number", "yes-no"];

/// The words that may stand inside an `input`.
pub(super) const fn input_words() -> &'static [&'static str] {
    &INPUT_WORDS
}

pub(super) fn start(mut line: Line<'_, '_>) -> Option<StartRule> {
    let (commit, tag, schedule) = (line.named("commit"), line.named("tag"), line.named("schedule"));
    let base_moved = line.optional_text();
    if let Some(text) = base_moved.as_ref().filter(|text| text.value != "base-moved") {
        let help = help_for_unknown(&text.value, &["base-moved"]);
        line.fault(text.span, format!("`{}` starts nothing", text.value), help);
    }
    let (changed, zone, branch) = (line.named("changed"), line.named("zone"), line.named("branch"));
    let only = |line: &Line<'_, '_>, text: &Option<Spanned<String>>, name: &str, goes_with: &str| {
        if let Some(text) = text {
            line.fault(text.span, format!("`{name}` goes with `{goes_with}` only"), "take it out");
        }
    };
    if commit.is_none() {
        only(&line, &changed, "changed", "commit");
    }
    if let (None, None, None, None, Some(branch)) = (&commit, &tag, &schedule, &base_moved, &branch) {
        let help = format!("write commit={:?}", branch.value);
        line.fault(branch.span, "`branch` goes with `schedule` only", help);
        line.end_without_block(false);
        return None;
    }
    if schedule.is_none() {
        only(&line, &zone, "zone", "schedule");
        only(&line, &branch, "branch", "schedule");
    }
    let rule = match (&commit, &tag, &schedule) {
        (None, None, None) if base_moved.is_some() => Some(StartRule::BaseMoved),
        _ if base_moved.is_some() => {
            line.fault(line.span(), "`start` says more than one thing", "write a `start` of its own for each");
            None
        }
        (Some(text), None, None) => {
            let branch = pattern(&line, text, "write a branch, as in `main` or `release/*`");
            let changed =
                changed.map(|text| pattern(&line, &text, "write paths, as in `desk/**` or `{desk,deploy}/**`"));
            match (branch, changed) {
                (Some(branch), None) => Some(StartRule::Commit { branch, changed: None }),
                (Some(branch), Some(Some(changed))) => Some(StartRule::Commit { branch, changed: Some(changed) }),
                _ => None,
            }
        }
        (None, Some(text), None) => pattern(&line, text, "write a tag, as in `v*`").map(|tag| StartRule::Tag { tag }),
        (None, None, Some(text)) => {
            let zone_name = zone.as_ref().map_or("UTC", |zone| zone.value.as_str());
            let branch = branch.map_or_else(|| "main".to_owned(), |branch| branch.value);
            match Schedule::new(&text.value, zone_name) {
                Ok(schedule) => Some(StartRule::Schedule { schedule, branch }),
                Err(error) => {
                    let at_zone = matches!(error, crate::ScheduleError::Zone(_));
                    let span = zone.filter(|_| at_zone).map_or(text.span, |zone| zone.span);
                    line.fault(span, error.to_string(), "");
                    None
                }
            }
        }
        (None, None, None) => {
            let help =
                "write start commit=\"main\", start tag=\"v*\", start schedule=\"15 5 * * 1-5\" or start base-moved";
            line.fault(line.span(), "`start` does not say what starts a run", help);
            None
        }
        _ => {
            line.fault(line.span(), "`start` says more than one thing", "write a `start` of its own for each");
            None
        }
    };
    line.end_without_block(false);
    rule
}

pub(super) fn input(mut line: Line<'_, '_>) -> Option<Input> {
    let name = line.text("a name").filter(|name| is_name(&line, name));
    let (kind, default, help) = (line.named("kind"), line.named_scalar("default"), line.named("help"));
    let least = line.named_number("least", i64::MIN..=i64::MAX);
    let most = line.named_number("most", i64::MIN..=i64::MAX);
    let longest = line.named_number("longest", 1..=10_000);
    let mut choices = None;
    line.inside(&INPUT_WORDS, |mut line| {
        if line.word() != "one-of" {
            return false;
        }
        let texts = line.texts("a choice").into_iter().map(|text| text.value).collect::<Vec<_>>();
        once(&mut choices, &line, Some(texts));
        line.end_without_block(false);
        true
    });
    let bounded = least.is_some() || most.is_some();
    let word = kind.as_ref().map(|kind| kind.value.as_str());
    if bounded && word != Some("number") {
        line.fault(line.span(), "only a number has a least and a most", "write kind=\"number\", or take them out");
    }
    if longest.is_some() && (word.is_some_and(|word| word != "text") || choices.is_some()) {
        line.fault(line.span(), "only a text has a longest", "take it out");
    }
    let kind = match (word, choices) {
        (None, Some(choices)) => Some(InputKind::OneOf(choices)),
        (Some(_), Some(_)) => {
            line.fault(line.span(), "a `kind` and `one-of` cannot both be said", "keep one of the two");
            None
        }
        (None | Some("text"), None) => {
            let longest = longest.and_then(|longest| u32::try_from(longest).ok()).unwrap_or(DEFAULT_LONGEST);
            Some(InputKind::Text { longest })
        }
        (Some("yes-no"), None) => Some(InputKind::YesNo),
        (Some("number"), None) => {
            let (least, most) = (least.unwrap_or(i64::MIN), most.unwrap_or(i64::MAX));
            if least > most {
                line.fault(line.span(), "no number is at least `least` and at most `most`", "exchange them");
            }
            Some(InputKind::Number { least, most })
        }
        (Some(other), None) => {
            if let Some(kind) = &kind {
                let help = crate::pipeline::fault::help_for_unknown(other, &INPUT_KINDS);
                line.fault(kind.span, format!("`{other}` is not a kind of input"), help);
            }
            None
        }
    };
    let default = default.and_then(|default| match kind.as_ref()?.accept(&default.value) {
        Ok(value) => Some(value),
        Err(allowed) => {
            line.fault(default.span, format!("`{}` would not be accepted", default.value), format!("write {allowed}"));
            None
        }
    });
    line.end(false);
    Some(Input { name: name?, kind: kind?, default, help: help.map(|help| help.value) })
}
