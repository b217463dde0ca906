//! When conditions leave something out of a run.

use super::Start;
use crate::pipeline::{Condition, Conditions, Pattern};

/// Why conditions leave something out of a run; nothing when they do not.
pub(super) fn left_out(conditions: &Conditions, start: &Start) -> Option<String> {
    if let Some(unless) = conditions.unless.iter().find(|unless| unmet(&unless.value, start).is_none()) {
        return Some(format!("not when {}", said(&unless.value)));
    }
    let mut whys = conditions.when.iter().map(|when| unmet(&when.value, start));
    let first = whys.next()??;
    if whys.any(|why| why.is_none()) {
        return None;
    }
    Some(if conditions.when.len() == 1 { first } else { format!("no `when` holds: {first}") })
}

/// The first part of a condition that does not hold, in words.
fn unmet(condition: &Condition, start: &Start) -> Option<String> {
    if let Some(branch) = &condition.branch
        && (start.tag.is_some() || !branch.matches(&start.branch))
    {
        return Some(match &start.tag {
            Some(tag) => format!("only on branch {branch}, and this is of tag {tag}"),
            None => format!("only on branch {branch}, and this is {}", start.branch),
        });
    }
    if let Some(wanted) = &condition.tag {
        match &start.tag {
            None => return Some(format!("only for a tag {wanted}, and no tag started this")),
            Some(tag) if !wanted.matches(tag) => return Some(format!("only for a tag {wanted}, and this is {tag}")),
            Some(_) => {}
        }
    }
    if let Some(kind) = condition.start.filter(|kind| *kind != start.kind) {
        return Some(format!("only when started by {kind}, and this was by {}", start.kind));
    }
    let paths = condition.changed.as_ref().filter(|paths| !was_changed(paths, start))?;
    Some(format!("only when {paths} changed, and nothing of it did"))
}

/// A condition as it was written.
fn said(condition: &Condition) -> String {
    let parts = [
        condition.branch.as_ref().map(|branch| format!("branch={branch}")),
        condition.tag.as_ref().map(|tag| format!("tag={tag}")),
        condition.start.map(|start| format!("start={start}")),
        condition.changed.as_ref().map(|paths| format!("changed={paths}")),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join(" ")
}

/// Whether a changed file fits; taken for granted where it is not known what changed.
pub(super) fn was_changed(paths: &Pattern, start: &Start) -> bool {
    start.changed.as_ref().is_none_or(|changed| changed.iter().any(|path| paths.matches(path)))
}
