//! Values that stand in many places: names, paths, variables, limits.

use std::collections::BTreeMap;

use crate::Duration;
use crate::id::is_plain_name;
use crate::pipeline::Pattern;
use crate::pipeline::model::{Limits, Spanned};
use crate::pipeline::nodes::Line;
use crate::pipeline::secret_name::{is_taken, is_variable};

/// What a name may be, for messages.
pub(super) const NAME_RULE: &str = "1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends";

/// Whether this is a name; a fault where not.
pub(super) fn is_name(line: &Line<'_, '_>, name: &Spanned<String>) -> bool {
    let sound = is_plain_name(&name.value);
    if !sound {
        line.fault(name.span, format!("`{}` cannot be a name", name.value), NAME_RULE);
    }
    sound
}

/// The next value, by the rule for names.
pub(super) fn name(line: &mut Line<'_, '_>) -> Option<Spanned<String>> {
    line.text("a name").filter(|name| is_name(line, name))
}

/// A parsed text, with a fault where it does not parse.
pub(super) fn parsed<T>(line: &Line<'_, '_>, text: &Spanned<String>) -> Option<T>
where
    T: std::str::FromStr,
    T::Err: std::fmt::Display,
{
    text.value.parse().map_err(|error: T::Err| line.fault(text.span, error.to_string(), "")).ok()
}

/// A pattern, with a fault where it is none.
pub(super) fn pattern(line: &Line<'_, '_>, text: &Spanned<String>, example: &str) -> Option<Pattern> {
    Pattern::new(&text.value).map_err(|error| line.fault(text.span, error.to_string(), example)).ok()
}

/// Sets a value that may be said once.
pub(super) fn once<T>(slot: &mut Option<T>, line: &Line<'_, '_>, value: Option<T>) {
    if slot.is_some() {
        line.fault(line.span(), format!("`{}` is said twice", line.word()), "keep one of the two");
    }
    if value.is_some() {
        *slot = value;
    }
}

/// A word that stands alone and may be said once.
pub(super) fn flag(slot: &mut bool, line: Line<'_, '_>) {
    if *slot {
        line.fault(line.span(), format!("`{}` is said twice", line.word()), "keep one of the two");
    }
    *slot = true;
    line.end_without_block(false);
}

/// `exclusive "NAME"`.
pub(super) fn exclusive(slot: &mut Option<String>, mut line: Line<'_, '_>) {
    let value = name(&mut line).map(|name| name.value);
    once(slot, &line, value);
    line.end_without_block(false);
}

/// `env NAME="value" …`.
pub(super) fn env(env: &mut BTreeMap<String, String>, mut line: Line<'_, '_>) {
    for (name, value) in line.pairs() {
        variable(&line, env, name, value.value);
    }
    line.end_without_block(true);
}

/// Sets a variable of the environment.
fn variable(line: &Line<'_, '_>, env: &mut BTreeMap<String, String>, name: Spanned<String>, value: String) {
    if variable_name(line, &name) && env.insert(name.value.clone(), value).is_some() {
        line.fault(name.span, format!("`{}` is set twice", name.value), "keep one of the two");
    }
}

/// Whether this may be the name of a variable that the file sets; a fault where not.
pub(super) fn variable_name(line: &Line<'_, '_>, name: &Spanned<String>) -> bool {
    if !is_variable(&name.value) {
        let message = format!("`{}` cannot be a variable's name", name.value);
        line.fault(name.span, message, "letters, digits and `_`, with no digit in front");
        return false;
    }
    if is_taken(&name.value) {
        line.fault(name.span, format!("`{}` is set by Pondrix itself", name.value), "choose another name");
        return false;
    }
    true
}

/// A path in the repository, which may not lead out of it.
pub(super) fn path(line: &Line<'_, '_>, text: Spanned<String>) -> Option<String> {
    let leaves = text.value.is_empty() || text.value.starts_with('/') || text.value.split('/').any(|part| part == "..");
    if leaves {
        let message = format!("`{}` is not a path inside the repository", text.value);
        line.fault(text.span, message, "write it from the repository's root, without a leading `/` and without `..`");
        return None;
    }
    Some(text.value.trim_start_matches("./").trim_end_matches('/').to_owned())
}

/// What limits say of a job.
#[derive(Default)]
pub(super) struct Limited {
    pub(super) time: Option<Duration>,
    pub(super) limits: Limits,
}

/// `limit time="10m"`, and for jobs of commands also `memory="1GiB" disk="4GiB" processes=256 cpu=1.5`.
pub(super) fn limit(limited: &mut Limited, mut line: Line<'_, '_>, of_steps: bool) {
    let time = line.named("time");
    let has_time = time.is_some();
    let time = time.and_then(|text| parsed(&line, &text));
    if has_time {
        once(&mut limited.time, &line, time);
    }
    if of_steps {
        let Limits { memory, processes, cpu, disk } = &mut limited.limits;
        if let Some(text) = line.named("memory") {
            let size = parsed(&line, &text);
            once(memory, &line, size);
        }
        if let Some(text) = line.named("disk") {
            let size = parsed(&line, &text);
            once(disk, &line, size);
        }
        if let Some(count) = line.named_number("processes", 1..=1_000_000) {
            once(processes, &line, u32::try_from(count).ok());
        }
        if let Some(thousandths) = line.named_thousandths("cpu") {
            once(cpu, &line, Some(thousandths));
        }
    }
    if line.has_no_properties() {
        line.fault(line.span(), "`limit` limits nothing", "write limit time=\"10m\"");
    }
    line.end_without_block(false);
}
