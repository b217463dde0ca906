//! What only the whole file shows: what parses, but cannot work.

mod artifacts;
mod order;
mod reach;
mod templates;

use super::fault::help_for_unknown;
use super::model::{Job, JobKind, Pipeline, Stage, StepsJob};
use super::nodes::Sheet;

/// Finds every such fault.
pub(super) fn whole(sheet: &Sheet<'_>, pipeline: &Pipeline) {
    twice(sheet, pipeline);
    images(sheet, pipeline);
    for (at, stage) in pipeline.stages.iter().enumerate() {
        order::check(sheet, stage);
        exclusive(sheet, stage);
        for job in &stage.jobs {
            let before = Before::of(&pipeline.stages[..at], stage, job);
            artifacts::check(sheet, &before, job);
            templates::check(sheet, pipeline, stage, job, &before);
        }
    }
    reach::check(sheet, pipeline);
}

/// The jobs that are over before a job begins: those of earlier stages, and those that it comes after.
struct Before<'a>(Vec<&'a Job>);

impl<'a> Before<'a> {
    fn of(earlier: &'a [Stage], stage: &'a Stage, job: &Job) -> Self {
        let mut jobs: Vec<&Job> = earlier.iter().flat_map(|stage| &stage.jobs).collect();
        let mut names: Vec<&str> = job.after.iter().map(|after| after.value.as_str()).collect();
        let mut at = 0;
        while let Some(name) = names.get(at).copied() {
            if let Some(found) = stage.jobs.iter().find(|other| other.name.value == name) {
                jobs.push(found);
                let more = found.after.iter().map(|after| after.value.as_str());
                names.extend(more.filter(|more| !names.contains(more)).collect::<Vec<_>>());
            }
            at += 1;
        }
        Self(jobs)
    }

    /// Those of commands, in order.
    fn steps(&self) -> impl DoubleEndedIterator<Item = (&'a Job, &'a StepsJob)> {
        self.0.iter().filter_map(|job| if let JobKind::Steps(steps) = &job.kind { Some((*job, steps)) } else { None })
    }
}

/// Names that stand twice.
fn twice(sheet: &Sheet<'_>, pipeline: &Pipeline) {
    for (at, input) in pipeline.inputs.iter().enumerate() {
        if pipeline.inputs[..at].iter().any(|other| other.name == input.name) {
            let message = format!("two inputs are called `{}`", input.name.value);
            sheet.fault(input.name.span, message, "rename one of them");
        }
    }
    for (at, stage) in pipeline.stages.iter().enumerate() {
        if pipeline.stages[..at].iter().any(|other| other.name == stage.name) {
            sheet.fault(stage.name.span, format!("two stages are called `{}`", stage.name.value), "rename one of them");
        }
        for (at, job) in stage.jobs.iter().enumerate() {
            if stage.jobs[..at].iter().any(|other| other.name == job.name) {
                let message = format!("two jobs of this stage are called `{}`", job.name.value);
                sheet.fault(job.name.span, message, "rename one of them");
            }
        }
    }
}

/// Images that are built twice, or used before anybody builds them.
fn images(sheet: &Sheet<'_>, pipeline: &Pipeline) {
    let mut built: Vec<&Job> = Vec::new();
    for stage in &pipeline.stages {
        for job in &stage.jobs {
            let earlier = |name: &str| built.iter().find(|other| other.name.value == name);
            if matches!(job.kind, JobKind::Image(_)) && earlier(&job.name.value).is_some() {
                let message = format!("an earlier stage has an image `{}` already", job.name.value);
                sheet.fault(job.name.span, message, "rename one of them");
            }
            let Some(used) = job.kind.used_image().filter(|used| !used.value.is_empty()) else { continue };
            let wanted = &used.value;
            match earlier(wanted) {
                None => {
                    let known: Vec<_> = built.iter().map(|job| job.name.value.as_str()).collect();
                    let message = format!("no earlier stage builds an image `{wanted}`");
                    sheet.fault(used.span, message, help_for_unknown(wanted, &known));
                }
                Some(image) if !image.matrix.is_empty() => {
                    let message = format!("`{wanted}` is an image for each value of a matrix");
                    sheet.fault(used.span, message, "name an image job without a matrix");
                }
                Some(_) => {}
            }
        }
        built.extend(stage.jobs.iter().filter(|job| matches!(job.kind, JobKind::Image(_))));
    }
}

/// A job that would wait for what its own stage holds.
fn exclusive(sheet: &Sheet<'_>, stage: &Stage) {
    let Some(held) = &stage.exclusive else { return };
    for job in stage.jobs.iter().filter(|job| job.exclusive.as_ref() == Some(held)) {
        let message = format!("the stage `{}` holds `{held}` already", stage.name.value);
        sheet.fault(job.name.span, message, "take `exclusive` out of the job, or out of the stage");
    }
}
