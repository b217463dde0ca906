//! `stage`, and the words that stages and jobs share.

use std::collections::BTreeMap;

use super::values::{env, exclusive, is_name, name, once, parsed, pattern};
use super::{image, rollout, steps};
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Approval, Condition, Conditions, RequiredResult, Spanned, Stage, StartKind};
use crate::pipeline::nodes::Line;

/// The words that may stand inside a stage.
pub(super) const STAGE_WORDS: [&str; 8] = ["job", "image", "rollout", "when", "unless", "env", "exclusive", "approval"];

pub(super) fn stage(mut line: Line<'_, '_>) -> Option<Stage> {
    let name = name(&mut line);
    let mut jobs = Vec::new();
    let mut job_count = 0;
    let (mut conditions, mut required_result, mut variables) = (Conditions::default(), None, BTreeMap::new());
    let (mut one_at_a_time, mut question) = (None, None);
    line.inside(&STAGE_WORDS, |line| {
        let word = line.word();
        job_count += usize::from(matches!(word, "job" | "image" | "rollout"));
        match word {
            "job" => jobs.extend(steps::job(line)),
            "image" => jobs.extend(image::job(line)),
            "rollout" => jobs.extend(rollout::job(line)),
            "when" | "unless" => condition(&mut conditions, &mut required_result, line),
            "env" => env(&mut variables, line),
            "exclusive" => exclusive(&mut one_at_a_time, line),
            "approval" => approval(&mut question, line),
            _ => return false,
        }
        true
    });
    if job_count == 0 {
        line.fault(
            line.span(),
            "this stage has nothing to do",
            "write a `job`, an `image` or a `rollout` in its braces",
        );
    }
    line.end(false);
    Some(Stage {
        name: name?,
        conditions,
        required_result: required_result.unwrap_or_default(),
        env: variables,
        exclusive: one_at_a_time,
        approval: question,
        jobs,
    })
}

/// `when …` or `unless …`.
pub(super) fn condition(
    conditions: &mut Conditions,
    required_result: &mut Option<RequiredResult>,
    mut line: Line<'_, '_>,
) {
    let is_when = line.word() == "when";
    let (branch, tag, changed) = (line.named("branch"), line.named("tag"), line.named("changed"));
    let start = line.named("start");
    let read = Condition {
        branch: branch.and_then(|text| pattern(&line, &text, "write a branch, as in `main` or `release/*`")),
        tag: tag.and_then(|text| pattern(&line, &text, "write a tag, as in `v*`")),
        changed: changed.and_then(|text| pattern(&line, &text, "write paths, as in `desk/**`")),
        start: start.and_then(|text| {
            let kind = StartKind::from_word(&text.value);
            if kind.is_none() {
                let help = help_for_unknown(&text.value, &StartKind::ALL.map(StartKind::word));
                line.fault(text.span, format!("`{}` is not a reason to start", text.value), help);
            }
            kind
        }),
    };
    let mut says_result = false;
    if is_when && let Some(text) = line.named("result") {
        says_result = true;
        let found = RequiredResult::WORDS.iter().find(|(word, _)| *word == text.value);
        if found.is_none() {
            let help = help_for_unknown(&text.value, &RequiredResult::WORDS.map(|(word, _)| word));
            line.fault(text.span, format!("`{}` is not a result of what came before", text.value), help);
        }
        once(required_result, &line, found.map(|(_, value)| *value));
    }
    if read != Condition::default() {
        let read = Spanned { value: read, span: line.span() };
        if is_when { conditions.when.push(read) } else { conditions.unless.push(read) }
    } else if !says_result && line.has_no_properties() {
        let help = format!("write {} branch=\"main\", or tag=, start=, changed=", line.word());
        line.fault(line.span(), format!("`{}` says no condition", line.word()), help);
    }
    line.end_without_block(false);
}

fn approval(slot: &mut Option<Approval>, mut line: Line<'_, '_>) {
    let question = line.text("a question").map(|question| question.value).unwrap_or_default();
    let by = line.named("by").filter(|by| is_name(&line, by)).map(|by| by.value);
    let within = line.named("within").and_then(|text| parsed(&line, &text));
    once(slot, &line, Some(Approval { question, by, within }));
    line.end_without_block(false);
}
