//! `job`: commands.

use std::collections::BTreeMap;

use super::artifacts::Files;
use super::job::Common;
use super::values::{Limited, env, is_name, limit, name, once, parsed, path, variable_name};
use crate::Duration;
use crate::pipeline::SecretName;
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{
    DEFAULT_READY_WITHIN, DEFAULT_TIME, FileSystem, IdentityUse, Job, JobKind, Network, Ready, SECRET_FOLDER,
    SecretUse, Service, Spanned, Step, StepsJob,
};
use crate::pipeline::nodes::Line;

/// The words that only this kind of job has.
pub(super) const JOB_WORDS: [&str; 10] =
    ["container", "on-host", "step", "env", "secret", "identity", "limit", "runner", "network", "service"];
/// The words inside a service.
pub(super) const SERVICE_WORDS: [&str; 3] = ["run", "ready", "env"];
/// The words inside a step.
pub(super) const STEP_WORDS: [&str; 1] = ["env"];

pub(super) fn job(mut line: Line<'_, '_>) -> Option<Job> {
    let name = name(&mut line);
    let mut common = Common::default();
    let (mut file_system, mut limited, mut steps, mut variables) =
        (None, Limited::default(), Vec::new(), BTreeMap::new());
    let (mut shown, mut network, mut services) = (Shown::default(), None, Vec::new());
    let (mut has_file_system, mut has_step) = (false, false);
    let mut files = Files::default();
    let known = [&super::job::COMMON_WORDS[..], &JOB_WORDS, &super::artifacts::FILE_WORDS].concat();
    line.inside(&known, |line| {
        let line = match common.take(line).or_else(|line| files.take(line)) {
            Ok(()) => return true,
            Err(line) => line,
        };
        match line.word() {
            "container" | "on-host" => {
                if has_file_system {
                    line.fault(line.span(), "this job says twice where it runs", "keep one of the two");
                }
                has_file_system = true;
                file_system = place(line).or(file_system.take());
            }
            "step" => {
                has_step = true;
                steps.extend(step(line));
            }
            "env" => env(&mut variables, line),
            "secret" => shown.secret(line),
            "identity" => shown.identity(line),
            "limit" => limit(&mut limited, line, true),
            "runner" => common.runner(line),
            "network" => network_use(&mut network, line),
            "service" => services.extend(service(line, &services)),
            _ => return false,
        }
        true
    });
    if !has_file_system {
        let help = "write container \"HOST/IMAGE:TAG\" in its braces, or `on-host`";
        line.fault(line.span(), "this job does not say where it runs", help);
    }
    if !has_step {
        line.fault(line.span(), "this job has no step", "write step \"COMMAND\" in its braces");
    }
    if network == Some(Network::Host) {
        if let Some(service) = services.first() {
            let message = "a job in its machine's network has none of its own, where a service could be";
            line.fault(service.name.span, message, "leave `network \"host\"` out, or the service");
        }
        common.needs().host_network = true;
    }
    line.end(false);
    let Files { artifacts, fetches, outputs, caches, test_reports } = files;
    let job = StepsJob {
        file_system: file_system.unwrap_or(FileSystem::Host),
        steps,
        env: variables,
        network: network.unwrap_or_default(),
        services,
        secrets: shown.secrets,
        identities: shown.identities,
        fetches,
        caches,
        artifacts,
        outputs,
        test_reports,
        time: limited.time.unwrap_or(DEFAULT_TIME),
        limits: limited.limits,
    };
    Some(common.finish(name?, JobKind::Steps(job)))
}

/// `container "IMAGE"`, `container image="JOB"`, `on-host`.
fn place(mut line: Line<'_, '_>) -> Option<FileSystem> {
    if line.word() == "on-host" {
        line.end_without_block(false);
        return Some(FileSystem::Host);
    }
    let place = match line.named("image") {
        Some(job) => is_name(&line, &job).then_some(FileSystem::Built(job)),
        None => line.text("an image").map(FileSystem::Image),
    };
    line.end_without_block(false);
    place
}

/// `network "none"`, `network "outbound"`, `network "host"`.
pub(super) fn network_use(slot: &mut Option<Network>, mut line: Line<'_, '_>) {
    let word = line.text("what the steps can reach");
    let found = word.as_ref().and_then(|word| Network::WORDS.iter().find(|(known, _)| *known == word.value));
    if let Some(word) = word.filter(|_| found.is_none()) {
        let help = help_for_unknown(&word.value, &Network::WORDS.map(|(known, _)| known));
        line.fault(word.span, format!("`{}` is not a network", word.value), help);
    }
    once(slot, &line, found.map(|(_, network)| *network));
    line.end_without_block(false);
}

/// `service "NAME" "IMAGE" { run "COMMAND"; ready tcp=PORT; env … }`.
fn service(mut line: Line<'_, '_>, others: &[Service]) -> Option<Service> {
    let name = name(&mut line);
    let image = line.text("an image");
    let (mut command, mut ready, mut within, mut variables) = (None, None, None, BTreeMap::new());
    line.inside(&SERVICE_WORDS, |mut line| {
        match line.word() {
            "env" => env(&mut variables, line),
            "run" => {
                let said = line.text("a command").map(|command| command.value);
                once(&mut command, &line, said);
                line.end_without_block(false);
            }
            "ready" => {
                within = line.named("within").and_then(|text| parsed(&line, &text));
                let port = line.named_number("tcp", 1..=65_535).and_then(|port| u16::try_from(port).ok());
                let said = match port {
                    Some(port) => Some(Ready::Tcp(port)),
                    None => line.text("a port, tcp=5432, or a command").map(|command| Ready::Command(command.value)),
                };
                once(&mut ready, &line, said);
                line.end_without_block(false);
            }
            _ => return false,
        }
        true
    });
    if let Some(name) = name.as_ref().filter(|name| others.iter().any(|other| other.name == **name)) {
        line.fault(name.span, format!("two services are called `{}`", name.value), "rename one of them");
    }
    line.end(false);
    let within = within.unwrap_or(DEFAULT_READY_WITHIN);
    Some(Service { name: name?, image: image?, command, env: variables, ready, within })
}

/// What only the job's own steps are to see.
#[derive(Default)]
struct Shown {
    secrets: Vec<SecretUse>,
    identities: Vec<IdentityUse>,
}

/// How steps see something.
struct Where {
    variable: Option<Spanned<String>>,
    file: Option<Spanned<String>>,
}

impl Where {
    fn of(line: &mut Line<'_, '_>) -> Self {
        Self { variable: line.named("variable"), file: line.named("file") }
    }

    /// The variable, or the one that it is otherwise; and the file. What they may not be is a fault.
    fn checked(self, line: &Line<'_, '_>, otherwise: &str) -> (String, Option<String>) {
        let variable = self.variable.filter(|variable| variable_name(line, variable));
        let is_plain = |file: &Spanned<String>| {
            let sound = !file.value.is_empty() && !file.value.contains('/') && !file.value.starts_with('.');
            if !sound {
                let help = format!("write a name without folders; the file is then in {SECRET_FOLDER}");
                line.fault(file.span, format!("`{}` is not a file's name", file.value), help);
            }
            sound
        };
        let file = self.file.filter(is_plain).map(|file| file.value);
        (variable.map_or_else(|| otherwise.to_owned(), |variable| variable.value), file)
    }
}

impl Shown {
    /// `secret "NAME"`, `secret "NAME" variable="OTHER"`, `secret "NAME" file="FILE"`.
    fn secret(&mut self, mut line: Line<'_, '_>) {
        let shown = Where::of(&mut line);
        let name = line.text("a name");
        if let Some(name) = name.filter(|name| parsed::<SecretName>(&line, name).is_some()) {
            let (variable, file) = shown.checked(&line, &name.value);
            if self.has(&variable, file.as_ref()) {
                let message = "two secrets of this job have the same variable or file";
                line.fault(name.span, message, "rename one of them");
            }
            self.secrets.push(SecretUse { name, variable, file });
        }
        line.end_without_block(false);
    }

    /// `identity "AUDIENCE"`, with `variable="NAME"`, `file="FILE"`, `lasts="30m"`.
    fn identity(&mut self, mut line: Line<'_, '_>) {
        let shown = Where::of(&mut line);
        let lasts = line.named("lasts").and_then(|text| {
            let lasts = parsed::<Duration>(&line, &text)?;
            if lasts > IdentityUse::LONGEST {
                let message = format!("an identity does not last {lasts}");
                line.fault(text.span, message, format!("write at most {}", IdentityUse::LONGEST));
            }
            Some(lasts)
        });
        let audience = line.text("whom it is for").filter(|audience| is_audience(&line, audience));
        if let Some(audience) = audience {
            let (variable, file) = shown.checked(&line, IdentityUse::VARIABLE);
            if self.has(&variable, file.as_ref()) {
                let message = format!("the variable {variable}, or the file, has something else already");
                line.fault(audience.span, message, "name another: variable=\"NAME\"");
            }
            let lasts = lasts.unwrap_or(IdentityUse::USUAL);
            self.identities.push(IdentityUse { audience, variable, file, lasts });
        }
        line.end_without_block(false);
    }

    fn has(&self, variable: &str, file: Option<&String>) -> bool {
        let secrets = self.secrets.iter().map(|secret| (&secret.variable, &secret.file));
        let identities = self.identities.iter().map(|identity| (&identity.variable, &identity.file));
        secrets
            .chain(identities)
            .any(|(other, other_file)| other == variable || file.is_some_and(|file| other_file.as_ref() == Some(file)))
    }
}

/// Whether a text can name whom an identity is for; a fault where not.
fn is_audience(line: &Line<'_, '_>, audience: &Spanned<String>) -> bool {
    let text = &audience.value;
    let sound = !text.is_empty()
        && text.len() <= IdentityUse::LONGEST_AUDIENCE
        && text.chars().all(|letter| letter.is_ascii_graphic());
    if !sound {
        let most = IdentityUse::LONGEST_AUDIENCE;
        let help = format!(
            "write the name that it goes by, as in \"https://vault.fernhollow.test\": at most {most} letters, no spaces"
        );
        line.fault(audience.span, format!("`{text}` names nobody that an identity could be for"), help);
    }
    sound
}

fn step(mut line: Line<'_, '_>) -> Option<Step> {
    let (given, folder, time) = (line.named("name"), line.named("folder"), line.named("time"));
    let may_fail = line.named_flag("may-fail");
    let command = line.text("a command");
    let mut variables = BTreeMap::new();
    line.inside(&STEP_WORDS, |line| {
        let known = line.word() == "env";
        if known {
            env(&mut variables, line);
        }
        known
    });
    let folder = folder.and_then(|folder| path(&line, folder)).filter(|folder| folder != ".");
    let time = time.and_then(|time| parsed(&line, &time));
    let step = command.and_then(|command| written(&line, given, command));
    line.end(false);
    Some(Step { folder, env: variables, time, may_fail, ..step? })
}

/// A step with its name and command.
fn written(line: &Line<'_, '_>, given: Option<Spanned<String>>, command: Spanned<String>) -> Option<Step> {
    if command.value.trim().is_empty() {
        line.fault(command.span, "this step has no command", "write what a shell shall run");
        return None;
    }
    let first_line = command.value.lines().map(str::trim).find(|text| !text.is_empty()).unwrap_or_default();
    let name = given.map_or_else(|| first_line.to_owned(), |name| name.value);
    Some(Step { name, command: command.value, folder: None, env: BTreeMap::new(), time: None, may_fail: false })
}
