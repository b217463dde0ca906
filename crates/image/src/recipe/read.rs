//! From instructions' texts to what they say.

use std::collections::BTreeSet;

use pondrix_core::pipeline::{Fault, Span, nearest};

use super::faults::Faults;
use super::health;
use super::lines::{HereDocument, Raw, split};
use super::words::{flags, list, unquoted, words};
use super::{
    Action, Command, Copy, CopyWord, Health, Healthcheck, HereFile, Instruction, Mount, Recipe, Run, RunNetwork, Stage,
    is_plain_name,
};

const WORDS: [&str; 18] = [
    "FROM",
    "ARG",
    "ENV",
    "LABEL",
    "WORKDIR",
    "COPY",
    "ADD",
    "RUN",
    "CMD",
    "ENTRYPOINT",
    "EXPOSE",
    "VOLUME",
    "USER",
    "STOPSIGNAL",
    "HEALTHCHECK",
    "SHELL",
    "ONBUILD",
    "MAINTAINER",
];

pub(super) fn recipe(text: &str) -> Result<Recipe, Vec<Fault>> {
    let mut faults = Faults::new(text);
    let (escape, raws) = split(text, &mut faults);
    let mut recipe =
        Recipe { text: text.to_owned(), escape, globals: Vec::new(), stages: Vec::new(), warnings: Vec::new() };
    if raws.is_empty() {
        faults.tell(Span::default(), "the recipe has no FROM", "begin with FROM IMAGE");
    }
    let mut told_of_beginning = false;
    for raw in &raws {
        let mut reader = Reader { raw, escape, faults: &mut faults, in_trigger: false };
        if raw.split().0 == "FROM" {
            recipe.stages.extend(reader.stage());
            continue;
        }
        let instruction = reader.instruction();
        match (recipe.stages.last_mut(), instruction) {
            (Some(stage), Some(instruction)) => stage.instructions.push(instruction),
            (None, Some(instruction)) if matches!(instruction.action, Action::Arg(_)) => {
                recipe.globals.push(instruction);
            }
            (None, Some(_)) if !told_of_beginning => {
                told_of_beginning = true;
                faults.tell(raw.span, "the recipe does not begin with FROM", "only ARG may stand in front of FROM");
            }
            _ => {}
        }
    }
    if faults.all.is_empty() && recipe.stages.is_empty() {
        faults.tell(raws[0].span, "the recipe has no FROM", "write FROM IMAGE");
    }
    stages_fit(&recipe, &mut faults);
    let Faults { mut all, warnings, .. } = faults;
    all.sort_by_key(|fault| (fault.place.line, fault.place.column));
    if all.is_empty() { Ok(Recipe { warnings, ..recipe }) } else { Err(all) }
}

pub(super) fn trigger(text: &str) -> Result<Instruction, Vec<Fault>> {
    let mut faults = Faults::new(text);
    let (escape, raws) = split(text, &mut faults);
    let instruction =
        raws.first().and_then(|raw| Reader { raw, escape, faults: &mut faults, in_trigger: true }.instruction());
    match instruction {
        Some(instruction) if faults.all.is_empty() => Ok(instruction),
        _ => Err(faults.all),
    }
}

/// Tells of stages that have one name, which is allowed, and of files from stages that come later or are the stage itself.
fn stages_fit(recipe: &Recipe, faults: &mut Faults<'_>) {
    let mut names = BTreeSet::new();
    for (number, stage) in recipe.stages.iter().enumerate() {
        if let Some(name) = stage.name.as_deref().filter(|name| !names.insert(*name)) {
            let message = format!("two stages are called `{name}`: from here on, the later is meant");
            faults.warn(stage.from.span, message, "rename one of them");
        }
        for instruction in &stage.instructions {
            for from in instruction.sources().filter(|from| !from.contains('$')) {
                let later = recipe.stages.iter().skip(number).position(|stage| stage.name.as_deref() == Some(from));
                let message = match (recipe.stage_named(from, number), later) {
                    (None, Some(0)) => format!("`{from}` is this stage itself"),
                    (None, Some(_)) => format!("the stage `{from}` comes later"),
                    _ => continue,
                };
                faults.tell(instruction.span, message, "a stage sees those in front of it");
            }
        }
    }
}

impl Instruction {
    /// What `from` in this instruction names, as written.
    fn sources(&self) -> impl Iterator<Item = &str> {
        let (one, many) = match &self.action {
            Action::Copy(copy) => (copy.from.as_deref(), &[][..]),
            Action::Run(run) => (None, &run.mounts[..]),
            _ => (None, &[][..]),
        };
        one.into_iter().chain(many.iter().filter_map(|mount| mount.option("from")))
    }
}

struct Reader<'r, 'f, 't> {
    raw: &'r Raw,
    escape: char,
    faults: &'f mut Faults<'t>,
    /// Whether this is an instruction of ONBUILD.
    in_trigger: bool,
}

impl Reader<'_, '_, '_> {
    fn tell(&mut self, message: impl Into<String>, help: impl Into<String>) {
        self.faults.tell(self.raw.span, message, help);
    }

    /// Tells a fault of a piece of the instruction.
    fn tell_at(&mut self, piece: &str, message: impl Into<String>, help: impl Into<String>) {
        let span = self.faults.find(piece, self.raw.span.start, self.raw.end, self.raw.span);
        self.faults.tell(span, message, help);
    }

    fn made(&self, action: Action) -> Instruction {
        Instruction { line: self.raw.line, span: self.raw.span, text: self.raw.whole(), action }
    }

    fn words(&self, text: &str) -> Vec<String> {
        words(text, self.escape)
    }

    /// The flags that are known, and the rest. Others are faults.
    fn flags<'a>(&mut self, rest: &'a str, known: &[&str]) -> (Vec<(&'a str, &'a str)>, &'a str) {
        let (found, rest) = flags(rest);
        let (word, _) = self.raw.split();
        for (name, _) in found.iter().filter(|(name, _)| !known.contains(name)) {
            let help = match nearest(name, known) {
                Some(near) => format!("did you mean `--{near}`?"),
                None if known.is_empty() => "take it out".to_owned(),
                None => {
                    format!("known are {}", known.iter().map(|name| format!("--{name}")).collect::<Vec<_>>().join(", "))
                }
            };
            self.tell_at(&format!("--{name}"), format!("{word} does not know `--{name}`"), help);
        }
        (found, rest)
    }

    fn stage(&mut self) -> Option<Stage> {
        let raw = self.raw;
        let (_, rest) = raw.split();
        let (flags, rest) = self.flags(rest, &["platform"]);
        let platform = flags.iter().find(|(name, _)| *name == "platform").map(|(_, value)| (*value).to_owned());
        let all = self.words(rest);
        let (base, name) = match all.as_slice() {
            [base] => (base, None),
            [base, word, name] if word.eq_ignore_ascii_case("as") => (base, Some(name.to_ascii_lowercase())),
            _ => {
                self.tell("FROM takes one image", "write FROM IMAGE, or FROM IMAGE AS NAME");
                return None;
            }
        };
        if let Some(name) = &name {
            let sound = name.starts_with(|c: char| c.is_ascii_lowercase())
                && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.'));
            if !sound {
                let help = "begin with a letter, and go on with letters, digits, `_`, `-` and `.`";
                self.tell_at(name, format!("`{name}` cannot be a stage's name"), help);
            }
        }
        Some(Stage { from: self.made(Action::From), base: base.clone(), name, platform, instructions: Vec::new() })
    }

    fn instruction(&mut self) -> Option<Instruction> {
        self.action().map(|action| self.made(action))
    }

    fn action(&mut self) -> Option<Action> {
        let raw = self.raw;
        let (word, rest) = raw.split();
        if !WORDS.contains(&word.as_str()) {
            let help = match nearest(&word, &WORDS) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("known are {}", WORDS.join(", ")),
            };
            self.tell_at(&raw.text[..word.len().min(raw.text.len())], format!("`{word}` is not an instruction"), help);
            return None;
        }
        if rest.is_empty() && raw.documents.is_empty() {
            self.tell(format!("{word} says nothing"), "write its value behind it");
            return None;
        }
        match word.as_str() {
            "COPY" => return self.copy(CopyWord::Copy, rest),
            "ADD" => return self.copy(CopyWord::Add, rest),
            "RUN" => return self.run(rest),
            "HEALTHCHECK" => return self.healthcheck(rest),
            _ => {}
        }
        let (_, rest) = self.flags(rest, &[]);
        Some(match word.as_str() {
            "ARG" => Action::Arg(self.arguments(rest)),
            "ENV" => Action::Env(self.pairs(&word, rest)?),
            "LABEL" => Action::Label(self.pairs(&word, rest)?),
            "WORKDIR" => Action::Workdir(rest.to_owned()),
            "USER" => Action::User(rest.to_owned()),
            "STOPSIGNAL" => Action::StopSignal(rest.to_owned()),
            "MAINTAINER" => Action::Maintainer(unquoted(rest, self.escape)),
            "EXPOSE" => Action::Expose(self.words(rest)),
            "VOLUME" => Action::Volume(list(rest).unwrap_or_else(|| self.words(rest))),
            "CMD" => Action::Cmd(self.command(&word, rest)),
            "ENTRYPOINT" => Action::Entrypoint(self.command(&word, rest)),
            "SHELL" => match list(rest).filter(|argv| !argv.is_empty()) {
                Some(argv) => Action::Shell(argv),
                None => {
                    self.tell("SHELL takes a list in JSON", "write SHELL [\"/bin/sh\", \"-c\"]");
                    return None;
                }
            },
            // A second FROM begins a stage; here it stands behind ONBUILD.
            "ONBUILD" | "FROM" => return self.onbuild(&word, rest),
            other => unreachable!("{other} is of the known words"),
        })
    }

    fn onbuild(&mut self, word: &str, rest: &str) -> Option<Action> {
        let inner = rest.split_whitespace().next().unwrap_or_default().to_ascii_uppercase();
        if word == "FROM" || self.in_trigger || matches!(inner.as_str(), "FROM" | "ONBUILD" | "MAINTAINER") {
            let not = if word == "FROM" { "FROM" } else { inner.as_str() };
            self.tell(format!("ONBUILD cannot leave {not} to others"), "leave it RUN, COPY, ADD, ENV or the like");
            return None;
        }
        let raw = Raw {
            line: self.raw.line,
            span: self.raw.span,
            end: self.raw.end,
            text: rest.to_owned(),
            documents: self.raw.documents.clone(),
        };
        let whole = raw.whole();
        let mut inner = Reader { raw: &raw, escape: self.escape, faults: self.faults, in_trigger: true };
        inner.action().map(|_| Action::Onbuild(whole))
    }

    fn arguments(&mut self, rest: &str) -> Vec<(String, Option<String>)> {
        let mut all = Vec::new();
        for word in self.words(rest) {
            let (name, value) = match word.split_once('=') {
                Some((name, value)) => (name, Some(value.to_owned())),
                None => (word.as_str(), None),
            };
            let sound = !name.starts_with(|c: char| c.is_ascii_digit())
                && !name.is_empty()
                && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.'));
            if sound {
                all.push((name.to_owned(), value));
            } else {
                let help = "write ARG NAME or ARG NAME=VALUE, a value with spaces between quotes";
                self.tell_at(&word, format!("`{word}` is not an argument"), help);
            }
        }
        all
    }

    /// `NAME=VALUE …`, or the older `NAME the rest of the line`.
    fn pairs(&mut self, word: &str, text: &str) -> Option<Vec<(String, String)>> {
        let all = self.words(text);
        if !all.first()?.contains('=') {
            return match text.split_once(char::is_whitespace) {
                Some((name, value)) => Some(vec![(name.to_owned(), value.trim().to_owned())]),
                None => {
                    self.tell_at(text, format!("{word} gives `{text}` no value"), "write NAME=VALUE");
                    None
                }
            };
        }
        let mut pairs = Vec::new();
        for pair in all {
            match pair.split_once('=').filter(|(name, _)| !name.is_empty()) {
                Some((name, value)) => pairs.push((name.to_owned(), value.to_owned())),
                None => {
                    self.tell_at(&pair, format!("`{pair}` is not NAME=VALUE"), "put a value with spaces between quotes")
                }
            }
        }
        Some(pairs)
    }

    fn command(&mut self, word: &str, rest: &str) -> Command {
        match list(rest) {
            Some(argv) => Command::Exec(argv),
            None => {
                if rest.starts_with('[') && rest.ends_with(']') && word != "RUN" {
                    let span = self.faults.find(rest, self.raw.span.start, self.raw.end, self.raw.span);
                    let message = "this looks like a list and is none: it is given to the shell as a line";
                    self.faults.warn(span, message, "a list is JSON: write [\"a\", \"b\"] with double quotes");
                }
                Command::Shell(rest.to_owned())
            }
        }
    }

    fn run(&mut self, rest: &str) -> Option<Action> {
        let (flags, rest) = self.flags(rest, &["mount", "network"]);
        let mut run = Run { command: Command::Exec(Vec::new()), mounts: Vec::new(), network: RunNetwork::Default };
        for (name, value) in flags {
            match name {
                "mount" => match Mount::read(value) {
                    Ok(mount) => run.mounts.push(mount),
                    Err((message, piece, help)) => self.tell_at(&piece, message, help),
                },
                "network" => match RunNetwork::WORDS.iter().find(|(word, _)| *word == value) {
                    Some((_, network)) => run.network = *network,
                    None => {
                        self.tell_at(value, format!("`{value}` is not a network"), "known are default, none and host");
                    }
                },
                _ => {}
            }
        }
        run.command = match self.raw.documents.as_slice() {
            // Nothing but a here-document: it is the script.
            [document] if document.word == rest => Command::Script(document.body.clone()),
            [] if rest.is_empty() => {
                self.tell("RUN has no command", "write it behind the flags");
                return None;
            }
            [] => self.command("RUN", rest),
            documents => {
                let behind = documents.iter().map(|document| format!("\n{}{}", document.body, document.name));
                Command::Shell(rest.to_owned() + &behind.collect::<String>())
            }
        };
        if run.command == Command::Exec(Vec::new()) {
            self.tell("RUN has no command", "write RUN [\"PROGRAM\", \"ARGUMENT\"]");
            return None;
        }
        Some(Action::Run(Box::new(run)))
    }

    fn healthcheck(&mut self, rest: &str) -> Option<Action> {
        let known = ["interval", "timeout", "start-period", "start-interval", "retries"];
        let (flags, rest) = self.flags(rest, &known);
        let (word, command) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
        match word.to_ascii_uppercase().as_str() {
            "NONE" if command.is_empty() && flags.is_empty() => return Some(Action::Healthcheck(Healthcheck::None)),
            "CMD" if !command.trim().is_empty() => {}
            _ => {
                self.tell("HEALTHCHECK says neither NONE nor a command", "write HEALTHCHECK CMD COMMAND");
                return None;
            }
        }
        let command = self.command("HEALTHCHECK", command.trim());
        let mut health =
            Health { command, interval: None, timeout: None, start_period: None, start_interval: None, retries: None };
        for (name, value) in flags {
            if name == "retries" {
                health.retries = value.parse().ok();
                if health.retries.is_none() {
                    self.tell_at(value, format!("`{value}` is not a number of failures"), "write 1 or more");
                }
                continue;
            }
            let span = health::span(value);
            if span.is_none() {
                self.tell_at(value, format!("`{value}` is not a span of time"), "write 30s, 1m30s or 500ms");
            }
            match name {
                "interval" => health.interval = span,
                "timeout" => health.timeout = span,
                "start-period" => health.start_period = span,
                _ => health.start_interval = span,
            }
        }
        Some(Action::Healthcheck(Healthcheck::Command(Box::new(health))))
    }

    fn copy(&mut self, word: CopyWord, rest: &str) -> Option<Action> {
        let known: &[&str] = match word {
            CopyWord::Copy => &["from", "chown", "chmod", "link", "exclude", "parents"],
            CopyWord::Add => &["chown", "chmod", "link", "exclude", "checksum", "unpack"],
        };
        let name = if word == CopyWord::Copy { "COPY" } else { "ADD" };
        let (flags, rest) = self.flags(rest, known);
        let mut all = list(rest).unwrap_or_else(|| self.words(rest));
        let to = match all.pop() {
            Some(to) if !all.is_empty() => to,
            _ => {
                self.tell(format!("{name} takes what to copy and where to"), format!("write {name} FROM TO"));
                return None;
            }
        };
        let documents = &self.raw.documents;
        for document in documents.iter().filter(|document| !is_plain_name(&document.name)) {
            let message = format!("`{}` cannot be the name of a text that becomes a file", document.name);
            self.tell_at(&document.word, message, "write a name without folders, as in <<settings.txt");
        }
        all.retain(|source| !documents.iter().any(|document| document.word == *source));
        let here = |document: &HereDocument| HereFile {
            name: document.name.clone(),
            body: document.body.clone(),
            expands: !document.is_literal,
        };
        let mut copy = Copy {
            word,
            sources: all,
            documents: documents.iter().map(here).collect(),
            to,
            from: None,
            owner: None,
            mode: None,
            link: false,
            exclude: Vec::new(),
            parents: false,
            checksum: None,
            unpack: None,
        };
        for (flag, value) in flags {
            let is_switch = matches!(flag, "link" | "parents" | "unpack");
            let switched = match value {
                "" | "true" => true,
                "false" => false,
                _ if is_switch => {
                    self.tell_at(value, format!("--{flag} is true or false"), "");
                    continue;
                }
                _ => false,
            };
            if value.is_empty() && !is_switch {
                self.tell_at(&format!("--{flag}"), format!("--{flag} has no value"), format!("write --{flag}=VALUE"));
                continue;
            }
            match flag {
                "from" => copy.from = Some(value.to_owned()),
                "chown" => copy.owner = Some(value.to_owned()),
                "chmod" => copy.mode = Some(value.to_owned()),
                "exclude" => copy.exclude.push(value.to_owned()),
                "checksum" => copy.checksum = Some(value.to_owned()),
                "link" => copy.link = switched,
                "parents" => copy.parents = switched,
                "unpack" => copy.unpack = Some(switched),
                _ => {}
            }
        }
        Some(Action::Copy(Box::new(copy)))
    }
}
