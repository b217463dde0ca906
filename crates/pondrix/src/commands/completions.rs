//! `pondrix completions` and `pondrix manual`

use std::io::Write as _;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, CommandFactory as _};
use clap_complete::Shell;

use crate::cli::Cli;
use crate::failure::{Failure, Outcome};

/// Print the completions of a shell. Packages install them.
#[derive(Debug, Args)]
pub(crate) struct Completions {
    /// The shell.
    shell: Shell,
}

/// Write the manual pages to a folder, one for each command. Packages install them.
#[derive(Debug, Args)]
pub(crate) struct Manual {
    /// The folder. It is created.
    folder: PathBuf,
}

impl Completions {
    pub(crate) fn run(self) -> Outcome {
        let mut script = Vec::new();
        clap_complete::generate(self.shell, &mut Cli::command(), "pondrix", &mut script);
        std::io::stdout().write_all(&script)?;
        Ok(ExitCode::SUCCESS)
    }
}

impl Manual {
    pub(crate) fn run(self) -> Outcome {
        let told = |error: std::io::Error| Failure::new(format!("{}: {error}", self.folder.display()));
        std::fs::create_dir_all(&self.folder).map_err(told)?;
        clap_mangen::generate_to(Cli::command(), &self.folder).map_err(told)?;
        Ok(ExitCode::SUCCESS)
    }
}
