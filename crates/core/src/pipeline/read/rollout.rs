//! `rollout`: bring to an environment.

use super::job::Common;
use super::values::{name, once, parsed, path};
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{DEFAULT_SETTLE, Job, JobKind, RolloutJob};
use crate::pipeline::nodes::Line;

/// The words that only this kind of job has.
pub(super) const ROLLOUT_WORDS: [&str; 5] = ["to", "image", "manifests", "settle", "otherwise"];

pub(super) fn job(mut line: Line<'_, '_>) -> Option<Job> {
    let job_name = name(&mut line);
    let mut common = Common::default();
    let (mut to, mut image, mut settle, mut otherwise) = (None, None, None, None);
    let mut manifests = Vec::new();
    let (mut has_to, mut has_image, mut has_manifests) = (false, false, false);
    let known = [&super::job::COMMON_WORDS[..], &ROLLOUT_WORDS].concat();
    line.inside(&known, |line| {
        let mut line = match common.take(line) {
            Ok(()) => return true,
            Err(line) => line,
        };
        match line.word() {
            "to" => {
                has_to = true;
                let value = name(&mut line);
                once(&mut to, &line, value);
            }
            "image" => {
                has_image = true;
                let value = line.text("the name of an image job");
                once(&mut image, &line, value);
            }
            "manifests" => {
                has_manifests = true;
                let texts = line.texts("a path");
                manifests.extend(texts.into_iter().filter_map(|text| path(&line, text)));
            }
            "settle" => {
                let value = line.text("a length of time").and_then(|text| parsed(&line, &text));
                once(&mut settle, &line, value);
            }
            "otherwise" => {
                let word = line.text("what is done when it fails");
                if let Some(word) = word.as_ref().filter(|word| word.value != "restore") {
                    let help = help_for_unknown(&word.value, &["restore"]);
                    line.fault(word.span, format!("`{}` is nothing that can be done", word.value), help);
                }
                once(&mut otherwise, &line, word);
            }
            _ => return false,
        }
        line.end_without_block(false);
        true
    });
    for (there, lacks, help) in [
        (has_to, "does not say where it goes", "write to \"ENVIRONMENT\" in its braces"),
        (has_image, "names no image", "write image \"NAME\" with the name of an image job of an earlier stage"),
        (has_manifests, "has no manifests", "write manifests \"deploy/*.yaml\" in its braces"),
    ] {
        if !there {
            line.fault(line.span(), format!("this rollout {lacks}"), help);
        }
    }
    line.end(false);
    let job = RolloutJob {
        to: to.unwrap_or_default(),
        image: image.unwrap_or_default(),
        manifests,
        settle: settle.unwrap_or(DEFAULT_SETTLE),
        restores: otherwise.is_some(),
    };
    Some(common.finish(job_name?, JobKind::Rollout(job)))
}
