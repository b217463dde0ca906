//! The tests of a machine, for people.

use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

use pondrix_runner::{CheckOutcome, UnfitMachine, check_all};
use pondrix_sandbox::WithoutTerminal as _;

use crate::cli::Global;
use crate::failure::{FAILED, Failure, Outcome};
use crate::output;

/// Tests this machine and prints the results. Exit status 1 if no job would run.
pub(crate) fn run(data: &Path, global: &Global) -> Outcome {
    let data = std::path::absolute(data)?;
    let folder = data.ancestors().find(|folder| folder.is_dir()).unwrap_or(Path::new("/"));
    let checks = check_all(folder).map_err(|error| Failure::new(format!("{}: {error}", folder.display())))?;
    let is_unfit = checks.iter().any(|check| check.outcome == CheckOutcome::Failed);
    if global.json {
        let document = checks.iter().map(|check| {
            let outcome = word(check.outcome);
            serde_json::json!({ "check": check.name, "outcome": outcome, "found": check.found, "fix": check.fix })
        });
        output::json(&document.collect::<Vec<_>>())?;
    } else {
        for check in &checks {
            let mark = match check.outcome {
                CheckOutcome::Passed => "ok",
                CheckOutcome::Limited => "warning",
                CheckOutcome::Failed => "failed",
            };
            output::hanging(&format!("{mark:8} {:17} ", check.name), &check.found);
            if let Some(fix) = &check.fix {
                output::hanging(&format!("{:8} {:17} fix: ", "", ""), fix);
            }
        }
        output::line("");
        output::line(match checks.iter().map(|check| check.outcome).max() {
            Some(CheckOutcome::Failed) => "This machine cannot run jobs.",
            Some(CheckOutcome::Limited) => "This machine can run jobs, with the limitations above.",
            _ => "This machine can run jobs.",
        });
    }
    Ok(ExitCode::from(if is_unfit { FAILED } else { 0 }))
}

fn word(outcome: CheckOutcome) -> &'static str {
    match outcome {
        CheckOutcome::Passed => "passed",
        CheckOutcome::Limited => "limited",
        CheckOutcome::Failed => "failed",
    }
}

/// The failure of a command that needs a machine that runs jobs.
pub(crate) fn failure(unfit: &UnfitMachine) -> Failure {
    Failure::new(unfit.to_string()).advise("`pondrix runner check` shows all tests of this machine")
}

/// The oldest git that the server works with, as major and minor version (Debian 12).
const OLDEST_GIT: (u32, u32) = (2, 39);

/// Returns an error unless this machine has a git that the server works with.
pub(crate) fn require_git() -> Result<(), Failure> {
    let (major, minor) = OLDEST_GIT;
    let advice = format!("install git {major}.{minor} or newer");
    let output = Command::new("git").without_terminal().arg("--version").stdin(Stdio::null()).output();
    let output = output.map_err(|error| Failure::new(format!("git could not be started: {error}")).advise(&advice))?;
    let said = String::from_utf8_lossy(&output.stdout).trim().to_owned();
    match git_version(&said) {
        Some(version) if version >= OLDEST_GIT => Ok(()),
        _ => Err(Failure::new(format!("this machine has an old git (`{said}`); the server needs {major}.{minor}"))
            .advise(advice)),
    }
}

/// The major and minor version in the output of `git --version`, such as `git version 2.39.5`.
fn git_version(said: &str) -> Option<(u32, u32)> {
    let mut numbers = said.strip_prefix("git version ")?.split('.').map(str::parse);
    Some((numbers.next()?.ok()?, numbers.next()?.ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_version_of_git_is_read_from_what_it_prints() {
        assert_eq!(git_version("git version 2.39.5"), Some((2, 39)));
        assert_eq!(git_version("git version 2.47.0.windows.1"), Some((2, 47)));
        assert_eq!(git_version("git version 3.0"), Some((3, 0)));
        assert_eq!(git_version("gitte 1"), None);
    }
}
