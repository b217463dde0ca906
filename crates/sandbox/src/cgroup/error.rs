//! Why this process cannot limit what commands use.

use std::path::{Path, PathBuf};

/// Why this process may not make control groups with limits. The text names the file, the reason and what to do.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoControlGroups {
    /// The kernel has no such controller, in neither version.
    #[error(
        "the kernel of this machine has no control group controller `{missing}` (see /proc/cgroups). {KERNEL_ADVICE}"
    )]
    NoController {
        /// The controller.
        missing: &'static str,
    },
    /// The group above does not pass a controller on.
    #[error(
        "{}: has `{found}`, and not the controller `{missing}`. {}",
        file.display(),
        missing_advice(folder)
    )]
    Missing {
        /// The file that lists the controllers.
        file: PathBuf,
        /// The controller.
        missing: &'static str,
        /// What the file has.
        found: String,
        /// The group.
        folder: PathBuf,
    },
    /// The group belongs to systemd, which would undo changes to it.
    #[error("{}: systemd has not delegated this control group (`Delegate=yes`). {}", folder.display(), advice(folder))]
    NotDelegated {
        /// The group.
        folder: PathBuf,
    },
    /// The system refused something.
    #[error("{}: {reason}. {}", path.display(), advice(folder))]
    Refused {
        /// The file or folder.
        path: PathBuf,
        /// The words of the system.
        reason: String,
        /// The group in which groups were to be made.
        folder: PathBuf,
    },
    /// Version 1 delegates nothing.
    #[error("{}: {reason}. Only root can make control groups of version 1: start the runner as root", path.display())]
    RootOnly {
        /// The folder that was to be made.
        path: PathBuf,
        /// The words of the system.
        reason: String,
    },
    /// Other processes are in the group, and prevent that groups are made in it.
    #[error(
        "{}: other processes are in this control group: {processes}. Start the command as the only process of the group: \
         with `exec` in a script, or in a terminal with `systemd-run{} --scope --property=Delegate=yes` before it",
        folder.display(),
        if is_of_user_manager(folder) { " --user" } else { "" }
    )]
    Shared {
        /// The group.
        folder: PathBuf,
        /// Their names and numbers.
        processes: String,
    },
}

impl NoControlGroups {
    /// Whether the process gets the groups if it is started again in a scope of systemd (systemd-run(1)).
    #[must_use]
    pub fn is_fixed_by_scope(&self) -> bool {
        matches!(self, Self::NotDelegated { .. } | Self::Refused { .. } | Self::Shared { .. }) && is_systemd_running()
    }
}

/// Whether systemd manages this machine's groups (sd_booted(3)).
pub(super) fn is_systemd_running() -> bool {
    Path::new("/run/systemd/system").is_dir()
}

const KERNEL_ADVICE: &str = "Start the machine without `cgroup_disable=` on the kernel's command line, or use a kernel \
                             with CONFIG_MEMCG and CONFIG_CGROUP_PIDS";

/// Whether a group belongs to the systemd of an ordinary user.
pub(super) fn is_of_user_manager(folder: &Path) -> bool {
    folder.components().any(|part| part.as_os_str().to_string_lossy().starts_with("user@"))
}

/// The fix for a group that this process may not use.
fn advice(folder: &Path) -> String {
    let user = rustix::process::geteuid();
    if !is_systemd_running() {
        return if user.is_root() {
            "Mount control groups writable (`mount -o remount,rw /sys/fs/cgroup`; a container needs to be given its own)"
                .to_owned()
        } else {
            format!(
                "Without systemd, let root make a group for this user and move the shell into it: `mkdir \
                 /sys/fs/cgroup/pondrix; chown -R {0} /sys/fs/cgroup/pondrix; echo +memory +pids +cpu +io > \
                 /sys/fs/cgroup/cgroup.subtree_control; echo PID > /sys/fs/cgroup/pondrix/cgroup.procs`",
                user.as_raw()
            )
        };
    }
    let unit = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let is_users = is_of_user_manager(folder);
    if unit.ends_with(".service") && !unit.starts_with("user@") {
        let (manager, edit) = if is_users { ("systemctl --user", " --user") } else { ("systemctl", "") };
        return format!(
            "Add `Delegate=yes` to the section [Service] of {unit} (`systemctl edit{edit} {unit}`), then `{manager} restart \
             {unit}`"
        );
    }
    if user.is_root() {
        return "Start the command with `systemd-run --scope --property=Delegate=yes` before it, or as a service whose \
                unit has `Delegate=yes`"
            .to_owned();
    }
    if std::env::var_os("XDG_RUNTIME_DIR").is_some() {
        return "Start the command with `systemd-run --user --scope --property=Delegate=yes` before it, or as a service \
                whose unit has `Delegate=yes`"
            .to_owned();
    }
    format!(
        "This user has no session of its own here. Sign in as the user, then start the command with `systemd-run --user \
         --scope --property=Delegate=yes` before it; or let root start it: `systemd-run --uid={} --property=Delegate=yes`",
        user.as_raw()
    )
}

/// The fix for a controller that systemd does not pass on.
fn missing_advice(folder: &Path) -> String {
    if is_of_user_manager(folder) {
        return "Let systemd pass it on to users: write `[Service]` and `Delegate=cpu cpuset io memory pids` into \
                /etc/systemd/system/user@.service.d/delegate.conf, then `systemctl daemon-reload`, and sign in again"
            .to_owned();
    }
    advice(folder)
}
