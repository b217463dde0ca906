//! When conditions leave something out of a run.

use super::Start;
use crate::pipeline::{Condition, Conditions, Pattern};

/// Why conditions leave something out of a run; nothing when they do not.
pub(super) fn left_out(conditions: &Conditions, start: &Start) -> Option<String> {
    if let Some(unless) = conditions.unless.iter().find(|unless| unmet(&unless.value, start).is_none()) {
        return Some(format!("unless {}", said(&unless.value)));
    }
    let mut whys = conditions.when.iter().map(|when| unmet(&when.value, start));
    let first = whys.next()??;
    if whys.any(|why| why.is_none()) {
        return None;
    }
    Some(if conditions.when.len() == 1 { first } else { format!("no `when` holds; {first}") })
}

/// The first part of a condition that does not hold, in words.
fn unmet(condition: &Condition, start: &Start) -> Option<String> {
    if let Some(branch) = &condition.branch
        && (start.tag.is_some() || !branch.matches(&start.branch))
    {
        return Some(match &start.tag {
            Some(_) => format!("a run of a tag is not on {branch}"),
            None => format!("the branch is {} and not {branch}", start.branch),
        });
    }
    if let Some(wanted) = &condition.tag {
        match &start.tag {
            None => return Some(format!("no tag started it (wanted: {wanted})")),
            Some(tag) if !wanted.matches(tag) => return Some(format!("the tag is {tag} and not {wanted}")),
            Some(_) => {}
        }
    }
    if let Some(kind) = condition.start.filter(|kind| *kind != start.kind) {
        return Some(format!("the start is {} and not {kind}", start.kind));
    }
    let paths = condition.changed.as_ref().filter(|paths| !was_changed(paths, start))?;
    Some(format!("nothing that fits {paths} was changed"))
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
