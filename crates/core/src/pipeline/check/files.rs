//! `take` of something that nobody keeps in time.

use super::Before;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Job, JobKind};
use crate::pipeline::nodes::Sheet;

pub(super) fn check(sheet: &Sheet<'_>, before: &Before<'_>, job: &Job) {
    let JobKind::Steps(steps) = &job.kind else { return };
    for take in &steps.takes {
        let keeping = before.steps().filter(|(_, steps)| steps.keeps.iter().any(|keep| keep.name == take.name));
        let Some(from) = &take.from else {
            let mut jobs = keeping.map(|(job, _)| job);
            let Some(first) = jobs.next_back() else {
                let known: Vec<_> =
                    before.steps().flat_map(|(_, steps)| &steps.keeps).map(|keep| keep.name.value.as_str()).collect();
                let message = format!("no job before this one keeps `{}`", take.name.value);
                sheet.fault(take.name.span, message, help_for_unknown(&take.name.value, &known));
                continue;
            };
            if first.matrix.combinations().len() > 1 {
                let (suffix, _) = first.matrix.combinations().remove(0);
                let message = format!("every job of the matrix `{}` keeps `{}`", first.name.value, take.name.value);
                sheet.fault(take.name.span, message, format!("say which: from=\"{}{suffix}\"", first.name.value));
            }
            continue;
        };
        let names: Vec<String> = keeping
            .flat_map(|(job, _)| {
                job.matrix.combinations().into_iter().map(|(suffix, _)| format!("{}{suffix}", job.name.value))
            })
            .collect();
        if !names.contains(&from.value) {
            let known: Vec<_> = names.iter().map(String::as_str).collect();
            let message = format!("`{}` does not keep `{}` before this job", from.value, take.name.value);
            sheet.fault(from.span, message, help_for_unknown(&from.value, &known));
        }
    }
}
