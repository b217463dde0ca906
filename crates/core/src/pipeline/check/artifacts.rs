//! `fetch` of something that no job leaves in time.

use super::Before;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Job, JobKind};
use crate::pipeline::nodes::Sheet;

pub(super) fn check(sheet: &Sheet<'_>, before: &Before<'_>, job: &Job) {
    let JobKind::Steps(steps) = &job.kind else { return };
    for fetch in &steps.fetches {
        let leaving =
            before.steps().filter(|(_, steps)| steps.artifacts.iter().any(|artifact| artifact.name == fetch.name));
        let Some(from) = &fetch.from else {
            let mut jobs = leaving.map(|(job, _)| job);
            let Some(first) = jobs.next_back() else {
                let known: Vec<_> =
                    before.steps().flat_map(|(_, steps)| &steps.artifacts).map(|one| one.name.value.as_str()).collect();
                let message = format!("no job before this one leaves an artifact `{}`", fetch.name.value);
                sheet.fault(fetch.name.span, message, help_for_unknown(&fetch.name.value, &known));
                continue;
            };
            if first.matrix.combinations().len() > 1 {
                let (suffix, _) = first.matrix.combinations().remove(0);
                let message =
                    format!("every job of the matrix `{}` leaves an artifact `{}`", first.name.value, fetch.name.value);
                sheet.fault(fetch.name.span, message, format!("say which: from=\"{}{suffix}\"", first.name.value));
            }
            continue;
        };
        let names: Vec<String> = leaving
            .flat_map(|(job, _)| {
                job.matrix.combinations().into_iter().map(|(suffix, _)| format!("{}{suffix}", job.name.value))
            })
            .collect();
        if !names.contains(&from.value) {
            let known: Vec<_> = names.iter().map(String::as_str).collect();
            let message = format!("`{}` leaves no artifact `{}` before this job", from.value, fetch.name.value);
            sheet.fault(from.span, message, help_for_unknown(&from.value, &known));
        }
    }
}
