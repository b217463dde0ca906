//! `rollout`: bring to an environment.

use super::job::Common;
use super::values::{Limited, limit, name, once, path};
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{DEFAULT_ROLLOUT_TIME, Job, JobKind, OnFailure, RolloutJob};
use crate::pipeline::nodes::Line;

/// The words that only this kind of job has.
pub(super) const ROLLOUT_WORDS: [&str; 5] = ["to", "image", "manifests", "limit", "on-failure"];

pub(super) fn job(mut line: Line<'_, '_>) -> Option<Job> {
    let job_name = name(&mut line);
    let mut common = Common::default();
    let (mut to, mut image, mut limited, mut on_failure) = (None, None, Limited::default(), None);
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
            "limit" => {
                limit(&mut limited, line, false);
                return true;
            }
            "on-failure" => {
                let word = line.text("what is done when it fails");
                let found =
                    word.as_ref().and_then(|word| OnFailure::WORDS.iter().find(|(known, _)| *known == word.value));
                if let Some(word) = word.filter(|_| found.is_none()) {
                    let help = help_for_unknown(&word.value, &OnFailure::WORDS.map(|(known, _)| known));
                    line.fault(word.span, format!("`{}` is nothing that can be done", word.value), help);
                }
                once(&mut on_failure, &line, found.map(|(_, what)| *what));
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
        time: limited.time.unwrap_or(DEFAULT_ROLLOUT_TIME),
        on_failure: on_failure.unwrap_or_default(),
    };
    Some(common.finish(job_name?, JobKind::Rollout(job)))
}
