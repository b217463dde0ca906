//! A control group for a command that a person types on a machine with systemd.

use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Stdio};

use pondrix_sandbox::NoControlGroups;

/// Set for a command that was started again in a scope.
const IN_SCOPE: &str = "PONDRIX_IN_SCOPE";

/// Starts this command again in a scope of systemd that is delegated to it (systemd-run(1)), if that gives it the control
/// groups that it lacks. Returns if it does not. The new command replaces this process.
pub(crate) fn enter(lacks: &NoControlGroups) {
    let is_mended = match lacks {
        NoControlGroups::NotDelegated { .. } | NoControlGroups::Refused { .. } | NoControlGroups::Shared { .. } => true,
        NoControlGroups::Missing { .. } | NoControlGroups::NoController { .. } | NoControlGroups::RootOnly { .. } => {
            false
        }
    };
    if !is_mended || std::env::var_os(IN_SCOPE).is_some() || !Path::new("/run/systemd/system").is_dir() {
        return;
    }
    let scope = || {
        let mut command = Command::new("systemd-run");
        command.args((!rustix::process::geteuid().is_root()).then_some("--user"));
        command.args(["--scope", "--quiet", "--collect", "--property=Delegate=yes", "--"]);
        command
    };
    let is_possible =
        scope().arg("true").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|status| status.success());
    let Ok(program) = std::env::current_exe() else { return };
    if is_possible {
        eprintln!("pondrix: continues in a control group that systemd delegates to it (systemd-run --scope)");
        // Returns only if it fails; then the command tells what it lacks.
        let _ = scope().arg(program).args(std::env::args_os().skip(1)).env(IN_SCOPE, "1").exec();
    }
}
