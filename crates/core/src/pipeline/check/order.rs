//! `after`: names that are not there, and circles.

use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Job, Stage};
use crate::pipeline::nodes::Sheet;

pub(super) fn check(sheet: &Sheet<'_>, stage: &Stage) {
    let names: Vec<_> = stage.jobs.iter().map(|job| job.name.value.as_str()).collect();
    for job in &stage.jobs {
        for after in job.after.iter().filter(|after| !names.contains(&after.value.as_str())) {
            let others: Vec<_> = names.iter().copied().filter(|name| *name != job.name.value).collect();
            let message = format!("this stage has no job `{}`", after.value);
            sheet.fault(after.span, message, help_for_unknown(&after.value, &others));
        }
    }
    // What begins in no round waits for itself, directly or through others.
    let mut waiting: Vec<&Job> = stage.jobs.iter().collect();
    loop {
        let before = waiting.len();
        let names: Vec<_> = waiting.iter().map(|job| job.name.value.clone()).collect();
        waiting.retain(|job| job.after.iter().any(|after| names.contains(&after.value)));
        if waiting.len() == before {
            break;
        }
    }
    if let Some(circle) = circle(&waiting) {
        let span = circle[0].after.iter().find(|after| after.value == circle[1 % circle.len()].name.value);
        let names: Vec<_> = circle.iter().chain(circle.first()).map(|job| format!("`{}`", job.name.value)).collect();
        let message = format!("these jobs wait for each other: {}", names.join(" after "));
        let span = span.map_or(circle[0].name.span, |after| after.span);
        sheet.fault(span, message, "take one `after` away");
    }
}

/// A circle among jobs each of which waits for another of them.
fn circle<'a>(waiting: &[&'a Job]) -> Option<Vec<&'a Job>> {
    let mut path: Vec<&Job> = vec![waiting.first()?];
    loop {
        let last = path.last()?;
        let next = waiting.iter().find(|job| last.after.iter().any(|after| after.value == job.name.value))?;
        if let Some(begin) = path.iter().position(|job| job.name == next.name) {
            return Some(path.split_off(begin));
        }
        path.push(next);
    }
}
