//! Runs a command in a root file system of its own, isolated from the machine, and leaves no
//! process behind.
//!
//! [`Launcher::start`] takes a [`Spec`] and gives a [`Running`]. Between the two stand two processes
//! of our own: a helper outside, which creates the namespaces and writes the id maps, and the first
//! process inside (`init`), which mounts, drops privileges, starts the command and reaps. When the
//! command ends, or the [`Running`] is dropped, or the caller dies, `init` ends, and with it the
//! kernel ends every process in its pid namespace.
//!
//! It needs no privilege: as root it maps a range of ids, as an ordinary user one id. It never
//! follows a path of the new root from outside, and never talks to the network.

mod allow_list;
mod apart;
mod calls;
mod cgroup;
mod core_files;
mod enter;
mod error;
mod function;
mod ids;
mod init;
mod inside;
mod kernel;
mod launch;
mod mounts;
mod network;
mod places;
mod routes;
mod seccomp;
mod spec;
mod terminal;
mod trees;
mod users;
mod verify;
mod wire;

pub use calls::calls_table;
pub use cgroup::{
    ControlGroups, DiskShares, NoControlGroups, NoDiskShares, Usage, control_groups, disk_shares, settle,
};
pub use core_files::forbid_core_files;
pub use enter::{ENTER_WORD, Function, Functions, enter_if_asked};
pub use error::{MachineError, UserError};
pub use ids::IdMap;
pub use launch::{Connector, Launcher, Running, StartError, check_machine};
pub use network::{NAMES_AT, NetworkError, SharedNetwork};
pub use places::{PlaceIds, Places};
pub use spec::{
    Bind, EmptyFolder, Exit, Limits, MemoryFolder, MountPoint, Network, Rootfs, SCRIPT_AT, SecretFile, Spec, View,
};
pub use terminal::WithoutTerminal;
pub use users::look_up as look_up_user;
