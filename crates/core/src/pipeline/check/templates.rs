//! Templates: names that have no value, tags that no registry takes or that would stay the same.

use super::Before;
use crate::image::{Reference, Tag};
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{ImageJob, Job, JobKind, Pipeline, Spanned, Stage, StartRule};
use crate::pipeline::nodes::Sheet;
use crate::pipeline::variables::{HASH, INPUT, JOB, MATRIX};
use crate::pipeline::{Pattern, VARIABLES};
use crate::template::{self, Part, TemplateError};

/// The names that a job's templates may use.
struct Scope<'s, 't> {
    sheet: &'s Sheet<'t>,
    names: Vec<String>,
    /// Whether the job is only in runs that a tag started.
    tagged: bool,
    /// Whether a base that moves starts the pipeline.
    starts_by_base: bool,
}

pub(super) fn check(sheet: &Sheet<'_>, pipeline: &Pipeline, stage: &Stage, job: &Job, before: &Before<'_>) {
    let fixed = VARIABLES.iter().map(|(name, ..)| (*name).to_owned());
    let inputs = pipeline.inputs.iter().map(|input| format!("{INPUT}{}", input.name.value));
    let matrix = job.matrix.axes.iter().map(|axis| format!("{MATRIX}{}", axis.name.value));
    let needs_tag = |conditions: &crate::pipeline::Conditions| {
        !conditions.when.is_empty() && conditions.when.iter().all(|when| when.value.tag.is_some())
    };
    let tagged = needs_tag(&stage.conditions) || needs_tag(&job.conditions);
    // Each job of a matrix has outputs of its own: there is no one value.
    let single = before.steps().filter(|(job, _)| job.matrix.is_empty());
    let outputs = single.flat_map(|(job, steps)| {
        steps.outputs.iter().map(|output| format!("{JOB}{}.{}", job.name.value, output.name.value))
    });
    let starts_by_base = pipeline.starts.contains(&StartRule::BaseMoved);
    let scope =
        Scope { sheet, names: fixed.chain(inputs).chain(matrix).chain(outputs).collect(), tagged, starts_by_base };
    match &job.kind {
        JobKind::Steps(steps) => {
            steps.images().for_each(|image| image_name(&scope, image));
            for cache in &steps.caches {
                for text in [&cache.key].into_iter().chain(&cache.newest) {
                    key(&scope, text);
                }
            }
        }
        JobKind::Image(image) => {
            for value in image.args.values() {
                scope.parts(value);
            }
            tags(&scope, job, image);
        }
        JobKind::Rollout(_) => {}
    }
}

impl Scope<'_, '_> {
    /// The parts of a template; nothing, and a fault for each, when some have no value.
    fn parts(&self, text: &Spanned<String>) -> Option<Vec<Part>> {
        let parts = match template::parse(&text.value) {
            Ok(parts) => parts,
            Err(error @ (TemplateError::Unbalanced(_) | TemplateError::Unknown(_))) => {
                self.sheet.fault(text.span, error.to_string(), "");
                return None;
            }
        };
        let mut sound = true;
        for name in names(&parts) {
            if !self.names.iter().any(|known| known == name) {
                let known: Vec<_> = self.names.iter().map(String::as_str).collect();
                self.sheet.fault(text.span, format!("`{{{name}}}` is not known"), help_for_unknown(name, &known));
                sound = false;
            } else if name == "tag" && !self.tagged {
                let message = "`{tag}` has no value in runs that no tag started";
                self.sheet.fault(text.span, message, "write when tag=\"*\" in this job or its stage");
                sound = false;
            }
        }
        sound.then_some(parts)
    }
}

fn names(parts: &[Part]) -> impl Iterator<Item = &str> {
    parts.iter().filter_map(|part| if let Part::Name(name, _) = part { Some(name.as_str()) } else { None })
}

/// The key of a cache, which may have hashes of files in it.
fn key(scope: &Scope<'_, '_>, text: &Spanned<String>) {
    let Ok(parts) = template::parse(&text.value) else {
        scope.parts(text);
        return;
    };
    for name in names(&parts) {
        match name.strip_prefix(HASH) {
            None if name == HASH.trim() => {
                scope.sheet.fault(text.span, "`{hash}` names no files", "write {hash PATTERN}, as in {hash lock.txt}");
            }
            None => drop(scope.parts(&Spanned { value: format!("{{{name}}}"), span: text.span })),
            Some(pattern) => {
                let pattern = pattern.trim();
                let leaves = pattern.starts_with('/') || pattern.split('/').any(|part| part == "..");
                if leaves || Pattern::new(pattern).is_err() {
                    let message = format!("`{pattern}` is not a pattern of paths inside the repository");
                    scope.sheet.fault(text.span, message, "write it as in {hash lock.txt} or {hash beds/**}");
                }
            }
        }
    }
}

/// The text of a template as far as it is fixed, and whether it is wholly so.
fn fixed_text(parts: &[Part]) -> (String, bool) {
    let text = parts.iter().filter_map(|part| if let Part::Text(text) = part { Some(text.as_str()) } else { None });
    (text.collect(), parts.iter().all(|part| matches!(part, Part::Text(_))))
}

fn image_name(scope: &Scope<'_, '_>, text: &Spanned<String>) {
    if text.value.is_empty() {
        return;
    }
    let Some(parts) = scope.parts(text) else { return };
    let (fixed, wholly) = fixed_text(&parts);
    if wholly && let Err(error) = fixed.parse::<Reference>() {
        scope.sheet.fault(text.span, error.to_string(), "");
    }
}

/// Whether a value may be another one when a commit is built once more.
fn is_of_the_run(name: &str) -> bool {
    name == "run" || name.starts_with(INPUT) || name.starts_with(JOB)
}

/// Tags that no registry takes, that would be the same for every run, or for every job of a matrix.
fn tags(scope: &Scope<'_, '_>, job: &Job, image: &ImageJob) {
    for push in &image.pushes {
        let once = push.tags.iter().map(|text| (text, true));
        for (text, once_only) in once.chain(push.moving.iter().map(|text| (text, false))) {
            let Some(parts) = scope.parts(text) else { continue };
            let (fixed, wholly) = fixed_text(&parts);
            let wrong = if wholly { fixed.parse::<Tag>().is_err() } else { !Tag::may_contain(&fixed) };
            if wrong || text.value.starts_with(['.', '-']) {
                let message = format!("`{}` cannot be a tag", text.value);
                let help = "1 to 128 of letters, digits, `_`, `.` and `-`, not beginning with `.` or `-`";
                scope.sheet.fault(text.span, message, help);
                continue;
            }
            let varies = names(&parts).any(|name| {
                // What a person says, or a job finds out, may be another tag each time.
                name.starts_with(INPUT)
                    || name.starts_with(JOB)
                    || VARIABLES.iter().any(|(known, varies, _)| *known == name && *varies)
            });
            if once_only && !varies {
                scope.sheet.fault(
                    text.span,
                    format!("the tag `{}` would be the same for every run, and a `tag` is pushed once", text.value),
                    format!("write `moving \"{}\"`, or put {{commit.short}} or {{run}} into it", text.value),
                );
                continue;
            }
            if once_only && scope.starts_by_base && !names(&parts).any(is_of_the_run) {
                let message = format!(
                    "a run that a base starts builds the same commit once more, and would find the tag `{}` taken",
                    text.value
                );
                scope.sheet.fault(text.span, message, "put {run} into it, as in {commit.short}-{run}");
                continue;
            }
            let missing = job.matrix.axes.iter().find(|axis| {
                let wanted = format!("{MATRIX}{}", axis.name.value);
                axis.values.len() > 1 && names(&parts).all(|name| name != wanted)
            });
            if let Some(axis) = missing {
                let message = format!("every job of the matrix would push the tag `{}`", text.value);
                scope.sheet.fault(text.span, message, format!("put {{{MATRIX}{}}} into it", axis.name.value));
            }
        }
    }
}
