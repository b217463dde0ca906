//! Configuration files of the packages: every option with its description, and the values that a package sets.

use clap::{Arg, CommandFactory as _};

use super::layers::{JOIN, Layered, SERVE, command, name, options};
use crate::cli::Cli;

/// Values that a package sets, in the notation of the file.
type Preset<'p> = &'p [(&'p str, &'p str)];

const SERVER: Preset<'static> =
    &[("data", "\"/var/lib/pondrix\""), ("first-token-file", "\"/var/lib/pondrix/first.token\""), ("runners", "0")];
const RUNNER: Preset<'static> = &[
    ("data", "\"/var/lib/pondrix-runner\""),
    ("server-file", "\"/var/lib/pondrix/address\""),
    ("token-file", "\"/etc/pondrix/runner.token\""),
];

/// The longest line of a comment, in characters.
const WIDTH: usize = 100;

fn comment(file: &mut String, text: &str) {
    for paragraph in text.lines() {
        let mut line = String::from("//");
        for word in paragraph.split_whitespace() {
            if line.len() + 1 + word.len() > WIDTH {
                file.push_str(&line);
                file.push('\n');
                line = String::from("//");
            }
            line.push(' ');
            line.push_str(word);
        }
        file.push_str(&line);
        file.push('\n');
    }
}

/// The option's line without a preset: its default, or the name of its value.
fn example(option: &Arg) -> String {
    let default: Vec<_> = option.get_default_values().iter().map(|value| value.to_string_lossy()).collect();
    let is_bare = |value: &str| value.parse::<f64>().is_ok();
    let values = match (option.get_action().takes_values(), default.first()) {
        (false, _) => String::new(),
        (true, Some(value)) if is_bare(value) => format!(" {value}"),
        (true, Some(value)) => format!(" \"{value}\""),
        (true, None) => format!(" {}", option.get_value_names().unwrap_or_default().join(" ")),
    };
    format!("{}{values}", name(option))
}

fn template(layered: &Layered, heading: &str, preset: Preset<'_>) -> String {
    let syntax = Cli::command();
    let mut file = String::new();
    comment(&mut file, heading);
    for option in options(command(&syntax, layered)) {
        file.push('\n');
        let help = option.get_long_help().or(option.get_help()).map(ToString::to_string).unwrap_or_default();
        comment(&mut file, &help);
        match preset.iter().find(|(preset, _)| *preset == name(option)) {
            Some((option, value)) => file.push_str(&format!("{option} {value}\n")),
            None => file.push_str(&format!("// {}\n", example(option))),
        }
    }
    file
}

fn heading(command: &str, file: &str, unit: &str) -> String {
    format!(
        "Options of `{command}`: each line has an option's name and its values, in KDL 2. A line in a comment shows the \
         default, or what kind of value the option has.\n\
         Check this file: {command} --config /etc/pondrix/{file} --check\n\
         Show what is in effect, and from where: {command} --config /etc/pondrix/{file} --show-config\n\
         Apply a change: systemctl reload {unit}. The log says what needs a restart."
    )
}

/// Compares with the file in `packaging`, or writes it if `PONDRIX_UPDATE` is set.
fn is_current(file: &str, expected: &str) {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging").join(file);
    if std::env::var_os("PONDRIX_UPDATE").is_some() {
        std::fs::write(&path, expected).unwrap();
    }
    let found = std::fs::read_to_string(&path).unwrap();
    assert_eq!(found, expected, "packaging/{file} is out of date: run the test with PONDRIX_UPDATE=1");
}

#[test]
fn the_configuration_files_of_the_packages_have_every_option() {
    let server = template(&SERVE, &heading("pondrix serve", "server.kdl", "pondrix-server"), SERVER);
    is_current("server.kdl", &server);
    let runner = template(&JOIN, &heading("pondrix runner join", "runner.kdl", "pondrix-runner"), RUNNER);
    is_current("runner.kdl", &runner);
}
