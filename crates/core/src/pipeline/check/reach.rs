//! Conditions that can never hold, and stages that nothing reaches.

use crate::pipeline::model::{Condition, Conditions, Pipeline, RequiredResult, Spanned, StartKind, StartRule};
use crate::pipeline::nodes::Sheet;
use crate::pipeline::{Pattern, Span};

pub(super) fn check(sheet: &Sheet<'_>, pipeline: &Pipeline) {
    for (at, stage) in pipeline.stages.iter().enumerate() {
        let none = Conditions::default();
        let stage_is_sound = conditions(sheet, pipeline, &none, &stage.conditions, stage.name.span);
        for job in stage.jobs.iter().filter(|_| stage_is_sound) {
            conditions(sheet, pipeline, &stage.conditions, &job.conditions, job.name.span);
        }
        let waits_for_failure = stage.jobs.iter().all(|job| {
            job.required_result.unwrap_or(stage.required_result) == RequiredResult::Failed && job.after.is_empty()
        });
        if at == 0 && waits_for_failure && !stage.jobs.is_empty() {
            let message = format!(
                "nothing reaches the stage `{}`: it is the first, and nothing can fail before it",
                stage.name.value
            );
            sheet.fault(stage.name.span, message, "move it behind the stages whose failure it is for");
        }
    }
}

/// Checks the conditions of a stage, or of a job inside a stage's. Answers whether some run fits.
fn conditions(sheet: &Sheet<'_>, pipeline: &Pipeline, outer: &Conditions, inner: &Conditions, name: Span) -> bool {
    let unsaid = [Spanned { value: Condition::default(), span: name }];
    let or_unsaid = |list: &[Spanned<Condition>]| if list.is_empty() { unsaid.to_vec() } else { list.to_vec() };
    let mut any_fits = false;
    let mut faults = Vec::new();
    for own in or_unsaid(&inner.when) {
        let mut why = None;
        let fits = or_unsaid(&outer.when).iter().any(|around| {
            let unless = outer.unless.iter().chain(&inner.unless).map(|unless| &unless.value);
            match contradiction(pipeline, &[&around.value, &own.value], unless) {
                None => true,
                Some(words) => {
                    why = Some(words);
                    false
                }
            }
        });
        any_fits |= fits;
        faults.extend(why.filter(|_| !fits).map(|why| (own.span, why)));
    }
    for (span, why) in faults {
        let message = if span == name { "this can never be in a run" } else { "this `when` can never hold" };
        sheet.fault(span, format!("{message}: {why}"), "take a condition away, or add a `start` that fits");
    }
    any_fits
}

/// Why no run fits all of these conditions; nothing when one may.
fn contradiction<'a>(
    pipeline: &Pipeline,
    all: &[&Condition],
    mut unless: impl Iterator<Item = &'a Condition>,
) -> Option<String> {
    let tagged = all.iter().find_map(|one| one.tag.as_ref());
    let branch = all.iter().find_map(|one| one.branch.as_ref());
    if let Some((tag, branch)) = tagged.zip(branch) {
        return Some(format!("a run of a tag (`{tag}`) has no branch (`{branch}`)"));
    }
    let starts: Vec<StartKind> = all.iter().filter_map(|one| one.start).collect();
    if let Some(pair) = starts.windows(2).find(|pair| pair[0] != pair[1]) {
        return Some(format!("a run is not started both by {} and by {}", pair[0], pair[1]));
    }
    if starts.contains(&StartKind::Schedule)
        && !pipeline.starts.iter().any(|rule| matches!(rule, StartRule::Schedule { .. }))
    {
        return Some("no `start schedule` makes such a run".to_owned());
    }
    if starts.contains(&StartKind::BaseMoved) && !pipeline.starts.contains(&StartRule::BaseMoved) {
        return Some("no `start base-moved` makes such a run".to_owned());
    }
    let plain = |of: fn(&Condition) -> &Option<Pattern>| {
        let mut names: Vec<_> = all.iter().filter_map(|one| of(one).as_ref()).filter(|one| one.is_plain()).collect();
        names.dedup();
        (names.len() > 1).then(|| format!("`{}` is not `{}`", names[0], names[1]))
    };
    if let Some(why) = plain(|one| &one.branch).or_else(|| plain(|one| &one.tag)) {
        return Some(why);
    }
    let same = |wanted: &Option<Pattern>, of: fn(&Condition) -> &Option<Pattern>| {
        wanted.is_none() || all.iter().any(|one| of(one) == wanted)
    };
    let excludes = |one: &&Condition| {
        same(&one.branch, |c| &c.branch)
            && same(&one.tag, |c| &c.tag)
            && same(&one.changed, |c| &c.changed)
            && (one.start.is_none() || starts.contains(&one.start.unwrap_or(StartKind::Manual)))
    };
    unless.find(excludes).map(|_| "an `unless` says the same".to_owned())
}
