//! `start` and `ask`.

use super::values::{is_name, once, pattern};
use crate::Schedule;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Ask, AskKind, DEFAULT_LONGEST, Spanned, StartRule};
use crate::pipeline::nodes::Line;

const ASK_WORDS: [&str; 1] = ["one-of"];
const ASK_KINDS: [&str; 3] = ["text", "number", "yes-no"];

/// The words that may stand inside an `ask`.
pub(super) const fn ask_words() -> &'static [&'static str] {
    &ASK_WORDS
}

pub(super) fn start(mut line: Line<'_, '_>) -> Option<StartRule> {
    let (commit, tag, clock) = (line.named("commit"), line.named("tag"), line.named("clock"));
    let base = line.optional_text();
    if let Some(text) = base.as_ref().filter(|text| text.value != "base") {
        let help = help_for_unknown(&text.value, &["base"]);
        line.fault(text.span, format!("`{}` starts nothing", text.value), help);
    }
    let (touching, zone, branch) = (line.named("touching"), line.named("zone"), line.named("branch"));
    let only = |line: &Line<'_, '_>, text: &Option<Spanned<String>>, name: &str, goes_with: &str| {
        if let Some(text) = text {
            line.fault(text.span, format!("`{name}` goes with `{goes_with}` only"), "take it out");
        }
    };
    if commit.is_none() {
        only(&line, &touching, "touching", "commit");
    }
    if clock.is_none() {
        only(&line, &zone, "zone", "clock");
        only(&line, &branch, "branch", "clock");
    }
    let rule = match (&commit, &tag, &clock) {
        (None, None, None) if base.is_some() => Some(StartRule::Base),
        _ if base.is_some() => {
            line.fault(line.span(), "`start` says more than one thing", "write a `start` of its own for each");
            None
        }
        (Some(text), None, None) => {
            let branch = pattern(&line, text, "write a branch, as in `main` or `release/*`");
            let touching =
                touching.map(|text| pattern(&line, &text, "write paths, as in `desk/**` or `{desk,deploy}/**`"));
            match (branch, touching) {
                (Some(branch), None) => Some(StartRule::Commit { branch, touching: None }),
                (Some(branch), Some(Some(touching))) => Some(StartRule::Commit { branch, touching: Some(touching) }),
                _ => None,
            }
        }
        (None, Some(text), None) => pattern(&line, text, "write a tag, as in `v*`").map(|tag| StartRule::Tag { tag }),
        (None, None, Some(text)) => {
            let zone_name = zone.as_ref().map_or("UTC", |zone| zone.value.as_str());
            let branch = branch.map_or_else(|| "main".to_owned(), |branch| branch.value);
            match Schedule::new(&text.value, zone_name) {
                Ok(schedule) => Some(StartRule::Clock { schedule, branch }),
                Err(error) => {
                    let at_zone = matches!(error, crate::ScheduleError::Zone(_));
                    let span = zone.filter(|_| at_zone).map_or(text.span, |zone| zone.span);
                    line.fault(span, error.to_string(), "");
                    None
                }
            }
        }
        (None, None, None) => {
            let help = "write start commit=\"main\", start tag=\"v*\", start clock=\"15 5 * * 1-5\" or start base";
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

pub(super) fn ask(mut line: Line<'_, '_>) -> Option<Ask> {
    let name = line.text("a name").filter(|name| is_name(&line, name));
    let (kind, default, help) = (line.named("kind"), line.named_scalar("default"), line.named("help"));
    let least = line.named_number("least", i64::MIN..=i64::MAX);
    let most = line.named_number("most", i64::MIN..=i64::MAX);
    let longest = line.named_number("longest", 1..=10_000);
    let mut choices = None;
    line.inside(&ASK_WORDS, |mut line| {
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
        (None, Some(choices)) => Some(AskKind::OneOf(choices)),
        (Some(_), Some(_)) => {
            line.fault(line.span(), "a `kind` and `one-of` cannot both be said", "keep one of the two");
            None
        }
        (None | Some("text"), None) => {
            let longest = longest.and_then(|longest| u32::try_from(longest).ok()).unwrap_or(DEFAULT_LONGEST);
            Some(AskKind::Text { longest })
        }
        (Some("yes-no"), None) => Some(AskKind::YesNo),
        (Some("number"), None) => {
            let (least, most) = (least.unwrap_or(i64::MIN), most.unwrap_or(i64::MAX));
            if least > most {
                line.fault(line.span(), "no number is at least `least` and at most `most`", "exchange them");
            }
            Some(AskKind::Number { least, most })
        }
        (Some(other), None) => {
            if let Some(kind) = &kind {
                let help = crate::pipeline::fault::help_for_unknown(other, &ASK_KINDS);
                line.fault(kind.span, format!("`{other}` is not a kind of answer"), help);
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
    Some(Ask { name: name?, kind: kind?, default, help: help.map(|help| help.value) })
}
