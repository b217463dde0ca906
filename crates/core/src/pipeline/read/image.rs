//! `image`: build, tag, push.

use std::collections::BTreeMap;

use super::job::Common;
use super::steps::network_use;
use super::values::{Limited, flag, limit, name, once, parsed, path};
use crate::pipeline::SecretName;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{BuildSecret, DEFAULT_TIME, ImageJob, Job, JobKind, LayerForm, Network, Push, Spanned};
use crate::pipeline::nodes::Line;

/// The words that only this kind of job has.
pub(super) const IMAGE_WORDS: [&str; 12] = [
    "recipe",
    "arg",
    "push",
    "limit",
    "runner",
    "secret",
    "ssh",
    "network",
    "layers",
    "platform",
    "cache",
    "holds-secrets",
];
/// Where an image for several platforms is built: all by one runner, or each by one that runs its programs.
const BUILD_WORDS: [&str; 2] = ["here", "native"];
/// The words inside a push.
pub(super) const PUSH_WORDS: [&str; 2] = ["tag", "moving"];

pub(super) fn job(mut line: Line<'_, '_>) -> Option<Job> {
    let name = name(&mut line);
    let mut common = Common::default();
    let (mut recipe, mut context, mut limited) = (None, None, Limited::default());
    let (mut ignore, mut target, mut network, mut layers, mut cache) = (None, None, None, None, None);
    let (mut args, mut pushes, mut platforms) = (BTreeMap::new(), Vec::new(), Vec::new());
    let (mut secrets, mut keys, mut builds_native) = (Vec::new(), Vec::new(), false);
    let (mut has_push, mut holds_secrets) = (false, false);
    let known = [&super::job::COMMON_WORDS[..], &IMAGE_WORDS].concat();
    line.inside(&known, |line| {
        let mut line = match common.take(line) {
            Ok(()) => return true,
            Err(line) => line,
        };
        match line.word() {
            "recipe" => {
                let file = line.text("a path").and_then(|text| path(&line, text));
                let folder = line.named("context").and_then(|text| path(&line, text));
                let rules = line.named("ignore").and_then(|text| path(&line, text));
                let stage = line.named("target").map(|stage| stage.value);
                once(&mut recipe, &line, file);
                (context, ignore) = (folder.or(context.take()), rules.or(ignore.take()));
                target = stage.or(target.take());
                line.end_without_block(false);
            }
            "arg" => arg(&mut args, line),
            "push" => {
                has_push = true;
                pushes.extend(push(line));
            }
            "limit" => limit(&mut limited, line, false),
            "runner" => common.runner(line),
            "secret" => build_secret(&mut secrets, line, None),
            "ssh" => build_secret(&mut keys, line, Some("default")),
            "network" => network_use(&mut network, line),
            "layers" => layer_form(&mut layers, line),
            "holds-secrets" => flag(&mut holds_secrets, line),
            "cache" => {
                let repository = line.text("a repository").and_then(|text| parsed(&line, &text));
                once(&mut cache, &line, repository);
                line.end_without_block(false);
            }
            "platform" => {
                builds_native |= is_built_natively(&mut line);
                for platform in line.texts("a platform") {
                    if platforms.contains(&platform.value) {
                        let message = format!("`{}` is named twice", platform.value);
                        line.fault(platform.span, message, "name each platform once");
                    } else if is_platform(&platform.value) {
                        platforms.push(platform.value);
                    } else {
                        let message = format!("`{}` is not a platform", platform.value);
                        line.fault(platform.span, message, "write OS/ARCHITECTURE, as in linux/arm64");
                    }
                }
                line.end_without_block(false);
            }
            _ => return false,
        }
        true
    });
    if !has_push {
        line.fault(line.span(), "this image goes nowhere", "write push \"HOST/REPOSITORY\" { tag \"{commit.short}\" }");
    }
    if network == Some(Network::Host) {
        common.needs().host_network = true;
    }
    line.end(false);
    let job = ImageJob {
        recipe: recipe.unwrap_or_else(|| "image.recipe".to_owned()),
        context: context.unwrap_or_else(|| ".".to_owned()),
        ignore,
        target,
        platforms,
        builds_native,
        secrets,
        keys,
        network: network.unwrap_or_default(),
        holds_secrets,
        layers,
        cache,
        args,
        pushes,
        time: limited.time.unwrap_or(DEFAULT_TIME),
    };
    Some(common.finish(name?, JobKind::Image(job)))
}

/// `secret "NAME"`, `secret "NAME" id="OTHER"`; the same of `ssh`.
fn build_secret(secrets: &mut Vec<BuildSecret>, mut line: Line<'_, '_>, otherwise: Option<&str>) {
    let id = line.named("id").map(|id| id.value);
    let name = line.text("a name");
    if let Some(name) = name.filter(|name| parsed::<SecretName>(&line, name).is_some()) {
        let id = id.unwrap_or_else(|| otherwise.unwrap_or(&name.value).to_owned());
        if secrets.iter().any(|other: &BuildSecret| other.id == id) {
            line.fault(name.span, format!("two of them have the id `{id}`"), "give one of them another: id=\"NAME\"");
        }
        secrets.push(BuildSecret { name, id });
    }
    line.end_without_block(false);
}

/// `layers "gzip"`, `layers "zstd"`.
fn layer_form(slot: &mut Option<LayerForm>, mut line: Line<'_, '_>) {
    let word = line.text("how layers are compressed");
    let found = word.as_ref().and_then(|word| LayerForm::WORDS.iter().find(|(known, _)| *known == word.value));
    if let Some(word) = word.filter(|_| found.is_none()) {
        let help = help_for_unknown(&word.value, &LayerForm::WORDS.map(|(known, _)| known));
        line.fault(word.span, format!("`{}` is no way to compress layers", word.value), help);
    }
    once(slot, &line, found.map(|(_, form)| *form));
    line.end_without_block(false);
}

/// `build="native"`, `build="here"`.
fn is_built_natively(line: &mut Line<'_, '_>) -> bool {
    let Some(word) = line.named("build") else { return false };
    if !BUILD_WORDS.contains(&word.value.as_str()) {
        let help = help_for_unknown(&word.value, &BUILD_WORDS);
        line.fault(word.span, format!("`{}` does not say where platforms are built", word.value), help);
    }
    word.value == BUILD_WORDS[1]
}

fn is_platform(text: &str) -> bool {
    let parts: Vec<_> = text.split('/').collect();
    let sound = |part: &&str| !part.is_empty() && part.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit());
    (2..=3).contains(&parts.len()) && parts.iter().all(sound)
}

fn arg(args: &mut BTreeMap<String, Spanned<String>>, mut line: Line<'_, '_>) {
    for (name, value) in line.pairs() {
        if args.insert(name.value.clone(), value).is_some() {
            line.fault(name.span, format!("`{}` is set twice", name.value), "keep one of the two");
        }
    }
    line.end_without_block(true);
}

fn push(mut line: Line<'_, '_>) -> Option<Push> {
    let repository = line.text("a repository").and_then(|text| parsed(&line, &text));
    let (mut tags, mut moving) = (Vec::new(), Vec::new());
    let mut count = 0;
    line.inside(&PUSH_WORDS, |mut line| {
        count += 1;
        let list = match line.word() {
            "tag" => &mut tags,
            "moving" => &mut moving,
            _ => return false,
        };
        list.extend(line.texts("a tag"));
        line.end_without_block(false);
        true
    });
    if count == 0 {
        line.fault(line.span(), "nothing names the pushed image", "write tag \"{commit.short}\" in its braces");
    }
    line.end(false);
    Some(Push { repository: repository?, tags, moving })
}
