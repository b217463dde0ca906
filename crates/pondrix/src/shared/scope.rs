//! A control group for a command that a person types on a machine with systemd.

use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};

use pondrix_sandbox::NoControlGroups;

/// Set for a command that was started again in a scope.
const IN_SCOPE: &str = "PONDRIX_IN_SCOPE";

/// Starts this command again in a scope that systemd delegates to it (systemd-run(1)), if that fixes `error`. The new command
/// replaces this process. Returns if that is not possible.
pub(crate) fn enter(error: &NoControlGroups) {
    if !error.is_fixed_by_scope() || std::env::var_os(IN_SCOPE).is_some() {
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
        // Returns only if it fails. The command then reports the error itself.
        let _ = scope().arg(program).args(std::env::args_os().skip(1)).env(IN_SCOPE, "1").exec();
    }
}
