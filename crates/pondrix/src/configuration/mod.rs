//! Options of `serve` and `runner join` from four places: the command line, the environment, a configuration file, and
//! defaults. The first place that has an option decides.

mod layers;
mod reload;
#[cfg(test)]
mod template;

use std::path::PathBuf;

use clap::Args;
use serde::Serialize;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::output;

pub(crate) use layers::{ParseError, parse};
pub(crate) use reload::reloads;

/// Options about the configuration itself.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct ConfigurationArgs {
    /// Read options from this file. Options of the command line and of the environment override the file.
    #[arg(long, value_name = "FILE")]
    config: Option<PathBuf>,
    /// Check the options and the files that they name, and exit.
    #[arg(long, conflicts_with = "show_config")]
    pub(crate) check: bool,
    /// Print each option, its value and where the value comes from, and exit.
    #[arg(long)]
    show_config: bool,
    /// Filled in by [`parse`].
    #[arg(skip)]
    options: Vec<EffectiveOption>,
    /// Environment variables with the command's prefix that belong to no option. Filled in by [`parse`].
    #[arg(skip)]
    unknown_variables: Vec<String>,
}

/// An option and its value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub(crate) struct EffectiveOption {
    /// The option's name, as on the command line without hyphens.
    option: String,
    /// The values as text. A flag has `true` or `false`; an option that is not set has none.
    values: Vec<String>,
    /// The place of the values.
    #[serde(rename = "from")]
    origin: Origin,
}

/// Where an option's value comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Origin {
    /// The command line.
    CommandLine,
    /// This environment variable.
    Environment(String),
    /// This line of a file.
    File { path: PathBuf, line: usize },
    /// Neither of these has the option.
    Default,
}

impl std::fmt::Display for Origin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::CommandLine => f.write_str("command line"),
            Self::Environment(variable) => write!(f, "environment variable {variable}"),
            Self::File { path, line } => write!(f, "{}:{line}", path.display()),
            Self::Default => f.write_str("default"),
        }
    }
}

impl ConfigurationArgs {
    /// Prints the options if the command line asks for them. `None` if it does not.
    pub(crate) fn show(&self, global: &Global) -> Option<Outcome> {
        self.show_config.then(|| {
            if global.json {
                output::json(&self.options)?;
                return Ok(std::process::ExitCode::SUCCESS);
            }
            let rows = self.options.iter().map(|EffectiveOption { option, values, origin }| {
                let values = if values.is_empty() { "not set".to_owned() } else { values.join(" ") };
                vec![option.clone(), output::plain(&values), origin.to_string()]
            });
            output::table(&["OPTION", "VALUE", "FROM"], &rows.collect::<Vec<_>>());
            Ok(std::process::ExitCode::SUCCESS)
        })
    }

    /// Logs environment variables that look like options and are none. They may belong to something else, for example to
    /// the addresses of services that container platforms set.
    pub(crate) fn warn_of_unknown_variables(&self) {
        for variable in &self.unknown_variables {
            tracing::warn!("the environment variable {variable} belongs to no option and is ignored");
        }
    }

    /// Logs that the option `listen` does not count because a socket unit has another address.
    pub(crate) fn warn_of_passed_listener(&self, address: &str) {
        let listen = self.options.iter().find(|option| option.option == "listen");
        if let Some(listen) = listen.filter(|listen| listen.origin != Origin::Default)
            && !listen.values.iter().any(|value| value == address)
        {
            let set = listen.values.join(" ");
            tracing::warn!(
                "`listen` ({set}, {}) is ignored: the socket unit listens on {address}. Change the unit: systemctl edit \
                 pondrix-server.socket",
                listen.origin
            );
        }
    }

    /// Reports that the configuration is valid.
    pub(crate) fn report_valid(&self, global: &Global) -> Outcome {
        if !global.json {
            let place = self.config.as_ref().map_or_else(String::new, |file| format!(": {}", file.display()));
            output::line(&format!("The configuration is valid{place}"));
        }
        Ok(std::process::ExitCode::SUCCESS)
    }
}

/// An error in an option's value that only the command itself can find.
pub(crate) fn requires(option: &str, other: &str) -> Failure {
    Failure::usage(format!("the option `{option}` needs the option `{other}`"))
        .advise(format!("set both on the command line, or both in the configuration file: `{other} VALUE`"))
}
