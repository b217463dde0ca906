//! Reading the command line, the environment and the configuration file as one command line.
//!
//! The values of the environment and of the file are checked one by one, so that an error names its place. Values that
//! decide are then appended to the command line, and clap reads the whole.

use std::any::TypeId;
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::error::ContextKind;
use clap::parser::ValueSource;
use clap::{Arg, ArgAction, ArgMatches, Command as Syntax, CommandFactory as _, FromArgMatches as _};
use pondrix_core::configuration::{self, Setting};
use pondrix_core::pipeline::{Fault, nearest};

use super::{EffectiveOption, Origin};
use crate::cli::{Cli, Command};
use crate::commands::runner::Runner;
use crate::failure::Failure;

/// A command whose options can be in a file.
pub(super) struct Layered {
    /// The words of the command line that call it.
    path: &'static [&'static str],
    /// What its environment variables begin with.
    prefix: &'static str,
}

pub(super) const SERVE: Layered = Layered { path: &["serve"], prefix: "PONDRIX_SERVER_" };
pub(super) const JOIN: Layered = Layered { path: &["runner", "join"], prefix: "PONDRIX_RUNNER_" };
const LAYERED: [Layered; 2] = [SERVE, JOIN];

/// Options that a file or the environment cannot have: they say what to do with the others.
const ONLY_ON_COMMAND_LINE: [&str; 4] = ["config", "check", "show-config", "help"];

/// Why the options could not be read.
pub(crate) enum ParseError {
    /// The command line is wrong, or asks for help. Clap has the words and the exit status.
    CommandLine(clap::Error),
    /// The environment or the file is wrong.
    Configuration(Failure),
}

impl From<clap::Error> for ParseError {
    fn from(error: clap::Error) -> Self {
        Self::CommandLine(error)
    }
}

impl From<Failure> for ParseError {
    fn from(failure: Failure) -> Self {
        Self::Configuration(failure)
    }
}

/// Reads the command line of this process, and for `serve` and `runner join` the environment and the configuration file.
///
/// # Errors
/// All errors of a configuration file at once, each with its place.
pub(crate) fn parse() -> Result<Cli, ParseError> {
    let variables = std::env::vars_os().filter_map(|(name, value)| Some((name.into_string().ok()?, value)));
    parse_from(std::env::args_os().collect(), &variables.collect())
}

/// Environment variables by name.
type Environment = BTreeMap<String, OsString>;

fn parse_from(mut line: Vec<OsString>, environment: &Environment) -> Result<Cli, ParseError> {
    let syntax = Cli::command();
    let given = syntax.clone().try_get_matches_from(&line)?;
    let Some((layered, syntax_of_command, given)) = find(&syntax, &given) else {
        return Ok(Cli::from_arg_matches(&given)?);
    };
    let mut layers = Layers::new(syntax_of_command, given);
    layers.add_environment(layered.prefix, environment)?;
    let config = given.get_one::<PathBuf>("config").cloned();
    let config_variable = format!("{}CONFIG", layered.prefix);
    let config = config.or_else(|| environment.get(&config_variable).map(PathBuf::from));
    if let Some(file) = &config {
        layers.add_file(file, &layered.path.join(" "))?;
    }
    line.extend(layers.arguments());
    let matches = syntax.clone().try_get_matches_from(&line)?;
    let options = find(&syntax, &matches).map(|(_, _, matches)| layers.effective(matches));
    let mut cli = Cli::from_arg_matches(&matches)?;
    let configuration = match &mut cli.command {
        Command::Serve(serve) => &mut serve.configuration,
        Command::Runner(Runner::Join(join)) => &mut join.configuration,
        _ => return Ok(cli),
    };
    configuration.options = options.unwrap_or_default();
    configuration.config = config;
    let known: Vec<_> = layers.options.iter().map(|option| variable(layered.prefix, option)).collect();
    let is_unknown = |variable: &&String| **variable != config_variable && !known.contains(variable);
    let ours = environment.keys().filter(|variable| variable.starts_with(layered.prefix));
    configuration.unknown_variables = ours.filter(is_unknown).cloned().collect();
    Ok(cli)
}

/// The command of a command line, if its options can be in a file.
fn find<'s, 'm>(syntax: &'s Syntax, matches: &'m ArgMatches) -> Option<(&'static Layered, &'s Syntax, &'m ArgMatches)> {
    LAYERED.iter().find_map(|layered| {
        let matches = layered.path.iter().try_fold(matches, |matches, word| matches.subcommand_matches(word))?;
        Some((layered, command(syntax, layered), matches))
    })
}

/// Values of one option that decide, and their place.
struct Chosen<'s> {
    option: &'s Arg,
    values: Vec<String>,
    origin: Origin,
}

impl Chosen<'_> {
    /// Whether the option is more than a flag that is off.
    fn is_on(&self) -> bool {
        Kind::of(self.option) != Kind::Flag || self.values.iter().any(|value| value == "true")
    }
}

struct Layers<'s> {
    syntax: &'s Syntax,
    options: Vec<&'s Arg>,
    /// Options of the command line.
    given: Vec<&'s Arg>,
    chosen: Vec<Chosen<'s>>,
}

/// The syntax of a command whose options can be in a file.
pub(super) fn command<'s>(syntax: &'s Syntax, layered: &Layered) -> &'s Syntax {
    layered.path.iter().fold(syntax, |syntax, word| syntax.find_subcommand(word).unwrap_or(syntax))
}

/// The options of a command that a file can have.
pub(super) fn options(command: &Syntax) -> Vec<&Arg> {
    let can_be_set = |option: &&Arg| option.get_long().is_some_and(|name| !ONLY_ON_COMMAND_LINE.contains(&name));
    command.get_arguments().filter(can_be_set).collect()
}

pub(super) fn name(option: &Arg) -> &str {
    option.get_long().unwrap_or_default()
}

/// The environment variable of an option.
fn variable(prefix: &str, option: &Arg) -> String {
    format!("{prefix}{}", name(option).to_uppercase().replace('-', "_"))
}

/// How many values an option has.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// None on the command line; `true` or `false` elsewhere.
    Flag,
    Single,
    Repeatable,
}

impl Kind {
    fn of(option: &Arg) -> Self {
        match option.get_action() {
            ArgAction::SetTrue => Self::Flag,
            ArgAction::Append => Self::Repeatable,
            _ => Self::Single,
        }
    }

    /// How many values a line of a file may have.
    const fn allows(self, count: usize) -> bool {
        match self {
            Self::Flag => count <= 1,
            Self::Single => count == 1,
            Self::Repeatable => count >= 1,
        }
    }
}

/// The reason for which clap refuses a value.
fn refusal(error: &clap::Error) -> String {
    if let Some(source) = std::error::Error::source(error) {
        return source.to_string();
    }
    match error.get(ContextKind::ValidValue) {
        Some(allowed) => format!("allowed: {allowed}"),
        None => error.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned(),
    }
}

impl<'s> Layers<'s> {
    fn new(syntax: &'s Syntax, given: &ArgMatches) -> Self {
        let options = options(syntax);
        let is_given = |option: &&&Arg| given.value_source(option.get_id().as_str()) == Some(ValueSource::CommandLine);
        let given = options.iter().filter(is_given).copied().collect();
        Self { syntax, options, given, chosen: Vec::new() }
    }

    fn conflict(&self, one: &Arg, other: &Arg) -> bool {
        let names = |one, other: &Arg| {
            self.syntax.get_arg_conflicts_with(one).iter().any(|conflict| conflict.get_id() == other.get_id())
        };
        names(one, other) || names(other, one)
    }

    /// Whether a higher layer has this option, or an option that excludes it.
    fn is_overridden(&self, option: &Arg, origin: &Origin) -> bool {
        let is_elsewhere =
            |chosen: &&Chosen<'_>| std::mem::discriminant(&chosen.origin) != std::mem::discriminant(origin);
        let is_same = |other: &Arg| other.get_id() == option.get_id();
        self.given.iter().any(|given| is_same(given) || self.conflict(given, option))
            || self
                .chosen
                .iter()
                .filter(is_elsewhere)
                .any(|chosen| is_same(chosen.option) || self.excludes(chosen, option))
    }

    /// Whether a chosen option excludes another. A flag that is off excludes nothing.
    fn excludes(&self, chosen: &Chosen<'_>, option: &Arg) -> bool {
        chosen.is_on() && self.conflict(chosen.option, option)
    }

    /// Why a value cannot be one of an option.
    fn refuse(&self, option: &Arg, value: &str) -> Option<String> {
        if Kind::of(option) == Kind::Flag {
            return (!matches!(value, "true" | "false")).then(|| "a flag is `#true` or `#false`".to_owned());
        }
        let argument = format!("--{}={value}", name(option));
        self.syntax.clone().no_binary_name(true).try_get_matches_from([argument]).err().map(|error| refusal(&error))
    }

    /// Takes values from environment variables. An option that may be repeated has one value on each line.
    fn add_environment(&mut self, prefix: &str, environment: &Environment) -> Result<(), Failure> {
        for option in self.options.clone() {
            let variable = variable(prefix, option);
            let Some(text) = environment.get(&variable).cloned() else { continue };
            let wrong = |why: &str| Failure::usage(format!("the environment variable {variable} is invalid: {why}"));
            let text = text.into_string().map_err(|_| wrong("it is not UTF-8"))?;
            let values: Vec<_> = match (Kind::of(option), text.as_str()) {
                (Kind::Repeatable, _) => text.lines().map(str::to_owned).collect(),
                (Kind::Flag, "1" | "yes" | "true") => vec!["true".to_owned()],
                (Kind::Flag, "0" | "no" | "false" | "") => vec!["false".to_owned()],
                (Kind::Flag, _) => return Err(wrong("allowed: true, false")),
                (Kind::Single, _) => vec![text],
            };
            if let Some(why) = values.iter().find_map(|value| self.refuse(option, value)) {
                return Err(wrong(&why));
            }
            let origin = Origin::Environment(variable);
            if !self.is_overridden(option, &origin) {
                self.chosen.push(Chosen { option, values, origin });
            }
        }
        Ok(())
    }

    /// Takes values from a configuration file.
    fn add_file(&mut self, path: &Path, command: &str) -> Result<(), Failure> {
        let shown = path.display();
        let text = std::fs::read_to_string(path).map_err(|error| Failure::usage(format!("{shown}: {error}")))?;
        let mut faults = Vec::new();
        match configuration::read(&text) {
            Err(of_notation) => faults = of_notation,
            Ok(settings) => {
                for setting in settings {
                    if let Err(fault) = self.add_setting(&setting, path, &text, command) {
                        faults.push(fault);
                    }
                }
            }
        }
        if faults.is_empty() {
            return Ok(());
        }
        let count = if faults.len() == 1 { "1 error".to_owned() } else { format!("{} errors", faults.len()) };
        let rendered: Vec<_> = faults.iter().map(|fault| fault.render(&shown.to_string())).collect();
        Err(Failure::usage(format!("{shown} has {count}\n{}", rendered.join("\n"))))
    }

    fn add_setting(&mut self, setting: &Setting, path: &Path, text: &str, command: &str) -> Result<(), Fault> {
        let fault = |span, message: String, help: String| Fault::new(text, span, message, Some(help));
        let (word, at) = (&setting.option.value, setting.option.span);
        let Some(option) = self.options.iter().copied().find(|option| name(option) == word) else {
            return Err(fault(
                at,
                format!("`{word}` is not an option of `pondrix {command}`"),
                self.nearest(word, command),
            ));
        };
        let kind = Kind::of(option);
        if !kind.allows(setting.values.len()) {
            let help = match kind {
                Kind::Flag => format!("write `{word}`, or `{word} #false`"),
                _ => format!("write `{word} {}`", option.get_value_names().unwrap_or_default().join(" ")),
            };
            return Err(fault(setting.value_span(), format!("`{word}` has {} values", setting.values.len()), help));
        }
        for value in &setting.values {
            if let Some(why) = self.refuse(option, &value.value) {
                let help = option.get_help().map_or_else(String::new, ToString::to_string);
                return Err(fault(value.span, format!("`{}` is no value of `{word}`: {why}", value.value), help));
            }
            let is_path = option.get_value_parser().type_id() == TypeId::of::<PathBuf>();
            if is_path && !Path::new(&value.value).is_absolute() {
                let help = "a relative path would depend on the folder in which the command is started".to_owned();
                return Err(fault(value.span, format!("`{word}` needs an absolute path"), help));
            }
        }
        let origin = Origin::File { path: path.to_owned(), line: Fault::new(text, at, "", None).place.line };
        let values = match (kind, setting.values.as_slice()) {
            (Kind::Flag, []) => vec!["true".to_owned()],
            (_, values) => values.iter().map(|value| value.value.clone()).collect(),
        };
        let new = Chosen { option, values, origin };
        let of_file = |chosen: &&Chosen<'_>| matches!(chosen.origin, Origin::File { .. });
        if let Some(other) =
            self.chosen.iter().filter(of_file).find(|other| new.is_on() && self.excludes(other, option))
        {
            let message = format!("`{word}` and `{}` exclude each other", name(other.option));
            return Err(fault(at, message, "remove one of them".to_owned()));
        }
        let is_same = |chosen: &Chosen<'_>| of_file(&chosen) && chosen.option.get_id() == option.get_id();
        match self.chosen.iter().position(is_same) {
            Some(_) if kind != Kind::Repeatable => {
                Err(fault(at, format!("`{word}` is set twice"), "remove one of the lines".to_owned()))
            }
            Some(place) => {
                self.chosen[place].values.extend(new.values);
                Ok(())
            }
            None => {
                if !self.is_overridden(option, &new.origin) {
                    self.chosen.push(new);
                }
                Ok(())
            }
        }
    }

    /// Help for a word that is no option.
    fn nearest(&self, word: &str, command: &str) -> String {
        let known: Vec<_> = self.options.iter().map(|option| name(option)).collect();
        match nearest(word, &known) {
            Some(near) => format!("did you mean `{near}`?"),
            None if ONLY_ON_COMMAND_LINE.contains(&word) => "use it on the command line only".to_owned(),
            None => format!("`pondrix {command} --help` lists the options"),
        }
    }

    /// The chosen values as arguments.
    fn arguments(&self) -> Vec<OsString> {
        let argument = |chosen: &Chosen<'_>| {
            let name = name(chosen.option).to_owned();
            let is_flag = Kind::of(chosen.option) == Kind::Flag;
            let values = chosen.values.clone().into_iter().filter(move |value| !is_flag || value == "true");
            values.map(move |value| if is_flag { format!("--{name}") } else { format!("--{name}={value}") }.into())
        };
        self.chosen.iter().flat_map(argument).collect()
    }

    /// Each option with the value that it has in `matches`.
    fn effective(&self, matches: &ArgMatches) -> Vec<EffectiveOption> {
        let effective = |option: &&Arg| {
            let id = option.get_id().as_str();
            let text = |value: &std::ffi::OsStr| value.to_string_lossy().into_owned();
            let values = match Kind::of(option) == Kind::Flag {
                true => vec![matches.get_flag(id).to_string()],
                false => matches.get_raw(id).into_iter().flatten().map(text).collect(),
            };
            let chosen = self.chosen.iter().find(|chosen| chosen.option.get_id() == option.get_id());
            let origin = match chosen {
                Some(chosen) => chosen.origin.clone(),
                None if self.given.iter().any(|given| given.get_id() == option.get_id()) => Origin::CommandLine,
                None => Origin::Default,
            };
            EffectiveOption { option: name(option).to_owned(), values, origin }
        };
        self.options.iter().map(effective).collect()
    }
}
